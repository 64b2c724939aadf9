"""Polygons to pixels: which pixels of a window lie inside."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from zoompick.arrays import Counts, Floats, Mask
from zoompick.geo.shapes import Shape, rings_of
from zoompick.jsontypes import JsonObject
from zoompick.later import np
from zoompick.raster.grid import Grid, Window


class PolygonMask:
    """A polygon in a grid's CRS that answers, window by window, which pixels are in it.

    Parameters
    ----------
    polygon : Shape
        In the grid's CRS.
    grid : Grid
    touch : bool
        False: a pixel is in when its centre is. True: also every pixel that the outline passes through.
    """

    def __init__(self, polygon: Shape, grid: Grid, touch: bool = False) -> None:
        self.grid = grid
        self.touch = touch
        rings = [_to_pixels(ring, grid) for ring in _in_all_turns(rings_of(polygon), grid)]
        starts = np.concatenate([ring[:-1] for ring in rings])
        ends = np.concatenate([ring[1:] for ring in rings])
        self._edges = np.column_stack([starts, ends])
        self._plain: dict[Window, bool | None] = {}

    def __getstate__(self) -> JsonObject:
        return self.__dict__ | {"_plain": {}}

    def read(self, window: Window) -> Mask:
        """Boolean array (rows, cols) of the window."""
        mask = self._centres(window)
        if self.touch:
            mask |= self._touched(window)
        return mask

    def clearly_lacks(self, window: Window) -> bool:
        """True when no pixel is in and no piece of the outline is near; told without drawing the mask."""
        return self._told(window) is False

    def clearly_holds(self, window: Window) -> bool:
        """True when every pixel is in and no piece of the outline is near; told without drawing the mask."""
        return self._told(window) is True

    def _told(self, window: Window) -> bool | None:
        """Whether all pixels are in, or none is; None where the outline is near. A writer asks several times."""
        told = self._plain.get(window, _UNTOLD)
        if told is _UNTOLD:
            is_near = window.is_empty or self._edges_near(window).size
            corner = Window(window.col, window.row, 1, 1)
            told = None if is_near else bool(self._centres(corner)[0, 0])
            if len(self._plain) > _KEPT:
                self._plain.clear()
            self._plain[window] = told
        return told

    def _centres(self, window: Window) -> Mask:
        """Even-odd rule along each row of centres: every crossing flips what lies to its right."""
        x0, y0, x1, y1 = self._edges.T
        centre = window.row + 0.5
        first = np.ceil(np.minimum(y0, y1) - centre).astype(int)
        # Half-open in y, so that a corner shared by two edges counts once.
        stop = np.ceil(np.maximum(y0, y1) - centre).astype(int)
        first, stop = np.clip(first, 0, window.height), np.clip(stop, 0, window.height)
        counts = stop - first
        edge = np.repeat(np.arange(len(counts)), counts)
        row = np.arange(counts.sum()) - np.repeat(np.cumsum(counts) - counts, counts) + first[edge]
        slope = (row + centre - y0[edge]) / (y1[edge] - y0[edge])
        crossing = x0[edge] + slope * (x1[edge] - x0[edge])
        col = np.clip(np.ceil(crossing - window.col - 0.5).astype(int), 0, window.width)
        return _flipped(row, col, window)

    def _touched(self, window: Window) -> Mask:
        """Pixels with a piece of the outline in them: edges are cut at every grid line they cross."""
        out = np.zeros((window.height, window.width), bool)
        for edge in self._edges_near(window):
            x0, y0, x1, y1 = edge - np.array([window.col, window.row] * 2)
            cuts = np.sort(np.concatenate([[0.0, 1.0], _crossings(x0, x1), _crossings(y0, y1)]))
            middle = (cuts[:-1] + cuts[1:]) / 2
            col = np.floor(x0 + middle * (x1 - x0)).astype(int)
            row = np.floor(y0 + middle * (y1 - y0)).astype(int)
            keep = (col >= 0) & (col < window.width) & (row >= 0) & (row < window.height)
            out[row[keep], col[keep]] = True
        return out

    def _edges_near(self, window: Window) -> Floats:
        x0, y0, x1, y1 = self._edges.T
        near = (np.maximum(x0, x1) >= window.col) & (np.minimum(x0, x1) <= window.stop_col)
        near &= (np.maximum(y0, y1) >= window.row) & (np.minimum(y0, y1) <= window.stop_row)
        return self._edges[near]


def _in_all_turns(rings: Sequence[Floats], grid: Grid) -> Iterator[Floats]:
    """Rings; on a grid in degrees also whole turns away, where they meet it: 181 degrees is -179."""
    for ring in rings:
        shifts = (0.0, 360.0, -360.0) if grid.crs.is_geographic else (0.0,)
        for shift in shifts:
            low, high = float(ring[:, 0].min()) + shift, float(ring[:, 0].max()) + shift
            if not shift or (low < grid.bounds.east and high > grid.bounds.west):
                yield ring + np.array([shift, 0.0])


def _flipped(row: Counts, col: Counts, window: Window) -> Mask:
    """Pixels with an odd number of crossings in their row at or before their column."""
    most = int(np.bincount(row, minlength=1).max(initial=0))
    if most > _FEW_CROSSINGS:
        flips = np.zeros((window.height, window.width + 1), np.uint32)
        np.add.at(flips, (row, col), 1)
        return np.asarray(np.cumsum(flips, axis=1)[:, :-1] & 1, bool)
    # Few crossings a row: a comparison of all columns for each is several times quicker than sums along rows.
    order = np.argsort(row, kind="stable")
    row, col = row[order], col[order]
    place = np.arange(len(row)) - np.searchsorted(row, row)
    starts = np.full((most, window.height), window.width, np.int32)
    starts[place, row] = col
    columns = np.arange(window.width, dtype=np.int32)
    inside = np.zeros((window.height, window.width), bool)
    for first in starts:
        inside ^= columns >= first[:, None]
    return inside


_FEW_CROSSINGS, _KEPT = 8, 64
_UNTOLD: Any = object()


def _to_pixels(ring: Floats, grid: Grid) -> Floats:
    return np.column_stack([(ring[:, 0] - grid.west) / grid.pixel_x, (grid.north - ring[:, 1]) / grid.pixel_y])


def _crossings(start: float, stop: float) -> Sequence[float] | Floats:
    """Where, from 0 to 1 along an edge, a coordinate passes whole numbers."""
    if start == stop:
        return []
    low, high = min(start, stop), max(start, stop)
    return (np.arange(np.ceil(low), np.floor(high) + 1) - start) / (stop - start)
