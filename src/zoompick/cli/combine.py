"""Commands that choose or move pixels: mosaic, blend, mask, align."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated, NamedTuple

import typer

from zoompick.cli import options, show
from zoompick.cli.declared import grouped, with_rules
from zoompick.cli.made import grid_for, make_plain
from zoompick.jsontypes import JsonMap
from zoompick.products.kinds import blend as blends
from zoompick.products.kinds import mosaic as mosaics
from zoompick.products.kinds.align import AlignRules, AlignStep
from zoompick.products.kinds.blend import BlendRules, by_span
from zoompick.products.kinds.mask import MaskRules, MaskStep
from zoompick.products.kinds.mosaic import MosaicRules

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


class Lattice(NamedTuple):
    """The grid that scenes are laid on."""

    crs: CrsText = ""
    pixel: Pixel = None
    like: Like = None


ANY = Lattice()


@with_rules(MosaicRules)
@grouped
def mosaic(
    files: Files,
    bands: options.Bands = "",
    place: options.Place = options.NOWHERE,
    lattice: Lattice = ANY,
    *,
    rules: MosaicRules,
    told: JsonMap,
    output: options.Output = options.USUAL,
) -> None:
    """Lay scenes, tiles or sheets together on one grid, each pixel from one scene.

    A second file, NAME-scenes.tif, tells for each pixel which scene it is from. Where class layers are among the
    files, what hides the ground is filled from the next scene.
    """
    given = place.area()
    names = options.band_names(bands, files)
    grid = grid_for(files, names, given, *lattice)
    rules = mosaics.rules_for(told, files)
    if rules.order == "given" != told.get("order"):
        show.note("Not all files tell when they were taken: they count in the order given.")
    steps = mosaics.steps_of(files, output.target("mosaic.tif"), names, grid, rules)
    make_plain(steps, output)


@with_rules(BlendRules)
@grouped
def blend(
    files: Files,
    bands: options.Bands = "",
    place: options.Place = options.NOWHERE,
    lattice: Lattice = ANY,
    *,
    rules: BlendRules,
    output: options.Output = options.USUAL,
) -> None:
    """Blend many dates into one picture of what showed the ground.

    Beside it NAME-count.tif tells how many dates went into each pixel, and, where all bands of a pixel are of one
    date, NAME-date.tif which day it was (yyyymmdd).
    """
    given = place.area()
    names = options.band_names(bands, files)
    grid = grid_for(files, names, given, *lattice)
    target = output.target("blend.tif")
    steps = []
    for name, own in by_span(files, rules.per).items():
        one = target.with_name(f"{target.stem}-{name}{target.suffix}") if name else target
        steps.append(blends.steps_of(own, one, names, grid, rules))
    make_plain([step for group in steps for step in group], output)


@with_rules(MaskRules)
@grouped
def mask(
    files: Files,
    bands: options.Bands = "",
    place: options.Place = options.NOWHERE,
    like: Like = None,
    *,
    rules: MaskRules,
    told: JsonMap,
    output: options.Output = options.USUAL,
) -> None:
    """Mask what hides the ground, or what a rule over classes and reflectance names.

    Without an area what is masked by default is cloud or shadow; with one, what lies outside too.

    A rule is a formula that is true or false: bands, + - * / and brackets, < <= > >= == and or not, the meanings of
    classes (cloud, shadow, snow, water, clear, fill), saturated, bright_cloud (a guess, without class layer), outside
    (of the area given). It becomes a layer of 1 and 0, 255 where nothing was seen.
    """
    given = place.area()
    names = options.band_names(bands, files)
    if given is None and "where" not in told:
        rules = replace(rules, where="cloud or shadow")
    target = output.target("masked.tif" if rules.apply else "mask.tif")
    step = MaskStep(
        tuple(files), target, rules=rules, grid=grid_for(files, names, None, "", None, like), bands=names,
        outside=given.polygon if given else None,
    )  # fmt: skip
    make_plain([step], output)


@with_rules(AlignRules)
@grouped
def align(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="The raster to move.")],
    to: Annotated[Path, typer.Option("--reference", metavar="FILE", help="The raster that it should lie on.")],
    *,
    rules: AlignRules,
    output: options.Output = options.USUAL,
) -> None:
    """Find how a raster is shifted against a reference, and move it back.

    The shift is measured in many tiles; where they do not agree it is refused. Figures before and after stand in the
    record beside the product.
    """
    target = output.target(f"{file.stem}-aligned.tif")
    make_plain([AlignStep((file, to), target, rules)], output)
