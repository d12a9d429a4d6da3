"""The command line: one thin module per command. Heavy imports stand inside the functions."""
