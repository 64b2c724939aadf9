"""Sides of variables in containers: which dimension runs east, which north, and where along them pixels lie.

Source: CF conventions 1.11, sections 4 (coordinate types), 5 (coordinate systems), 2.7 (names in groups).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from zoompick.arrays import Numbers
from zoompick.later import np
from zoompick.raster.attributes import Dataset, Packing, plain, text_of

_LATS = ("degrees_north", "degree_north", "degrees_n", "degree_n")
_LONS = ("degrees_east", "degree_east", "degrees_e", "degree_e")
_KINDS = {
    "lat": ("lat", "latitude"), "lon": ("lon", "longitude", "long"), "x": ("x", "xc", "easting"),
    "y": ("y", "yc", "northing"),
}  # fmt: skip
_STANDARD = {
    "latitude": "lat", "longitude": "lon", "projection_x_coordinate": "x", "projection_y_coordinate": "y",
    "projection_x_angular_coordinate": "x", "projection_y_angular_coordinate": "y", "grid_longitude": "x",
    "grid_latitude": "y", "radiation_wavelength": "wavelength",
    "sensor_band_central_radiation_wavelength": "wavelength",
}  # fmt: skip
_NO_VARIABLE = "This is a netCDF dimension but not a netCDF variable"
EAST, NORTH = ("lon", "x"), ("lat", "y")


@dataclass(frozen=True)
class Side:
    """A dimension of a variable.

    Attributes
    ----------
    kind : str
        ``lon``, ``lat``, ``x``, ``y``, ``wavelength``, or empty for another.
    values : ndarray or None
        True coordinates of pixel centres, NaN where one is missing; None where nothing tells them.
    slack : float
        What rounding in the file's type may have cost them.
    """

    axis: int
    size: int
    name: str = ""
    kind: str = ""
    values: Numbers | None = None
    unit: str = ""
    slack: float = 0.0


def kind_of(name: str, entry: Dataset) -> str:
    """What a coordinate tells, by its standard name, unit, axis or name; empty for another."""
    standard, unit = text_of(entry, "standard_name"), text_of(entry, "units").lower()
    word = re.split("[/]", name)[-1].lower()
    if standard in _STANDARD:
        return _STANDARD[standard]
    if unit in _LATS or unit in _LONS:
        return "lat" if unit in _LATS else "lon"
    if "wavelength" in word:
        return "wavelength"
    found = next((kind for kind, words in _KINDS.items() if word in words), "")
    axis = text_of(entry, "axis").lower()
    return found or (axis if axis in ("x", "y") else "")


def sides_of(entry: Dataset, lines: Iterable[tuple[str, Dataset]]) -> list[Side]:
    """The sides of a variable: by its dimension scales, else by lines of coordinates in its group or above it.

    Parameters
    ----------
    lines : iterable of (str, dataset)
        Datasets with one dimension.
    """
    sides = [_scale(entry, axis, size) for axis, size in enumerate(entry.shape)]
    if any(side.values is not None for side in sides):
        return sides
    taken: dict[str, Side] = {}
    for name, line in _near(entry, lines):
        kind = kind_of(name, line)
        if not kind or kind in taken:
            continue
        # Rows stand before columns; a square is told by that alone.
        free = [side for side in sides if side.size == line.shape[0] and side.axis not in
                {one.axis for one in taken.values()}]  # fmt: skip
        if free:
            place = free[-1] if kind in EAST else free[0]
            taken[kind] = _told(place.axis, place.size, name, line)
    found = {side.axis: side for side in taken.values()}
    return [found.get(side.axis, side) for side in sides]


def _near(entry: Dataset, lines: Iterable[tuple[str, Dataset]]) -> Iterator[tuple[str, Dataset]]:
    """Lines of coordinates that count for a variable, the nearest first."""
    groups = entry.name.strip("/").split("/")[:-1]
    held = [(name.strip("/").split("/")[:-1], name, line) for name, line in lines]
    seen = [(len(home), name, line) for home, name, line in held if groups[: len(home)] == home]
    for _, name, line in sorted(seen, key=lambda one: -one[0]):
        yield name, line


def _scale(entry: Dataset, axis: int, size: int) -> Side:
    """A side by the dimension scale of the variable."""
    try:
        scales = entry.dims[axis]
        scale = scales[0] if len(scales) else None
    except (RuntimeError, IndexError, KeyError):
        scale = None
    if scale is None:
        return Side(axis, size)
    name = str(scale.name)
    if scale.shape != (size,) or scale.dtype.kind not in "iuf" or _is_bare(scale):
        return Side(axis, size, name)
    return _told(axis, size, name, scale)


def _is_bare(scale: Dataset) -> bool:
    return str(plain(scale.attrs.get("NAME", ""))).startswith(_NO_VARIABLE)


def _told(axis: int, size: int, name: str, line: Dataset) -> Side:
    packing = Packing.of(line)
    values = packing.decoded(np.asarray(line[...]))
    kind = kind_of(name, line)
    if kind == "lon":
        values = np.unwrap(values, period=360.0)
    known = np.abs(values[np.isfinite(values)])
    coarse = float(np.spacing(np.float32(known.max()))) if packing.dtype == np.float32 and known.size else 0.0
    return Side(axis, size, name, kind, values, text_of(line, "units").lower(), coarse)


@dataclass(frozen=True)
class Steps:
    """Coordinates at even steps: the first pixel's centre and the way to the next, negative where they fall."""

    first: float
    step: float


UNEVEN_PX = 0.1
"""A pixel may lie so far from where even steps put it, in pixels."""


def even_steps(values: Numbers, slack: float = 0.0) -> Steps | None:
    """The even steps of coordinates; None where a *position* is off by more than a tenth of a pixel.

    Parameters
    ----------
    slack : float
        Rounding of the coordinates: the shortest decimal step within it is taken, as 0.01 for 0.00999999.
    """
    count = len(values)
    if count < 2 or not np.isfinite(values).all():
        return None
    numbers = np.arange(count)
    step = float(values[-1] - values[0]) / (count - 1)
    first = float(values[0])
    if slack and step:
        step, first = float(np.polyfit(numbers, values - first, 1)[0]), first
        step = _short(step, slack / count)
        first = _short(float(np.mean(values - step * numbers)), slack)
    off = np.abs(values - (first + step * numbers)).max()
    return Steps(first, step) if step and off <= UNEVEN_PX * abs(step) else None


def _short(value: float, slack: float) -> float:
    """The number with the fewest digits within a slack of another."""
    return next((short for digits in range(1, 16) if abs((short := float(f"{value:.{digits}g}")) - value) <= slack),
                value)  # fmt: skip
