"""What a pipeline service keeps for its projects (pipeline access), read as the trust that it amounts to."""

from typing import Any

from enthesis.conditions.truth import hold, passes
from enthesis.model.conditions import Conditions, Equal
from enthesis.model.estate import Admission, Estate, Issuer, Lodged, Trust


def lodged_trust(estate: Estate, lodged: Lodged) -> Trust:
    """What is lodged, read as a trust: of the runs that its conditions admit, those that are ours alone.

    A pipeline service gives what it keeps to runs of the organisation that lodged it, whatever the conditions say.
    """
    admission = Admission("token", lodged.at, runs_admitted(estate, lodged), source=lodged.source)
    return Trust(lodged.of, admission, name=lodged.name, source=lodged.source)


def runs_admitted(estate: Estate, lodged: Lodged) -> Conditions:
    """What a run must show to use what is lodged: its conditions, and that the subject is ours, unless they say so by
    plain values. Without any condition nobody may."""
    issuer, admits = estate.issuers[lodged.at], lodged.admits
    plain = {name: test.value for name, test in admits if isinstance(test, Equal)}
    owned = issuer.owned if issuer.shared else ()
    return (*admits, *((name, test) for name, test in owned if passes(test, plain.get(name)) is not True))


def is_anothers(issuer: Issuer, shown: dict[str, Any]) -> bool:
    """Whether the subject of a run is none of ours."""
    return issuer.shared and hold(issuer.owned, shown.get) is not True
