"""`enthesis sign-in`: signs a person in, so that `lend` can use their access."""

from enthesis.cli.estate_loading import read_estate
from enthesis.cli.options import EstateOption, FormatOption, OrganisationOption, QuietOption
from enthesis.files.finding import estate_folder
from enthesis.live.device_sign_in import sign_in_person
from enthesis.output.renderers import TEXT, put_done
from enthesis.output.streams import remark
from enthesis.text.times import time_text


def sign_in(
    estate: EstateOption = None,
    organisation: OrganisationOption = None,
    output: FormatOption = TEXT,
    quiet: QuietOption = False,
) -> None:
    """Sign in as a person at the organisation's directory; kept for at most eight hours.

    Shows a code and a page; agree there, on any device. The sign-in is kept in one file of the user's runtime folder,
    readable by the user only, and `enthesis sign-out` ends it.
    """
    folder = estate_folder(estate)

    def show(code: str, page: str) -> None:
        remark(f"Agree at {page} if the code there is {code}.")

    made = sign_in_person(read_estate(folder), folder, organisation, show)
    said = f"Signed in as {made.person} until {made.ends:%H:%M:%SZ}; `enthesis sign-out` ends it."
    put_done(said, output=output, quiet=quiet, person=made.person, ends=time_text(made.ends))
