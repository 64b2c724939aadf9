"""Options that several commands share."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from zoompick.cli import known, show
from zoompick.cli.elsewhere import Where
from zoompick.errors import UsageError
from zoompick.files import refuse_existing
from zoompick.given import percent_of, seconds_of
from zoompick.raster.ways import Ways

if TYPE_CHECKING:
    from zoompick.area.model import Area

Json = Annotated[bool, typer.Option("--json", help="Print JSON in place of a table.")]
Bands = Annotated[
    str,
    typer.Option(
        "--bands",
        metavar="A,B,C",
        help="Bands by name or wavelength (850nm), in the order wanted.",
        autocompletion=known.in_list(known.bands),
    ),
]
Listed = Annotated[bool, typer.Option("--list", help="List the recipes, and which of them the bands allow.")]
Out = Annotated[Path | None, typer.Option("--out", metavar="FILE", help="File to write.")]
Compression = Annotated[
    str,
    typer.Option(
        "--compression",
        metavar="NAME",
        help="deflate, by default: every reader knows it. zstd: two thirds of its time for as many bytes, and read "
        "in a third; newer readers. lzw: a seventh more bytes, slow to read. none: no time, all bytes. lerc=0.01: "
        "values may be off by that, far fewer bytes. jpeg, webp: pictures, a little lost. deflate,pixel: bands lie "
        "together.",
        autocompletion=known.one_of("deflate", "zstd", "lzw", "none", "lerc=0.01", "jpeg", "webp", "deflate,pixel"),
    ),
]
Resampling = Annotated[
    str,
    typer.Option(
        "--resampling",
        metavar="WAYS",
        help="bilinear, nearest, cubic, lanczos, average or majority; by band: cubic,nir=average.",
    ),
]
Overwrite = Annotated[bool, typer.Option("--overwrite", help="Replace a file that is there.")]
DryRun = Annotated[bool, typer.Option("--dry-run", help="Show what would be done, and do nothing.")]
AreaText = Annotated[
    str,
    typer.Option(
        "--area",
        metavar="AREA",
        help="A file, kept area, place, sheet, tile or coordinates; see 'zoompick area'.",
        show_default=False,
    ),
]


def percent(what: str) -> Callable[[str], float]:
    """A reader of percentages, with their sign or without, that calls the value by its name."""

    def read(words: str) -> float:
        return percent_of(words, what)

    return read


Edges = tuple[float, float, float, float]
Named = Annotated[
    str,
    typer.Option("--named", metavar="NAME", help="Only this polygon of the file, or attribute=value of some."),
]
Around = Annotated[
    str,
    typer.Option(
        "--around", metavar="DISTANCE", help="So far about a point or place, or the points and lines of a file: 5km."
    ),
]
Box = Annotated[
    tuple[float, float, float, float] | None,
    typer.Option("--box", metavar="W S E N", help="Area as a box: west south east north, in degrees; W,S,E,N too."),
]
SourceName = Annotated[
    str,
    typer.Option(
        "--source", metavar="NAME", help="Source to search; see 'source list'.", autocompletion=known.sources
    ),
]
SourceNames = Annotated[
    list[str] | None,
    typer.Option(
        "--source",
        metavar="NAME",
        help="Source to search; may be given again, or 'all'.",
        autocompletion=known.sources,
    ),
]
Collections = Annotated[
    list[str] | None,
    typer.Option(
        "--collection",
        metavar="ID",
        help="Collection to search; may be given again.",
        autocompletion=known.collections,
    ),
]
Dates = Annotated[
    list[str] | None,
    typer.Option(
        "--dates",
        metavar="WHEN",
        help="A day, month, year or START/END, to the end of the last day or second told; may be given again.",
    ),
]
Cloud = Annotated[
    float | None,
    typer.Option("--cloud", metavar="PERCENT", help="Cloud over the scene, at most.", parser=percent("cloud limit")),
]


def seconds(words: str, bare: str, option: str) -> float:
    """A span of time; a bare number is told to be of the unit that it had in the version before."""
    if words.replace(".", "", 1).isdecimal():
        show.note(f"{option} {words} is taken for {words}{bare}: give the unit, too.")
        words += bare
    return seconds_of(words)


def names(text: str) -> tuple[str, ...]:
    """Words between commas; UsageError when one stands there twice."""
    found = tuple(word.strip() for word in text.split(",") if word.strip())
    twice = next((word for word in found if found.count(word) > 1), None)
    if twice:
        raise UsageError(f"The band {twice} is named twice in '{text}'.", "Name each once.")
    return found


def band_names(text: str, files: Sequence[Path]) -> tuple[str, ...]:
    """Bands of files by name or wavelength; for a wavelength it is said which band was taken."""
    found = names(text)
    if not found or not files:
        return found

    from zoompick.fetch import wavelengths

    if not any(map(wavelengths.is_wavelength, found)):
        return found
    found, told = wavelengths.named(found, files)
    for sentence in told:
        show.note(sentence)
    return found


def png(path: Path, overwrite: bool) -> None:
    """Refuse, before anything is fetched, a picture that cannot be written."""
    if path.suffix.lower() != ".png":
        raise UsageError(f"{path.name}: pictures are written as PNG.", "Give a name ending in .png.")
    refuse_existing([path], overwrite)


class Place(NamedTuple):
    """An area as it is given on a command line."""

    text: AreaText = ""
    box: Box = None
    around: Around = ""
    named: Named = ""

    @property
    def option(self) -> str:
        """The first option that was given; empty for none."""
        told = {"--area": self.text, "--box": self.box, "--around": self.around, "--named": self.named}
        return next((name for name, value in told.items() if value), "")

    def area(self, like: Path | None = None) -> Area | None:
        """The area, or None; its notes are for the person to see."""
        from zoompick.study.areas import AreaRequest, resolve

        piped = sys.stdin.read() if self.text == "-" else ""
        return resolve(AreaRequest(self.text, piped, self.box, self.around, self.named, like))


NOWHERE = Place()


class Output(NamedTuple):
    """Where and how a product is written."""

    out: Out = None
    compression: Compression = ""
    overwrite: Overwrite = False
    as_json: Json = False
    cluster: Where = ""

    @property
    def given(self) -> dict[str, object]:
        """Options that were given, by name."""
        told = {"--out": self.out, "--compression": self.compression, "--overwrite": self.overwrite}
        return {name: value for name, value in told.items() if value}

    def target(self, name: str) -> Path:
        """The file: the one that was given, else one of that name here."""
        return with_ending(self.out or Path(name))


USUAL = Output()


def with_ending(path: Path, ending: str = ".tif") -> Path:
    """A path with an ending, where it has none."""
    return path if path.suffix else path.with_suffix(ending)


def ways(text: str) -> Ways:
    """How bands are resampled."""
    return Ways.parse(text)
