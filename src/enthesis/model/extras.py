"""Libraries that only an extra of the package installs, for what few people need."""

from collections.abc import Iterator
from contextlib import contextmanager

from enthesis.model.errors import InvalidInput


@contextmanager
def extra(name: str, what: str, otherwise: str = "") -> Iterator[None]:
    """Around an import. InvalidInput where it finds no library, with what needs one (`what`), the line that installs
    the extra, and what else to do."""
    try:
        yield
    except ImportError:
        raise InvalidInput(
            f"the library for {what} is not installed",
            code="library-missing",
            remedy=f"pip install 'enthesis[{name}]'{otherwise and f', or {otherwise}'}",
        ) from None
