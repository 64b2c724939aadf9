"""A raster cut to a polygon: no-data outside."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.arrays import Pixels
from zoompick.errors import GridError, UsageError
from zoompick.geo.shapes import Shape, bounds_of
from zoompick.later import np
from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.grid import Grid, Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.raster import Derived, Raster
from zoompick.raster.turn import in_same_turn


class Clip(Derived):
    """``source`` inside a polygon, on the smallest part of its grid that holds it.

    Parameters
    ----------
    polygon : Shape
        Longitude/latitude.
    touch : bool
        Keep every pixel the outline passes through, not only those whose centre is inside.
    is_outside : bool
        Keep what lies outside the polygon, all of the source's extent.
    keeps_extent : bool
        The result has the source's extent, not only that of the polygon.
    loose_to : int
        The result begins at a multiple of so many pixels of the source, and ends at one, where that lies in it: whole
        blocks can be passed on as they are stored.

    Raises
    ------
    GridError
        The polygon and the raster do not meet.
    UsageError
        The raster's pixels have no value that can stand for no-data.
    """

    def __init__(
        self,
        source: Raster,
        polygon: Shape,
        touch: bool = False,
        is_outside: bool = False,
        keeps_extent: bool = False,
        loose_to: int = 0,
    ) -> None:
        source, inside = in_same_turn(source, polygon)
        super().__init__(source)
        self._window = source.grid.window_of(bounds_of(inside))
        self._is_outside = is_outside
        if self._window.is_empty and not is_outside:
            raise GridError("The area lies outside the raster.", "Choose an area that meets it, or another file.")
        if source.nodata is None and source.dtype.kind != "f":
            raise UsageError(
                "The raster has no no-data value, so nothing can stand for what lies outside the area.",
                "Stack it first from files that have one.",
            )
        if is_outside or keeps_extent:
            self._window = source.grid.window
        elif loose_to:
            self._window = _widened(self._window, loose_to).intersect(source.grid.window)
        self._mask = PolygonMask(inside, source.grid, touch)

    @property
    def grid(self) -> Grid:
        """Part of the source's grid."""
        return self.source.grid.part(self._window)

    @property
    def nodata(self) -> float | None:
        """The source's no-data value, else NaN."""
        return float("nan") if self.source.nodata is None else self.source.nodata

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        moved = window.moved(self._window.col, self._window.row)
        if not self._is_outside and self._mask.clearly_lacks(moved):
            count = len(self.bands if bands is None else bands)
            return np.full((count, window.height, window.width), self.nodata, self.dtype)
        pixels = self.source.read(moved, bands)
        if not self._is_outside and self._mask.clearly_holds(moved):
            return pixels
        kept = self._mask.read(moved)
        return np.where(~kept if self._is_outside else kept, pixels, self.dtype.type(self.nodata))

    def coded(self, window: Window, band: int) -> CodedBlock | None:
        """The source's block where all of it is inside; see :meth:`zoompick.raster.coded.HasBlocks.coded`."""
        moved = window.moved(self._window.col, self._window.row)
        is_whole = not self._is_outside and self._mask.clearly_holds(moved)
        return coded_block(self.source, moved, band) if is_whole else None


def _widened(window: Window, step: int) -> Window:
    """The window out to multiples of a step."""
    col, row = window.col // step * step, window.row // step * step
    return Window(col, row, -(-window.stop_col // step) * step - col, -(-window.stop_row // step) * step - row)
