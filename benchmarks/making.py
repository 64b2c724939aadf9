"""Parts about products, each run as a process of its own: ``making.py NAME FOLDER SIDE``; prints its seconds as JSON.

Floors decode every block of the inputs once, do the arithmetic in NumPy or the sorting network on whole tiles, and
encode every block that the product has, with the same codec calls and as many threads.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np
import tifffile

from parts import LEVEL, TILE, band_path, decode, encode, geo_tags, in_threads, inputs, patch, stored, timed

DATES = 12
FORMULAS = (
    "(nir - red) / (nir + red)", "(green - nir) / (green + nir)",
    "2.5 * (nir - red) / (nir + 6 * red - 7.5 * blue + 1)", "1.5 * (nir - red) / (nir + red + 0.5)",
    "(nir - green) / (nir + green)",
)  # fmt: skip


def prepare(folder: Path, side: int) -> None:
    """Four bands, twelve dates of one band with gaps, a JPEG 2000 of many tiles."""
    timed(lambda: made(folder, side))


def made(folder: Path, side: int) -> None:
    """The files."""
    inputs(folder, side)
    for number in range(DATES):
        path = folder / f"date-{number}.tif"
        if path.exists():
            continue
        ground = patch(40 + number)
        rng = np.random.default_rng(number)
        known = {}
        for row in range(4):
            for col in range(4):
                tile = ground[row * TILE : (row + 1) * TILE, col * TILE : (col + 1) * TILE].copy()
                tile[rng.random((TILE, TILE)) < 0.1] = 0
                known[row, col] = encode(tile)
        count = -(-side // TILE)
        blocks = (known[row % 4, col % 4] for row in range(count) for col in range(count))
        tifffile.imwrite(
            path, blocks, shape=(side, side), dtype=np.uint16, tile=(TILE, TILE), compression="zlib", predictor=2,
            photometric="minisblack", extratags=geo_tags(8.0), metadata=None,
        )  # fmt: skip
    if not (folder / "scene.jp2").exists():
        from zoompick.geo.crs import Crs
        from zoompick.raster.grid import Grid
        from zoompick.standin.jp2file import write_jp2

        place = Grid(Crs(32728), 8, 8, 700_000, 5_800_000, 4096, 4096)
        write_jp2(np.tile(patch(3), (2, 2)), place, folder / "scene.jp2")


def bands(folder: Path, side: int, names: tuple[str, ...]) -> Any:
    """Some bands as one raster with names, scale and offset."""
    from zoompick.products.stack import build_stack
    from zoompick.scenes.deliveries import open_layers

    return build_stack(open_layers([band_path(folder, name, side) for name in names]), names)


def write(jobs: list[tuple[Any, Path, bool]]) -> None:
    """Our writer: several files in one pass."""
    from zoompick.raster.write import Job, WriteOptions, write_together

    for _, out, _ in jobs:
        out.unlink(missing_ok=True)
    timed(lambda: write_together([Job(raster, out, WriteOptions(is_rgb=is_rgb)) for raster, out, is_rgb in jobs]))


def index(folder: Path, side: int, count: int = 1) -> None:
    """Indices of the bands, in one pass."""
    from zoompick.products.formula import Formula
    from zoompick.products.index import Index
    from zoompick.raster.shared import Shared

    names = ("red", "nir") if count == 1 else ("blue", "green", "red", "nir")
    source = bands(folder, side, names)
    source = source if count == 1 else Shared(source)
    made = [Index(source, f"i{n}", Formula.parse(text), "x") for n, text in enumerate(FORMULAS[:count])]
    write([(raster, folder / f"index-{count}-{n}.tif", False) for n, raster in enumerate(made)])


def indices(folder: Path, side: int) -> None:
    """Five at once."""
    index(folder, side, len(FORMULAS))


def index_floor(folder: Path, side: int, count: int = 1) -> None:
    """Decode, formula, encode."""
    names = ("red", "nir") if count == 1 else ("blue", "green", "red", "nir")
    files = [blocks_of(band_path(folder, name, side)) for name in names]
    code = [compile(text, "formula", "eval") for text in FORMULAS[:count]]
    products = [folder / f"index-{count}-{n}.tif" for n in range(count)]
    higher = [tile for product in products for tile in float_tiles(product)[len(files[0]) :]]

    def place(number: int) -> None:
        values = {name: decode(file[number]).astype(np.float64) for name, file in zip(names, files, strict=True)}
        with np.errstate(all="ignore"):
            for one in code:
                float_encode(eval(one, {}, values).astype(np.float32))

    timed(lambda: in_threads(lambda job: job(), [*(lambda n=n: place(n) for n in range(len(files[0]))),
                                                 *(lambda t=t: float_encode(t) for t in higher)]))  # fmt: skip


def indices_floor(folder: Path, side: int) -> None:
    """Of five."""
    index_floor(folder, side, len(FORMULAS))


def composite(folder: Path, side: int) -> None:
    """Natural colour between exact percentiles."""
    from zoompick.products.composite import Composite
    from zoompick.products.curves import curves_for
    from zoompick.products.tone import Tone
    from zoompick.raster.write import WriteOptions, write_geotiff

    source, out, tone = bands(folder, side, ("red", "green", "blue")), folder / "composite.tif", Tone()
    out.unlink(missing_ok=True)

    def work() -> None:
        curves = curves_for(source, (0, 1, 2), tone)
        write_geotiff(Composite(source, (0, 1, 2), curves, tone), out, WriteOptions(is_rgb=True))

    timed(work)


def composite_floor(folder: Path, side: int) -> None:
    """Decode twice, encode once."""
    files = [blocks_of(band_path(folder, name, side)) for name in ("red", "green", "blue")]
    with tifffile.TiffFile(folder / "composite.tif") as tiff:
        pictures = [tile for page in tiff.pages for tile in rgb_tiles(page, folder / "composite.tif")]
    jobs: list[Callable[[], Any]] = [lambda b=b: decode(b) for file in files for b in file] * 2
    timed(lambda: in_threads(lambda job: job(), [*jobs, *(lambda t=t: rgb_encode(t) for t in pictures)]))


def dates(folder: Path) -> list[Any]:
    """Twelve observations."""
    from datetime import UTC, datetime

    from zoompick.products.observations import Observation
    from zoompick.products.stack import build_stack
    from zoompick.scenes.deliveries import open_layers

    found = []
    for number in range(DATES):
        layers = open_layers([folder / f"date-{number}.tif"])
        when = datetime(2025, 1, 1 + number, tzinfo=UTC)
        found.append(Observation(f"d{number}", when, None, None, build_stack(layers, ())))
    return found


def blend(folder: Path, side: int) -> None:
    """The median of the dates."""
    from zoompick.products.blend import Blend

    write([(Blend(dates(folder)), folder / "blend.tif", False)])


def blend_floor(folder: Path, side: int) -> None:
    """Decode, network, encode."""
    from zoompick.products.ranks import ranked

    files = [blocks_of(folder / f"date-{number}.tif") for number in range(DATES)]
    higher = list(uint_tiles(folder / "blend.tif")[len(files[0]) :])

    def place(number: int) -> None:
        layers = [decode(file[number]) for file in files]
        count = np.sum([layer != 0 for layer in layers], axis=0)
        encode(np.rint(ranked([np.where(layer == 0, 65535, layer) for layer in layers], count, 50)).astype(np.uint16))

    timed(lambda: in_threads(lambda job: job(), [*(lambda n=n: place(n) for n in range(len(files[0]))),
                                                 *(lambda t=t: encode(t) for t in higher)]))  # fmt: skip


def blend_whole(folder: Path, side: int) -> None:
    """NumPy's median of whole arrays."""

    def work() -> None:
        layers = np.stack([tifffile.imread(folder / f"date-{n}.tif", maxworkers=2) for n in range(DATES)]).astype(
            np.float32
        )
        layers[layers == 0] = np.nan
        np.nanmedian(layers, axis=0)

    timed(work)


def mosaic(folder: Path, side: int) -> None:
    """Three dates over each other, of one lattice, with the layer that tells the scene."""
    from zoompick.products.mosaic import Mosaic, SceneLayer

    made = Mosaic(dates(folder)[:3])
    write([(made, folder / "mosaic.tif", False), (SceneLayer(made), folder / "scenes.tif", False)])


def mosaic_floor(folder: Path, side: int) -> None:
    """Decode three, encode both products."""
    jobs: list[Callable[[], Any]] = [
        lambda b=b: decode(b) for n in range(3) for b in blocks_of(folder / f"date-{n}.tif")
    ]
    jobs += [lambda t=t: encode(t) for t in uint_tiles(folder / "mosaic.tif")]
    jobs += [lambda t=t: rgb_encode(t) for t in byte_tiles(folder / "scenes.tif")]
    timed(lambda: in_threads(lambda job: job(), jobs))


def jp2_window(folder: Path, side: int) -> None:
    """A window of one tile, of a file opened anew each time."""
    from zoompick.raster.grid import Window
    from zoompick.raster.opening import open_raster

    def work() -> None:
        for _ in range(20):
            open_raster(folder / "scene.jp2").read(Window(1030, 1030, 500, 500))

    from zoompick.raster import blockcache

    blockcache.shared().put = lambda *_: None  # type: ignore[method-assign]
    timed(work)


def jp2_tile(folder: Path, side: int) -> None:
    """The decode of that tile alone."""
    from zoompick.raster.opening import open_raster

    stream = open_raster(folder / "scene.jp2")._stream  # type: ignore[attr-defined]
    raster = open_raster(folder / "scene.jp2")
    parts = [raster._stream_bytes(p.offset, p.length) for p in stream.parts[18]]  # type: ignore[attr-defined]
    alone = stream.alone(18, parts)
    timed(lambda: [imagecodecs.jpeg2k_decode(alone) for _ in range(20)])


def jp2_half(folder: Path, side: int) -> None:
    """The whole scene at half its resolution."""
    from zoompick.raster.opening import open_raster

    raster = open_raster(folder / "scene.jp2")
    timed(lambda: raster.read(raster.levels[1].window, None, 1))


def jp2_whole(folder: Path, side: int) -> None:
    """The whole scene."""
    from zoompick.raster.opening import open_raster

    raster = open_raster(folder / "scene.jp2")
    timed(lambda: raster.read(raster.grid.window))


def blocks_of(path: Path) -> list[bytes]:
    """Encoded tiles of a file."""
    with path.open("rb") as stream:
        found = []
        for offset, count in zip(*stored(path), strict=True):
            stream.seek(offset)
            found.append(stream.read(count))
    return found


def pages_tiles(product: Path) -> list[tuple[Any, bytes]]:
    """Page and encoded bytes of every tile of all levels."""
    found = []
    with tifffile.TiffFile(product) as tiff, product.open("rb") as stream:
        for page in tiff.pages:
            for offset, count in zip(page.dataoffsets, page.databytecounts, strict=True):
                stream.seek(offset)
                found.append((page, stream.read(count)))
    return found


def uint_tiles(product: Path) -> list[Any]:
    """Decoded tiles of 16 bits, those of the full resolution first."""
    return [decode(data) for _, data in pages_tiles(product)]


def byte_tiles(product: Path) -> list[Any]:
    """Decoded tiles of 8 bits."""
    found = []
    for _, data in pages_tiles(product):
        out = np.frombuffer(imagecodecs.deflate_decode(data), np.uint8).reshape(TILE, TILE, 1)
        found.append(imagecodecs.delta_decode(out, axis=-2))
    return found


def float_tiles(product: Path) -> list[Any]:
    """Decoded tiles of 32-bit floats."""
    found = []
    for _, data in pages_tiles(product):
        raw = np.frombuffer(imagecodecs.deflate_decode(data), np.float32).reshape(TILE, TILE)
        found.append(imagecodecs.floatpred_decode(raw.copy(), axis=-1))
    return found


def float_encode(tile: Any) -> bytes:
    """The codec of floats."""
    return bytes(imagecodecs.deflate_encode(imagecodecs.floatpred_encode(np.ascontiguousarray(tile), axis=-1), LEVEL))


def rgb_tiles(page: Any, product: Path) -> list[Any]:
    """Decoded tiles of a picture's page, shape (rows, cols, 3)."""
    found = []
    with product.open("rb") as stream:
        for offset, count in zip(page.dataoffsets, page.databytecounts, strict=True):
            stream.seek(offset)
            out = np.frombuffer(imagecodecs.deflate_decode(stream.read(count)), np.uint8).reshape(TILE, TILE, 3)
            found.append(imagecodecs.delta_decode(out, axis=-2))
    return found


def rgb_encode(tile: Any) -> bytes:
    """The codec of pictures."""
    return bytes(imagecodecs.deflate_encode(imagecodecs.delta_encode(tile, axis=-2), LEVEL))


if __name__ == "__main__":
    globals()[sys.argv[1]](Path(sys.argv[2]), int(sys.argv[3]))
