"""One request: the verdict with its grounds, and the changes that would turn it."""
