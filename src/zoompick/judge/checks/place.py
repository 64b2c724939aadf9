"""Does the product lie where it should, and how much of the area is there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from zoompick.arrays import Counts
from zoompick.files import human_km2
from zoompick.geo.crs import LONLAT
from zoompick.geo.shapes import Shape, bounds_of, geojson_of, joined, project
from zoompick.geo.sizes import area_km2
from zoompick.judge.gauges import pixels_in, pixels_on
from zoompick.judge.subject import Check, Subject
from zoompick.later import ndimage, np, shapely
from zoompick.raster.grid import Grid, Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.pixelsize import pixel_sizes
from zoompick.raster.raster import valid_mask
from zoompick.scenes.finding import Finding, judged


def on_grid(subject: Subject) -> list[Finding]:
    """The product's grid against the study grid."""
    own, grid = subject.raster.grid, subject.grid
    assert grid is not None
    ok = own.shares_lattice(grid) and own.window == grid.window and own.bounds == grid.bounds
    note = f"Its grid is {_place(own)}; the study grid is {_place(grid)}. Make it again."
    return [judged("on study grid", subject.label, ok, "the same" if ok else "another", "the same", note)]


def _place(grid: Grid) -> str:
    return f"{grid.width} x {grid.height} px of {grid.pixel_text} from {grid.west:g}, {grid.north:g} in {grid.crs}"


def valid_share(subject: Subject) -> list[Finding]:
    """Share of the area whose pixels are valid in every band; what lies outside the raster counts as missing."""
    assert subject.area is not None and subject.flat_area is not None
    limit, bands = subject.limits.valid, [band.name for band in subject.raster.bands]
    grid = subject.around_area
    inside = pixels_in(PolygonMask(subject.flat_area[1], grid), grid)
    counts = subject.sweep.totals["inside"].counts if subject.mask else _turned(subject, grid)
    percents = 100 * counts / inside if inside else np.zeros(len(counts))
    km2 = area_km2(subject.area)
    percent, there = float(percents[-1]), km2 * float(percents[-1]) / 100
    note = f"{100 - percent:.1f} % of the area has no valid pixel. Pick scenes that cover it."
    data = {
        "area_km2": round(km2, 4),
        "valid_km2": round(there, 4),
        "bands_percent": {name: round(float(value), 3) for name, value in zip(bands, percents, strict=False)},
    }
    figure = f"{percent:.2f} %, {human_km2(there)}"
    return [judged("valid in area", subject.label, percent >= limit, figure, f"at least {limit:g} %", note, percent,
                   data=data)]  # fmt: skip


def _turned(subject: Subject, grid: Grid) -> Counts:
    """Counts by a pass of their own, over a raster that was turned to meet the area."""
    assert subject.flat_area is not None
    raster, polygon = subject.flat_area
    around = raster.grid.around(bounds_of(polygon))
    mask, total = PolygonMask(polygon, around), np.zeros(len(raster.bands) + 1, np.int64)
    col, row = (round(value) for value in around.offset_in(raster.grid))
    for window in around.tiles(512):
        moved = window.moved(col, row)
        valid = valid_mask(raster.read(moved), raster.nodata)
        wanted = mask.read(window) & pixels_on(raster.grid, moved)
        total += np.array([*((band & wanted).sum() for band in valid), (valid.all(axis=0) & wanted).sum()])
    return total


@dataclass(frozen=True)
class Hole:
    """A patch without pixels: its outline (longitude/latitude) and its size."""

    outline: Shape
    size_km2: float


def holes_of(subject: Subject, most: int = 50) -> list[Hole]:
    """Patches in which pixels are missing, inside the area where there is one; the largest first.

    Cells of the pass stand for their pixels: an outline is exact to a cell.
    """
    gaps, grid = subject.sweep.totals["gaps"], subject.raster.grid
    cells = _cells(grid, gaps.cell)
    missing = gaps.missing > 0
    if subject.mask is not None and subject.flat_area is not None:
        missing &= PolygonMask(subject.flat_area[1], cells).read(cells.window)[: missing.shape[0], : missing.shape[1]]
    if not missing.any():
        return []
    numbers, count = ndimage.label(missing)
    sizes_m2 = pixel_sizes(cells, Window(0, 0, *missing.shape[::-1])).area_m2 / gaps.cell**2
    ground = ndimage.sum_labels(gaps.missing * sizes_m2, numbers, np.arange(1, count + 1))
    largest = np.argsort(-ground, kind="stable")[:most] + 1
    boxes = ndimage.find_objects(numbers)
    return [_hole(numbers, int(number), boxes[number - 1], cells, float(ground[number - 1])) for number in largest]


def _cells(grid: Grid, cell: int) -> Grid:
    return Grid(grid.crs, grid.pixel_x * cell, grid.pixel_y * cell, grid.west, grid.north,
                -(-grid.width // cell), -(-grid.height // cell))  # fmt: skip


def _hole(numbers: Any, number: int, box: Any, cells: Grid, size_m2: float) -> Hole:
    rows, cols = box
    part, runs = numbers[box] == number, []
    for row, line in enumerate(part):
        edges = np.flatnonzero(np.diff(np.concatenate([[False], line, [False]]).astype(np.int8)))
        for start, stop in zip(edges[::2], edges[1::2], strict=True):
            west, east = (cells.west + (cols.start + col) * cells.pixel_x for col in (start, stop))
            north = cells.north - (rows.start + row) * cells.pixel_y
            runs.append(shapely.box(west, north - cells.pixel_y, east, north))
    outline = project(joined(runs), LONLAT, cells.crs)
    return Hole(outline, size_m2 / 1e6)


def holes(subject: Subject) -> list[Finding]:
    """The largest patch without pixels."""
    assert subject.area is not None
    found, limit = holes_of(subject), subject.limits.hole
    largest = found[0].size_km2 if found else 0.0
    percent = 100 * largest / max(area_km2(subject.area), 1e-12)
    where = found[0].outline.centroid if found else None
    at = "" if where is None else f"{where.y:.4f}, {where.x:.4f}"
    note = (f"The largest patch without pixels has {human_km2(largest)}, about {at}: '--holes FILE' writes all as "
            "polygons. Fill it from another scene.")  # fmt: skip
    shown = [{"size_km2": round(hole.size_km2, 5), "outline": geojson_of(hole.outline)} for hole in found]
    figure = f"{len(found)}, the largest {human_km2(largest)} ({percent:.2f} %)" if found else "none"
    allowed = f"at most {limit:g} % of the area"
    return [judged("holes", subject.label, percent <= limit, figure, allowed, note, percent, bad="warn",
                   data={"holes": shown})]  # fmt: skip


def in_footprint(subject: Subject) -> list[Finding]:
    """Valid pixels lie where the scenes say that they saw."""
    union = joined([scene.footprint for scene in subject.scenes if scene.footprint is not None])
    sample, grid = subject.sweep.totals["sample"], subject.raster.grid
    coarse = _cells(grid, sample.step)
    flat = project(union, grid.crs).buffer(_SLACK_PX * coarse.pixel_x)
    rows, cols = sample.pixels.shape[1:]
    # A sampled pixel is the first of its cell; half a cell does not matter beside the slack.
    inside = PolygonMask(flat, coarse).read(coarse.window)[:rows, :cols]
    seen = int(sample.valid.sum())
    outside = int((sample.valid & ~inside).sum())
    percent = 100 * outside / seen if seen else 0.0
    note = (f"{percent:.1f} % of the pixels lie where no scene of it has seen anything: its place is probably wrong. "
            "Make it again.")  # fmt: skip
    return [judged("inside its scenes", subject.label, percent <= _MOST_OUTSIDE, f"{percent:.2f} % outside",
                   f"at most {_MOST_OUTSIDE:g} %", note, percent)]  # fmt: skip


_SLACK_PX, _MOST_OUTSIDE = 2.0, 1.0


CHECKS: Sequence[Check] = (
    Check("grid", "place", "on study grid", "A study: its grid.",
          "Compares reference system, pixel size, origin and size with the study grid.",
          lambda subject: subject.grid is not None, on_grid, in_study=False),
    Check("footprint", "place", "inside its scenes", "Footprints of the scenes in it.",
          "Valid pixels of a sample against the union of the footprints, two sampled pixels wider.",
          lambda subject: any(scene.footprint is not None for scene in subject.scenes), in_footprint),
    Check("valid", "place", "valid in area", "An area.",
          "Counts the pixels in the area that are valid in every band, and in each; pixel centres count.",
          lambda subject: subject.area is not None, valid_share, limit="valid", in_study=False),
    Check("holes", "place", "holes", "A product from which nothing was taken out, and an area.",
          "Connected patches of missing pixels inside the area, on cells of the pass; the largest counts.",
          lambda subject: subject.area is not None and subject.mask is not None and subject.holds_ground, holes,
          limit="hole"),
)  # fmt: skip
