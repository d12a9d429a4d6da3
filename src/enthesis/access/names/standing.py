"""Whether an identity stands, and whether a credential opens anything: one rule, with the reason in words."""

from datetime import datetime

from enthesis.access.compiling import NONE, Compiled
from enthesis.model.estate import Credential


def why_fallen(compiled: Compiled, address: str) -> str:
    """What keeps an identity from being used, such as `is disabled`; '' where nothing does, or it is no identity."""
    number = compiled.find(address)
    if number == NONE or compiled.stands[number]:
        return ""
    if address in compiled.tables.disabled:
        return "is disabled"
    return f"is tied to {compiled.tables.tied.get(address)}, which does not exist"


def why_shut(compiled: Compiled, credential: Credential, at: datetime) -> str:
    """Why a credential opens nothing at an instant; '' where it opens what its identity may do."""
    if credential.disabled:
        return "disabled"
    if not credential.in_force(at):
        return "expired"
    if compiled.find(credential.of) not in compiled.identity_kind:
        return f"its identity {credential.of} does not exist"
    fallen = why_fallen(compiled, credential.of)
    return f"its identity {credential.of} {fallen}" if fallen else ""
