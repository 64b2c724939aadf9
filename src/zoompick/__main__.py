"""Entry point; answers ``--version`` before anything else is loaded."""

from __future__ import annotations

import sys


def main() -> None:
    """Run the command line and exit with its code."""
    if sys.argv[1:] == ["--version"]:
        from zoompick import __version__

        sys.stdout.write(f"zoompick {__version__}\n")
        return
    from zoompick.cli.app import main as run

    sys.exit(run())


if __name__ == "__main__":
    main()
