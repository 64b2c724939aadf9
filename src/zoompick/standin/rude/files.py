"""Files as others write them: GeoTIFF by tifffile with keys by hand, netCDF by h5py.

Source: OGC 19-008r4 (GeoTIFF 1.1), annexes on the directory of keys; netCDF-4 as HDF5 (NetCDF User's Guide).
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple

import h5py
import numpy as np
import tifffile

from zoompick.standin.rude.places import FEET, Place

_ASCII, _SHORT, _DOUBLE = "s", "H", "d"


def write_tiff(path: Path, pixels: Any, place: Place, nodata: str = "", tile: int | None = 64) -> None:
    """Pixels, shape (bands, rows, cols); tiles, or strips of a few rows without a side."""
    keys, numbers = _keys(place)
    flat = (1, 1, 0, len(keys), *(part for key in keys for part in key))
    tags: list[Any] = [
        (33550, _DOUBLE, 3, (place.pixel_x, place.pixel_y, 0.0), True),
        (33922, _DOUBLE, 6, (0.0, 0.0, 0.0, place.west, place.north, 0.0), True),
        (34735, _SHORT, len(flat), flat, True),
    ]
    if numbers:
        tags.append((34736, _DOUBLE, len(numbers), tuple(numbers), True))
    if nodata:
        tags.append((42113, _ASCII, len(nodata) + 1, nodata, True))
    layout: dict[str, Any] = {"tile": (tile, tile)} if tile else {"rowsperstrip": 7}
    predictor = 2 if pixels.dtype.kind in "iu" else None
    data = pixels[0] if len(pixels) == 1 else pixels
    tifffile.imwrite(path, data, photometric="minisblack", planarconfig="separate" if len(pixels) > 1 else None,
                     compression="zlib", predictor=predictor, extratags=tags, metadata=None, **layout)  # fmt: skip


def _keys(place: Place) -> tuple[list[tuple[int, int, int, int]], list[float]]:
    """Keys with their places, and the numbers that they point at."""
    if place.system == 4326:
        return [(1024, 0, 1, 2), (1025, 0, 1, 1), (2048, 0, 1, 4326), (2054, 0, 1, 9102)], []
    if place.system != FEET:
        return [(1024, 0, 1, 1), (1025, 0, 1, 1), (3072, 0, 1, int(place.system)), (3076, 0, 1, 9001)], []
    numbers = [-12.0, -38.5, 500_000.0, 1_000_000.0, 0.9999]
    told = [(3080, 34736, 1, 0), (3081, 34736, 1, 1), (3082, 34736, 1, 2), (3083, 34736, 1, 3), (3092, 34736, 1, 4)]
    return [(1024, 0, 1, 1), (1025, 0, 1, 1), (2048, 0, 1, 4326), (2054, 0, 1, 9102), (3072, 0, 1, 32767),
            (3074, 0, 1, 32767), (3075, 0, 1, 1), (3076, 0, 1, 9002), *told], numbers  # fmt: skip


class Layer(NamedTuple):
    """A variable of a container: values, the names of its dimensions, attributes."""

    values: Any
    dimensions: tuple[str, ...]
    attributes: Mapping[str, Any]


def write_netcdf(path: Path, layers: Mapping[str, Layer], about: Mapping[str, Any]) -> None:
    """Variables by path (``group/name``); dimensions belong to the root, some with a variable of their name."""
    with h5py.File(path, "w") as file:
        file.attrs.update(about)
        sizes = {name: length for layer in layers.values()
                 for name, length in zip(layer.dimensions, np.shape(layer.values), strict=True)}  # fmt: skip
        own = [name for name in sizes if name in layers]
        for name in [*own, *(name for name in layers if name not in own)]:
            layer = layers[name]
            data = file.create_dataset(name, data=layer.values, chunks=True, compression="gzip")
            data.attrs.update(layer.attributes)
            if name in own:
                data.make_scale(name)
        for name in sizes.keys() - set(own):
            file.create_dataset(name, data=np.zeros(sizes[name], "f4")).make_scale(
                "This is a netCDF dimension but not a netCDF variable."
            )
        for name, layer in layers.items():
            for number, dimension in enumerate(layer.dimensions):
                if name != dimension:
                    file[name].dims[number].attach_scale(file[dimension])
