"""Patterns, tests and sets of callers: their truth, their algebra, and values that satisfy them."""
