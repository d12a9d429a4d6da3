"""One request: the compiled estate, the verdict with its grounds, expectations, and ways to allow it."""
