"""Picture tiles by zoom level: plan, get, join."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from zoompick.cli import exits, known, options, show
from zoompick.cli.declared import grouped
from zoompick.cli.groups import group
from zoompick.errors import UsageError
from zoompick.files import human_bytes, human_time, safe_name
from zoompick.journal import act
from zoompick.scenes import sources
from zoompick.study import tiling
from zoompick.study.folder import Study
from zoompick.study.needs import study_grid
from zoompick.study.tiling import join_tiles
from zoompick.tiles.getting import failure_of
from zoompick.tiles.tiles import TileOptions

if TYPE_CHECKING:
    from zoompick.geo.shapes import Shape
    from zoompick.raster.grid import Grid
    from zoompick.scenes.source import Source
    from zoompick.tiles.tiles import Prepared

tiles = group(text="Picture tiles by zoom level: plan, get, join.")

LayerName = Annotated[
    str,
    typer.Option(
        "--layer", metavar="NAME", help="Layer of the service; the only one if so.", autocompletion=known.layers
    ),
]
GridName = Annotated[
    str,
    typer.Option("--grid", metavar="NAME", help="Of a layer on several grids; 'source show' lists them."),
]
Zoom = Annotated[str, typer.Option("--zoom", metavar="LEVEL", help="Zoom level; 'tiles plan' lists them.")]
Pixel = Annotated[
    float | None, typer.Option("--pixel-max", metavar="METRES", help="Pixels on the ground no larger than this.")
]
Form = Annotated[
    str, typer.Option("--file-format", metavar="FORMAT", help="Tiles as png, jpg or webp, if it has them.")
]
Store = Annotated[
    Path | None, typer.Option("--store", metavar="FILE", help="Where tiles are kept; in the study's folder tiles.")
]


class Layer(NamedTuple):
    """A layer of a service, on one of its grids."""

    layer: LayerName = ""
    grid: GridName = ""


class Stored(NamedTuple):
    """Tiles that are here: by the source and layer that they are of, or by their file."""

    source: options.SourceName = ""
    layer: LayerName = ""
    store: Store = None


ONLY, HERE = Layer(), Stored()


def _ground(place: options.Place) -> Shape:
    """The area that was given, else the study's."""
    given = place.area()
    return given.polygon if given is not None else Study.need(Path.cwd()).area().polygon


def _source(name: str) -> Source:
    """The source called ``name``; the only tile service when the name is empty."""
    study = Study.find(Path.cwd())
    known = sources.known(study.root if study else None)
    services = {key: entry for key, entry in known.items() if entry.kind == "tiles"}
    if not name and not services:
        raise UsageError(
            "No service of picture tiles is known yet.",
            "Add one: 'zoompick source add NAME URL', with its capabilities, TileJSON, or {z}/{x}/{y} in it.",
        )
    return sources.named(name, known if name else services)


def _store_path(given: Path | None, source: str, layer: str, grid: str) -> Path:
    study = Study.find(Path.cwd())
    folder = study.root / "tiles" if study else Path()
    names = dict.fromkeys(name for name in (source, layer, grid) if name)
    return given or folder / f"{safe_name('-'.join(names))}.mbtiles"


@tiles.command("plan")
@grouped
def tiles_plan(
    source: options.SourceName = "",
    layer: Layer = ONLY,
    zoom: Zoom = "",
    pixel: Pixel = None,
    place: options.Place = options.NOWHERE,
    form: Form = "",
    store: Store = None,
    as_json: options.Json = False,
) -> None:
    """Tell zoom levels and pixel sizes at this latitude, and what a level takes: tiles, bytes, time."""
    _plan(source, layer, TileOptions(zoom, pixel, form), place, store, as_json)


def _plan(
    source: str, layer: Layer, wish: TileOptions, place: options.Place, store: Path | None, as_json: bool
) -> None:
    ground, found = _ground(place), _source(source)
    with show.progress() as report:
        opened = tiling.open_tiles(found, layer.layer, report, layer.grid)
        if not wish.zoom and wish.pixel_m is None:
            rows = tiling.tile_levels(opened, ground)
        else:
            path = _store_path(store, found.name, opened.name, layer.grid)
            prepared = tiling.plan_tiles(opened, ground, wish, path, report)
    if not wish.zoom and wish.pixel_m is None:
        if as_json:
            show.as_json([{"zoom": name, "pixel_m": size, "tiles": count} for name, size, count in rows])
            return
        cells = [[name, _metres(size), str(count)] for name, size, count in rows]
        show.table(
            [show.Column("zoom", "right"), show.Column("pixel m", "right"), show.Column("tiles", "right")], cells
        )
        show.note(f"{opened.name}: {opened.title or found.url}. What one takes: zoompick tiles plan --zoom LEVEL")
        return
    if as_json:
        show.as_json(prepared.to_json())
    else:
        _tell(prepared)


def _metres(size: float) -> str:
    return f"{size:.0f}" if size >= 100 else f"{size:.3g}"


def _tell(prepared: Prepared) -> None:
    told, matrices = prepared.to_json(), prepared.layer.grid.matrices
    show.fact("layer", f"{prepared.layer.name}: {prepared.layer.title}")
    show.fact("level", f"{told['zoom']} of {matrices[0].name} to {matrices[-1].name}")
    show.fact("pixel", f"{_metres(prepared.pixel_m)} m on the ground at this latitude")
    absent = f", {told['absent']} the service does not have" if told["absent"] else ""
    show.fact("tiles", f"{told['tiles']}: {told['fetch']} to fetch, {told['here']} here{absent}")
    about = "about " if not prepared.is_guess else "perhaps "
    show.fact("bytes", f"{about}{human_bytes(told['bytes'])} as {prepared.form}")
    if told["seconds"]:
        show.fact("time", f"about {human_time(told['seconds'])}")
    if prepared.layer.attribution:
        show.fact("credit", prepared.layer.attribution)


@tiles.command("get")
@grouped
def tiles_get(
    source: options.SourceName = "",
    layer: Layer = ONLY,
    zoom: Zoom = "",
    pixel: Pixel = None,
    place: options.Place = options.NOWHERE,
    form: Form = "",
    store: Store = None,
    dry_run: options.DryRun = False,
    as_json: options.Json = False,
) -> int:
    """Fetch the tiles over the area into a store, which works offline and which later runs go on with."""
    if dry_run:
        _plan(source, layer, TileOptions(zoom, pixel, form), place, store, as_json)
        return exits.DONE

    ground, found, study = _ground(place), _source(source), Study.find(Path.cwd())
    with show.progress() as report:
        opened = tiling.open_tiles(found, layer.layer, report, layer.grid)
        path = _store_path(store, found.name, opened.name, layer.grid)
        journal = study.journal_file if study else None
        with act(journal, "tiles get", source=found.name, layer=opened.name) as doing:
            wish = TileOptions(zoom, pixel, form)
            prepared, outcome = tiling.get_tiles(found, opened, ground, wish, path, report)
            doing.note(tiles=outcome.done, bytes=outcome.received, failed=len(outcome.failed))
    plan = prepared.plan
    if as_json:
        show.as_json(
            {"store": str(path), "zoom": plan.matrix.name, "fetched": outcome.done, "bytes": outcome.received,
             "here": plan.here, "absent": outcome.absent + plan.absent, "failed": len(outcome.failed)}
        )  # fmt: skip
    absent = f", {outcome.absent + plan.absent} the service does not have" if outcome.absent + plan.absent else ""
    came = f"{outcome.done} tiles of level {plan.matrix.name} fetched ({human_bytes(outcome.received)})"
    show.note(f"{came} into {show.place(path)}, {plan.here} were here{absent}.")
    problem = failure_of(outcome, plan)
    if problem:
        show.error(problem)
        return exits.IN_PART if outcome.done or plan.here else exits.code_of(problem)
    return exits.IN_PART if outcome.absent + plan.absent else exits.DONE


Compression = Annotated[
    str,
    typer.Option(
        "--compression",
        metavar="CODEC",
        help="deflate, zstd (faster, newer readers) or lzw; jpeg or webp lose a little.",
    ),
]
OntoStudy = Annotated[
    bool,
    typer.Option("--on-grid", help="Carry it onto the study's grid, not that of the tiles."),
]


@tiles.command("join")
@grouped
def tiles_join(
    held: Stored = HERE,
    zoom: Zoom = "",
    pixel_max: Pixel = None,
    place: options.Place = options.NOWHERE,
    out: options.Out = None,
    compression: Compression = "deflate",
    onto_study: OntoStudy = False,
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
) -> int:
    """Join stored tiles into one georeferenced picture, clipped to the area; works offline."""
    ground = _ground(place)
    path = held.store or _only_store(held.source, held.layer)
    target = out or path.with_suffix(".tif")
    grid = _study_grid() if onto_study else None
    with show.progress() as report:
        joined = join_tiles(path, ground, target, zoom, pixel_max, compression, grid, overwrite, report)
    made, missing = joined.raster.grid, f", {joined.missing} tiles are missing" if joined.missing else ""
    if as_json:
        show.as_json({"path": str(target), "tiles": joined.tiles, "missing": joined.missing,
                      "bytes": joined.written.size, "attribution": joined.attribution})  # fmt: skip
    show.note(
        f"{show.place(target)}: {made.width} x {made.height} px of {made.pixel_text} in {made.crs}, "
        f"{human_bytes(joined.written.size)}, out of {joined.tiles} tiles{missing}."
    )
    if joined.attribution:
        show.note(f"Credit, kept in the file: {joined.attribution}")
    return exits.IN_PART if joined.missing else exits.DONE


def _only_store(source: str, layer: str) -> Path:
    """The store of a layer, or the only one there is."""
    study = Study.find(Path.cwd())
    folder = study.root / "tiles" if study else Path()
    found = [path for path in sorted(folder.glob("*.mbtiles")) if source in path.stem and layer in path.stem]
    if not found:
        raise UsageError("No tiles are stored here yet.", "Fetch them: 'zoompick tiles get', or give --store FILE.")
    if len(found) != 1:
        names = ", ".join(show.place(path) for path in found)
        raise UsageError(f"Which tiles are meant is not clear: there is {names}.", "Say which with --store FILE.")
    return found[0]


def _study_grid() -> Grid:
    study = Study.need(Path.cwd())
    return study_grid(study.brief(), study.area())
