"""A window of a raster, or one of its overviews, as a raster of its own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from zoompick.arrays import Pixels
from zoompick.jsontypes import JsonObject
from zoompick.later import np
from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Derived, Raster, valid_mask


class Part(Derived):
    """The pixels of a window, unchanged; its grid shares the source's lattice.

    Blocks that the writer asks for need not be the source's.
    """

    def __init__(self, source: Raster, window: Window) -> None:
        super().__init__(source)
        self.window = window
        self._grid = source.grid.part(window)

    @property
    def grid(self) -> Grid:
        """Grid of the window."""
        return self._grid

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window of this one; see :meth:`zoompick.raster.raster.Raster.read`."""
        return self.source.read(window.moved(self.window.col, self.window.row), bands)

    def coded(self, window: Window, band: int) -> CodedBlock | None:
        """The source's block; see :meth:`zoompick.raster.coded.HasBlocks.coded`."""
        return coded_block(self.source, window.moved(self.window.col, self.window.row), band)


class AtLevel(Derived):
    """One overview of a raster, as if there were nothing finer."""

    def __init__(self, source: Raster, level: int) -> None:
        super().__init__(source)
        self.level = level

    @property
    def grid(self) -> Grid:
        """Grid of the overview."""
        return self.source.levels[self.level]

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of the overview."""
        return self.source.read(window, bands, self.level)


class Moved(Derived):
    """A raster whose pixels are told to lie elsewhere: so many of its pixels to the right and down."""

    def __init__(self, source: Raster, cols: float, rows: float) -> None:
        super().__init__(source)
        place = source.grid
        self._grid = replace(place, west=place.west + cols * place.pixel_x, north=place.north - rows * place.pixel_y)

    @property
    def grid(self) -> Grid:
        """The source's grid, moved."""
        return self._grid

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """The source's pixels."""
        return self.source.read(window, bands)


FAR_BELOW = -(2.0**120)
"""As no-data: exact in 32 bits, and in the text that the file keeps it by. A codec that lacks NaN keeps each block's
smallest value as it is."""


class _LeastNodata(Derived):
    """Floats whose missing pixels hold a number far below all that is measured."""

    @property
    def nodata(self) -> float | None:
        """Far below all that is measured."""
        return FAR_BELOW

    @property
    def record(self) -> JsonObject:
        """The source's."""
        return dict(getattr(self.source, "record", {}))

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """The source's pixels, where they are there."""
        pixels = self.source.read(window, bands)
        return np.where(valid_mask(pixels, self.source.nodata), pixels, self.dtype.type(FAR_BELOW))


def with_least_nodata(raster: Raster) -> Raster:
    """A raster of floats with a very small one as no-data, which codecs that lose a little keep; others unchanged."""
    return _LeastNodata(raster) if raster.dtype.kind == "f" else raster
