"""The application: which commands there are, in the order of the work; errors become exit codes."""

from __future__ import annotations

import os
import re
import sys
from pathlib import Path
from typing import Annotated, ClassVar

import typer

from zoompick import __version__, settings
from zoompick.cli import exits, groups
from zoompick.cli.voice import VOICE
from zoompick.errors import UsageError, ZoomPickError
from zoompick.net import vault

_STUDY, _FIND, _GET, _MAKE, _CHECK = "Study", "Find", "Get", "Make", "Check"


class _Root(groups.Root):
    table: ClassVar = {
        "new": groups.Entry("study", "new", _STUDY),
        "status": groups.Entry("study", "status", _STUDY),
        "run": groups.Entry("running", "run", _STUDY),
        "lock": groups.Entry("running", "lock", _STUDY),
        "history": groups.Entry("study", "history", _STUDY),
        "demo": groups.Entry("demo", "demo", _STUDY),
        "standin": groups.Entry("demo", "standin", _STUDY),
        "settings": groups.Entry("setting", "settings", _STUDY),
        "doctor": groups.Entry("setting", "doctor", _STUDY),
        "area": groups.Entry("area", "area", _FIND),
        "source": groups.Entry("source", "source", _FIND),
        "search": groups.Entry("search", "search", _FIND),
        "scene": groups.Entry("scene", "scene", _FIND),
        "look": groups.Entry("scene", "look", _FIND),
        "calendar": groups.Entry("scene", "calendar", _FIND),
        "pick": groups.Entry("pick", "pick", _FIND),
        "download": groups.Entry("get", "download", _GET),
        "tiles": groups.Entry("tiles", "tiles", _GET),
        "unpack": groups.Entry("unpack", "unpack", _GET),
        "order": groups.Entry("order", "order", _GET),
        "bands": groups.Entry("bands", "bands", _MAKE),
        "stack": groups.Entry("make", "stack", _MAKE),
        "mosaic": groups.Entry("combine", "mosaic", _MAKE),
        "blend": groups.Entry("combine", "blend", _MAKE),
        "mask": groups.Entry("combine", "mask", _MAKE),
        "align": groups.Entry("combine", "align", _MAKE),
        "clip": groups.Entry("make", "clip", _MAKE),
        "composite": groups.Entry("make", "composite", _MAKE),
        "index": groups.Entry("make", "index", _MAKE),
        "picture": groups.Entry("showing", "picture", _MAKE),
        "compare": groups.Entry("showing", "compare", _MAKE),
        "verify": groups.Entry("check", "verify", _CHECK),
        "report": groups.Entry("handover", "report", _CHECK),
    }


app = typer.Typer(
    name="zoompick",
    cls=_Root,
    help="From an area, dates and a cloud limit to a checked satellite picture of exactly that area.",
    epilog="Start with 'zoompick demo': a whole study on invented data, made on this machine.",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode="rich",
    context_settings={"help_option_names": ["-h", "--help"]},
)


@app.callback()
def _root(
    version: bool = typer.Option(False, "--version", help="Print the version.", is_eager=True),
    quiet: bool = typer.Option(False, "--quiet", help="Only results and errors: no notes, no progress."),
    verbose: bool = typer.Option(False, "--verbose", help="A line for each step that begins and ends."),
    log: Annotated[
        Path | None, typer.Option("--log", metavar="FILE", help="Add notes and errors with times to a file.")
    ] = None,
) -> None:
    if log is not None:
        try:
            log.open("a").close()
        except OSError as error:
            raise UsageError(f"The log {log} cannot be written: {error.strerror}.", "Give another --log.") from error
    VOICE.is_quiet, VOICE.is_verbose, VOICE.log = quiet, verbose, log.absolute() if log else None
    if not version and not {"--help", "-h"} & set(sys.argv):
        settings.check()
    if version:
        sys.stdout.write(f"zoompick {__version__}\n")
        raise typer.Exit


def main() -> int:
    """Run the application; returns the exit code."""
    # A pasted pair of coordinates may begin with a minus; a space in front keeps it from being taken for an option.
    words = [f" {word}" if re.match(r"-\d[\d.]*\s*[,;/°\s]", word) else word for word in sys.argv[1:]]
    if any("://" in word for word in words):
        # Keys and signatures in an address go no further than the request.
        words = [vault.typed(word) for word in words]
    try:
        result = app(words, standalone_mode=False, prog_name="zoompick")
    except ZoomPickError as problem:
        from zoompick.cli import show

        show.error(problem)
        return exits.code_of(problem)
    except (KeyboardInterrupt, typer.Abort) as problem:
        raise KeyboardInterrupt from problem
    except BrokenPipeError:
        # Whoever read our output has enough; keep Python from complaining at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return exits.DONE
    except OSError as problem:
        from zoompick.cli import show
        from zoompick.files import refused

        told = refused(problem)
        show.error(told)
        return exits.code_of(told)
    except typer.TyperException as problem:
        from zoompick.cli import show

        if type(problem).__name__ == "NoArgsIsHelpError":
            # A group without a word after it: the message is its whole help.
            show.line(problem.format_message())
            return exits.WRONG_USE
        todo = "'zoompick --help' lists the commands, 'zoompick COMMAND --help' their options."
        show.error(UsageError(problem.format_message(), todo))
        return exits.WRONG_USE
    return result if isinstance(result, int) else exits.DONE
