"""Names: who asks, what of, and whether they are there and stand."""
