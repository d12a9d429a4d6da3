"""Signed tokens: whether one is what it says."""
