"""A raster carried onto a grid of another CRS: control points with a bounded error, kernels that know no-data.

Positions are transformed exactly on every 32nd pixel of the target and interpolated between; the error in the middle
of each cell is measured, and the step halved until it stays below a twentieth of a source pixel.
Source of the kernel's convention: OpenCV remap, positions in source pixels with centres at whole numbers.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from zoompick.arrays import Pixels
from zoompick.errors import GridError
from zoompick.geo.crs import transform
from zoompick.later import np
from zoompick.raster import kernels
from zoompick.raster.grid import Grid, Window
from zoompick.raster.ongrid import METHODS, OnGrid
from zoompick.raster.raster import Derived, Raster, fill_value, fitting_level, is_whole, put_on, valid_mask
from zoompick.raster.resample import Axis, area_average, finish
from zoompick.raster.turn import around
from zoompick.raster.ways import CLASS

_STEP_PX, _BEFORE, _NOWHERE, _FAR = 32, 1e-6, -1e6, 1e9
POSITION_ERROR_PX = 0.05
"""What positions may be off, in pixels of the source."""
_MOST_SOURCE_PX = 20_000
_WIDE = {"cubic": 2, "lanczos": 4}
"""Kernels wider than bilinear, and how many pixels they reach to each side."""
_SAME, _FINER, _LEAST_TIMES, _MOST_TIMES = 1.2, 3.0, 3, 6
"""Up to so many source pixels a target pixel, one position is enough; else pixels so much finer are looked at."""


@dataclass(frozen=True)
class _Positions:
    """Source column and row of every pixel of a window, as 32-bit floats that count from a pixel of the source.

    Attributes
    ----------
    spans : tuple of (float, float)
        Between which all columns and all rows lie.
    """

    cols: Pixels
    rows: Pixels
    col: int
    row: int
    spans: tuple[tuple[float, float], tuple[float, float]]

    @classmethod
    def of(cls, cols: Pixels, rows: Pixels, step: int, window: Window) -> _Positions:
        """From positions at knots, so many pixels apart."""
        # What has no place must not take the digits of what has one.
        first = [math.floor(float(np.min(knots, where=knots > _NOWHERE, initial=_FAR))) for knots in (cols, rows)]
        first = [0 if start == _FAR else start for start in first]
        found = [_between(knots - start, step, window.height, window.width)
                 for knots, start in zip((cols, rows), first, strict=True)]  # fmt: skip
        low, high = ([float(reduce(knots)) for knots in (cols, rows)] for reduce in (np.min, np.max))
        return cls(found[0], found[1], first[0], first[1], ((low[0], high[0]), (low[1], high[1])))

    def is_within(self, lattice: Grid) -> bool:
        """True when every position is seen to lie well on a lattice."""
        sizes = lattice.width, lattice.height
        return all(low > 0 and high < size - 1 for (low, high), size in zip(self.spans, sizes, strict=True))

    def inside(self, lattice: Grid) -> Pixels:
        """True where a position lies on a lattice."""
        right, bottom = np.float32(lattice.width - 0.5 - self.col), np.float32(lattice.height - 0.5 - self.row)
        left, top = np.float32(-0.5 - self.col), np.float32(-0.5 - self.row)
        return (self.cols > left) & (self.cols < right) & (self.rows > top) & (self.rows < bottom)


class Warped(Derived):
    """``source`` seen on ``grid`` in another CRS.

    Where the target's pixels are larger than the source's they get the mean of the ground under them, classes what
    most of it has, as valid as half of it: out of several positions in each, in pixels that are a third of the
    target's or finer (an overview, or groups of pixels averaged here).

    Parameters
    ----------
    way : str
        One of :data:`zoompick.raster.ways.WAYS`, or ``class``. The wide ones, cubic and lanczos, need all pixels
        under them; beside a gap or the edge they give way to bilinear.

    Raises
    ------
    GridError
        The source has no no-data value: what lies outside it could not be told.
    """

    def __init__(self, source: Raster, grid: Grid, way: str = "bilinear") -> None:
        if source.nodata is None:
            raise GridError(
                "A raster without a no-data value cannot be carried into another reference system.",
                "Give it a no-data value first.",
            )
        super().__init__(source)
        self._grid = grid
        self._way = way
        self._picks = way in ("nearest", "majority", CLASS)
        step = self._step_in(source.grid)
        self._level = fitting_level(source.levels, source.grid.pixel_x * max(1.0, step / _FINER)) if step > 1 else 0
        left = self._step_in(source.levels[self._level])
        # Groups of so many source pixels are averaged first; then so many positions a side are looked at.
        self._group = 1 if self._picks else max(1, math.floor(left / _FINER))
        least = _LEAST_TIMES if way in ("average", "majority") else 1
        looks = 1 if way == "nearest" or left <= _SAME else min(_MOST_TIMES, math.ceil(left / self._group))
        self._times = max(looks, least)

    @property
    def grid(self) -> Grid:
        """The target grid."""
        return self._grid

    def _step_in(self, lattice: Grid) -> float:
        """Pixels of a lattice across a target pixel, in the middle of the target."""
        middle = Window(self._grid.width // 2, self._grid.height // 2, 2, 2)
        x, y = self._exact(np.array([0, 1]), np.array([0, 1]), middle, lattice)
        across = math.hypot(float(x[0, 1] - x[0, 0]), float(y[0, 1] - y[0, 0]))
        down = math.hypot(float(x[1, 0] - x[0, 0]), float(y[1, 0] - y[0, 0]))
        return max(across, down, 1e-9)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        if self._times > 1 and min(window.width, window.height) == 1:
            # How large a pixel is its neighbours tell.
            wide = Window(window.col, window.row, max(2, window.width), max(2, window.height))
            return self.read(wide, bands)[:, : window.height, : window.width]
        lattice = self.source.levels[self._level]
        at = self._positions(window, lattice)
        count = len(self.bands if bands is None else bands)
        out = np.full((count, window.height, window.width), fill_value(self.nodata), self.dtype)
        inside = None if at.is_within(lattice) else at.inside(lattice)
        if inside is not None and not inside.any():
            return out
        part = (slice(None), slice(None)) if inside is None else _box(inside)
        here = True if inside is None else inside[part].all()
        near = [one[part] if here else one[inside] for one in (at.cols, at.rows)]
        under = self._under(near[0], near[1]).moved(at.col, at.row).intersect(lattice.window)
        if max(under.width, under.height) > _MOST_SOURCE_PX * self._group and max(window.width, window.height) > 1:
            return self._in_quarters(window, bands)
        source = self._grouped(self.source.read(under, bands, self._level))
        places = self._places(at.cols, under.col - at.col), self._places(at.rows, under.row - at.row)
        steps = [_across(one, axis)[part] for one in places for axis in (1, 0)] if self._times > 1 else []
        cols, rows = places[0][part], places[1][part]
        for target, band in zip(out, source, strict=True):
            values = self._of_ground(band, cols, rows, steps) if self._times > 1 else self._sampled(band, cols, rows)
            if inside is None:
                target[...] = values
            else:
                np.copyto(target[part], values, where=inside[part])
        return out

    def _under(self, cols: Pixels, rows: Pixels) -> Window:
        """Source pixels about some positions, in whole groups; counted as these are."""
        group, halo = self._group, 1 + math.ceil(self._group * self._times / 2)
        first = [math.floor((float(v.min()) - halo) / group) * group for v in (cols, rows)]
        last = [math.ceil((float(v.max()) + halo + 1) / group) * group for v in (cols, rows)]
        return Window(first[0], first[1], last[0] - first[0], last[1] - first[1])

    def _grouped(self, source: Pixels) -> Pixels:
        """Groups of source pixels as one, the mean of those that are there."""
        if self._group == 1:
            return source
        down, across = (Axis(0, self._group, -(-size // self._group)) for size in source.shape[1:])
        return area_average(source, down, across, self.nodata)

    def _places(self, positions: Pixels, first: int) -> Pixels:
        """Positions in groups, counted from a window's first pixel."""
        if self._group == 1:
            return positions - np.float32(first) if first else positions
        return (((positions - first) + 0.5) / self._group - 0.5).astype(np.float32)

    def _of_ground(self, band: Pixels, cols: Pixels, rows: Pixels, steps: Sequence[Pixels]) -> Pixels:
        """What the ground of each target pixel has: its mean, or what most of it is."""
        return (self._most if self._picks else self._averaged)(band, cols, rows, steps)

    def _spread(self, cols: Pixels, rows: Pixels, steps: Sequence[Pixels]) -> Iterator[tuple[Pixels, Pixels]]:
        """Positions spread evenly in each target pixel, one after the other."""
        shares = (np.arange(self._times) + 0.5) / self._times - 0.5
        for down, right in itertools.product(shares, shares):
            yield (
                (cols + right * steps[0] + down * steps[1]).astype(np.float32),
                (rows + right * steps[2] + down * steps[3]).astype(np.float32),
            )

    def _most(self, band: Pixels, cols: Pixels, rows: Pixels, steps: Sequence[Pixels]) -> Pixels:
        """The most frequent value in each target pixel, where half of it is there; the smaller one wins a tie."""
        fill = band.dtype.type(fill_value(self.nodata))
        looked = [np.where(_within(at, band.shape), kernels.remap_nearest(band, *at), fill)
                  for at in self._spread(cols, rows, steps)]  # fmt: skip
        codes = np.sort(np.stack(looked), axis=0)
        known = valid_mask(codes, self.nodata)
        out, best, run = np.full(cols.shape, fill), np.zeros(cols.shape, int), np.zeros(cols.shape, int)
        for place in range(len(codes)):
            goes_on = codes[place] == codes[place - 1] if place else False
            run = np.where(known[place], np.where(goes_on, run + 1, 1), 0)
            wins = run > best
            out[wins], best[wins] = codes[place][wins], run[wins]
        out[known.sum(axis=0) < len(codes) / 2] = fill
        return out

    def _averaged(self, band: Pixels, cols: Pixels, rows: Pixels, steps: Sequence[Pixels]) -> Pixels:
        """The mean over each target pixel: of values at positions spread evenly in it, where half are there.

        ``steps`` tells how far a position moves to the next target pixel: columns by column and row, then rows.
        """
        total, weight = np.zeros(cols.shape), np.zeros(cols.shape)
        valid = valid_mask(band, self.nodata)
        working = np.where(valid, band, 0).astype(np.float32 if band.dtype.itemsize <= 2 else np.float64)
        ones = None if valid.all() else valid.astype(np.float32)
        for col, row in self._spread(cols, rows, steps):
            here = _within((col, row), band.shape)
            total += np.where(here, kernels.remap_linear(working, col, row), 0)
            weight += here if ones is None else np.where(here, kernels.remap_linear(ones, col, row), 0)
        present = weight >= self._times**2 / 2
        np.divide(total, weight, out=total, where=present)
        result = finish(np.where(present, total, 0), band.dtype, False, self.nodata)
        result[~present] = fill_value(self.nodata)
        return result

    def _in_quarters(self, window: Window, bands: Sequence[int] | None) -> Pixels:
        """A window whose source is too large for the kernel, in four parts."""
        half_w, half_h = max(1, window.width // 2), max(1, window.height // 2)
        parts = []
        for row, height in ((window.row, half_h), (window.row + half_h, window.height - half_h)):
            across = [
                self.read(Window(col, row, width, height), bands)
                for col, width in ((window.col, half_w), (window.col + half_w, window.width - half_w))
                if width and height
            ]
            parts += [np.concatenate(across, axis=2)] if across else []
        return np.concatenate(parts, axis=1)

    def _sampled(self, band: Pixels, cols: Pixels, rows: Pixels) -> Pixels:
        """Values at positions; a missing neighbour is left out, a pixel whose nearest one is missing is missing."""
        if self._picks:
            return kernels.remap_nearest(band, cols, rows)
        wider = np.float32 if band.dtype.itemsize <= 2 else np.float64
        if is_whole(band, self.nodata):
            working = band.astype(wider)
            values = kernels.remap_linear(working, cols, rows)
            if self._way in _WIDE:
                values = self._wide(working, np.ones(band.shape, bool), values, cols, rows)
            return finish(values, band.dtype, self._way not in _WIDE, self.nodata)
        valid = valid_mask(band, self.nodata)
        working = np.where(valid, band, 0).astype(wider)
        values = kernels.remap_linear(working, cols, rows)
        weight = kernels.remap_linear(valid.astype(np.float32), cols, rows)
        present = kernels.remap_nearest(valid.astype(np.uint8), cols, rows).astype(bool) & (weight > 1e-6)
        np.divide(values, weight, out=values, where=present)
        if self._way in _WIDE:
            values = self._wide(working, valid, values, cols, rows)
        result = finish(np.where(present, values, 0), band.dtype, False, self.nodata)
        result[~present] = fill_value(self.nodata)
        return result

    def _wide(self, working: Pixels, valid: Pixels, values: Pixels, cols: Pixels, rows: Pixels) -> Pixels:
        """Values by a wider kernel where all pixels under it are there; the given ones elsewhere."""
        radius = _WIDE[self._way]
        inside = np.pad(valid, radius, constant_values=False)
        whole = kernels.distance(inside)[radius:-radius, radius:-radius] > 1.5 * radius
        here = kernels.remap_nearest(whole.astype(np.uint8), cols, rows).astype(bool)
        return np.where(here, kernels.remap_wide(working, cols, rows, self._way), values)

    def _positions(self, window: Window, lattice: Grid) -> _Positions:
        """Column and row in ``lattice`` of every target pixel's centre."""
        step = _STEP_PX
        while True:
            knots_x = np.arange(0, window.width + step, step)
            knots_y = np.arange(0, window.height + step, step)
            cols, rows = self._exact(knots_x, knots_y, window, lattice)
            middle = self._exact(knots_x[:-1] + step / 2, knots_y[:-1] + step / 2, window, lattice)
            error = max(
                float(np.abs(_centres(knots) - exact).max()) if exact.size else 0.0
                for knots, exact in zip((cols, rows), middle, strict=True)
            )
            if error <= POSITION_ERROR_PX or step <= 1:
                break
            step //= 2
        return _Positions.of(cols, rows, step, window)

    def _exact(self, xs: Pixels, ys: Pixels, window: Window, lattice: Grid) -> tuple[Pixels, Pixels]:
        grid = self._grid
        x = grid.west + (window.col + xs + 0.5) * grid.pixel_x
        y = grid.north - (window.row + ys + 0.5) * grid.pixel_y
        mesh_x, mesh_y = np.meshgrid(x, y)
        out_x, out_y = transform(mesh_x, mesh_y, grid.crs, lattice.crs)
        cols, rows = self._in_lattice(np.asarray(out_x), np.asarray(out_y), lattice)
        # What has no place in the source's system lies outside it.
        return np.where(np.isfinite(cols), cols, _NOWHERE), np.where(np.isfinite(rows), rows, _NOWHERE)

    def _in_lattice(self, x: Pixels, y: Pixels, lattice: Grid) -> tuple[Pixels, Pixels]:
        """Column and row in a lattice of places in its reference system."""
        east = x - lattice.west
        if lattice.crs.is_geographic:
            # Longitudes in the turn in which the raster lies; what is a little before it stays there.
            east = np.where(np.isfinite(east), (east + _BEFORE) % 360 - _BEFORE, east)
        return east / lattice.pixel_x - 0.5, (lattice.north - y) / lattice.pixel_y - 0.5


def resampled_to(raster: Raster, grid: Grid, way: str = "bilinear") -> Raster:
    """A raster on a grid: resampled within its CRS, or carried over from another; a swath from where its pixels are.

    Parameters
    ----------
    way : str
        One of :data:`zoompick.raster.ways.WAYS`, or ``class``; pixels on the grid's lattice are copied.
    """
    carried = put_on(raster, grid, way)
    if carried is not None:
        return carried
    if raster.grid.crs == grid.crs:
        raster = around(raster, grid.bounds)
        if way in METHODS or raster.grid.shares_lattice(grid):
            return OnGrid(raster, grid, way)
    return Warped(raster, grid, way)


def _box(mask: Pixels) -> tuple[slice, slice]:
    """Rows and columns that hold what is set in a mask, which is not empty."""
    spans = [np.flatnonzero(mask.any(axis=axis)) for axis in (1, 0)]
    down, across = (slice(int(span[0]), int(span[-1]) + 1) for span in spans)
    return down, across


def _within(at: tuple[Pixels, Pixels], size: tuple[int, ...]) -> Pixels:
    """True where a column and row lie on a band of some size."""
    col, row = at
    return (col > -0.5) & (col < size[1] - 0.5) & (row > -0.5) & (row < size[0] - 0.5)


def _across(places: Pixels, axis: int) -> Pixels:
    """How far a position moves from one target pixel to the next along an axis."""
    if places.shape[axis] == 1:
        return np.zeros_like(places)
    return np.gradient(places, axis=axis)


def _centres(knots: Pixels) -> Pixels:
    """What bilinear interpolation gives in the middle of each cell."""
    return (knots[:-1, :-1] + knots[1:, :-1] + knots[:-1, 1:] + knots[1:, 1:]) / 4


def _between(knots: Pixels, step: int, height: int, width: int) -> Pixels:
    """Bilinear interpolation of knots, so many pixels apart, at every pixel, in 32-bit floats."""
    share = np.arange(step, dtype=np.float32) / np.float32(step)
    knots = knots.astype(np.float32)
    first, rise = knots[:-1, None, :], np.diff(knots, axis=0)[:, None, :]
    down = (first + rise * share[None, :, None]).reshape(-1, knots.shape[1])[:height]
    first, rise = down[:, :-1, None], np.diff(down, axis=1)[:, :, None]
    return np.asarray((first + rise * share).reshape(height, -1)[:, :width])
