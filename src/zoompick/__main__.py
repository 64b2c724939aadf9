"""Entry point; answers ``--version`` before anything else is loaded."""

from __future__ import annotations

import gc
import sys
import warnings


def main() -> None:
    """Run the command line and exit with its code."""
    try:
        _run()
    except BaseException as problem:
        stopping = sys.modules.get("zoompick.cli.stopping")
        if isinstance(problem, KeyboardInterrupt) or (stopping is not None and stopping.was_asked()):
            from zoompick.cli.stopping import end

            end()
        raise


def _run() -> None:
    for stream in (sys.stdout, sys.stderr):
        # What the terminal's encoding lacks becomes a question mark.
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")
    if not sys.warnoptions:
        # What libraries have to say to programmers is nothing that a person here can act on.
        warnings.simplefilter("ignore")
    # Hardly anything made here lies in circles, and looking for them costs a short command a tenth of its time.
    gc.set_threshold(50_000, 20, 20)
    if sys.argv[1:] == ["--version"]:
        from zoompick import __version__

        sys.stdout.write(f"zoompick {__version__}\n")
        return
    from zoompick.cli import stopping

    stopping.listen()
    from zoompick.cli.app import main as run

    sys.exit(run())


if __name__ == "__main__":
    main()
