"""`enthesis sign-out`: ends sign-ins, at their directories and on this machine."""

from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import EstateOption, FormatOption, OrganisationOption, QuietOption
from enthesis.files.finding import estate_folder
from enthesis.live.device_sign_in import end_sign_in
from enthesis.live.kept_sign_in import kept
from enthesis.model.errors import LiveFailure
from enthesis.output.renderers import TEXT, put_done


def sign_out(
    estate: EstateOption = None,
    organisation: OrganisationOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """End the sign-in of a person, at the directory and on this machine.

    What could not be ended at the directory is removed here all the same, and said (exit 3).
    """
    found = [
        sign_in
        for sign_in in kept()
        if organisation in (None, sign_in.organisation, sign_in.organisation.removeprefix("@"))
    ]
    failed: list[str] = []
    ended: list[str] = []
    for sign_in in found:
        try:
            folder = estate_folder(estate)
            name = end_sign_in(read_estate(folder), folder, sign_in)
            ended.append(f"{sign_in.person} at {name}")
        except LiveFailure as fault:
            failed.append(f"{sign_in.person} at {sign_in.organisation}: {fault.message}")
        finally:
            sign_in.path.unlink(missing_ok=True)
    said = f"Signed out {', '.join(ended)}." if ended else "No sign-in is kept here."
    if ended or not failed:
        put_done(said, output=output, quiet=quiet, signed_out=ended)
    if failed:
        remedy = "a sign-in ends by itself within eight hours"
        raise LiveFailure(
            f"removed here, but not ended at the directory: {'; '.join(failed)}",
            code="sign-out-incomplete",
            remedy=remedy,
        )
