"""The measured parts, each run as a process of its own: ``parts.py NAME FOLDER SIDE``; prints its seconds as JSON.

Inputs are synthetic scenes with the statistics of land: tiled 512 x 512, deflate level 6, horizontal predictor.
The floors use the same codec calls on the same tiles with the same number of threads, and nothing else.
"""

from __future__ import annotations

import json
import os
import sys
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np
import tifffile

TILE = 512
LEVEL = 6
FULL, HALF = ("blue", "green", "red", "nir"), ("swir16", "swir22")
THREADS = os.cpu_count() or 1


def patch(seed: int) -> Any:
    """2048 x 2048 pixels of fractal ground with grain, as 16-bit reflectance."""
    rng = np.random.default_rng(seed)
    frequency = np.hypot(np.fft.fftfreq(2048)[:, None], np.fft.rfftfreq(2048)[None, :])
    frequency[0, 0] = 1
    spectrum = rng.standard_normal(frequency.shape) + 1j * rng.standard_normal(frequency.shape)
    field = np.fft.irfft2(spectrum / frequency**1.3, s=(2048, 2048))
    field = 2000 + 450 * (field - field.mean()) / field.std() + rng.normal(0, 22, field.shape)
    return np.clip(field, 1, 65535).astype(np.uint16)


def tiles(side: int) -> Iterator[tuple[int, int]]:
    """Row and column of every tile."""
    count = -(-side // TILE)
    yield from ((row, col) for row in range(count) for col in range(count))


def encode(tile: Any) -> bytes:
    """The codec of all files here."""
    return bytes(imagecodecs.deflate_encode(imagecodecs.delta_encode(tile[:, :, None], axis=-2), LEVEL))


def decode(data: bytes) -> Any:
    """Its inverse, into a new tile."""
    out = np.empty((TILE, TILE, 1), np.uint16)
    imagecodecs.deflate_decode(data, out=out.reshape(-1).view(np.uint8))
    return imagecodecs.delta_decode(out, axis=-2, out=out)[:, :, 0]


def band_path(folder: Path, band: str, side: int) -> Path:
    """File of one band of a scene of ``side`` full-size pixels."""
    return folder / f"{side}-{band}.tif"


def geo_tags(pixel: float) -> list[Any]:
    """Georeference after OGC GeoTIFF 1.1."""
    directory = (1, 1, 0, 3, 1024, 0, 1, 1, 1025, 0, 1, 1, 3072, 0, 1, 32728)
    return [
        (33550, "d", 3, (pixel, pixel, 0.0), True),
        (33922, "d", 6, (0.0, 0.0, 0.0, 700_000.0, 5_800_000.0, 0.0), True),
        (34735, "H", len(directory), directory, True),
        (42113, "s", 2, "0", True),
    ]


def inputs(folder: Path, side: int) -> None:
    """Write the six bands, unless they are there."""
    for number, band in enumerate((*FULL, *HALF)):
        path = band_path(folder, band, side)
        if path.exists():
            continue
        size, pixel = (side, 8.0) if band in FULL else (side // 2, 16.0)
        ground = patch(number)
        known: dict[tuple[int, int], bytes] = {}

        def encoded(size: int = size, ground: Any = ground, known: Any = known) -> Iterator[bytes]:
            for row, col in tiles(size):
                key = row % 4, col % 4
                if key not in known:
                    y, x = key[0] * TILE, key[1] * TILE
                    known[key] = encode(np.ascontiguousarray(ground[y : y + TILE, x : x + TILE]))
                yield known[key]

        tifffile.imwrite(
            path, encoded(), shape=(size, size), dtype=np.uint16, tile=(TILE, TILE), compression="zlib",
            predictor=2, photometric="minisblack", extratags=geo_tags(pixel), metadata=None,
        )  # fmt: skip


def stored(path: Path) -> tuple[list[int], list[int]]:
    """Offsets and lengths of a file's tiles."""
    with tifffile.TiffFile(path) as tiff:
        page = tiff.pages[0]
        return list(page.dataoffsets), list(page.databytecounts)


def timed(action: Callable[[], Any]) -> None:
    """Run and print the seconds."""
    began = time.perf_counter()
    action()
    print(json.dumps({"seconds": time.perf_counter() - began}))


def in_threads(work: Callable[[Any], Any], jobs: list[Any]) -> None:
    """All jobs on all cores; results are dropped."""
    with ThreadPoolExecutor(THREADS) as pool:
        for _ in pool.map(work, jobs):
            pass


def stacked(folder: Path, side: int) -> Any:
    """The six bands as one raster."""
    from zoompick.products.kinds.stack import StackStep
    from zoompick.products.sources import Sources

    paths = tuple(band_path(folder, band, side) for band in (*FULL, *HALF))
    return StackStep(paths, folder / "out-stack.tif", (*FULL, *HALF)).build(Sources())


def written(raster: Any, out: Path) -> None:
    """Our writer with overviews, statistics and digest."""
    from zoompick.raster.write import write_geotiff

    out.unlink(missing_ok=True)
    timed(lambda: write_geotiff(raster, out))


def stack(folder: Path, side: int) -> None:
    """Our stack of the six bands."""
    written(stacked(folder, side), folder / "out-stack.tif")


def stack_anew(folder: Path, side: int) -> None:
    """The same where no block can be passed on as it is: every tile is encoded."""
    from computed import Computed

    written(Computed(stacked(folder, side)), folder / "out-stack.tif")


def stack_far(folder: Path, side: int) -> None:
    """The same on processes: work and encoded blocks travel."""
    import multiprocessing
    from concurrent.futures import ProcessPoolExecutor

    from computed import Computed
    from zoompick.raster.write import write_geotiff

    raster, out = Computed(stacked(folder, side)), folder / "out-stack.tif"
    out.unlink(missing_ok=True)
    with ProcessPoolExecutor(THREADS, mp_context=multiprocessing.get_context("spawn")) as pool:
        # Started and warm, as a pool is that lives longer than one product.
        list(pool.map(_warm, range(4 * THREADS)))
        timed(lambda: write_geotiff(raster, out, executor=pool))


def _warm(_: int) -> None:
    from zoompick.products import stack  # noqa: F401
    from zoompick.raster import directory, kernels, tilework  # noqa: F401
    from zoompick.scenes import deliveries  # noqa: F401

    kernels._cv2()
    time.sleep(0.05)


def stack_codec(folder: Path, side: int) -> None:
    """The floor: decode every input tile once, encode every output tile of all levels once."""
    jobs: list[Any] = []
    for band in (*FULL, *HALF):
        path = band_path(folder, band, side)
        handle = os.open(path, os.O_RDONLY)
        jobs += [(handle, offset, count) for offset, count in zip(*stored(path), strict=True)]
    outputs = output_tiles(folder / "out-stack.tif")

    def work(job: Any) -> int:
        if isinstance(job, tuple):
            handle, offset, count = job
            return int(decode(os.pread(handle, count, offset))[0, 0])
        return len(encode(job))

    timed(lambda: in_threads(work, [*jobs, *outputs]))


def output_tiles(product: Path) -> list[Any]:
    """All tiles of all levels of a product, decoded: the very pixels that its making had to encode."""
    found = []
    with tifffile.TiffFile(product) as tiff, product.open("rb") as stream:
        for page in tiff.pages:
            for offset, count in zip(page.dataoffsets, page.databytecounts, strict=True):
                stream.seek(offset)
                found.append(decode(stream.read(count)))
    return found


def stack_whole(folder: Path, side: int) -> None:
    """The usual way: all bands as arrays in memory, resampled whole, written with overviews by a TIFF library."""
    from scipy.ndimage import zoom

    def work() -> None:
        arrays = []
        for band in (*FULL, *HALF):
            array = tifffile.imread(band_path(folder, band, side), maxworkers=THREADS)
            arrays.append(array if band in FULL else zoom(array, 2, order=1, grid_mode=True, mode="nearest"))
        whole = np.stack([array[:side, :side] for array in arrays])
        options: dict[str, Any] = {
            "tile": (TILE, TILE), "compression": "zlib", "compressionargs": {"level": LEVEL}, "predictor": 2,
            "photometric": "minisblack", "planarconfig": "separate", "maxworkers": THREADS, "metadata": None,
        }  # fmt: skip
        with tifffile.TiffWriter(folder / "out-whole.tif", bigtiff=True) as tiff:
            tiff.write(whole, **options)
            while max(whole.shape[1:]) > TILE:
                rows, cols = whole.shape[1] // 2 * 2, whole.shape[2] // 2 * 2
                whole = (
                    whole[:, :rows, :cols].reshape(6, rows // 2, 2, cols // 2, 2).mean(axis=(2, 4)).astype(np.uint16)
                )
                tiff.write(whole, subfiletype=1, **options)

    timed(work)
    (folder / "out-whole.tif").unlink()


def read(folder: Path, side: int) -> None:
    """Our reader, tile by tile, one thread."""
    from zoompick.raster.grid import Window
    from zoompick.raster.opening import open_raster

    raster = open_raster(band_path(folder, "red", side))

    def work() -> None:
        for row, col in tiles(side):
            raster.read(Window(col * TILE, row * TILE, TILE, TILE).intersect(raster.grid.window))

    timed(work)


def read_loop(folder: Path, side: int) -> None:
    """The floor: read and decode each tile, cut it to the image, keep nothing."""
    path = band_path(folder, "red", side)
    offsets, counts = stored(path)
    handle = os.open(path, os.O_RDONLY)
    places = list(tiles(side))

    def work() -> None:
        for (row, col), offset, count in zip(places, offsets, counts, strict=True):
            tile = decode(os.pread(handle, count, offset))
            tile[: side - row * TILE, : side - col * TILE].copy() if max(row, col) == side // TILE else tile

    timed(work)


class Repeated:
    """A raster without a codec behind it: the same ground over and over."""

    def __init__(self, side: int) -> None:
        from zoompick.geo.crs import Crs
        from zoompick.raster.grid import Grid
        from zoompick.raster.raster import Band

        self.grid = Grid(Crs(32728), 8, 8, 700_000, 5_800_000, side, side)
        self.bands = (Band("red"),)
        self.dtype = np.dtype(np.uint16)
        self.nodata = 0
        self.levels = (self.grid,)
        self.block = (TILE, TILE)
        self._ground = patch(2)

    def read(self, window: Any, bands: Any = None, level: int = 0) -> Any:
        row, col = window.row % 2048, window.col % 2048
        return self._ground[None, row : row + window.height, col : col + window.width]


def write(folder: Path, side: int) -> None:
    """A file of one band."""
    written(Repeated(side), folder / "out-write.tif")


def write_encode(folder: Path, side: int) -> None:
    """The floor: encode the tiles of all levels, same threads, and drop them."""
    outputs = output_tiles(folder / "out-write.tif")
    timed(lambda: in_threads(lambda tile: len(encode(tile)), outputs))


if __name__ == "__main__":
    name, where, pixels = sys.argv[1:4]
    function = globals()[name]
    function(Path(where), int(pixels))
    if name == "inputs":
        print(json.dumps({"seconds": 0.0}))
