"""What is not decided because it would be too much work: every search that could run long has a bound."""


class Undecided(Exception):
    """Past a bound on work; says which, so that the answer can be *not decided, because more than …*."""
