"""What the codec's effort costs and saves, by kinds of tiles: ``python benchmarks/effort.py``, or a part of run.py.

Tiles of 512 x 512 pixels, predicted as they are written, encoded on one core by deflate at level 6 (what was done
before), as the writer does now, and by zstd as the writer does: in turn, three times, medians of processor time.
"""

from __future__ import annotations

import json
import statistics
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from zoompick.raster.codec import Codec
from zoompick.raster.encode import Encoder
from zoompick.raster.grid import Grid, Window
from zoompick.raster.ongrid import OnGrid
from zoompick.raster.opening import open_raster
from zoompick.standin import ground, lapwing
from zoompick.standin.catalogue import instruments
from zoompick.standin.passes import scenes
from zoompick.standin.rude import catalogue as rude

SIDE, MOST, ROUNDS = 512, 6, 3


def tiles(raster: Any, together: bool = False) -> list[Any]:
    """A few tiles of a raster, spread over it, filled up with no data."""
    grid, found = raster.grid, []
    for row in range(0, grid.height, SIDE):
        for col in range(0, grid.width, SIDE):
            window = Window(col, row, SIDE, SIDE).intersect(grid.window)
            pixels = np.zeros((len(raster.bands), SIDE, SIDE), raster.dtype)
            pixels[:, : window.height, : window.width] = raster.read(window)
            found += [pixels] if together else [band[np.newaxis] for band in pixels]
    return found[:: max(1, len(found) // MOST)][:MOST]


def finer(path: Path, pixel_m: float) -> list[Any]:
    """Tiles of a file on smaller or larger pixels."""
    raster = open_raster(path)
    grid = raster.grid
    width, height = int(grid.width * grid.pixel_x / pixel_m), int(grid.height * grid.pixel_y / pixel_m)
    return tiles(OnGrid(raster, Grid(grid.crs, pixel_m, pixel_m, grid.west, grid.north, width, height)))


def kinds(folder: Path) -> Iterator[tuple[str, list[Any]]]:
    """Kinds of tiles: of all instruments of both archives, and of what is made of them."""
    scene = next(one for one in scenes() if one.share > 0.999 and one.seen.cloud_percent < 15)
    lapwing.make(scene, folder, folder)
    band = {key: folder / f"{scene.id}-{key}.tif" for key in lapwing.keys(scene)}
    red, nir, green = (open_raster(band[key]) for key in ("red", "nir", "green"))
    yield "16 bits, Lapwing's 8 m", tiles(red)
    yield "16 bits, 8 m to 10 m", finer(band["red"], 10)
    yield "16 bits, 8 m to 16 m", finer(band["nir"], 16)
    yield "16 bits, 8 m to 4 m: smooth", finer(band["red"], 4)
    yield "16 bits, 16 m to 8 m: smooth", finer(band["swir16"], 8)
    yield "16 bits, 48 m to 8 m: very smooth", finer(band["coastal"], 8)
    yield "classes, 16 m", tiles(open_raster(band["classes"]))
    pixels = [one.read(one.grid.window)[0].astype(np.float32) * 0.0001 for one in (red, nir, green)]
    index = (pixels[1] - pixels[0]) / np.maximum(pixels[1] + pixels[0], 1e-3)
    yield "32-bit floats, an index", of_plane(index)
    yield "32-bit floats, reflectance", of_plane(pixels[1])
    yield "32-bit floats, a smooth field", of_plane(_smooth())
    shades = np.clip(np.stack([pixels[1] / 0.5, pixels[0] / 0.3, pixels[2] / 0.3]), 0, 1) ** 0.6 * 255
    yield (
        "8 bits, colours together",
        [np.ascontiguousarray(shades[:, row : row + SIDE, :SIDE]).astype(np.uint8) for row in (0, SIDE)],
    )
    yield "8 bits, a mask", of_plane((index > 0.4).astype(np.uint8) * 255)
    for name in ("siskin-l2", "curlew-sheets", "gannet-vhr"):
        shelf, own = instruments()[name], folder / name
        own.mkdir()
        scene = shelf.scenes()[2]
        shelf.prepare(scene, scene.footprint.centroid.buffer(0.004), own, folder)
        yield f"{name}, its bands", tiles(open_raster(sorted(own.glob("*.tif"))[0]))
    sea = instruments()["tern-ocean"]
    sea.make_data(sea.scenes()[4], folder, folder)
    yield "tern-ocean, temperature", tiles(open_raster(next(folder.glob("tern-*.nc"))))[:2]
    for item, name in (("petrel-2025-12-03", "nir.tif"), ("knot-202511", "sr.tif"), ("plover-2025-12-05", "red.tif")):
        path = folder / f"{item}-{name}"
        next(one for one in rude.items() if one.id == item).makers[name](path)
        yield f"rude: {item.partition('-')[0]}", tiles(open_raster(path))


def of_plane(plane: Any) -> list[Any]:
    """Tiles of an array."""
    grid = ground.grid_around(ground.outline(), 8.0)
    place = Grid(grid.crs, 8.0, 8.0, grid.west, grid.north, plane.shape[1], plane.shape[0])
    return tiles(lapwing.Plain(plane[np.newaxis], place, (lapwing.Band("a"),), None))


def _smooth() -> Any:
    rows, cols = np.mgrid[:1024, :1024]
    return (285 + 8 * np.sin(cols / 190) + 3 * np.cos(rows / 140)).astype(np.float32)


def measured(found: list[Any]) -> Mapping[str, tuple[float, int]]:
    """Processor seconds and bytes of each way for some tiles."""
    ways = {"before": Codec("deflate", 6), "now": Codec.usual("deflate"), "zstd": Codec.usual("zstd")}
    encoders = {name: Encoder(found[0].dtype, codec.name, codec.effort) for name, codec in ways.items()}
    seconds: dict[str, list[float]] = {name: [] for name in ways}
    sizes: dict[str, int] = {}
    for _ in range(ROUNDS):
        for name, encoder in encoders.items():
            began = time.process_time()
            sizes[name] = sum(len(encoder.encode(one)) for one in found)
            seconds[name].append(time.process_time() - began)
    return {name: (statistics.median(seconds[name]), sizes[name]) for name in ways}


def rows() -> list[dict[str, Any]]:
    """A row a kind: time and bytes of now and of zstd, to deflate at level 6; the last is of all together.

    Every kind counts alike in the last, by its time and bytes a tile.
    """
    found, total = [], {name: [0.0, 0.0] for name in ("before", "now", "zstd")}
    with tempfile.TemporaryDirectory() as folder:
        for kind, given in kinds(Path(folder)):
            told = measured(given)
            for name, (seconds, size) in told.items():
                total[name][0] += seconds / len(given)
                total[name][1] += size / len(given)
            found.append(_row(kind, told))
    return [*found, _row("all kinds, a tile each", {name: (one[0], one[1]) for name, one in total.items()})]


def _row(kind: str, told: Mapping[str, tuple[float, float]]) -> dict[str, Any]:
    seconds, size = told["before"]
    return {"kind": kind, **{f"{name} {what}": told[name][place] / whole for name in ("now", "zstd")
                             for place, what, whole in ((0, "time", seconds), (1, "bytes", size))}}  # fmt: skip


def main() -> None:
    """Print a table for people, or JSON for run.py."""
    found = rows()
    if "--json" in sys.argv:
        print(json.dumps({"rows": found}))
        return
    print("| tiles | time now | bytes now | zstd: time | zstd: bytes |\n|---|---|---|---|---|")
    for row in found:
        print(f"| {row['kind']} | {row['now time']:.2f}x | {row['now bytes']:.3f}x | {row['zstd time']:.2f}x "
              f"| {row['zstd bytes']:.3f}x |")  # fmt: skip


if __name__ == "__main__":
    main()
