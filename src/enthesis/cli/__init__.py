"""The command line: one thin module per command, shared options, the lazy application."""
