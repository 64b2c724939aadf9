"""The application: which commands there are, in the order of the work; errors become exit codes."""

from __future__ import annotations

import os
import re
import sys
from pathlib import Path
from typing import Annotated, ClassVar

import typer

from zoompick import __version__, settings
from zoompick.cli import exits, groups, oldwords, show, slips
from zoompick.cli.voice import VOICE
from zoompick.errors import UsageError, ZoomPickError
from zoompick.files import refused
from zoompick.net import vault

_TABLE = {
    "Study": {
        "new": ("study", "Make a study folder with its brief, study.toml."),
        "status": ("study", "Show how far each scene of the shortlist is, bytes on disk, and what can be freed."),
        "run": ("running", "Carry out the brief of this study, from search to verification."),
        "lock": ("running", "Write down scenes, files and products with their digests, for 'run --locked'."),
        "history": ("study", "Show what was done in this study, when, and how it ended."),
        "demo": ("demo", "Run a whole study on invented data: a fen before and after its water was raised."),
        "standin": ("demo", "The simulated archive of the invented Ostrell islands."),
        "settings": ("setting", "List every setting and where it was set, and the folders."),
        "doctor": (
            "setting",
            "Look at versions, codecs, room, sources, log-ins (never shown), cache; clear the cache.",
        ),
    },
    "Find": {
        "area": ("area", "The study area: set, show, change, keep it."),
        "source": ("source", "Sources of scenes: add, list, show, check, log in, remove."),
        "search": ("search", "Search scenes; in a study the brief fills in what is not given here."),
        "scene": ("scene", "Tell all about one scene: when, where, cloud, rights, bands, its name, next passes."),
        "look": ("scene", "Look before loading: contact sheets, any bands, maps of footprints, in a terminal."),
        "calendar": ("scene", "Show when there are scenes and how cloudy, by months or days; gaps show at once."),
        "pick": ("pick", "The shortlist: pick, drop, tag, note, list, export, import, undo."),
    },
    "Get": {
        "download": ("get", "Download bands of picked scenes, whole or the area's part; the brief says which."),
        "tiles": ("tiles", "Picture tiles by zoom level: plan, get, join."),
        "unpack": ("unpack", "Unpack a delivery, or only what touches the area; of a remote one just those bytes."),
        "order": (
            "order",
            "Order scenes prepared on request or sold: ask, plan, submit, status, wait, cancel, adopt.",
        ),
    },
    "Make": {
        "bands": ("bands", "The bands of a delivery: list, guess a guide, split a file."),
        "stack": ("make", "Put bands on one grid, in order, into one file."),
        "mosaic": ("combine", "Lay scenes, tiles or sheets together on one grid, each pixel from one scene."),
        "blend": ("combine", "Blend many dates into one picture of what showed the ground."),
        "mask": ("combine", "Mask what hides the ground, or what a rule over classes and reflectance names."),
        "align": ("combine", "Find how a raster is shifted against a reference, and move it back."),
        "clip": ("make", "Cut a file to the area; outside is no-data."),
        "composite": ("make", "Make a colour picture of three bands: GeoTIFF, PNG and world file."),
        "index": ("make", "Compute indices as 32-bit floats, by recipe or by a formula of your own."),
        "picture": ("showing", "Draw a picture for a report, as PNG, JPEG, PDF or SVG."),
        "compare": ("showing", "Compare two dates: side by side, blinking, and how many hectares changed."),
    },
    "Check": {
        "verify": ("check", "Measure what can go wrong, from blocks to seams, and say why and what to do."),
        "report": ("handover", "Write the study's report: scenes, products, changes, checks, licences, steps."),
    },
}
"""Commands by panel: the file of each, and its first sentence."""


class _Root(groups.Root):
    table: ClassVar = {
        name: groups.Entry(file, panel, words)
        for panel, listed in _TABLE.items()
        for name, (file, words) in listed.items()
    }


app = typer.Typer(
    name="zoompick",
    cls=_Root,
    help="From an area, dates and a cloud limit to a checked satellite picture of exactly that area.",
    epilog="Start with 'zoompick demo': a whole study on invented data, made on this machine.",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
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
        words = oldwords.renewed(oldwords.with_box(words))
        result = app(words, standalone_mode=False, prog_name="zoompick")
    except ZoomPickError as problem:
        show.error(problem)
        return exits.code_of(problem)
    except (KeyboardInterrupt, typer.Abort) as problem:
        raise KeyboardInterrupt from problem
    except BrokenPipeError:
        # Whoever read our output has enough; keep Python from complaining at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return exits.DONE
    except OSError as problem:
        told = refused(problem)
        show.error(told)
        return exits.code_of(told)
    except typer.TyperException as problem:
        if type(problem).__name__ == "NoArgsIsHelpError":
            # A group without a word after it: the message is its whole help.
            show.line(problem.format_message())
            return exits.WRONG_USE
        show.error(slips.of_line(problem))
        return exits.WRONG_USE
    return result if isinstance(result, int) else exits.DONE
