"""A whole sweep: the looks, the risks that are findings too, and what connectors found."""

from collections.abc import Callable, Sequence
from datetime import UTC, datetime

from enthesis.chains.chains import Chains
from enthesis.cleaning.detectors import LOOKS, of_risks, of_survey
from enthesis.cleaning.findings import Finding, FindingBounds, Sweeping, Swept, accepting, ended_acceptances, weighed
from enthesis.cleaning.usage import Usage
from enthesis.surveys.survey import Said, no_collecting
from enthesis.trusts.risks import lingering


def sweep(
    chains: Chains,
    *,
    bounds: FindingBounds | None = None,
    said: Sequence[Said] = (),
    knows_use: bool = False,
    survey: str = "",
    usage: Usage | None = None,
    step: Callable[[str], None] = lambda what: None,
) -> Swept:
    """What should not stay, of the estate behind these chains at their instant; `said` are the findings of a survey.

    `knows_use`: a keyed credential that names no last use was never used. `survey` is the name of the survey that was
    read, if any, `usage` what was recorded of use.
    """
    now = datetime.fromtimestamp(chains.web.now, UTC)
    sweeping = Sweeping(chains, chains.compiled.estate, now, bounds or FindingBounds(), knows_use, survey, usage)
    with no_collecting():  # a finding refers to nothing that refers back
        found: list[Finding] = list(ended_acceptances(sweeping))
        found += of_risks(sweeping, list(lingering(chains)))
        for look in LOOKS:
            found += look(sweeping)
        found += of_survey(sweeping, said)
        standing, accepted = accepting(sweeping, found)
        ranked = tuple(weighed(chains, standing, step))
    unknown = [] if knows_use else ["when keys without `last_used` were last used: no live system was asked"]
    unknown += [] if usage is not None else ["which identities and roles are used: no log was given (--usage)"]
    return Swept(ranked, tuple(accepted), tuple(unknown), chains.undecided)
