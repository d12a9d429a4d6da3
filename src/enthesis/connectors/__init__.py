"""One connector per kind of live system, behind the ports. They do not know one another."""

import sys

sys.modules.setdefault("httpx._main", None)  # type: ignore[arg-type]  its command line, with much that it alone loads
