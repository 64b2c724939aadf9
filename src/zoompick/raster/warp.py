"""A raster carried onto a grid of another CRS: control points with a bounded error, kernels that know no-data.

Where pixels lie is told by :mod:`zoompick.raster.positions`: of each by itself, so that windows of any size and place
show the same.
Source of the kernel's convention: OpenCV remap, positions in source pixels with centres at whole numbers.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Sequence
from typing import Any

from zoompick import settings
from zoompick.arrays import Pixels, PixelType
from zoompick.errors import GridError
from zoompick.geo.crs import transform
from zoompick.geo.datums import DatumChange, datum_change
from zoompick.later import np
from zoompick.raster import kernels
from zoompick.raster.grid import Grid, Window
from zoompick.raster.ongrid import METHODS, OnGrid, covers
from zoompick.raster.positions import NOWHERE, STEP_PX, Positions, Spans, positions, spans_of
from zoompick.raster.raster import Derived, Raster, fill_value, fitting_level, is_whole, put_on, valid_mask
from zoompick.raster.resample import Axis, area_average, finish
from zoompick.raster.roomy import roomy
from zoompick.raster.turn import around
from zoompick.raster.ways import CLASS

_BEFORE, _DIGITS = 1e-6, 1 << 24
_MOST_SOURCE_PX = 16_000
"""Up to so many pixels a side positions of 32 bits keep their fraction (:data:`positions.FRACTION`)."""
_WIDE, _GAP_RADII = {"cubic": 2, "lanczos": 4}, 1.5
"""Kernels wider than bilinear, and how many pixels they reach to each side; so many of these a gap must be away."""
_SAME, _FINER, _LEAST_TIMES, _MOST_TIMES = 1.2, 3.0, 3, 6
"""Up to so many source pixels a target pixel, one position is enough; else pixels so much finer are looked at."""


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

    _step_px = STEP_PX

    def __init__(self, source: Raster, grid: Grid, way: str = "bilinear") -> None:
        if source.nodata is None:
            raise GridError(
                "A raster without a no-data value cannot be carried into another reference system.",
                "Give it a no-data value first.",
            )
        super().__init__(source)
        self._datum = _known_datum(source.grid, grid)
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

    @property
    def notes(self) -> tuple[str, ...]:
        """Those of the source, and what a change of datum costs."""
        own = (f"{self._datum.text[0].upper()}{self._datum.text[1:]}.",) if self._datum is not None else ()
        return (*super().notes, *own)

    def _step_in(self, lattice: Grid) -> float:
        """Pixels of a lattice across a target pixel, in the middle of the target."""
        col, row = self._grid.width // 2, self._grid.height // 2
        x, y = self._exact(*np.meshgrid([col, col + 1], [row, row + 1]), lattice)
        across = math.hypot(float(x[0, 1] - x[0, 0]), float(y[0, 1] - y[0, 0]))
        down = math.hypot(float(x[1, 0] - x[0, 0]), float(y[1, 0] - y[0, 0]))
        return max(across, down, 1e-9)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        lattice = self.source.levels[self._level]
        at = self._positions(window, lattice)
        count = len(self.bands if bands is None else bands)
        out = np.full((count, window.height, window.width), fill_value(self.nodata), self.dtype)
        inside = None if at.is_within(lattice) else at.inside(lattice)
        if inside is not None and not inside.any():
            return out
        part = (slice(None), slice(None)) if inside is None else _box(inside)
        here = True if inside is None else inside[part].all()
        chosen = part if here else inside
        spans = at.spans if inside is None else spans_of(at.cols[chosen], at.rows[chosen])
        under = self._under(spans).intersect(lattice.window)
        if max(under.width, under.height) > _MOST_SOURCE_PX * self._group and max(window.width, window.height) > 1:
            return self._in_quarters(window, bands)
        source = self._grouped(self.source.read(under, bands, self._level))
        cols, rows = self._places(at.cols[part], under.col), self._places(at.rows[part], under.row)
        steps = [one[part] / self._group for one in self._steps(window, lattice)] if self._times > 1 else []
        for target, band in zip(out, source, strict=True):
            values = self._of_ground(band, cols, rows, steps) if self._times > 1 else self._sampled(band, cols, rows)
            if inside is None:
                target[...] = values
            else:
                np.copyto(target[part], values, where=inside[part])
        return out

    def _under(self, spans: Spans) -> Window:
        """Source pixels about some positions, in whole groups."""
        group, halo = self._group, 1 + math.ceil(self._group * self._times / 2)
        # A wide kernel looks for gaps about it.
        halo += math.ceil(_GAP_RADII * _WIDE.get(self._way, 0))
        first = [math.floor((low - halo) / group) * group for low, _ in spans]
        last = [math.ceil((high + halo + 1) / group) * group for _, high in spans]
        return Window(first[0], first[1], last[0] - first[0], last[1] - first[1])

    def _grouped(self, source: Pixels) -> Pixels:
        """Groups of source pixels as one, the mean of those that are there."""
        if self._group == 1:
            return source
        down, across = (Axis(0, self._group, -(-size // self._group)) for size in source.shape[1:])
        return area_average(source, down, across, self.nodata)

    def _places(self, positions: Pixels, first: int) -> Pixels:
        """Positions in groups, counted from a window's first pixel."""
        if self._group == self._times == 1 and self._way not in _WIDE:
            return self._tidy(positions, first)
        if self._group == 1:
            return positions - first
        return (positions + 0.5) / self._group - 0.5 - first // self._group

    def _steps(self, window: Window, lattice: Grid) -> list[Pixels]:
        """How far a position moves to the next target pixel: columns by column and row, then rows.

        Neighbours tell, those beyond the window too, so that it does not matter where a window ends.
        """
        wide = self._positions(Window(window.col - 1, window.row - 1, window.width + 2, window.height + 2), lattice)
        return [np.gradient(one, axis=axis)[1:-1, 1:-1] for one in (wide.cols, wide.rows) for axis in (1, 0)]

    def _of_ground(self, band: Pixels, cols: Pixels, rows: Pixels, steps: Sequence[Pixels]) -> Pixels:
        """What the ground of each target pixel has: its mean, or what most of it is."""
        return (self._most if self._picks else self._averaged)(band, cols, rows, steps)

    def _spread(self, cols: Pixels, rows: Pixels, steps: Sequence[Pixels]) -> Iterator[tuple[Pixels, Pixels]]:
        """Positions spread evenly in each target pixel, one after the other."""
        shares = (np.arange(self._times) + 0.5) / self._times - 0.5
        for down, right in itertools.product(shares, shares):
            yield (
                self._tidy(cols + right * steps[0] + down * steps[1]),
                self._tidy(rows + right * steps[2] + down * steps[3]),
            )

    def _tidy(self, positions: Pixels, first: int = 0) -> Pixels:
        """Positions from a pixel on, as kernels take them, without the last digits, which depend on that."""
        if _working(self.dtype) is np.float32 or self._picks:
            return kernels.single(positions, first)
        return np.asarray(np.rint((positions - first) * _DIGITS) / _DIGITS)

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
        """The mean over each target pixel: of values at positions spread evenly in it, where half are there."""
        total, weight = np.zeros(cols.shape), np.zeros(cols.shape)
        valid = valid_mask(band, self.nodata)
        working = np.where(valid, band, 0).astype(_working(band.dtype))
        ones = None if valid.all() else valid.astype(_working(band.dtype))
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
        wider = _working(band.dtype)
        if is_whole(band, self.nodata):
            working = band.astype(wider)
            values = kernels.remap_linear(working, cols, rows)
            if self._way in _WIDE:
                values = self._wide(working, np.ones(band.shape, bool), values, cols, rows)
            return finish(values, band.dtype, self._way not in _WIDE, self.nodata)
        valid = valid_mask(band, self.nodata)
        working = np.where(valid, band, 0).astype(wider)
        values = kernels.remap_linear(working, cols, rows)
        weight = kernels.remap_linear(valid.astype(wider), cols, rows)
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
        whole = kernels.distance(inside)[radius:-radius, radius:-radius] > _GAP_RADII * radius
        here = kernels.remap_nearest(whole.astype(np.uint8), cols, rows).astype(bool)
        return np.where(here, kernels.remap_wide(working, cols, rows, self._way), values)

    def _positions(self, window: Window, lattice: Grid) -> Positions:
        """Column and row in ``lattice`` of every target pixel's centre."""
        return positions(window, lambda xs, ys: self._exact(xs, ys, lattice), self._step_px)

    def _exact(self, xs: Pixels, ys: Pixels, lattice: Grid) -> tuple[Pixels, Pixels]:
        """Columns and rows of pixels of the target, which count from its corner."""
        grid = self._grid
        out_x, out_y = transform(
            grid.west + (xs + 0.5) * grid.pixel_x, grid.north - (ys + 0.5) * grid.pixel_y, grid.crs, lattice.crs
        )
        cols, rows = self._in_lattice(np.asarray(out_x), np.asarray(out_y), lattice)
        # What has no place in the source's system lies outside it.
        return np.where(np.isfinite(cols), cols, NOWHERE), np.where(np.isfinite(rows), rows, NOWHERE)

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
        raster = raster if raster.nodata is not None or covers(raster.grid, grid) else roomy(raster)
        if way in METHODS or raster.grid.shares_lattice(grid):
            return OnGrid(raster, grid, way)
    return Warped(roomy(raster), grid, way)


def _known_datum(source: Grid, grid: Grid) -> DatumChange | None:
    """The change of datum between two grids.

    Raises
    ------
    GridError
        It may move pixels by half a pixel, and that was not asked for.
    """
    change = datum_change(source.crs, grid.crs, grid.bounds)
    half_m = min(source.pixel_m, grid.pixel_m) / 2
    if change is not None and change.is_rough and change.bound_m > half_m and not settings.whole("rough_datums"):
        need = f"Put {', '.join(change.missing)} where the projection library looks" if change.missing else (
            "Give the files the system that they are in"
        )  # fmt: skip
        raise GridError(
            f"From {source.crs} to {grid.crs} pixels may be off by {change.bound_m:g} m, more than half a pixel: "
            f"{change.text}.",
            f"{need}; rough_datums = 1 in settings.toml does it all the same.",
        )
    return change


def _working(dtype: PixelType) -> type[np.floating[Any]]:
    """float32 holds all values of 16 bits, and what is float32 already; others need float64."""
    return np.float32 if dtype.itemsize <= 2 or dtype == np.float32 else np.float64


def _box(mask: Pixels) -> tuple[slice, slice]:
    """Rows and columns that hold what is set in a mask, which is not empty."""
    spans = [np.flatnonzero(mask.any(axis=axis)) for axis in (1, 0)]
    down, across = (slice(int(span[0]), int(span[-1]) + 1) for span in spans)
    return down, across


def _within(at: tuple[Pixels, Pixels], size: tuple[int, ...]) -> Pixels:
    """True where a column and row lie on a band of some size."""
    col, row = at
    return (col > -0.5) & (col < size[1] - 0.5) & (row > -0.5) & (row < size[0] - 0.5)
