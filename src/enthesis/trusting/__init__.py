"""Patterns and conditions: what they say of a value, and which values they leave open."""
