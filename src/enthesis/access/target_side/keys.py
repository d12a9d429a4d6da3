"""Keys that their provider manages: nobody of another account, or of none, can use one, whatever is granted."""

from enthesis.access.compiling import Compiled
from enthesis.model.addresses import account_of

USES_OF_KEYS = ("encrypt", "decrypt", "sign")


def uses_key(kind: str, verb: str) -> bool:
    """Whether a permission is using a key."""
    return kind == "key" and verb in USES_OF_KEYS


def foreign_to_key(compiled: Compiled, permission: int, place: int, caller: str, target: str) -> bool:
    """Whether a key that the provider manages (its number is `place`) is to be used from outside of its account."""
    return (
        place in compiled.key_by_provider
        and uses_key(*compiled.permission_pairs[permission])
        and account_of(caller) != account_of(target)
    )
