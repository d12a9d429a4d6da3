"""What a pipeline service keeps for its projects (pipeline access), read as the trust that it amounts to."""

from typing import Any

from enthesis.conditions.truth import hold, passes
from enthesis.model.conditions import Conditions, Equal
from enthesis.model.estate import Admission, Estate, Issuer, PipelineAccess, Trust
from enthesis.model.vocabulary import Form


def pipeline_access_trust(estate: Estate, access: PipelineAccess) -> Trust:
    """Pipeline access, read as a trust: of the runs that its conditions admit, those that are ours alone.

    A pipeline service gives what it keeps to runs of the organisation that keeps it there, whatever the conditions say.
    """
    admission = Admission(Form.TOKEN, access.at, runs_admitted(estate, access), source=access.source)
    return Trust(access.of, admission, name=access.name, source=access.source)


def runs_admitted(estate: Estate, access: PipelineAccess) -> Conditions:
    """What a run must show to use pipeline access: its conditions, and that the subject is ours, unless they say so by
    plain values. Without any condition nobody may."""
    issuer, admits = estate.issuers[access.at], access.admits
    plain = {name: test.value for name, test in admits if isinstance(test, Equal)}
    owned = issuer.owned if issuer.shared else ()
    return (*admits, *((name, test) for name, test in owned if passes(test, plain.get(name)) is not True))


def is_anothers(issuer: Issuer, shown: dict[str, Any]) -> bool:
    """Whether the subject of a run is none of ours."""
    return issuer.shared and hold(issuer.owned, shown.get) is not True
