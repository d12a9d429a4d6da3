"""Ceilings: what callers beneath a boundary may at most do, or what may at most be done beneath it."""
