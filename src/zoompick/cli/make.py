"""Commands that make products: stack, clip, composite, index. With files they need no study."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from zoompick.cli import made, options, show
from zoompick.cli.declared import grouped, with_rules
from zoompick.cli.recipelist import list_recipes
from zoompick.errors import UsageError
from zoompick.figures.face import Paper, Scale
from zoompick.files import refuse_existing
from zoompick.geo.geodesy import buffered
from zoompick.given import length_m
from zoompick.jsontypes import JsonMap
from zoompick.products import recipes
from zoompick.products.drawing import Look, Wording, draw, has_colours
from zoompick.products.kinds.clip import ClipRules, ClipStep
from zoompick.products.kinds.composite import CompositeRules, CompositeStep
from zoompick.products.kinds.index import IndexRules, IndexStep
from zoompick.products.kinds.stack import StackRules, StackStep
from zoompick.products.rules import Rules
from zoompick.scenes.deliveries import open_layers
from zoompick.scenes.opening import open_raster
from zoompick.study.folder import Study
from zoompick.study.verbs import grid_around

if TYPE_CHECKING:
    from zoompick.area.model import Area
    from zoompick.raster.grid import Grid

File = Annotated[Path | None, typer.Argument(metavar="[FILE]", help="GeoTIFF; a study's own product by default.")]
Files = Annotated[
    list[Path] | None, typer.Argument(metavar="[FILE …]", help="GeoTIFFs; the study's scenes by default.")
]
Pixel = Annotated[
    float | None, typer.Option("--pixel", metavar="SIZE", help="Pixel size in units of the files' CRS.")
]
Like = Annotated[Path | None, typer.Option("--like", metavar="FILE", help="Take the grid of this GeoTIFF.")]
CrsText = Annotated[
    str,
    typer.Option(
        "--crs",
        metavar="CRS",
        help="auto (the UTM zone), EPSG:…, or WKT2 or a file of it; that of the files by default.",
    ),
]
Ground = Annotated[
    Path | None, typer.Option("--like", metavar="FILE", help="The ground of another raster, as a box.")
]
Grow = Annotated[
    str, typer.Option("--grow", metavar="DISTANCE", help="Grow the area by 500m, or shrink it by -200m.")
]
Same = Annotated[
    Path | None,
    typer.Option("--same-stretch-as", metavar="FILE", help="Take the shades of this composite, to compare dates."),
]
Own = Annotated[
    str,
    typer.Option("--formula", metavar="TEXT", help="Your own: '(nir - red) / (nir + red)', over reflectance."),
]


class Lattice(NamedTuple):
    """The grid of a stack."""

    crs: CrsText = ""
    pixel: Pixel = None
    like: Like = None

    @property
    def given(self) -> dict[str, object]:
        """Options that were given, by name."""
        return {"--pixel": self.pixel, "--like": self.like, "--crs": self.crs}


FINEST = Lattice()


@with_rules(StackRules)
@grouped
def stack(
    files: Files = None,
    bands: options.Bands = "",
    place: options.Place = options.NOWHERE,
    lattice: Lattice = FINEST,
    *,
    rules: StackRules,
    told: JsonMap,
    output: options.Output = options.USUAL,
) -> None:
    """Put bands on one grid, in order, into one file."""
    if not files:
        _refuse_options(
            {"--bands": bands, place.option: True, **lattice.given, **output.given}, StackRules, told
        )  # fmt: skip
        made.make_for_study("stack", output.as_json)
        return
    given = place.area()
    names = options.band_names(bands, files)
    if lattice.crs:
        grid: Grid | None = made.grid_for(files, names, given, *lattice)
    else:
        grid = _grid(files, given, lattice.pixel, lattice.like)
    step = StackStep(tuple(files), output.target("stack.tif"), names, grid, rules, asks=True)
    made.make_plain([step], output)


def _grid(files: Sequence[Path], area: Area | None, pixel: float | None, like: Path | None) -> Grid | None:
    """The wished grid: of another file, or around an area, or the finest file's with another pixel size."""
    if like is not None:
        if area is not None or pixel is not None:
            raise UsageError("--like gives the whole grid.", "Leave out --area, --box and --pixel.")
        return open_raster(like).grid
    if area is None and pixel is None:
        return None
    if pixel is not None and pixel <= 0:
        raise UsageError(f"The pixel size {pixel:g} is not above 0.", "As --pixel 8.")
    return grid_around([open_raster(path).grid for path in files], area, pixel)


@with_rules(ClipRules)
@grouped
def clip(
    file: File = None,
    place: options.Place = options.NOWHERE,
    like: Ground = None,
    grow: Grow = "",
    *,
    rules: ClipRules,
    told: JsonMap,
    output: options.Output = options.USUAL,
) -> None:
    """Cut a file to the area; outside is no-data."""
    if file is None:
        _refuse_options(
            {place.option: True, "--like": like, "--grow": grow, **output.given}, ClipRules, told
        )  # fmt: skip
        made.make_for_study("clip", output.as_json)
        return
    given = place.area(like)
    study = Study.find(Path.cwd())
    if given is None and study is not None:
        given = study.area()
    if given is None:
        raise UsageError("There is no area to clip to.", "Give --area FILE or --box W S E N.")
    polygon = buffered(given.polygon, length_m(grow)) if grow else given.polygon
    target = output.target(str(_beside(file, "clip")))
    made.make_plain([ClipStep((file,), target, rules, area=polygon)], output)


@with_rules(CompositeRules)
@grouped
def composite(
    file: File = None,
    bands: options.Bands = "",
    listed: options.Listed = False,
    same_stretch_as: Same = None,
    place: options.Place = options.NOWHERE,
    *,
    rules: CompositeRules,
    told: JsonMap,
    output: options.Output = options.USUAL,
) -> None:
    """Make a colour picture of three bands: GeoTIFF, PNG and world file."""
    if listed:
        list_recipes(file, output.as_json, is_index=False)
        return
    if rules.recipes and bands:
        raise UsageError("A recipe and bands were given.", "Give one of them.")
    chosen = [recipes.composite(name) for name in rules.recipes]
    chosen += (
        [recipes.own_composite(_named(file, options.band_names(bands, [file] if file else [])))] if bands else []
    )
    shades = {name: value for name, value in told.items() if name != "recipes"}
    if same_stretch_as is not None and shades:
        raise UsageError("--same-stretch-as gives all shades.", "Leave out --stretch, --gamma and the like.")
    if file is None:
        _refuse_options({place.option: True, "--same-stretch-as": same_stretch_as, **output.given})
        made.make_for_study("composite", output.as_json, chosen or None, shades)
        return
    given = place.area()
    ground = given.polygon if given else None
    if not chosen and not has_colours(open_raster(file)):
        _drawn(file, output, given)
        return
    chosen = chosen or [recipes.composite("natural")]
    targets = _targets(file, [entry.name for entry in chosen], output.out)
    steps = [
        CompositeStep((file,), target, recipe=entry, tone=rules.tone, area=ground, same_as=same_stretch_as)
        for entry, target in zip(chosen, targets, strict=True)
    ]
    made.make_plain(steps, output)


def _drawn(file: Path, output: options.Output, area: Area | None) -> None:
    """What is no colour as a picture with a scale of its values."""
    target = (output.out or Path(f"{file.stem}-picture.png")).with_suffix(".png")
    refuse_existing([target], output.overwrite)
    made, _ = draw(file, target, Wording(outline=area.polygon if area else None), Look(), Paper.of(None, None, None))
    if made.note:
        show.note(made.note)
    unit = made.legend.label if isinstance(made.legend, Scale) else "its classes"
    show.note(f"{file.name} is no colour: it is drawn in {show.place(target)} with a scale of {unit}.")


def _targets(file: Path, names: Sequence[str], out: Path | None) -> list[Path]:
    """The file of each product; ``out`` is a file for one, and a folder for one or several."""
    if out is None or out.is_dir():
        return [(out or Path()) / _beside(file, name) for name in names]
    if len(names) > 1:
        raise UsageError(f"{out} is no folder, and {len(names)} products are made.", "Make the folder, or name none.")
    return [options.with_ending(out)]


def _named(file: Path | None, bands: tuple[str, ...]) -> tuple[str, ...]:
    """Bands by name; numbers are counted in the file's order, and it is said what each was taken for."""
    if file is None or not any(band.isdigit() for band in bands):
        return bands

    have = [layer.name for layer in open_layers([file])]
    found = []
    for band in bands:
        if band.isdigit() and not 1 <= int(band) <= len(have):
            raise UsageError(f"{file.name} has no band {band}.", f"It has 1 to {len(have)}: {', '.join(have)}.")
        found.append(have[int(band) - 1] if band.isdigit() else band)
    taken = zip(("red", "green", "blue"), bands, found, strict=False)
    show.note(", ".join(f"{colour} shows band {band}, {name}" for colour, band, name in taken) + ".")
    return tuple(found)


@with_rules(IndexRules)
@grouped
def index(
    file: File = None,
    place: options.Place = options.NOWHERE,
    formula: Own = "",
    listed: options.Listed = False,
    *,
    rules: IndexRules,
    output: options.Output = options.USUAL,
) -> None:
    """Compute indices as 32-bit floats, by recipe or by a formula of your own.

    A formula has + - * / and brackets, < <= > >= == and or not, min max abs sqrt log exp where clip. A pixel without
    a value in a band it needs, and what has no value (0 / 0), is no-data.
    """
    if listed:
        list_recipes(file, output.as_json, is_index=True)
        return
    if rules.recipes and formula:
        raise UsageError("A recipe and a formula were given.", "Give one of them.")
    chosen = [recipes.index(name) for name in rules.recipes]
    chosen += [recipes.own_index(formula)] if formula else []
    if file is None:
        _refuse_options({place.option: True, "--formula": formula, **output.given})
        made.make_for_study("index", output.as_json, chosen or None)
        return
    if not chosen:
        raise UsageError("No recipe was given.", f"As --recipe {recipes.index_names()[0]}, or --formula TEXT.")
    given = place.area()
    targets = _targets(file, [entry.name for entry in chosen], output.out)
    steps = [
        IndexStep((file,), target, recipe=entry, area=given.polygon if given else None)
        for entry, target in zip(chosen, targets, strict=True)
    ]
    made.make_plain(steps, output)


def _beside(file: Path, word: str) -> Path:
    return Path(f"{file.stem}-{word}.tif")


def _refuse_options(given: JsonMap, kind: type[Rules] | None = None, told: Iterable[str] = ()) -> None:
    """Without a file the brief decides; options that would contradict it are refused."""
    of_rules = [f"--{row.option}" for row in kind.rows() if row.field in told] if kind else []
    named = next(iter([*(name for name, value in given.items() if name and value), *of_rules]), None)
    if named:
        raise UsageError(f"{named} needs a file.", "Give the file, or change study.toml and leave the option out.")
