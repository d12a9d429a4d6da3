"""One connector per kind of live system, behind the ports. They do not know one another."""

import sys

# the HTTP library has a command line, for which it would load what no command of ours needs
sys.modules.setdefault("httpx._main", None)  # type: ignore[arg-type]
