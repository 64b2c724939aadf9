"""HDF5 and netCDF-4 files: variables on a grid as Rasters (the only door to h5py that reads).

Where a variable lies is told by a CF grid mapping with coordinate variables, by longitude and latitude along its
sides, by attributes (epsg, west, north, pixel_m), or by arrays of longitude and latitude: a swath.
Source: CF conventions 1.11, sections 2.5 (missing data), 5.6 (grid mappings), 8.1 (packed data); HDF5 file format.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from zoompick.errors import DataError, FormatError, UsageError
from zoompick.geo.crs import LONLAT, Crs
from zoompick.raster.grid import Grid, Window
from zoompick.raster.opened import Opened
from zoompick.raster.raster import Arrayed, Band, Pixels, Raster, valid_mask
from zoompick.raster.resample import finish
from zoompick.raster.source import ByteSource, SourceStream
from zoompick.raster.swath import Swath

if TYPE_CHECKING:
    import h5py

_SIGNATURE = b"\x89HDF\r\n\x1a\n"
_MOST_VARIABLES, _LEAST_SIDE = 2000, 2
_UNEVEN = 1e-3
"""Steps of a coordinate may differ by this share of a pixel and still make a grid."""
_LATS, _LONS = ("degrees_north", "degree_north", "degrees_n"), ("degrees_east", "degree_east", "degrees_e")


Places = dict[tuple[str, tuple[int, ...]], str]
"""Arrays of places: 'lon' or 'lat' with their shape, to their name."""


def is_hdf5(head: bytes) -> bool:
    """True when a file begins like an HDF5 file, as netCDF-4 files do."""
    return head.startswith(_SIGNATURE)


@dataclass(frozen=True)
class Variable:
    """A dataset with two dimensions (or three, the first a band's).

    Attributes
    ----------
    path : str
        Group and name.
    grid : Grid or None
        None for one on a swath.
    lon, lat : str
        Datasets of places of its pixels, for a swath.
    is_south_up, is_east_first : bool
        Rows run north; columns run west.
    valid : (float, float) or None
        Least and greatest stored value that counts.
    """

    path: str
    shape: tuple[int, ...]
    dtype: np.dtype[Any]
    band: Band
    nodata: float | None
    valid: tuple[float, float] | None
    grid: Grid | None
    chunks: tuple[int, int]
    lon: str = ""
    lat: str = ""
    is_south_up: bool = False
    about: dict[str, Any] = field(default_factory=dict, compare=False)


class _Handle:
    """An open file; one thread reads at a time, as the library wants it."""

    def __init__(self, source: ByteSource) -> None:
        self.source = source
        self.lock = threading.RLock()
        self.swaths: dict[tuple[str, str], Swath] = {}
        self._file: Any = None

    def file(self) -> h5py.File:
        """The file, opened at the first call."""
        import h5py

        with self.lock:
            if self._file is None:
                try:
                    self._file = h5py.File(SourceStream(self.source), "r")
                except (OSError, RuntimeError, ValueError) as error:
                    raise _damaged(self.source, str(error)) from error
            return self._file


def _damaged(source: ByteSource, why: str) -> DataError:
    return DataError(f"{source.address} is damaged: {why}.", "Remove the file and download it again.")


class _OfVariable(Opened):
    """What both kinds of variables have in common."""

    variable: Variable
    _grid: Grid

    @property
    def grid(self) -> Grid:
        """Its grid, north up whatever way rows are stored; for a swath one with pixels as large as in its middle."""
        return self._grid

    @property
    def bands(self) -> tuple[Band, ...]:
        """The variable."""
        return (self.variable.band,)

    @property
    def dtype(self) -> np.dtype[Any]:
        """Type as stored."""
        return self.variable.dtype

    @property
    def levels(self) -> tuple[Grid, ...]:
        """Full resolution only."""
        return (self._grid,)


class OnGrid2d(_OfVariable):
    """One variable on a map grid."""

    def __init__(self, source: ByteSource, variable: Variable, handle: _Handle | None = None) -> None:
        super().__init__(source, (variable.path,))
        assert variable.grid is not None
        self.variable = variable
        self._grid = variable.grid
        self._handle = handle or _Handle(source)

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (self.source, self.variable)

    @property
    def nodata(self) -> float | None:
        """Its fill value."""
        return self.variable.nodata

    @property
    def block(self) -> tuple[int, int]:
        """A chunk."""
        return self.variable.chunks

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        out = np.full((1, window.height, window.width), _fill(self.nodata), self.dtype)
        inside = window.intersect(self._grid.window)
        if not inside.is_empty:
            rows, cols = inside.slices_in(window)
            out[0, rows, cols] = self.stored(inside)
        return out if bands is None or len(bands) == 1 else np.repeat(out, len(bands), axis=0)

    def stored(self, inside: Window) -> Pixels:
        """Values of a window inside the grid; what is not valid becomes no-data."""
        rows = slice(inside.row, inside.stop_row)
        if self.variable.is_south_up:
            rows = slice(self._grid.height - inside.stop_row, self._grid.height - inside.row)
        values = read_part(self._handle, self.variable, rows, slice(inside.col, inside.stop_col))
        return values[::-1] if self.variable.is_south_up else values


def _fill(nodata: float | None) -> float:
    return 0 if nodata is None else nodata


def read_part(handle: _Handle, variable: Variable, rows: slice, cols: slice) -> Pixels:
    """Stored values of a part of a variable; outside its valid range they are no-data.

    Raises
    ------
    DataError
        A chunk does not decode.
    """
    place: tuple[Any, ...] = (rows, cols) if len(variable.shape) == 2 else (0, rows, cols)
    try:
        with handle.lock:
            values = np.asarray(handle.file()[variable.path][place])
    except (OSError, RuntimeError, ValueError, KeyError) as error:
        raise _damaged(handle.source, f"{variable.path} cannot be read ({error})") from error
    values = values.astype(variable.dtype, copy=False)
    if variable.valid is not None and variable.nodata is not None:
        low, high = variable.valid
        values = np.where((values < low) | (values > high), variable.dtype.type(variable.nodata), values)
    return values


class OnSwath(_OfVariable):
    """One variable of a swath, carried to a grid; gaps stay gaps.

    Parameters
    ----------
    is_weighted : bool
        A pixel is the mean of those about it, weighted by inverse distance; else the nearest within the radius.
    """

    def __init__(
        self, source: ByteSource, variable: Variable, handle: _Handle | None = None, is_weighted: bool = False
    ) -> None:
        super().__init__(source, (variable.path, str(is_weighted)))
        self.variable, self.is_weighted = variable, is_weighted
        self._handle = handle or _Handle(source)
        self._lock = threading.Lock()
        self._values: Pixels | None = None
        self._grid = self.swath.grid

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (self.source, self.variable, None, self.is_weighted)

    @property
    def swath(self) -> Swath:
        """Places of its pixels, read once for all variables that lie on them."""
        key = self.variable.lon, self.variable.lat
        with self._handle.lock:
            if key not in self._handle.swaths:
                file = self._handle.file()
                lon, lat = (np.asarray(file[name][...], np.float64) for name in key)
                self._handle.swaths[key] = Swath.of(lon, lat, self.source.address)
            return self._handle.swaths[key]

    @property
    def nodata(self) -> float | None:
        """Its fill value; one beside its values where it tells none."""
        if self.variable.nodata is not None:
            return self.variable.nodata
        return float("nan") if self.dtype.kind == "f" else float(np.iinfo(self.dtype).max)

    @property
    def block(self) -> tuple[int, int]:
        """Any part is as dear as another."""
        return 256, 256

    @property
    def notes(self) -> tuple[str, ...]:
        """How it was brought to a grid."""
        how = "the mean by distance" if self.is_weighted and not self.variable.band.is_class else "the nearest"
        return (f"{Path(self.source.address).name} is a swath, {self.swath.told}: {how} within that radius.",)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        with self._lock:
            if self._values is None:
                rows, cols = (slice(0, size) for size in self.variable.shape[-2:])
                self._values = read_part(self._handle, self.variable, rows, cols).ravel()
            values = self._values
        if self.is_weighted and not self.variable.band.is_class:
            mean = self.swath.weighted(self._grid, window, values.astype(np.float64), valid_mask(values, self.nodata))
            known = np.isfinite(mean)
            own = finish(np.where(known, mean, 0), self.dtype, True, self.nodata)
            return np.where(known, own, self.dtype.type(_fill(self.nodata)))[np.newaxis]
        places = self.swath.nearest(self._grid, window)
        found = np.where(places >= 0, values[np.maximum(places, 0)], self.dtype.type(_fill(self.nodata)))
        return found.astype(self.dtype)[np.newaxis]


class Bundle(Arrayed):
    """Variables of one grid and type as the bands of one raster."""

    def __init__(self, parts: Sequence[Raster], notes: tuple[str, ...] = ()) -> None:
        self.parts = tuple(parts)
        self._notes = notes

    @property
    def grid(self) -> Grid:
        """Their grid."""
        return self.parts[0].grid

    @property
    def bands(self) -> tuple[Band, ...]:
        """One for each."""
        return tuple(part.bands[0] for part in self.parts)

    @property
    def dtype(self) -> np.dtype[Any]:
        """Their type."""
        return self.parts[0].dtype

    @property
    def nodata(self) -> float | None:
        """Their no-data value."""
        return self.parts[0].nodata

    @property
    def levels(self) -> tuple[Grid, ...]:
        """Full resolution only."""
        return (self.grid,)

    @property
    def block(self) -> tuple[int, int]:
        """The first one's chunk."""
        return self.parts[0].block

    @property
    def notes(self) -> tuple[str, ...]:
        """What was left out, and how the parts were read."""
        return (*dict.fromkeys(n for part in self.parts for n in getattr(part, "notes", ())), *self._notes)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        wanted = range(len(self.parts)) if bands is None else bands
        return np.concatenate([self.parts[band].read(window) for band in wanted])


def variables_of(source: ByteSource, is_weighted: bool = False) -> list[Raster]:
    """Every variable that lies somewhere, as a raster of its own, in the order of the file.

    Raises
    ------
    FormatError
        None does.
    DataError
        Damaged.
    """
    handle = _Handle(source)
    with handle.lock:
        try:
            found = list(_variables(handle.file()))
        except (OSError, RuntimeError, ValueError, KeyError, TypeError) as error:
            raise _damaged(source, str(error)) from error
    if not found:
        raise FormatError(
            f"{source.address} has no variable with a place on the ground.",
            "Read are CF grid mappings, longitude and latitude, and attributes epsg, west, north, pixel_m.",
        )
    return [OnGrid2d(source, one, handle) if one.grid else OnSwath(source, one, handle, is_weighted) for one in found]


def open_hdf5(source: ByteSource, names: Sequence[str] = ()) -> Raster:
    """A file as one raster: its variables of the most frequent grid and type; see :func:`variables_of` for all.

    Raises
    ------
    FormatError, DataError
    """
    groups: dict[Any, list[Raster]] = {}
    for raster in variables_of(source):
        groups.setdefault((raster.grid, raster.dtype.str, str(raster.nodata)), []).append(raster)
    chosen = max(groups.values(), key=len)
    others = [band.name for group in groups.values() if group is not chosen for one in group for band in one.bands]
    told = f"{Path(source.address).name} holds other grids or types too, which are left out: {', '.join(others)}."
    return Bundle(chosen, (told,) if others else ())


def _variables(file: h5py.File) -> Iterator[Variable]:
    datasets: list[tuple[str, Any]] = []

    def visit(name: str, entry: Any) -> bool | None:
        if hasattr(entry, "dtype") and hasattr(entry, "shape"):
            datasets.append((name, entry))
        return True if len(datasets) > _MOST_VARIABLES else None

    file.visititems(visit)
    places = _swath_places(datasets)
    for name, entry in datasets:
        shape = entry.shape
        if len(shape) == 3 and shape[0] == 1:
            pass
        elif len(shape) != 2:
            continue
        if min(shape[-2:]) < _LEAST_SIDE or entry.dtype.kind not in "iuf" or name in places.values():
            continue
        one = _variable(file, name, entry, places)
        if one is not None:
            yield one


def _swath_places(datasets: Sequence[tuple[str, Any]]) -> Places:
    """Arrays of longitude and latitude: ('lon' or 'lat', shape) to their name."""
    found: Places = {}
    for name, entry in datasets:
        if len(entry.shape) != 2:
            continue
        kind = _axis(name, entry)
        if kind:
            found.setdefault((kind, entry.shape), name)
    return found


def _axis(name: str, entry: Any) -> str:
    """'lon' or 'lat' for a coordinate by its standard name, unit or name; empty for another."""
    standard, units = _text(entry, "standard_name"), _text(entry, "units").lower()
    word = name.rpartition("/")[2].lower()
    if standard == "latitude" or units in _LATS or word in ("lat", "latitude"):
        return "lat"
    return "lon" if standard == "longitude" or units in _LONS or word in ("lon", "longitude", "long") else ""


def _variable(
    file: h5py.File, name: str, entry: Any, places: dict[tuple[str, tuple[int, ...]], str]
) -> Variable | None:
    rows, cols = entry.shape[-2:]
    dtype = entry.dtype.newbyteorder("=")
    nodata = _number(entry, "_FillValue", _number(entry, "missing_value", None))
    chunks = tuple(entry.chunks[-2:]) if entry.chunks else (min(rows, 256), cols)
    band = Band(
        name.rpartition("/")[2],
        _number(entry, "scale_factor", 1.0) or 1.0,
        _number(entry, "add_offset", 0.0) or 0.0,
        _text(entry, "units"),
        bool("flag_values" in entry.attrs or "flag_masks" in entry.attrs),
    )
    given = {"path": name, "shape": entry.shape, "dtype": dtype, "band": band, "nodata": nodata,
             "valid": _valid(entry), "chunks": chunks}  # fmt: skip
    about = {key: entry.attrs[key] for key in ("wavelength_um", "status", "long_name") if key in entry.attrs}
    grid, south_up = _told_grid(entry, rows, cols), False
    if grid is None:
        grid, south_up = _cf_grid(file, entry, rows, cols)
    if grid is not None:
        return Variable(**given, grid=grid, is_south_up=south_up, about=about)
    lon, lat = (places.get((kind, (rows, cols)), "") for kind in ("lon", "lat"))
    return Variable(**given, grid=None, lon=lon, lat=lat, about=about) if lon and lat else None


def _valid(entry: Any) -> tuple[float, float] | None:
    """Range of stored values that count (CF section 2.5.1)."""
    if "valid_range" in entry.attrs:
        low, high = (float(v) for v in np.ravel(entry.attrs["valid_range"])[:2])
        return low, high
    least, greatest = _number(entry, "valid_min", None), _number(entry, "valid_max", None)
    if least is None and greatest is None:
        return None
    return (-np.inf if least is None else least, np.inf if greatest is None else greatest)


def _told_grid(entry: Any, rows: int, cols: int) -> Grid | None:
    """A grid told by attributes of the variable itself."""
    if not all(key in entry.attrs for key in ("epsg", "west", "north", "pixel_m")):
        return None
    epsg, west, north, pixel = (float(np.ravel(entry.attrs[key])[0]) for key in ("epsg", "west", "north", "pixel_m"))
    return Grid(Crs.parse(str(int(epsg))), pixel, pixel, west, north, cols, rows)


def _cf_grid(file: h5py.File, entry: Any, rows: int, cols: int) -> tuple[Grid | None, bool]:
    """A grid by coordinate variables along both sides, in the system of the grid mapping, else in degrees."""
    down, across = _coordinate(entry, -2, rows), _coordinate(entry, -1, cols)
    if down is None or across is None:
        return None, False
    (y, y_name, y_entry), (x, x_name, x_entry) = down, across
    crs = _mapping(file, entry)
    if crs is None:
        is_degrees = _axis(y_name, y_entry) == "lat" and _axis(x_name, x_entry) == "lon"
        if not is_degrees:
            return None, False
        crs = LONLAT
    factor = 1000.0 if _text(x_entry, "units") in ("km", "kilometers", "kilometre") else 1.0
    step_x, step_y = _step(x) * factor, _step(y) * factor
    if not step_x or not step_y or step_x < 0:
        return None, False
    west = float(x[0]) * factor - step_x / 2
    north = max(float(y[0]), float(y[-1])) * factor + abs(step_y) / 2
    return Grid(crs, step_x, abs(step_y), west, north, cols, rows), step_y > 0


def _coordinate(entry: Any, dimension: int, size: int) -> tuple[Pixels, str, Any] | None:
    """Values along a side, from the dimension scale of the variable."""
    try:
        scales = entry.dims[len(entry.shape) + dimension]
        scale = scales[0] if len(scales) else None
    except (RuntimeError, IndexError, KeyError):
        return None
    if scale is None or scale.shape != (size,) or scale.dtype.kind not in "iuf":
        return None
    return np.asarray(scale[...], np.float64), str(scale.name), scale


def _step(values: Pixels) -> float:
    """Even step of a coordinate; 0 when it is uneven."""
    steps = np.diff(values)
    step = float((values[-1] - values[0]) / (len(values) - 1))
    return step if step and np.abs(steps - step).max() <= _UNEVEN * abs(step) * max(1, len(values) ** 0.5) else 0.0


def _mapping(file: h5py.File, entry: Any) -> Crs | None:
    """Reference system of a variable's grid mapping, None for none.

    Raises
    ------
    UsageError
        It has no EPSG number.
    """
    name = _text(entry, "grid_mapping").split(":")[0].strip()
    if not name:
        return None
    holder = entry.parent.get(name) or file.get(name)
    if holder is None:
        return None
    wkt = _text(holder, "crs_wkt") or _text(holder, "spatial_ref")
    code = _text(holder, "epsg_code")
    try:
        if code:
            return Crs.parse(code)
        return Crs.from_wkt(wkt) if wkt else Crs.from_cf(dict(holder.attrs))
    except UsageError as error:
        raise FormatError(f"The grid mapping {name} of {entry.name} cannot be used: {error.what}") from error


def _text(entry: Any, key: str) -> str:
    value = entry.attrs.get(key, "")
    value = value[0] if isinstance(value, np.ndarray) and value.size else value
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)


def _number(entry: Any, key: str, default: float | None) -> float | None:
    value = entry.attrs.get(key)
    try:
        return default if value is None else float(np.ravel(value)[0])
    except (TypeError, ValueError, IndexError):
        return default
