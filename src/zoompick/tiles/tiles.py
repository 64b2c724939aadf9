"""Picture tiles for an area: which zoom level, how many tiles, fetched into a store, joined into one file."""

from __future__ import annotations

import math
import shutil
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from zoompick.addresses import public
from zoompick.errors import DataError, DiskError, NothingFoundError, SourceError, UsageError
from zoompick.events import Noted, Report, ignore
from zoompick.files import human_bytes, multihash_of, refuse_existing
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape, as_text
from zoompick.geo.tilegrid import Matrix, TileGrid, TileKey, web_mercator
from zoompick.jsontypes import JsonObject
from zoompick.net.client import Client
from zoompick.raster.clip import Clip
from zoompick.raster.grid import Grid
from zoompick.raster.pictures import colours_of
from zoompick.raster.raster import Raster
from zoompick.raster.tilepicture import TilePicture
from zoompick.raster.warp import resampled_to
from zoompick.raster.write import WriteOptions, Written, write_geotiff
from zoompick.scenes.sidecar import Origin, sidecar_of, write_sidecar
from zoompick.scenes.source import Source
from zoompick.scenes.tileservice import TileLayer, TileService
from zoompick.tiles.getting import TileOutcome, TilePlan, fetch_tiles, plan_tiles
from zoompick.tiles.tilestore import TileStore

PARALLEL = 6
_GUESS_BYTES = 15_000
_MOST_TILES = 500_000
_LAST = "zoompick:last"
"""Name under which a store tells the level that was fetched last."""
_ENDINGS = {"image/png": "png", "image/jpeg": "jpg", "image/webp": "webp"}


@dataclass(frozen=True)
class Prepared:
    """A layer, a level of it, and what is still to be fetched there.

    Attributes
    ----------
    pixel_m : float
        Side of a pixel on the ground at the area's middle.
    tile_bytes, tile_s : float
        Of one tile, measured or guessed; ``is_guess`` tells.
    """

    layer: TileLayer
    form: str
    plan: TilePlan
    pixel_m: float
    tile_bytes: float
    tile_s: float
    is_guess: bool

    @property
    def bytes(self) -> int:
        """Bytes of the tiles that are still to be fetched, as far as one tells of all."""
        return round(self.tile_bytes * self.plan.missing)

    def to_json(self) -> JsonObject:
        """As the command prints it."""
        return {
            "layer": self.layer.name, "zoom": self.plan.matrix.name, "pixel_m": round(self.pixel_m, 4),
            "tiles": self.plan.total, "fetch": self.plan.missing, "here": self.plan.here,
            "absent": self.plan.absent, "bytes": self.bytes,
            "seconds": round(self.tile_s * self.plan.missing / PARALLEL, 1), "format": self.form,
            "attribution": self.layer.attribution,
        }  # fmt: skip


@dataclass(frozen=True, slots=True)
class TileOptions:
    """What a person asked for: a level by name, or pixels no larger than so many metres on the ground."""

    zoom: str = ""
    pixel_m: float | None = None
    form: str = ""


def open_layer(source: Source, name: str, client: Client, grid: str = "") -> TileLayer:
    """A layer of a tile service, on one of its grids.

    Raises
    ------
    UsageError
        The source has scenes, no tiles.
    UnknownNameError, SourceError
    """
    if source.kind != "tiles":
        raise UsageError(
            f"{source.name} is {source.kind}, it has no picture tiles.", "'zoompick source list' tells the kinds."
        )
    layer = TileService(source.name, source.url, client).layer(name)
    if not layer.addresses:
        raise SourceError(f"{source.name} tells no address for the tiles of {layer.name}.", "Ask those who run it.")
    return layer.on_grid(grid) if grid else layer


def levels(layer: TileLayer, area: Shape) -> list[tuple[str, float, int]]:
    """Each level of a layer: its name, the side of a pixel on the ground in metres, and the tiles under an area."""
    lat = _middle_lat(area)
    grid = layer.grid
    return [(matrix.name, grid.ground_m(matrix, lat), grid.count(area, matrix)) for matrix in grid.matrices]


def _middle_lat(area: Shape) -> float:
    return float(area.centroid.y)


def prepare(
    layer: TileLayer, wish: TileOptions, area: Shape, store: TileStore | None, client: Client, sample: bool = True
) -> Prepared:
    """Choose the level and decide what to fetch; one tile is fetched to learn sizes when nothing else tells.

    Raises
    ------
    UsageError
        No such level; neither a level nor a pixel size is told, or both; or the store holds tiles of another grid.
    NothingFoundError
        The layer has no tile there.
    """
    held = store.facts.get("zoompick:grid", "") if store else ""
    if held and held != layer.grid.name:
        raise UsageError(
            f"The store holds tiles of the grid {held}; those wanted are of {layer.grid.name}.",
            "Give another file as `store`.",
        )
    lat = _middle_lat(area)
    matrix = _level(layer, wish, lat)
    count = layer.grid.count(area, matrix)
    if not count:
        raise NothingFoundError(
            f"The layer {layer.name} has no tile over this area at level {matrix.name}.",
            f"It covers west, south, east, north {', '.join(f'{edge:.3f}' for edge in layer.bounds)}.",
        )
    level = _number(layer.grid, matrix)
    if count > _MOST_TILES:
        plan = TilePlan(matrix, level, (), 0, 0, count)
    else:
        known = store.known(level, matrix.rows) if store else (set(), set())
        plan = plan_tiles(matrix, level, layer.grid.under(area, matrix), known)
    form = layer.form(wish.form)
    size, seconds, is_guess = _measured(layer, plan, form, store, client, sample)
    return Prepared(layer, form, plan, layer.grid.ground_m(matrix, lat), size, seconds, is_guess)


def _level(layer: TileLayer, wish: TileOptions, lat: float) -> Matrix:
    if bool(wish.zoom) == (wish.pixel_m is not None):
        raise UsageError(
            "A zoom level or a pixel size has to be told, and only one.", "Give `zoom` 14, or `pixel-max` 5."
        )
    if wish.zoom:
        return layer.grid.level(wish.zoom)
    assert wish.pixel_m is not None
    if not 0 < wish.pixel_m < math.inf:
        raise UsageError(f"Pixels of {wish.pixel_m} m cannot be.", "Give metres on the ground: `pixel-max` 5.")
    return layer.grid.level_for(wish.pixel_m, lat)


def _number(grid: TileGrid, matrix: Matrix) -> int:
    """Zoom level by which a store counts: the usual one in web mercator, else the place among the levels."""
    return int(matrix.name) if matrix.name.isdecimal() else grid.matrices.index(matrix)


def _measured(
    layer: TileLayer, plan: TilePlan, form: str, store: TileStore | None, client: Client, sample: bool
) -> tuple[float, float, bool]:
    """Bytes and seconds of a tile, and whether they are guessed."""
    mean = store.mean_bytes() if store else None
    if not plan.fetch or not sample:
        return mean or _GUESS_BYTES, 0.0, mean is None
    key = plan.fetch[len(plan.fetch) // 2]
    began = time.monotonic()
    try:
        data, _ = client.document(layer.address(plan.matrix, key, form))
    except SourceError:
        return mean or _GUESS_BYTES, 0.0, True
    return mean or len(data), time.monotonic() - began, False


def refuse_too_much(prepared: Prepared, folder: Path) -> None:
    """Before the first tile.

    Raises
    ------
    UsageError
        More tiles than anybody should ask a service for.
    DiskError
        They would not fit.
    """
    plan, size = prepared.plan, human_bytes(prepared.bytes)
    if plan.counted:
        raise UsageError(
            f"Level {plan.matrix.name} has {plan.counted} tiles over this area, perhaps {size}; "
            f"at most {_MOST_TILES} are fetched at a time.",
            "Choose a coarser level or a smaller area: 'zoompick tiles plan'.",
        )
    while not folder.exists():
        folder = folder.parent
    free = shutil.disk_usage(folder).free
    if prepared.bytes > free:
        raise DiskError(
            f"The tiles take perhaps {size}, but only {human_bytes(free)} are free in {folder}.",
            "Choose a coarser level or a smaller area. Nothing was fetched.",
        )


def _damaged(store: TileStore, plan: TilePlan, wanted: Sequence[TileKey]) -> list[TileKey]:
    """Stored tiles that do not decode."""
    here, _ = store.known(plan.level, plan.matrix.rows)
    found = []
    for key in wanted:
        if key in here:
            try:
                colours_of(store.tile(plan.level, plan.matrix.rows, key) or b"")
            except DataError:
                found.append(key)
    return found


def get(
    prepared: Prepared, area: Shape, store: TileStore, client: Client, source: Source, report: Report = ignore
) -> TileOutcome:
    """Fetch what is missing into the store, and what is there and does not decode."""
    refuse_too_much(prepared, store.path.parent)
    layer, plan = prepared.layer, prepared.plan
    bad = _damaged(store, plan, layer.grid.under(area, plan.matrix)) if plan.here else []
    if bad:
        report(Noted(f"{len(bad)} stored tiles do not decode: they are fetched again."))
        plan = replace(plan, fetch=(*plan.fetch, *bad), here=plan.here - len(bad))
    facts = {
        "name": layer.name, "format": _ENDINGS.get(prepared.form, "png"), "type": "baselayer", "version": "1",
        "description": layer.title, "attribution": layer.attribution, "zoompick:grid": layer.grid.name,
        "zoompick:crs": str(layer.grid.crs), "zoompick:source": public(source.url),
    }  # fmt: skip
    if layer.bounds:
        facts["bounds"] = ",".join(f"{edge:.6f}" for edge in layer.bounds)
    matrix = plan.matrix
    facts[f"zoompick:level:{plan.level}"] = ",".join(
        repr(value)
        for value in (
            matrix.pixel,
            matrix.west,
            matrix.north,
            matrix.tile_width,
            matrix.tile_height,
            matrix.cols,
            matrix.rows,
        )
    )
    store.describe(facts)
    outcome = fetch_tiles(
        plan, lambda key: layer.address(matrix, key, prepared.form), prepared.form, store, client, PARALLEL, report,
        bad,
    )  # fmt: skip
    if outcome.done or plan.here:
        store.describe({_LAST: str(plan.level)})
    return outcome


@dataclass(frozen=True)
class Joined:
    """What was joined."""

    written: Written
    raster: Raster
    tiles: int
    missing: int
    attribution: str


def stored_matrix(store: TileStore, zoom: str) -> tuple[Crs, Matrix, int]:
    """CRS and level as the store tells them, the one fetched last when none is named; and its number.

    Raises
    ------
    UsageError
        No such level.
    DataError
        The store tells no grid that can be read.
    """
    facts = store.facts
    numbers = sorted(int(name.rpartition(":")[2]) for name in facts if name.startswith("zoompick:level:"))
    if not numbers and zoom.isdecimal():
        # A store of another maker: web mercator by the standard.
        return Crs(3857), web_mercator().level(zoom), int(zoom)
    if not numbers or (zoom and (not zoom.isdecimal() or int(zoom) not in numbers)):
        known = ", ".join(map(str, numbers)) or "none"
        raise UsageError(f"{store.path} has no tiles of level {zoom or '?'}.", f"It has levels: {known}.")
    last = facts.get(_LAST, "")
    number = int(zoom) if zoom else int(last) if last.isdecimal() and int(last) in numbers else numbers[-1]
    try:
        pixel, west, north, *sizes = (float(part) for part in facts[f"zoompick:level:{number}"].split(","))
        width, height, cols, rows = map(int, sizes)
        crs = Crs.parse(facts["zoompick:crs"])
    except (ValueError, KeyError) as error:
        raise DataError(f"{store.path} tells no grid of tiles that can be read.", "Fetch the tiles again.") from error
    return crs, Matrix(str(number), pixel, west, north, width, height, cols, rows), number


def stored_level(store: TileStore, pixel_m: float, lat: float) -> str:
    """The coarsest stored level whose pixels are no larger on the ground than some metres at a latitude.

    Raises
    ------
    UsageError
        All are larger.
    """
    names = [name.rpartition(":")[2] for name in store.facts if name.startswith("zoompick:level:")]
    found = [stored_matrix(store, name) for name in names if name.isdecimal()]
    if not found:
        raise UsageError(f"{store.path} tells no levels.", "Give `zoom`, the number of one.")
    ordered = sorted((matrix for _, matrix, _ in found), key=lambda matrix: -matrix.pixel)
    grid = TileGrid("", found[0][0], tuple(ordered))
    chosen = grid.level_for(pixel_m, lat)
    if grid.ground_m(chosen, lat) > 1.0001 * pixel_m:
        least = f"{grid.ground_m(chosen, lat):.3g} m"
        raise UsageError(f"The finest level in {store.path} has pixels of {least}.", "Fetch a finer one.")
    return chosen.name


def picture_of(store: TileStore, crs: Crs, matrix: Matrix, level: int, keys: Sequence[TileKey]) -> TilePicture:
    """The mosaic of the smallest block of tiles that holds ``keys``."""
    first_row, first_col = min(key.row for key in keys), min(key.col for key in keys)
    down = max(key.row for key in keys) - first_row + 1
    across = max(key.col for key in keys) - first_col + 1
    corner = matrix.bounds_of(TileKey(first_row, first_col))
    width, height = across * matrix.tile_width, down * matrix.tile_height
    grid = Grid(crs, matrix.pixel, matrix.pixel, corner.west, corner.north, width, height)

    lookup = StoredTiles(store, level, matrix.rows, TileKey(first_row, first_col))
    return TilePicture(grid, (matrix.tile_height, matrix.tile_width), lookup)


@dataclass(frozen=True)
class StoredTiles:
    """Tiles of one level of a store, counted from ``first``; ``rows`` are those of the level."""

    store: TileStore
    level: int
    rows: int
    first: TileKey

    def __call__(self, row: int, col: int) -> bytes | None:
        """Bytes of a tile, or None."""
        return self.store.tile(self.level, self.rows, TileKey(self.first.row + row, self.first.col + col))


def join(
    store: TileStore,
    zoom: str,
    area: Shape,
    out: Path,
    options: WriteOptions,
    onto: Grid | None = None,
    report: Report = ignore,
    overwrite: bool = False,
) -> Joined:
    """Join stored tiles over an area into one file, clipped to it.

    Parameters
    ----------
    onto : Grid, optional
        Carry the picture onto this grid; by default it stays in the grid of the tiles, pixel by pixel.

    Raises
    ------
    NothingFoundError
        No tile over the area is in the store.
    DataError, DiskError
    """
    if out.suffix.lower() not in (".tif", ".tiff"):
        raise UsageError(f"{out.name}: tiles are joined into a GeoTIFF.", "Give `out` FILE.tif.")
    refuse_existing([out, sidecar_of(out)], overwrite)
    crs, matrix, level = stored_matrix(store, zoom)
    wanted = TileGrid("", crs, (matrix,)).under(area, matrix)
    here, _ = store.known(level, matrix.rows)
    held = [key for key in wanted if key in here]
    if not held:
        what = f"{store.path} has no tile of level {matrix.name} over this area."
        raise NothingFoundError(what, "Fetch them: 'zoompick tiles get'.")
    picture: Raster = picture_of(store, crs, matrix, level, held)
    raster = Clip(resampled_to(picture, onto) if onto is not None else picture, area)
    written = write_geotiff(raster, out, options, report)
    lines = _lines_told(matrix, picture.grid, raster.grid) if onto is None else {}
    told = lines | {"level": matrix.name, "store": store.facts.get("name", ""), "attribution": store.credit,
                    "compression": options.compression, "area": as_text(area)}  # fmt: skip
    write_sidecar(raster, written, Origin("tiles join", told, {store.path: multihash_of(store.path)}), ())
    return Joined(written, raster, len(held), len(wanted) - len(held), store.credit)


def _lines_told(matrix: Matrix, tiled: Grid, made: Grid) -> JsonObject:
    """Where the tiles of a picture meet: their size, and column and row of the first one's corner."""
    col, row = (round(value) for value in tiled.offset_in(made))
    return {"tiles_px": [matrix.tile_width, matrix.tile_height, col, row]}
