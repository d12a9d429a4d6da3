"""Caller-side: what the caller's account lets out."""
