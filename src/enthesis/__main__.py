"""Runs the command line as `python -m enthesis`."""

from enthesis.commands.main import run

run()
