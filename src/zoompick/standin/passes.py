"""When the two Lapwing satellites pass, which tiles they see, and which scenes come of it.

Everything here is metadata and computed at once; pixels are made elsewhere, when they are asked for.
"""

from __future__ import annotations

import random
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from functools import cache, cached_property
from typing import Any

import numpy as np
import shapely

from zoompick.geo.crs import LONLAT, Crs, transform
from zoompick.geo.shapes import project
from zoompick.raster.grid import Grid
from zoompick.standin import world
from zoompick.standin.sun import Sun

TILE_PX, TILE_PIXEL_M = 1024, 8.0
TILE_STEP_M = 7680.0
_SWATH_KM = 21.0
_HEADING = 0.20
"""The ground track leans to the west going south: metres west per metre south."""
_SUMMERS = (datetime(2024, 11, 18, 11, 16, tzinfo=UTC), datetime(2025, 11, 13, 11, 16, tzinfo=UTC))
_PASSES_A_SUMMER, _DAYS_BETWEEN = 14, 8
_BASELINES = (("01", -0.05, None), ("02", -0.1, datetime(2025, 10, 1, tzinfo=UTC)))
SCALE = 0.0001
_LEAST_SHARE = 0.04
_CLOUD_PERCENT = (3, 42, 78, 12, 100, 55, 7, 91, 24, 0, 66, 16, 33, 85)


@dataclass(frozen=True)
class Tile:
    """One square of the tiling: in UTM zone 28S or 29S, corners on multiples of 48 m."""

    name: str
    grid: Grid

    @cached_property
    def outline(self) -> Any:
        """Polygon in longitude/latitude."""
        return project(_box(self.grid), LONLAT, self.grid.crs)


@dataclass(frozen=True)
class Pass:
    """One overpass of one satellite."""

    number: int
    satellite: str
    when: datetime
    centre_km: float
    cloud_percent: float
    cloud_kind: str
    haze: float
    off_nadir_deg: float

    @property
    def seed(self) -> int:
        """Seed of its weather."""
        return 7000 + 13 * self.number

    @property
    def sun(self) -> Sun:
        """Sun over the islands."""
        return Sun.at(self.when, world.CENTRE_LON, world.CENTRE_LAT)

    def swath(self) -> Any:
        """Polygon of what the pass sees, in the world's CRS."""
        grid = world.grid()
        box = grid.bounds
        middle = (box.west + box.east) / 2 + self.centre_km * 1000
        reach, half = 30_000.0, _SWATH_KM * 500
        north, south = (box.south + box.north) / 2 + reach, (box.south + box.north) / 2 - reach
        lean = _HEADING * reach
        return shapely.Polygon([
            (middle + lean - half, north), (middle + lean + half, north),
            (middle - lean + half, south), (middle - lean - half, south),
        ])  # fmt: skip


@dataclass(frozen=True)
class Fault:
    """What is wrong with a scene; told by its data only.

    Attributes
    ----------
    missing : str
        Band that was not published.
    cut : str
        Band whose file ends early.
    wrong_digest : str
        Band published with another file's digest.
    shifted : str
        Band that lies 1.5 pixels beside the others.
    """

    missing: str = ""
    cut: str = ""
    wrong_digest: str = ""
    shifted: str = ""


@dataclass(frozen=True)
class Scene:
    """One tile of one pass in one processing baseline."""

    tile: Tile
    seen: Pass
    baseline: str
    offset: float
    created: datetime
    share: float
    fault: Fault = Fault()

    @property
    def id(self) -> str:
        """Name: satellite, time, tile, baseline."""
        when = self.seen.when.strftime("%Y%m%dT%H%M%S")
        return f"lapwing-{self.seen.satellite}-{when}-{self.tile.name}-b{self.baseline}".lower()

    @property
    def when(self) -> datetime:
        """Time of the overpass."""
        return self.seen.when

    @property
    def until(self) -> datetime:
        """A scene is of one moment."""
        return self.seen.when

    @property
    def seed(self) -> int:
        """Seed of its noise: the same acquisition keeps it in every baseline."""
        return self.seen.seed * 1000 + sum(map(ord, self.tile.name))

    @cached_property
    def footprint(self) -> Any:
        """Ground that holds data, as a polygon in longitude/latitude."""
        inside = shapely.intersection(_tile_in_world(self.tile), self.seen.swath())
        return project(inside, LONLAT, world.grid().crs)


def _box(grid: Grid) -> Any:
    """Outline of a grid, its edges cut so that they bend with the projection."""
    box = grid.bounds
    return shapely.segmentize(shapely.box(box.west, box.south, box.east, box.north), 1024.0)


def _tile_in_world(tile: Tile) -> Any:
    return project(_box(tile.grid), world.grid().crs, tile.grid.crs)


@cache
def tiles() -> tuple[Tile, ...]:
    """Tiles of both zones; each zone goes a little beyond 12 W, so that they overlap there."""
    found = []
    area = world.grid().bounds
    outline = shapely.box(area.west, area.south, area.east, area.north)
    for zone, crs, border in (("28s", Crs(32728), 1), ("29s", Crs(32729), -1)):
        box = project(shapely.segmentize(outline, 2000.0), crs, world.grid().crs).bounds
        cols = range(int(box[0] // TILE_STEP_M), int(box[2] // TILE_STEP_M) + 1)
        rows = range(int(box[1] // TILE_STEP_M), int(box[3] // TILE_STEP_M) + 1)
        for row in rows:
            for col in cols:
                grid = Grid(crs, TILE_PIXEL_M, TILE_PIXEL_M, col * TILE_STEP_M,
                            row * TILE_STEP_M + TILE_PX * TILE_PIXEL_M, TILE_PX, TILE_PX)  # fmt: skip
                tile = Tile(f"{zone}{col % 100:02d}{row % 100:02d}", grid)
                middle = tile.outline.centroid.x
                if (middle - world.CENTRE_LON) * border > 0.045:
                    continue
                if outline.contains(_tile_in_world(tile).centroid):
                    found.append(tile)
    return tuple(found)


@cache
def passes() -> tuple[Pass, ...]:
    """All overpasses of two summers, in order of time."""
    rng = random.Random(world.SEED)
    found: list[Pass] = []
    for summer, start in enumerate(_SUMMERS):
        for step in range(_PASSES_A_SUMMER):
            when = start + timedelta(days=_DAYS_BETWEEN * step, seconds=rng.randrange(240))
            cloud = _CLOUD_PERCENT[(step * 5 + summer * 3) % len(_CLOUD_PERCENT)]
            # Each satellite keeps to one track: the western or the eastern half of the islands, or the middle.
            centre = (-2.6, 3.0, -0.4, 5.2)[step % 4] + rng.uniform(-0.5, 0.5)
            found.append(
                Pass(
                    number=len(found),
                    satellite="ab"[step % 2],
                    when=when,
                    centre_km=centre,
                    cloud_percent=cloud,
                    cloud_kind=("cumulus", "bank")[(step + summer) % 2],
                    haze=rng.choice((0.0, 0.01, 0.03, 0.08)),
                    off_nadir_deg=round(abs(centre) * 1.3 + rng.uniform(0, 1), 1),
                )
            )
    return tuple(found)


@cache
def scenes() -> tuple[Scene, ...]:
    """All scenes of the archive, in order of time and tile, planted faults among them."""
    found: list[Scene] = []
    for seen in passes():
        name, offset, _ = [entry for entry in _BASELINES if entry[2] is None or seen.when >= entry[2]][-1]
        for tile in tiles():
            outline = _tile_in_world(tile)
            share = shapely.intersection(outline, seen.swath()).area / outline.area
            if share >= _LEAST_SHARE:
                created = seen.when + timedelta(hours=9, minutes=len(found) % 60)
                found.append(Scene(tile, seen, name, offset, created, share))
    return tuple(_with_faults(found))


def _with_faults(found: list[Scene]) -> list[Scene]:
    """Plant each fault in a fairly clear, whole scene of the first summer, away from the clearest ones."""
    plain = [s for s in found if s.share > 0.999 and s.seen.when < _BASELINES[1][2]]
    faults = (Fault(missing="swir16"), Fault(cut="nir"), Fault(wrong_digest="red"), Fault(shifted="green"))
    hit = {}
    candidates = [s for s in plain if 10 < s.seen.cloud_percent < 45]
    for number, fault in enumerate(faults):
        victim = candidates[(number * 5 + 2) % len(candidates)]
        hit[victim.id] = replace(victim, fault=fault)
    again = candidates[(len(faults) * 5 + 2) % len(candidates)]
    name, offset, since = _BASELINES[1]
    assert since is not None
    twin = replace(again, baseline=name, offset=offset, created=since + timedelta(days=12))
    out = []
    for scene in found:
        out.append(hit.get(scene.id, scene))
        if scene.id == again.id:
            out.append(twin)
    return out


@cache
def by_id() -> dict[str, Scene]:
    """Scenes by their id."""
    return {scene.id: scene for scene in scenes()}


def world_positions(grid: Grid, step: int = 32) -> tuple[Any, Any]:
    """Columns and rows in the world of a grid's pixel centres, each an array (rows, cols).

    Computed on every ``step``-th pixel and interpolated: between neighbouring UTM zones the error stays below a
    thousandth of a pixel.
    """
    base = world.grid()
    cols = np.arange(0, grid.width + step, step)
    rows = np.arange(0, grid.height + step, step)
    xs = grid.west + (cols + 0.5) * grid.pixel_x
    ys = grid.north - (rows + 0.5) * grid.pixel_y
    mesh_x, mesh_y = np.meshgrid(xs, ys)
    x, y = transform(mesh_x, mesh_y, grid.crs, base.crs)
    knots = (x - base.west) / base.pixel_x - 0.5, (base.north - y) / base.pixel_y - 0.5
    return _between(knots[0], step, grid.height, grid.width), _between(knots[1], step, grid.height, grid.width)


def _between(knots: Any, step: int, height: int, width: int) -> Any:
    row, col = np.arange(height) / step, np.arange(width) / step
    low, weight = row.astype(int), (row % 1)[:, None]
    down = knots[low] * (1 - weight) + knots[low + 1] * weight
    low, weight = col.astype(int), (col % 1)[None, :]
    return (down[:, low] * (1 - weight) + down[:, low + 1] * weight).astype(np.float32)
