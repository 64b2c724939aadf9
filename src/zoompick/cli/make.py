"""Commands that make products: stack, clip, composite, index. With files they need no study."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from zoompick.area.coordinates import parse_length_m
from zoompick.cli import elsewhere, known, made, options, show
from zoompick.cli.recipelist import list_recipes
from zoompick.errors import UnknownNameError, UsageError
from zoompick.geo.geodesy import buffered
from zoompick.products import recipes
from zoompick.products.kinds.clip import ClipStep
from zoompick.products.kinds.composite import CompositeStep
from zoompick.products.kinds.index import IndexStep
from zoompick.products.kinds.stack import StackStep
from zoompick.products.tone import Tone
from zoompick.scenes.deliveries import open_layers
from zoompick.scenes.opening import open_raster
from zoompick.study.folder import Study
from zoompick.study.verbs import grid_around

if TYPE_CHECKING:
    from zoompick.area.model import Area
    from zoompick.raster.grid import Grid

File = Annotated[Path | None, typer.Argument(metavar="[FILE]", help="GeoTIFF; a study's own product by default.")]


def stack(
    files: Annotated[
        list[Path] | None, typer.Argument(metavar="[FILE …]", help="GeoTIFFs; the study's scenes by default.")
    ] = None,
    bands: options.Bands = "",
    area: options.AreaText = "",
    box: options.Box = None,
    around: options.Around = "",
    pixel: Annotated[
        float | None, typer.Option("--pixel", metavar="SIZE", help="Pixel size in units of the files' CRS.")
    ] = None,
    like: Annotated[
        Path | None, typer.Option("--like", metavar="FILE", help="Take the grid of this GeoTIFF.")
    ] = None,
    crs: Annotated[
        str,
        typer.Option(
            "--crs",
            metavar="CRS",
            help="auto (the UTM zone), EPSG:…, or WKT2 or a file of it; that of the files by default.",
        ),
    ] = "",
    classes: Annotated[
        str, typer.Option("--classes", metavar="A,B", help="Bands that hold classes: never averaged.")
    ] = "",
    swath: Annotated[
        str, typer.Option("--swath", metavar="WAY", help="Pixels of a swath: nearest, or mean (by distance).")
    ] = "nearest",
    resampling: options.Resampling = "bilinear",
    out: options.Out = None,
    compression: options.Compression = "",
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
    cluster: elsewhere.Where = "",
) -> None:
    """Put bands on one grid, in order, into one file."""
    if not files:
        _refuse_options(
            {
                "--bands": bands,
                "--area": area,
                "--box": box,
                "--around": around,
                "--pixel": pixel,
                "--like": like,
                "--crs": crs,
                "--classes": classes,
                "--out": out,
            }
        )
        made.make_for_study("stack", as_json)
        return
    given = options.area_given(area, box, around)
    if crs:
        grid: Grid | None = made.grid_for(files, options.band_names(bands, files), given, crs, pixel, like)
    else:
        grid = _grid(files, given, pixel, like)
    step = StackStep(
        tuple(files),
        options.with_ending(out or Path("stack.tif")),
        options.band_names(bands, files),
        grid,
        options.names(classes),
        is_weighted=_is_mean(swath),
        asks=True,
        ways=options.ways(resampling),
    )
    made.make_plain([step], overwrite, as_json, compression)


def _is_mean(swath: str) -> bool:
    if swath not in ("nearest", "mean"):
        raise UnknownNameError.of("way to lay a swath", swath, ("nearest", "mean"))
    return swath == "mean"


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


def clip(
    file: File = None,
    area: options.AreaText = "",
    box: options.Box = None,
    around: options.Around = "",
    like: Annotated[
        Path | None, typer.Option("--like", metavar="FILE", help="The ground of another raster, as a box.")
    ] = None,
    touch: Annotated[bool, typer.Option("--touch", help="Keep every pixel the outline passes through.")] = False,
    outside: Annotated[bool, typer.Option("--outside", help="Keep what lies outside instead.")] = False,
    keep: Annotated[
        bool, typer.Option("--keep", help="Keep the file's extent; what is cut away is no-data.")
    ] = False,
    loose: Annotated[
        bool, typer.Option("--loose", help="Widen the extent to whole blocks, which are then passed on as stored.")
    ] = False,
    buffer: Annotated[
        str, typer.Option("--buffer", metavar="DISTANCE", help="Grow the area by 500m, or shrink it by -200m.")
    ] = "",
    out: options.Out = None,
    compression: options.Compression = "",
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
    cluster: elsewhere.Where = "",
) -> None:
    """Cut a file to the area; outside is no-data."""
    if file is None:
        _refuse_options(
            {"--area": area, "--box": box, "--around": around, "--like": like, "--touch": touch, "--out": out,
             "--outside": outside, "--keep": keep, "--loose": loose, "--buffer": buffer}
        )  # fmt: skip
        made.make_for_study("clip", as_json)
        return
    given = options.area_given(area, box, around, like=like)
    study = Study.find(Path.cwd())
    if given is None and study is not None:
        given = study.area()
    if given is None:
        raise UsageError("There is no area to clip to.", "Give --area FILE or --box W S E N.")
    polygon = buffered(given.polygon, parse_length_m(buffer)) if buffer else given.polygon
    target = options.with_ending(out) if out else _beside(file, "clip")
    made.make_plain(
        [ClipStep((file,), target, touch, outside, keep, loose, area=polygon)], overwrite, as_json, compression
    )


def composite(
    file: File = None,
    recipe: Annotated[
        str,
        typer.Option(
            "--recipe",
            metavar="A,B",
            help="One or more by name, made in one pass; see --list.",
            autocompletion=known.recipes("composite"),
        ),
    ] = "",
    bands: options.Bands = "",
    listed: options.Listed = False,
    stretch: Annotated[
        str,
        typer.Option(
            "--stretch",
            metavar="LOW,HIGH",
            help="Percentiles that become dark and bright; minmax, sigma=2, equalize, local.",
        ),
    ] = "",
    gamma: Annotated[
        float | None, typer.Option("--gamma", metavar="NUMBER", help="Above 1 lifts what is dark; 1.8 by default.")
    ] = None,
    brightness: Annotated[
        float | None, typer.Option("--brightness", metavar="NUMBER", help="Added, from -1 to 1.")
    ] = None,
    contrast: Annotated[
        float | None, typer.Option("--contrast", metavar="NUMBER", help="About the middle shade; 1 changes nothing.")
    ] = None,
    saturation: Annotated[
        float | None, typer.Option("--saturation", metavar="NUMBER", help="0 is grey; 1.2 by default.")
    ] = None,
    same_stretch_as: Annotated[
        Path | None,
        typer.Option(
            "--same-stretch-as", metavar="FILE", help="Take the shades of this composite, to compare dates."
        ),
    ] = None,
    area: options.AreaText = "",
    box: options.Box = None,
    around: options.Around = "",
    out: options.Out = None,
    compression: options.Compression = "",
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
    cluster: elsewhere.Where = "",
) -> None:
    """Make a colour picture of three bands: GeoTIFF, PNG and world file."""
    if listed:
        list_recipes(file, as_json, is_index=False)
        return
    if recipe and bands:
        raise UsageError("A recipe and bands were given.", "Give one of them.")
    chosen = [recipes.composite(name) for name in options.names(recipe)]
    chosen += (
        [recipes.own_composite(_named(file, options.band_names(bands, [file] if file else [])))] if bands else []
    )
    shape = {"gamma": gamma, "brightness": brightness, "contrast": contrast, "saturation": saturation}
    if same_stretch_as is not None and (stretch or any(value is not None for value in shape.values())):
        raise UsageError("--same-stretch-as gives all shades.", "Leave out --stretch, --gamma and the like.")
    tone = (Tone.parse(stretch) if stretch else Tone()).shaped(**shape)
    if file is None:
        _refuse_options(
            {f"--{key}": value is not None for key, value in shape.items()}
            | {"--area": area, "--box": box, "--around": around, "--out": out, "--same-stretch-as": same_stretch_as}
        )
        made.make_for_study("composite", as_json, chosen or None, stretch or None)
        return
    given = options.area_given(area, box, around)
    chosen = chosen or [recipes.composite("natural")]
    if out is not None and len(chosen) > 1:
        raise UsageError(f"One --out for {len(chosen)} composites.", "Leave it out: each gets a name of its own.")
    steps = [
        CompositeStep(
            (file,),
            options.with_ending(out) if out else _beside(file, entry.name),
            recipe=entry,
            tone=tone,
            area=given.polygon if given else None,
            same_as=same_stretch_as,
        )
        for entry in chosen
    ]
    made.make_plain(steps, overwrite, as_json, compression)


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


def index(
    file: File = None,
    recipe: Annotated[
        str,
        typer.Option(
            "--recipe",
            metavar="A,B",
            help="One or more by name, made in one pass; see --list.",
            autocompletion=known.recipes("index"),
        ),
    ] = "",
    formula: Annotated[
        str,
        typer.Option("--formula", metavar="TEXT", help="Your own: '(nir - red) / (nir + red)', over reflectance."),
    ] = "",
    listed: options.Listed = False,
    out: options.Out = None,
    compression: options.Compression = "",
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
    cluster: elsewhere.Where = "",
) -> None:
    """Compute indices as 32-bit floats, by recipe or by a formula of your own.

    A formula has + - * / and brackets, < <= > >= == and or not, min max abs sqrt log exp where clip. A pixel without
    a value in a band it needs, and what has no value (0 / 0), is no-data.
    """
    if listed:
        list_recipes(file, as_json, is_index=True)
        return
    if recipe and formula:
        raise UsageError("A recipe and a formula were given.", "Give one of them.")
    chosen = [recipes.index(name) for name in options.names(recipe)]
    chosen += [recipes.own_index(formula)] if formula else []
    if file is None:
        _refuse_options({"--out": out, "--formula": formula})
        made.make_for_study("index", as_json, chosen or None)
        return
    if not chosen:
        raise UsageError("No recipe was given.", f"As --recipe {recipes.index_names()[0]}, or --formula TEXT.")
    if out is not None and len(chosen) > 1:
        raise UsageError(f"One --out for {len(chosen)} indices.", "Leave it out: each gets a name of its own.")
    steps = [
        IndexStep((file,), options.with_ending(out) if out else _beside(file, entry.name), recipe=entry)
        for entry in chosen
    ]
    made.make_plain(steps, overwrite, as_json, compression)


def _beside(file: Path, word: str) -> Path:
    return Path(f"{file.stem}-{word}.tif")


def _refuse_options(given: dict[str, Any]) -> None:
    """Without a file the brief decides; options that would contradict it are refused."""
    named = next((name for name, value in given.items() if value), None)
    if named:
        raise UsageError(f"{named} needs a file.", "Give the file, or change study.toml and leave the option out.")
