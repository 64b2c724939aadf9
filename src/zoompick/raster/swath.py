"""A swath on a grid: each grid pixel takes what lies nearest on the globe, within a radius."""

from __future__ import annotations

import math
import threading
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from zoompick.arrays import Numbers
from zoompick.errors import FormatError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import LONLAT, METRES_A_DEGREE, transform, utm_for
from zoompick.later import np, spatial
from zoompick.raster.grid import Grid, Window

_EARTH_M = 6_371_008.8
_RADIUS_PX = 1.5
_LARGEST_PX = 2.0
"""A grid's pixels up to so many of the swath's take what is nearest; larger ones want means."""
_WIDEST_UTM_DEG = 6.0
_NEIGHBOURS = 8
_POLAR_DEG, _NEAR_POLE_DEG = 84.0, 60.0
"""A swath that reaches beyond the one, its middle beyond the other, lies on a polar grid."""


@dataclass(frozen=True)
class Swath:
    """Places of the pixels of a swath, as vectors from the middle of the globe.

    Attributes
    ----------
    vectors : ndarray, shape (pixels, 3)
        Unit vectors; pixels without a place are left out.
    numbers : ndarray, shape (pixels,)
        Which pixel of the swath each is, counted along rows.
    pixel_m : float
        Distance between neighbours in the middle.
    """

    vectors: Numbers
    numbers: Numbers
    pixel_m: float
    grid: Grid
    _lock: Any = field(default_factory=threading.Lock, compare=False)

    @classmethod
    def of(cls, lon: Numbers, lat: Numbers, where: str) -> Swath:
        """Places out of arrays of longitude and latitude, shape (rows, cols), in degrees.

        Raises
        ------
        FormatError
            Hardly any pixel has a place.
        """
        known = np.isfinite(lon) & np.isfinite(lat) & (np.abs(lat) <= 90) & (np.abs(lon) <= 360)
        if lon.ndim != 2 or known.sum() < 4:
            raise FormatError(f"{where} tells no place for the pixels of its swath.")
        vectors = _vectors(lon[known], lat[known])
        pixel_m = _spacing(lon, lat, known)
        return cls(vectors, np.flatnonzero(known), pixel_m, _grid(lon[known], lat[known], vectors, pixel_m))

    def told(self, grid: Grid) -> str:
        """For people: how it comes to a grid."""
        return f"laid on pixels of {grid.pixel_text} in {grid.crs}, radius {_RADIUS_PX * self.pixel_m:.0f} m"

    def is_fine_enough(self, grid: Grid) -> bool:
        """True when a grid's pixels are not so large that many of the swath's lie in one."""
        return grid.pixel_m <= _LARGEST_PX * self.pixel_m

    @cached_property
    def _tree(self) -> Any:
        with self._lock:
            return spatial.cKDTree(self.vectors)

    def nearest(self, grid: Grid, window: Window) -> Numbers:
        """Number of the swath's pixel nearest to each grid pixel's centre; -1 where none is within the radius."""
        centres, shape = _centres(grid, window)
        _, found = self._tree.query(centres, distance_upper_bound=self._radius)
        return np.append(self.numbers, -1)[found].reshape(shape)

    def weighted(self, grid: Grid, window: Window, values: Numbers, valid: Numbers) -> Numbers:
        """Means of the values about each grid pixel, weighted by inverse distance squared; NaN where none is near.

        Parameters
        ----------
        values, valid : ndarray, shape (all pixels of the swath,)
        """
        centres, shape = _centres(grid, window)
        count = min(_NEIGHBOURS, len(self.vectors))
        distance, found = self._tree.query(centres, k=count, distance_upper_bound=self._radius)
        distance, found = distance.reshape(-1, count), found.reshape(-1, count)
        numbers = np.append(self.numbers, 0)[found]
        weight = 1 / np.maximum(distance, 1e-12) ** 2 * (valid[numbers] & (found < len(self.numbers)))
        total = weight.sum(axis=1)
        with np.errstate(invalid="ignore", divide="ignore"):
            mean = (weight * np.where(valid[numbers], values[numbers], 0)).sum(axis=1) / total
        return np.where(total > 0, mean, np.nan).reshape(shape)

    @property
    def _radius(self) -> float:
        """Longest chord to a neighbour, on the unit sphere."""
        return 2 * float(np.sin(_RADIUS_PX * self.pixel_m / _EARTH_M / 2))


def _centres(grid: Grid, window: Window) -> tuple[Numbers, tuple[int, int]]:
    x = grid.west + (np.arange(window.col, window.stop_col) + 0.5) * grid.pixel_x
    y = grid.north - (np.arange(window.row, window.stop_row) + 0.5) * grid.pixel_y
    xs, ys = np.meshgrid(x, y)
    lon, lat = transform(xs.ravel(), ys.ravel(), grid.crs, LONLAT)
    return np.nan_to_num(_vectors(lon, lat), nan=9.0, posinf=9.0, neginf=9.0), xs.shape


def _vectors(lon: Numbers, lat: Numbers) -> Numbers:
    east, north = np.radians(lon), np.radians(lat)
    return np.column_stack([np.cos(north) * np.cos(east), np.cos(north) * np.sin(east), np.sin(north)])


def _spacing(lon: Numbers, lat: Numbers, known: Numbers) -> float:
    """Distance between neighbours in metres: the larger of the medians along and across, in the middle."""
    rows, cols = lon.shape
    part = (slice(rows // 4, max(rows // 4 + 2, 3 * rows // 4)), slice(cols // 4, max(cols // 4 + 2, 3 * cols // 4)))
    there = known[part]
    points = _vectors(lon[part].ravel(), lat[part].ravel()).reshape(*there.shape, 3)
    found = []
    for axis in (0, 1):
        steps = np.linalg.norm(np.diff(points, axis=axis), axis=2) * _EARTH_M
        both = there[1:] & there[:-1] if axis == 0 else there[:, 1:] & there[:, :-1]
        found += [float(np.median(steps[both]))] if both.any() else []
    return max(found) if found and max(found) > 0 else 1000.0


def _grid(lon: Numbers, lat: Numbers, vectors: Numbers, pixel_m: float) -> Grid:
    """A grid around the swath: its UTM zone, polar for one near a pole or over it, degrees for one that is wide."""
    x, y, z = vectors.mean(axis=0)
    middle_lon, middle_lat = float(np.degrees(np.arctan2(y, x))), float(np.degrees(np.arctan2(z, np.hypot(x, y))))
    lons = (lon - middle_lon + 180) % 360 - 180 + middle_lon
    is_polar = np.abs(lat).max() >= _POLAR_DEG and abs(middle_lat) >= _NEAR_POLE_DEG
    if is_polar or (np.ptp(lons) <= _WIDEST_UTM_DEG and np.abs(lat).max() < _POLAR_DEG):
        crs = utm_for(middle_lon, math.copysign(_POLAR_DEG + 1, middle_lat) if is_polar else middle_lat)
        xs, ys = transform(lon, lat, LONLAT, crs)
        pixel = float(f"{pixel_m:.2g}")
        return Grid.snapped(Bounds(xs.min(), ys.min(), xs.max(), ys.max()), crs, pixel)
    pixel = float(f"{pixel_m / METRES_A_DEGREE:.2g}")
    return Grid.snapped(Bounds(lons.min(), lat.min(), lons.max(), lat.max()), LONLAT, pixel)
