"""A database with a server of its own, PostgreSQL 12 or later: surveyed, changed, and used with certificates."""
