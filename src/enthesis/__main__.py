"""Runs the command line: the console script's entry, and `python -m enthesis`."""

try:
    from enthesis.commands.interrupts import guarded
except KeyboardInterrupt:
    import sys

    sys.stderr.write("Interrupted.\n")
    sys.exit(130)


def run() -> None:
    """Runs the program; it ends in SystemExit."""

    def program() -> None:
        from enthesis.commands.main import run as run_commands

        run_commands()

    guarded(program)


if __name__ == "__main__":
    run()
