"""Commands that choose or move pixels: mosaic, blend, mask, align."""

from __future__ import annotations

from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick.area.coordinates import parse_length_m
from zoompick.cli import elsewhere, options
from zoompick.cli.made import grid_for, make_plain
from zoompick.errors import UnknownNameError, UsageError
from zoompick.products.formula import Formula
from zoompick.products.kinds.align import AlignStep
from zoompick.products.kinds.blend import BlendRules, by_span, steps_of
from zoompick.products.kinds.mask import MaskStep
from zoompick.products.kinds.mosaic import MosaicRules, MosaicStep, SceneLayerStep, beside
from zoompick.sensors.classes import MEANINGS

if TYPE_CHECKING:
    pass

Files = Annotated[list[Path], typer.Argument(metavar="FILE …", help="Bands of scenes, their class layers with them.")]
Like = Annotated[Path | None, typer.Option("--like", metavar="FILE", help="Take the grid of this raster.")]
Pixel = Annotated[
    float | None, typer.Option("--pixel", metavar="SIZE", help="Pixel size in units of the grid's CRS.")
]
CrsText = Annotated[
    str,
    typer.Option(
        "--crs",
        metavar="CRS",
        help="auto (the UTM zone), EPSG:…, or WKT2 or a file of it; that of most files by default.",
    ),
]
Hide = Annotated[
    str,
    typer.Option("--hide", metavar="A,B", help="What hides the ground: cloud, shadow, snow, water; or none."),
]
Grow = Annotated[str, typer.Option("--grow", metavar="DISTANCE", help="So far around it is not trusted either: 50m.")]


def mosaic(
    files: Files,
    bands: options.Bands = "",
    area: options.AreaText = "",
    box: options.Box = None,
    around: options.Around = "",
    crs: CrsText = "",
    pixel: Pixel = None,
    like: Like = None,
    order: Annotated[
        str,
        typer.Option(
            "--order", metavar="ORDER", help="Which scene counts first: newest, oldest, clearest, nadir, nearest=DAY."
        ),
    ] = "given",
    hide: Hide = "cloud,shadow",
    grow: Grow = "",
    clear_only: Annotated[
        bool, typer.Option("--clear-only", help="No data where no scene shows the ground, in place of its cloud.")
    ] = False,
    feather: Annotated[
        str, typer.Option("--feather", metavar="DISTANCE", help="Soften seams over this width: 200m.")
    ] = "",
    match: Annotated[
        bool, typer.Option("--match", help="Bring scenes to the brightness of the first, by their overlaps.")
    ] = False,
    resampling: options.Resampling = "bilinear",
    out: options.Out = None,
    compression: options.Compression = "",
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
    cluster: elsewhere.Where = "",
) -> None:
    """Lay scenes, tiles or sheets together on one grid, each pixel from one scene.

    A second file, NAME-scenes.tif, tells for each pixel which scene it is from. Where class layers are among the
    files, what hides the ground is filled from the next scene.
    """
    rule, day = _order(order)
    rules = MosaicRules(
        rule, day, meanings(hide), metres(grow), clear_only, metres(feather), match, options.ways(resampling)
    )
    given = options.area_given(area, box, around)
    names = options.band_names(bands, files)
    grid = grid_for(files, names, given, crs, pixel, like)
    target = options.with_ending(out or Path("mosaic.tif"))
    made = (
        MosaicStep(tuple(files), target, names, grid=grid, rules=rules),
        SceneLayerStep(tuple(files), beside(target), names, grid=grid, rules=rules),
    )
    make_plain(made, overwrite, as_json, compression)


def blend(
    files: Files,
    by: Annotated[
        str,
        typer.Option(
            "--by",
            metavar="WAY",
            help="median, mean, percentile=90; or each pixel from one date: clearest, newest, highest=ndvi.",
        ),
    ] = "median",
    every: Annotated[
        str, typer.Option("--every", metavar="SPAN", help="One blend for each 8d, month, season or year.")
    ] = "",
    bands: options.Bands = "",
    area: options.AreaText = "",
    box: options.Box = None,
    around: options.Around = "",
    crs: CrsText = "",
    pixel: Pixel = None,
    like: Like = None,
    hide: Hide = "cloud,shadow",
    grow: Grow = "",
    least: Annotated[
        int, typer.Option("--least", metavar="DATES", help="No data where fewer dates show the ground.")
    ] = 1,
    out: options.Out = None,
    compression: options.Compression = "",
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
    cluster: elsewhere.Where = "",
) -> None:
    """Blend many dates into one picture of what showed the ground.

    Beside it NAME-count.tif tells how many dates went into each pixel, and, where all bands of a pixel are of one
    date, NAME-date.tif which day it was (yyyymmdd).
    """
    rules = BlendRules.parse(by, least, meanings(hide), metres(grow))
    given = options.area_given(area, box, around)
    names = options.band_names(bands, files)
    grid = grid_for(files, names, given, crs, pixel, like)
    target = options.with_ending(out or Path("blend.tif"))
    steps = []
    for name, own in by_span(files, every).items():
        one = target.with_name(f"{target.stem}-{name}{target.suffix}") if name else target
        steps.append(steps_of(own, one, names, grid, rules))
    make_plain([step for group in steps for step in group], overwrite, as_json, compression)


def mask(
    files: Files,
    where: Annotated[
        str,
        typer.Option(
            "--where",
            metavar="RULE",
            help="'cloud or shadow', 'snow and not water', 'nir < 0.1', 'saturated', 'bright_cloud', 'outside'.",
        ),
    ] = "cloud or shadow",
    grow: Annotated[str, typer.Option("--grow", metavar="DISTANCE", help="Widen what holds by this: 60m.")] = "",
    shrink: Annotated[
        str, typer.Option("--shrink", metavar="DISTANCE", help="Narrow it first, so that specks go: 20m.")
    ] = "",
    apply: Annotated[
        bool, typer.Option("--apply", help="Write the bands without it, in place of a layer that tells it.")
    ] = False,
    bands: options.Bands = "",
    area: options.AreaText = "",
    box: options.Box = None,
    around: options.Around = "",
    like: Like = None,
    out: options.Out = None,
    compression: options.Compression = "",
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
    cluster: elsewhere.Where = "",
) -> None:
    """Mask what hides the ground, or what a rule over classes and reflectance names.

    A rule is a formula that is true or false: bands, + - * / and brackets, < <= > >= == and or not, the meanings of
    classes (cloud, shadow, snow, water, clear, fill), saturated, bright_cloud (a guess, without class layer), outside
    (of the area given). It becomes a layer of 1 and 0, 255 where nothing was seen.
    """
    rule = Formula.parse(where)
    if not rule.is_test and rule.text.strip() not in rule.bands:
        raise UsageError(f"'{where}' is neither true nor false.", "As 'nir < 0.1', or 'cloud or shadow'.")
    given = options.area_given(area, box, around)
    names = options.band_names(bands, files)
    step = MaskStep(
        tuple(files),
        options.with_ending(out or Path("masked.tif" if apply else "mask.tif")),
        rule=rule,
        grid=grid_for(files, names, None, "", None, like),
        bands=names,
        grow_m=metres(grow),
        shrink_m=metres(shrink),
        outside=given.polygon if given else None,
        is_applied=apply,
    )
    make_plain([step], overwrite, as_json, compression)


def align(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="The raster to move.")],
    to: Annotated[Path, typer.Option("--to", metavar="FILE", help="The reference that it should lie on.")],
    band: Annotated[
        str, typer.Option("--band", metavar="NAME", help="Compared in both; the first that both have by default.")
    ] = "",
    each: Annotated[
        bool, typer.Option("--each", help="Measure and move every band by itself, against the reference's band.")
    ] = False,
    limit: Annotated[float, typer.Option("--limit", metavar="PIXELS", help="A smaller shift is left alone.")] = 0.1,
    out: options.Out = None,
    compression: options.Compression = "",
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
    cluster: elsewhere.Where = "",
) -> None:
    """Find how a raster is shifted against a reference, and move it back.

    The shift is measured in many tiles; where they do not agree it is refused. Figures before and after stand in the
    record beside the product.
    """
    if not 0 <= limit < 100:
        raise UsageError(f"A limit of {limit:g} px cannot be used.", "As --limit 0.1.")
    target = options.with_ending(out or Path(f"{file.stem}-aligned.tif"))
    make_plain([AlignStep((file, to), target, band, limit_px=limit, each=each)], overwrite, as_json, compression)


def meanings(text: str) -> tuple[str, ...]:
    """Meanings of classes by name; ``none`` is none."""
    chosen = () if text.strip() in ("", "none") else options.names(text)
    for word in chosen:
        if word not in MEANINGS:
            raise UnknownNameError.of("meaning of a class", word, (*MEANINGS, "none"))
    return chosen


def metres(text: str) -> float:
    """A distance, 0 for none."""
    return max(0.0, parse_length_m(text)) if text else 0.0


def _order(text: str) -> tuple[str, date | None]:
    rule, _, day = text.partition("=")
    if not day:
        return rule, None
    try:
        return rule, date.fromisoformat(day)
    except ValueError as error:
        raise UsageError(f"'{day}' is no day.", "As --order nearest=2025-12-15.") from error
