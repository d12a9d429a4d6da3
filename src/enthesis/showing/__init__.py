"""Renders values as lines, tables and files. Nothing here decides anything."""
