"""Grants: the rule that both sides of a crossing share."""
