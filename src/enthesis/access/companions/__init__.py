"""Companions: what else must be allowed with a request."""
