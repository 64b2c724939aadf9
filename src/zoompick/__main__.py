"""Entry point; answers ``--version`` and the shell's completion before anything else is loaded."""

from __future__ import annotations

import os
import sys


def main() -> None:
    """Run the command line and exit with its code."""
    if sys.argv[1:] == ["--version"]:
        from zoompick import __version__

        sys.stdout.write(f"zoompick {__version__}\n")
        return
    if "_ZOOMPICK_COMPLETE" in os.environ:
        from zoompick.cli import completing

        code = completing.answer(os.environ)
        if code is not None:
            sys.exit(code)
    from zoompick.cli.app import main as run

    sys.exit(run())


if __name__ == "__main__":
    main()
