"""Whom a trust admits, near-misses, keyless ways, and the risks of an estate."""
