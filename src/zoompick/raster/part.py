"""A window of a raster, or one of its overviews, as a raster of its own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Derived, Pixels, Raster


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
