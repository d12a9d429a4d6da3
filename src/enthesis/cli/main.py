"""The program: its commands, each imported only when it runs, and how errors become messages and exit codes."""

import errno
import os
import sys
import traceback
from itertools import pairwise
from typing import Annotated

import typer

from enthesis import __version__
from enthesis.cli.examples import EXAMPLES
from enthesis.cli.lazy import HELP, ListedCommand, lazy_group
from enthesis.cli.other_words import put_in_order, refuse_other_words
from enthesis.cli.renamed import refuse_old_words
from enthesis.model.errors import EXIT_CODES, EnthesisError, InvalidEstate, NotDecided, StoppedPartWay, Undecided
from enthesis.model.secrets import redacted
from enthesis.output.file_errors import file_error_json, file_error_lines
from enthesis.output.lines import Span, line
from enthesis.output.streams import begin, is_partial, put_json, put_lines, put_partial

DISK_FAULTS = (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EFBIG, errno.EIO)
GONE = 141  # exit code, as of a program that SIGPIPE ended
PARTIAL = 3  # exit code of an answer that may lack something, since not all could be read
FAULT = 70  # as in sysexits.h: an internal software error
COMMANDS = {
    "demo": ListedCommand(
        "",
        "Run the worked example: a pipeline publishes without a stored key, and the wrong branch is refused.",
        "Begin",
    ),
    "start": ListedCommand(
        "start:start", "Create a small estate from a pattern, or add a twin of an account or identity.", "Begin"
    ),
    "check": ListedCommand(
        "check:check", "Validate the estate: errors with their lines, journeys, invariants and risks.", "Describe"
    ),
    "list": ListedCommand(
        "listing:list_them",
        "List what there is: identities, people, places, groups, roles, grants, trusts, ceilings, keyed credentials, "
        "accounts.",
        "Describe",
    ),
    "card": ListedCommand("card:card", "Show one identity, resource, group or role on a page.", "Describe"),
    "trace": ListedCommand(
        "trace:trace", "Explain why a request is allowed or refused, and how to change that.", "Ask"
    ),
    "reach": ListedCommand(
        "reach:reach", "List what a caller can reach (--from), or who can reach a place (--to).", "Ask"
    ),
    "admit": ListedCommand(
        "admit:admit", "Show whom a trust admits, claim by claim, with examples of who is in and who is not.", "Ask"
    ),
    "connections": ListedCommand("connections:app", "List how the live systems of the estate are reached.", "Change"),
    "survey": ListedCommand(
        "survey:app", "Read live systems into a survey file, which every question can be asked of.", "Change"
    ),
    "propose": ListedCommand(
        "propose:propose", "Compare the live side with the estate and show what is not in place.", "Change"
    ),
    "enact": ListedCommand("enact:enact", "Carry out a proposal, or propose, show and ask.", "Change"),
    "request": ListedCommand(
        "request:app",
        "List what other parties were asked for, and where each stands: asked, seen, in place, proved or refused.",
        "Change",
    ),
    "history": ListedCommand(
        "history:app", "List the enactments of the estate: when, by whom, what came of each.", "Change"
    ),
    "prove": ListedCommand(
        "prove:prove", "Run journeys with real credentials and check that each ends as expected.", "Prove"
    ),
    "lend": ListedCommand(
        "lend:lend", "Run a program as an identity with a short-lived credential, nothing on disk.", "Prove"
    ),
    "sign-in": ListedCommand(
        "sign_in:sign_in", "Sign in as a person at the organisation's directory; kept for at most eight hours.", "Prove"
    ),
    "sign-out": ListedCommand(
        "sign_out:sign_out", "End the sign-in of a person, at the directory and on this machine.", "Prove"
    ),
    "whoami": ListedCommand(
        "whoami:whoami", "Show which origins are available here and which identities they can take on.", "Prove"
    ),
    "credential": ListedCommand(
        "credential:app",
        "List keyed credentials: of the files, and of the live systems where they are reached.",
        "Prove",
    ),
    "sweep": ListedCommand(
        "sweep:sweep",
        "Find what should not stay: keys, grants and identities that linger or are too wide, the gravest first.",
        "Keep clean",
    ),
    "trim": ListedCommand(
        "trim:trim",
        "Narrow roles and grants to what was used, and show what access that takes.",
        "Keep clean",
    ),
    "calendar": ListedCommand(
        "calendar:calendar",
        "List what ends or must be looked at again: credentials, grants, trusts, accepted risks, handoffs.",
        "Keep clean",
    ),
    "cutoff": ListedCommand(
        "cutoff:cutoff",
        "Withdraw access now: of an identity, a person, a host, a keyed credential or a session.",
        "Keep clean",
    ),
    "sessions": ListedCommand(
        "sessions:sessions",
        "List the sessions that are open at live systems: whose, from which origin, until when.",
        "Keep clean",
    ),
    "help": ListedCommand(
        "help:explain",
        "Explain a command, a section of the files, a kind, a verb, the code of an error or risk, or an idea.",
        "Begin",
    ),
    "lab": ListedCommand("", "Start, stop and control the stand-in services.", "Lab"),
}


ABOUT = (
    "Describe the access you intend. Enthesis sets it up, explains every yes and no, and proves both without "
    "long-lived keys."
)
app = typer.Typer(
    name="enthesis",
    cls=lazy_group(COMMANDS, EXAMPLES),
    help=ABOUT,
    no_args_is_help=True,
    add_completion=True,
    pretty_exceptions_enable=False,
    context_settings=HELP,
)


def _version(wanted: bool) -> None:
    if wanted:
        sys.stdout.write(f"enthesis {__version__}\n")
        raise typer.Exit


@app.callback(help=f"{ABOUT}\n\nExit codes: {'; '.join(f'{code} {means}' for code, means in EXIT_CODES.items())}.")
def about(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Show the version.")
    ] = False,
    debug: Annotated[bool, typer.Option("--debug", help="Show the traceback of a fault of Enthesis itself.")] = False,
) -> None:
    """Describe the access you intend. Enthesis sets it up, explains every yes and no, and proves both without
    long-lived keys.
    """


def run() -> None:
    """Runs the program; the one place where an error becomes an exit. An answer that may lack something is not a
    success, nor a plain no."""
    begin()
    try:
        try:
            sys.argv[1:] = put_in_order(sys.argv[1:], COMMANDS)
            refuse_old_words(sys.argv[1:])
            refuse_other_words(sys.argv[1:], COMMANDS)
            app()
        except Undecided as bound:
            raise NotDecided(
                f"not decided, because of {bound}", code="not-decided", remedy="ask about less at once"
            ) from None
    except SystemExit as ended:
        if is_partial() and ended.code in (0, 1, 2, None):
            put_partial(to_error=True)
            sys.exit(PARTIAL)
        raise
    except EnthesisError as fault:
        _put_error(fault)
        sys.exit(fault.exit_code)
    except BrokenPipeError:
        sys.stderr.close()  # the reader of our output went away
        sys.exit(GONE)
    except Exception as fault:
        full = _of_the_disk(fault)
        if full is not None:
            _put_error(full)
            sys.exit(full.exit_code)
        _put_fault(fault)
        sys.exit(FAULT)


def _of_the_disk(fault: Exception) -> EnthesisError | None:
    """What a full or failing disk does, wherever it does it; None for anything else."""
    of_store = type(fault).__module__ == "sqlite3" and type(fault).__name__ == "OperationalError"
    number = fault.errno if isinstance(fault, OSError) else None
    if not of_store and number not in DISK_FAULTS:
        return None
    said = str(fault) if of_store else os.strerror(number or 0)
    return StoppedPartWay(
        f"the disk does not take what is to be written: {said}",
        code="disk-unusable",
        remedy="make room, then run the same again",
    )


def _put_fault(fault: Exception) -> None:
    """What nobody foresaw: its kind alone, since its text may hold anything; all of it with --debug."""
    if "--debug" in sys.argv[1:]:
        sys.stderr.write(redacted("".join(traceback.format_exception(fault))))
    message = f"a fault of Enthesis itself: {type(fault).__name__}"
    remedy = "run it again with --debug, after `enthesis`, and report the traceback without its secrets"
    _put_error(EnthesisError(message, code="fault-of-ours", remedy=remedy))


def _put_error(fault: EnthesisError) -> None:
    errors = fault.errors if isinstance(fault, InvalidEstate) else ()
    if _json_wanted():
        error = {"code": fault.code, "message": fault.message, "remedy": fault.remedy}
        put_json({"error": {**error, "errors": [file_error_json(error) for error in errors]}})
        return
    if errors:
        put_lines(file_error_lines(errors), to_error=True)
        return
    put_lines([line(Span("Error:", "bad"), f" {fault.message}.")], to_error=True)
    if fault.remedy:
        told = "" if fault.remedy.startswith(("expected ", "did you mean ")) else "fix: "
        put_lines([line("  ", told, fault.remedy)], to_error=True)


def _json_wanted() -> bool:
    words = sys.argv[1:]
    return "--format=json" in words or ("--format", "json") in pairwise(words)
