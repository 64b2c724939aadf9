"""The application: which commands there are, in the order of the work; errors become exit codes."""

from __future__ import annotations

import os
import re
import sys
import threading

import typer

from zoompick.cli import area, check, demo, exits, get, groups, make, pick, scene, search, source, study
from zoompick.errors import UsageError, ZoomPickError


class _Root(groups.InOrder):
    order = (
        "new", "run", "demo", "standin", "area", "source", "search", "scene", "look", "calendar", "pick", "download",
        "stack", "clip", "composite", "index", "verify",
    )  # fmt: skip


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

_STUDY, _FIND, _GET, _MAKE, _CHECK = "Study", "Find", "Get", "Make", "Check"

app.command("new", rich_help_panel=_STUDY)(study.new)
app.command("run", rich_help_panel=_STUDY)(study.run)
app.command("demo", rich_help_panel=_STUDY)(demo.demo)
app.add_typer(demo.standin, name="standin", rich_help_panel=_STUDY)
app.add_typer(area.area, name="area", rich_help_panel=_FIND)
app.add_typer(source.source, name="source", rich_help_panel=_FIND)
app.command("search", rich_help_panel=_FIND)(search.search)
app.command("scene", rich_help_panel=_FIND)(scene.scene)
app.command("look", rich_help_panel=_FIND)(scene.look)
app.command("calendar", rich_help_panel=_FIND)(scene.calendar)
app.add_typer(pick.pick, name="pick", rich_help_panel=_FIND)
app.command("download", rich_help_panel=_GET)(get.download)
app.command("stack", rich_help_panel=_MAKE)(make.stack)
app.command("clip", rich_help_panel=_MAKE)(make.clip)
app.command("composite", rich_help_panel=_MAKE)(make.composite)
app.command("index", rich_help_panel=_MAKE)(make.index)
app.command("verify", rich_help_panel=_CHECK)(check.verify)


@app.callback()
def _root(
    version: bool = typer.Option(False, "--version", help="Print the version.", is_eager=True),
) -> None:
    if version:
        from zoompick import __version__

        sys.stdout.write(f"zoompick {__version__}\n")
        raise typer.Exit


def main() -> int:
    """Run the application; returns the exit code."""
    # A pasted pair of coordinates may begin with a minus; a space in front keeps it from being taken for an option.
    words = [f" {word}" if re.match(r"-\d[\d.]*\s*[,;/°\s]", word) else word for word in sys.argv[1:]]
    try:
        result = app(words, standalone_mode=False)
    except ZoomPickError as problem:
        from zoompick.cli import show

        show.error(problem)
        return exits.code_of(problem)
    except (KeyboardInterrupt, typer.Abort):
        sys.stderr.write("zoompick: stopped. The same command goes on where this one ended.\n")
        if threading.active_count() > 1:
            # A thread still waits for a source; nobody wants to wait with it.
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(exits.STOPPED)
        return exits.STOPPED
    except BrokenPipeError:
        # Whoever read our output has enough; keep Python from complaining at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return exits.DONE
    except typer.TyperException as problem:
        from zoompick.cli import show

        todo = "'zoompick --help' lists the commands, 'zoompick COMMAND --help' their options."
        show.error(UsageError(problem.format_message(), todo))
        return exits.WRONG_USE
    return result if isinstance(result, int) else exits.DONE
