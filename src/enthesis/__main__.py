"""Runs the command line: the console script's entry, and `python -m enthesis`."""

import gc

try:
    from enthesis.cli.interrupts import guarded
except KeyboardInterrupt:
    import sys

    sys.stderr.write("Interrupted.\n")
    sys.exit(130)


def run() -> None:
    """Runs the program; it ends in SystemExit."""

    def program() -> None:
        gc.disable()  # until the command is imported: nothing that an import makes is ever freed
        from enthesis.cli.main import run as run_commands  # noqa: PLC0415  after interrupts are guarded

        run_commands()

    guarded(program)


if __name__ == "__main__":
    run()
