"""Enthesis: describe the access you mean, make it so, explain it and prove it without long-lived keys."""

__version__ = "0.1.0"
