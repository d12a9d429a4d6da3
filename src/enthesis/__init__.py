"""Enthesis: describe the access you intend, set it up, explain it, and prove it without long-lived keys.

What programs of your own may use is in `enthesis.library`, and is here under the same names; docs/library.md shows it.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from enthesis.library import (
        Access,
        Answer,
        Comparison,
        EnthesisError,
        Estate,
        InvalidEstate,
        InvalidInput,
        Survey,
        admits,
        ask,
        compare,
        enact,
        parse_estate,
        propose,
        prove,
        reach,
        read_estate,
        read_survey,
    )

__version__ = "0.1.0"
__all__ = [
    "Access", "Answer", "Comparison", "EnthesisError", "Estate", "InvalidEstate", "InvalidInput", "Survey", "admits",
    "ask", "compare", "enact", "parse_estate", "propose", "prove", "reach", "read_estate", "read_survey",
]  # fmt: skip


def __getattr__(name: str) -> Any:
    """The names of the library, which is imported when the first of them is asked for: commands do without it."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module("enthesis.library"), name)


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])
