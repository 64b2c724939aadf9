"""Parts about where pixels go, each run as a process of its own: ``placing.py NAME FOLDER SIDE``; prints its seconds.

Clips, mosaics of neighbouring scenes, of two zones, and pictures, against decoding, kernels and encoding alone.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import shapely
import tifffile

from making import blocks_of, byte_tiles, rgb_encode, uint_tiles, write
from parts import TILE, band_path, decode, encode, in_threads, inputs, patch, timed

PIXEL = 8.0
WEST, NORTH = 700_000.0, 5_800_000.0


def prepare(folder: Path, side: int) -> None:
    """Two scenes side by side with a tenth in common; the eastern one also in the next zone."""
    timed(lambda: made(folder, side))


def made(folder: Path, side: int) -> None:
    """The files."""
    inputs(folder, side)
    _scene(folder / "west.tif", 71, side, (0, 0.55), 32728, WEST, NORTH)
    _scene(folder / "east.tif", 72, side, (0.45, 1), 32728, WEST, NORTH)
    place = _next_zone(side)
    _scene(folder / "zone.tif", 73, place.width, (0, 1), 32729, place.west, place.north)


def _scene(path: Path, seed: int, side: int, span: tuple[float, float], epsg: int, west: float, north: float) -> None:
    """A square scene that holds data between two shares of its width."""
    if path.exists():
        return
    ground, first, last = patch(seed), int(span[0] * side), int(span[1] * side)
    known: dict[tuple[int, int, int, int], bytes] = {}

    def tile(row: int, col: int) -> bytes:
        low, high = (min(TILE, max(0, edge - col * TILE)) for edge in (first, last))
        key = row % 4, col % 4, low, high
        if key not in known:
            y, x = (row % 4) * TILE, (col % 4) * TILE
            pixels = ground[y : y + TILE, x : x + TILE].copy()
            pixels[:, :low] = 0
            pixels[:, high:] = 0
            known[key] = encode(pixels)
        return known[key]

    count = -(-side // TILE)
    directory = (1, 1, 0, 3, 1024, 0, 1, 1, 1025, 0, 1, 1, 3072, 0, 1, epsg)
    tags = [
        (33550, "d", 3, (PIXEL, PIXEL, 0.0), True), (33922, "d", 6, (0.0, 0.0, 0.0, west, north, 0.0), True),
        (34735, "H", len(directory), directory, True), (42113, "s", 2, "0", True),
    ]  # fmt: skip
    blocks = (tile(row, col) for row in range(count) for col in range(count))
    tifffile.imwrite(path, blocks, shape=(side, side), dtype=np.uint16, tile=(TILE, TILE), compression="zlib",
                     predictor=2, photometric="minisblack", extratags=tags, metadata=None)  # fmt: skip


def _grid(side: int) -> Any:
    from zoompick.geo.crs import Crs
    from zoompick.raster.grid import Grid

    return Grid(Crs(32728), PIXEL, PIXEL, WEST, NORTH, side, side)


def _next_zone(side: int) -> Any:
    """A square in the next zone over the eastern half, and a little more."""
    from zoompick.geo.crs import Crs
    from zoompick.geo.shapes import bounds_of, outline_of, project
    from zoompick.raster.grid import Grid, Window

    whole = _grid(side)
    half = whole.part(Window(side // 2, 0, side - side // 2, side))
    box = bounds_of(project(outline_of(half.bounds, half.crs, 2000.0), Crs(32729)))
    count = int(max(box.width, box.height) / PIXEL) + 1
    return Grid(Crs(32729), PIXEL, PIXEL, round(box.west), round(box.north), count, count)


def observations(folder: Path, names: tuple[str, ...], side: int) -> list[Any]:
    """Scenes on the grid of the western one."""
    from zoompick.products.observations import Observation
    from zoompick.products.stack import build_stack
    from zoompick.scenes.deliveries import open_layers

    grid = _grid(side)
    layers = [open_layers([folder / f"{name}.tif"]) for name in names]
    return [
        Observation(name, None, None, None, build_stack(own, [own[0].name], grid))
        for name, own in zip(names, layers, strict=True)
    ]


def _mosaic(folder: Path, side: int, names: tuple[str, ...]) -> None:
    from zoompick.products.mosaic import Mosaic, SceneLayer

    whole = Mosaic(observations(folder, names, side))
    write([(whole, folder / "mosaic.tif", False), (SceneLayer(whole), folder / "scenes.tif", False)])


def mosaic(folder: Path, side: int) -> None:
    """Two scenes of one lattice, with the layer that tells the scene."""
    _mosaic(folder, side, ("west", "east"))


def _encodes(folder: Path) -> Iterator[Callable[[], Any]]:
    yield from (lambda t=t: encode(t) for t in uint_tiles(folder / "mosaic.tif"))
    yield from (lambda t=t: rgb_encode(t) for t in byte_tiles(folder / "scenes.tif"))


def mosaic_floor(folder: Path, side: int) -> None:
    """Decode the blocks of the first, those of the second where the first has gaps; encode both products."""
    count = -(-side // TILE)
    needed = [col for col in range(count) if (col + 1) * TILE > int(0.55 * side)]
    east = blocks_of(folder / "east.tif")
    jobs: list[Callable[[], Any]] = [lambda b=b: decode(b) for b in blocks_of(folder / "west.tif")]
    jobs += [lambda b=east[row * count + col]: decode(b) for row in range(count) for col in needed]
    jobs += _encodes(folder)
    timed(lambda: in_threads(lambda job: job(), jobs))


def zones(folder: Path, side: int) -> None:
    """A mosaic of two zones."""
    _mosaic(folder, side, ("west", "zone"))


def zones_floor(folder: Path, side: int) -> None:
    """Decode both, carry the second over with a kernel that knows no-data, encode both products."""
    from zoompick.raster.opening import open_raster
    from zoompick.raster.warp import Warped

    warped = Warped(open_raster(folder / "zone.tif"), _grid(side))
    ground = open_raster(folder / "zone.tif").read(open_raster(folder / "zone.tif").grid.window)[0]
    jobs: list[Callable[[], Any]] = [lambda b=b: decode(b) for name in ("west", "zone")
                                     for b in blocks_of(folder / f"{name}.tif")]  # fmt: skip
    for window in _grid(side).tiles(TILE):
        if window.stop_col <= int(0.55 * side):
            continue
        at = warped._positions(window, warped.source.grid)
        cols, rows = at.cols + np.float32(at.col), at.rows + np.float32(at.row)
        left, top = max(0, int(cols.min()) - 1), max(0, int(rows.min()) - 1)
        part = ground[top : int(rows.max()) + 3, left : int(cols.max()) + 3]
        jobs.append(lambda p=part, c=cols - left, r=rows - top: _kernel(p, c, r))
    jobs += _encodes(folder)
    timed(lambda: in_threads(lambda job: job(), jobs))


def _kernel(part: Any, cols: Any, rows: Any) -> Any:
    """Values and weights apart, the nearest pixel decides what is missing."""
    there = (part != 0).astype(np.float32)
    values = cv2.remap(part.astype(np.float32), cols, rows, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    weight = cv2.remap(there, cols, rows, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    nearest = cv2.remap(there, cols, rows, cv2.INTER_NEAREST, borderMode=cv2.BORDER_REPLICATE)
    with np.errstate(all="ignore"):
        return np.where(nearest > 0, np.rint(values / weight), 0).astype(np.uint16)


def positions(folder: Path, side: int) -> None:
    """Columns and rows in the other zone of every pixel, by control points."""
    from zoompick.raster.opening import open_raster
    from zoompick.raster.warp import Warped

    warped = Warped(open_raster(folder / "zone.tif"), _grid(side))
    warped._exact(np.zeros(2), np.zeros(2), _grid(side).window, warped.source.grid)
    knots = []

    def work() -> None:
        for window in _grid(side).tiles(TILE):
            x = np.arange(0, window.width + 32, 32)
            y = np.arange(0, window.height + 32, 32)
            knots.append(warped._exact(x, y, window, warped.source.grid))
            knots.append(warped._exact(x[:-1] + 16, y[:-1] + 16, window, warped.source.grid))

    timed(work)


def positions_exact(folder: Path, side: int) -> None:
    """The same by transforming each."""
    from zoompick.raster.opening import open_raster
    from zoompick.raster.warp import Warped

    warped = Warped(open_raster(folder / "zone.tif"), _grid(side))
    warped._exact(np.zeros(2), np.zeros(2), _grid(side).window, warped.source.grid)

    def work() -> None:
        for window in _grid(side).tiles(TILE):
            warped._exact(np.arange(window.width), np.arange(window.height), window, warped.source.grid)

    timed(work)


def _diamond(side: int) -> Any:
    """A polygon in longitude/latitude that starts inside blocks, and cuts many."""
    from zoompick.geo.crs import LONLAT, Crs
    from zoompick.geo.shapes import project

    b = _grid(side).bounds
    x, y, half = (b.west + b.east) / 2, (b.south + b.north) / 2, 0.47 * b.width
    flat = shapely.Polygon([(x - half, y), (x, y + half), (x + half, y), (x, y - half)])
    return project(shapely.segmentize(flat, 2000.0), LONLAT, Crs(32728))


def clip(folder: Path, side: int) -> None:
    """A band inside a polygon."""
    from zoompick.raster.clip import Clip
    from zoompick.raster.opening import open_raster

    write([(Clip(open_raster(band_path(folder, "red", side)), _diamond(side)), folder / "clip.tif", False)])


def clip_floor(folder: Path, side: int) -> None:
    """Decode all blocks touched, encode all of the product."""
    jobs: list[Callable[[], Any]] = [lambda b=b: decode(b) for b in blocks_of(band_path(folder, "red", side))]
    jobs += [lambda t=t: encode(t) for t in uint_tiles(folder / "clip.tif")]
    timed(lambda: in_threads(lambda job: job(), jobs))


def picture(folder: Path, side: int) -> None:
    """Bytes that a picture 2000 px wide reads, as a share of those of the file."""
    from zoompick.products.drawing import shown
    from zoompick.raster.source import LocalFile
    from zoompick.scenes.opening import open_raster

    path = folder / "mosaic.tif"
    open_raster(path)
    read = [0]
    plain = LocalFile.read

    def counted(self: Any, offset: int, length: int) -> bytes:
        data = plain(self, offset, length)
        read[0] += len(data)
        return data

    LocalFile.read = counted  # type: ignore[method-assign]
    shown(path, 2000)
    print(json.dumps({"seconds": read[0] / path.stat().st_size}))


if __name__ == "__main__":
    globals()[sys.argv[1]](Path(sys.argv[2]), int(sys.argv[3]))
