"""The lab that a command is about."""

from pathlib import Path

from enthesis.files.finding import estate_folder
from enthesis.model.errors import Unreachable
from enthesis_lab.running import Running, of_estate


def running_lab(estate: Path | None) -> Running:
    """The lab that runs for an estate; Unreachable where none does."""
    found = of_estate(estate_folder(estate))
    if found is None:
        raise Unreachable("no lab runs for this estate", code="lab-not-running", remedy="enthesis lab start")
    return found
