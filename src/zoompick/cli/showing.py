"""Commands that show products to people: picture, compare."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from zoompick.cli import known, made, options, show
from zoompick.cli.declared import grouped, with_rules
from zoompick.errors import UsageError
from zoompick.figures.face import FORMATS, Panel, Paper
from zoompick.files import refuse_existing
from zoompick.jsontypes import JsonMap
from zoompick.products.compare import Compared, compared
from zoompick.products.drawing import Look, Wording, draw, shown
from zoompick.products.kinds.picture import PictureRules
from zoompick.products.picture import write_face
from zoompick.products.sidebyside import Comparison

File = Annotated[Path, typer.Argument(metavar="FILE", help="A raster: a composite, an index, classes, bands.")]
Recipe = Annotated[
    str,
    typer.Option(
        "--recipe",
        metavar="NAME",
        help="Composite of a file with many bands; natural by default.",
        autocompletion=known.recipes("composite"),
    ),
]
WidthMm = Annotated[
    float | None,
    typer.Option("--width-mm", metavar="MM", help="In print, at 300 dots an inch, in place of pixels."),
]
Face = Annotated[
    bool,
    typer.Option("--face", help="The map face alone, with world file and CRS beside it; PNG or JPEG."),
]


@with_rules(PictureRules)
@grouped
def picture(
    file: File,
    recipe: Recipe = "",
    place: options.Place = options.NOWHERE,
    *,
    rules: PictureRules,
    told: JsonMap,
    width_mm: WidthMm = None,
    face: Face = False,
    out: options.Out = None,
    overwrite: options.Overwrite = False,
) -> None:
    """Draw a picture for a report, as PNG, JPEG, PDF or SVG.

    It has legend, graticule, scale bar, north and where it is, for people to look at; to measure, take the GeoTIFF.
    An area given is drawn as an outline. The smallest overview that is fine enough is read.
    """
    target = options.with_ending(out or Path(f"{file.stem}-picture.png"), ".png")
    if target.suffix.lower() not in FORMATS:
        raise UsageError(f"{target.name}: pictures are {', '.join(FORMATS)}.", "Give --out FILE.png, say.")
    paper = paper_of(told, width_mm)
    refuse_existing([target], overwrite)
    given = place.area()
    look = Look(rules.colours, rules.range, recipe)
    if face:
        made = shown(file, paper.width_px, look)
        _write_face(made.panel, target, overwrite)
    else:
        made, _ = draw(
            file, target, Wording(rules.title, rules.caption, given.polygon if given else None), look, paper
        )
    if made.note:
        show.note(made.note)
    read = made.read
    show.note(f"Drawn in {show.place(target)}, from {read.width} x {read.height} px of {read.pixel_text}.")


def paper_of(told: JsonMap, width_mm: float | None = None) -> Paper:
    """Its width and dots an inch, of what was given."""
    width, dots = told.get("width_px"), told.get("dpi")
    return Paper.of(None if width is None else round(width), width_mm, None if dots is None else round(dots))


def _write_face(panel: object, target: Path, overwrite: bool) -> None:
    """The face alone, its world file and its reference system."""
    assert isinstance(panel, Panel)
    others = [
        target.with_suffix(ending) for ending in (".pgw" if target.suffix.lower() == ".png" else ".jgw", ".prj")
    ]
    refuse_existing(others, overwrite)
    write_face(panel.pixels, panel.grid, target, others[0], others[1])


Before = Annotated[Path, typer.Argument(metavar="BEFORE", help="Composite, index or bands of the earlier date.")]
After = Annotated[Path, typer.Argument(metavar="AFTER", help="The same of the later date.")]
Index = Annotated[str, typer.Option("--index", metavar="NAME", help="Index to compare, of files with bands.")]
Above = Annotated[
    float | None, typer.Option("--above", metavar="VALUE", help="Change is to rise above this, or fall below it.")
]
By = Annotated[
    float | None, typer.Option("--change-min", metavar="AMOUNT", help="Change is to rise or fall by as much.")
]
RecipeText = Annotated[
    str,
    typer.Option(
        "--recipe",
        metavar="NAME",
        help="Composite to show, of files with bands.",
        autocompletion=known.recipes("composite"),
    ),
]
Blink = Annotated[bool, typer.Option("--blink", help="Write an animated picture of the two too: NAME-blink.png.")]


@with_rules(PictureRules, "dpi")
@grouped
def compare(
    before: Before,
    after: After,
    index: Index = "",
    above: Above = None,
    by: By = None,
    recipe: RecipeText = "",
    place: options.Place = options.NOWHERE,
    *,
    rules: PictureRules,
    told: JsonMap,
    blink: Blink = False,
    out: options.Out = None,
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
) -> None:
    """Compare two dates: side by side, blinking, and how many hectares changed.

    With --above or --change-min the difference and a layer of classes of change are written beside the picture, and
    the ground of each class is told, inside the area where one is given. Two that do not lie on each other are
    refused.
    """
    target = options.with_ending(out or Path("compare.png"), ".png")
    blinking = target.with_name(f"{target.stem}-blink.png")
    refuse_existing([target, blinking] if blink else [target], overwrite)
    words = rules.title or _title(before, after)
    look = recipe, rules.colours, rules.range, place.area(), words, rules.caption
    wish = Comparison(before, after, index, above, by, *look)
    also = blinking if blink else None
    with show.progress() as report:
        found = compared(wish, target, also, paper_of(told), overwrite, report, made.journal_here())
    if as_json:
        show.as_json({"picture": str(target), "classes": [dict(row) for row in found.rows],
                      "files": [str(path) for path in found.files]})  # fmt: skip
        return
    _show_ground(found)
    show.note(f"Drawn in {', '.join(show.place(path) for path in found.files)}.")


def _show_ground(found: Compared) -> None:
    """How much ground each class of change has; nothing where no rule was given."""
    if found.rows:
        columns = [show.Column("class"), *(show.Column(unit, "right") for unit in ("ha", "km2", "%"))]
        rows = [[r["name"], f"{r['ha']:.1f}", f"{r['km2']:.3f}", f"{r['percent']:.1f}"] for r in found.rows]
        show.table(columns, rows)
    for sentence in found.sentences:
        show.line(sentence)


def _title(before: Path, after: Path) -> str:
    """Names of both, with their folders where they are called alike."""
    alike = before.stem == after.stem
    return " and ".join(f"{path.parent.name}/{path.name}" if alike else path.stem for path in (before, after))
