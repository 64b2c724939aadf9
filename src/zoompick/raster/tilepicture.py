"""Picture tiles of one level as a Raster: decoded when they are read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from zoompick.arrays import Pixels, PixelType
from zoompick.errors import DataError
from zoompick.later import np
from zoompick.raster import blockcache
from zoompick.raster.grid import Grid, Window
from zoompick.raster.pictures import colours_of
from zoompick.raster.raster import Arrayed, Band

_OPAQUE = 128


class Lookup(Protocol):
    """Where tiles come from: a value, which travels when it is packed, and is equal to those that give the same."""

    def __call__(self, row: int, col: int) -> bytes | None:
        """Bytes of the tile in a row and column of the mosaic, or None."""

    def __hash__(self) -> int:
        """It is a part of the key under which decoded tiles are kept."""


@dataclass(frozen=True)
class TilePicture(Arrayed):
    """Red, green and blue; 0 in all three where a tile is missing or transparent, so black itself becomes 1.

    Parameters
    ----------
    grid : Grid
        Of the mosaic; its corner is a tile's corner.
    tile : (int, int)
        Rows and columns of a tile in pixels.
    lookup : Lookup
    """

    grid: Grid
    tile: tuple[int, int]
    lookup: Lookup

    @property
    def bands(self) -> tuple[Band, ...]:
        """Three colours."""
        return Band("red"), Band("green"), Band("blue")

    @property
    def dtype(self) -> PixelType:
        """Unsigned 8 bits."""
        return np.dtype(np.uint8)

    @property
    def nodata(self) -> float | None:
        """Zero."""
        return 0

    @property
    def levels(self) -> tuple[Grid, ...]:
        """One: each level of a service is a picture of its own."""
        return (self.grid,)

    @property
    def block(self) -> tuple[int, int]:
        """A tile."""
        return self.tile

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`.

        Raises
        ------
        DataError
            A tile does not decode.
        """
        rows, cols = self.tile
        out = np.zeros((3, window.height, window.width), np.uint8)
        inside = window.intersect(self.grid.window)
        if not inside.is_empty:
            for row in range(inside.row // rows, -(-inside.stop_row // rows)):
                for col in range(inside.col // cols, -(-inside.stop_col // cols)):
                    pixels = self._decoded(row, col)
                    if pixels is None:
                        continue
                    place = Window(col * cols, row * rows, cols, rows)
                    both = place.intersect(inside)
                    out[(slice(None), *both.slices_in(window))] = pixels[(slice(None), *both.slices_in(place))]
        return out if bands is None else out[list(bands)]

    def _decoded(self, row: int, col: int) -> Pixels | None:
        cache, key = blockcache.shared(), (self, row, col)
        held = cache.get(key)
        if held is None:
            data = self.lookup(row, col)
            if data is None:
                return None
            held = self._colours(data, row, col)
            cache.put(key, held)
        return held

    def _colours(self, data: bytes, row: int, col: int) -> Pixels:
        try:
            planes = colours_of(data)
        except DataError as error:
            where = f"The tile in row {row}, column {col} of the mosaic"
            raise DataError(error.what.replace("It", where, 1), error.todo) from error
        if planes.shape[1:] != self.tile:
            rows, cols = self.tile
            raise DataError(
                f"A tile has {planes.shape[2]} x {planes.shape[1]} px, its grid tells {cols} x {rows}.",
                "The service does not keep to its own grid.",
            )
        colours = np.maximum(planes[:3], 1)
        colours[:, planes[3] < _OPAQUE] = 0
        return colours
