"""Variables of HDF5 and netCDF-4 files: which there are, what their values mean, and where on the ground they lie.

Source: CF conventions 1.11, sections 2.5 (missing data), 4 and 5 (coordinates, grid mappings), 8.1 (packed data).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from zoompick.arrays import Pixels, PixelType
from zoompick.errors import FormatError, UsageError
from zoompick.geo.crs import LONLAT, Crs
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import h5py, np
from zoompick.raster.eosgrid import TEXT, grids_in
from zoompick.raster.grid import Grid
from zoompick.raster.raster import Band

_MOST_VARIABLES, _MOST_LAYERS, _LEAST_SIDE = 2000, 2000, 2
_UNEVEN = 1e-3
"""Steps of a coordinate may differ by this share of a pixel and still make a grid."""
_LATS, _LONS = ("degrees_north", "degree_north", "degrees_n"), ("degrees_east", "degree_east", "degrees_e")
EosGrids = Mapping[tuple[int, int], JsonMap]
"""Rows and columns of grids to where they lie."""
Places = dict[tuple[str, tuple[int, ...]], str]
"""Arrays of places: 'lon' or 'lat' with their shape, to their name."""


@dataclass(frozen=True)
class Variable:
    """A dataset with two dimensions, or one layer of a dataset with three.

    Attributes
    ----------
    path : str
        Group and name.
    shape : tuple of int
        Rows and columns.
    layer, axis : int
        Which layer it is, along which dimension of the dataset; -1 for a dataset with two.
    grid : Grid or None
        None for one on a swath.
    lon, lat : str
        Datasets of places of its pixels, for a swath.
    is_south_up : bool
        Rows run north.
    valid : (float, float) or None
        Least and greatest stored value that counts.
    """

    path: str
    shape: tuple[int, ...]
    dtype: PixelType
    band: Band
    nodata: float | None
    valid: tuple[float, float] | None
    grid: Grid | None
    chunks: tuple[int, int]
    lon: str = ""
    lat: str = ""
    is_south_up: bool = False
    layer: int = -1
    axis: int = 0
    about: JsonObject = field(default_factory=dict, compare=False)

    def place(self, rows: slice, cols: slice) -> tuple[Any, ...]:
        """Where rows and columns of it lie in the dataset."""
        place: list[Any] = [rows, cols]
        if self.layer >= 0:
            place.insert(self.axis, self.layer)
        return tuple(place)


def variables_in(file: h5py.File) -> Iterator[Variable]:
    """Every variable that lies somewhere, in the order of the file."""
    datasets: list[tuple[str, Any]] = []

    def visit(name: str, entry: Any) -> bool | None:
        if hasattr(entry, "dtype") and hasattr(entry, "shape"):
            datasets.append((name, entry))
        return True if len(datasets) > _MOST_VARIABLES else None

    file.visititems(visit)
    places, grids = _swath_places(datasets), _eos_grids(file)
    for name, entry in datasets:
        if len(entry.shape) not in (2, 3) or entry.dtype.kind not in "iuf" or name in places.values():
            continue
        stacked = _Stacked.of(entry) if len(entry.shape) == 3 else None
        sides = [size for side, size in enumerate(entry.shape) if stacked is None or side != stacked.axis]
        if min(sides) < _LEAST_SIDE or (stacked is not None and stacked.count > _MOST_LAYERS):
            continue
        one = _variable(file, name, entry, places, stacked.axis if stacked else None, grids)
        if one is not None:
            yield from [one] if stacked is None else stacked.layers(one)


@dataclass(frozen=True)
class _Stacked:
    """The dimension of a dataset with three that is neither rows nor columns.

    Attributes
    ----------
    um : tuple of float
        Wavelength of each layer; none where they are no bands of a spectrum.
    """

    axis: int
    count: int
    um: tuple[float, ...] = ()

    @classmethod
    def of(cls, entry: Any) -> _Stacked:
        """The dimension whose coordinate is a wavelength; else the first."""
        for axis, size in enumerate(entry.shape):
            found = _coordinate(entry, axis, size)
            if found is None:
                continue
            values, name, scale = found
            factor = _MICROMETRES.get(_text(scale, "units").lower())
            if factor and ("wavelength" in name.lower() or "wavelength" in _text(scale, "standard_name")):
                return cls(axis, size, tuple((values * factor).tolist()))
        return cls(0, entry.shape[0])

    def layers(self, one: Variable) -> Iterator[Variable]:
        """A variable for each layer: the only one as it is called, of several numbered from 1."""
        for layer in range(self.count):
            um = self.um[layer] if self.um else one.band.wavelength_um
            name = one.band.name if self.count == 1 else f"{one.band.name}_{layer + 1:03d}"
            yield replace(one, layer=layer, axis=self.axis, band=replace(one.band, name=name, wavelength_um=um))


_MICROMETRES = {"um": 1.0, "µm": 1.0, "micrometer": 1.0, "micrometers": 1.0, "micrometre": 1.0, "micron": 1.0,
                "nm": 1e-3, "nanometer": 1e-3, "nanometers": 1e-3, "nanometre": 1e-3}  # fmt: skip
"""Units of wavelength, and how many micrometres each is."""


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
    file: h5py.File,
    name: str,
    entry: Any,
    places: dict[tuple[str, tuple[int, ...]], str],
    axis: int | None,
    grids: EosGrids,
) -> Variable | None:
    down, across = (side for side in range(len(entry.shape)) if side != axis)
    rows, cols = entry.shape[down], entry.shape[across]
    dtype = entry.dtype.newbyteorder("=")
    nodata = _number(entry, "_FillValue", _number(entry, "missing_value", None))
    chunks = (entry.chunks[down], entry.chunks[across]) if entry.chunks else (min(rows, 256), cols)
    band = Band(
        name.rpartition("/")[2],
        _number(entry, "scale_factor", 1.0) or 1.0,
        _number(entry, "add_offset", 0.0) or 0.0,
        _text(entry, "units"),
        bool("flag_values" in entry.attrs or "flag_masks" in entry.attrs),
        _number(entry, "wavelength_um", None),
    )
    given = {"path": name, "shape": (rows, cols), "dtype": dtype, "band": band, "nodata": nodata,
             "valid": _valid(entry), "chunks": chunks}  # fmt: skip
    about = {key: entry.attrs[key] for key in ("status", "long_name") if key in entry.attrs}
    grid, south_up = _told_grid(entry.attrs, rows, cols), False
    if grid is None and (rows, cols) in grids:
        grid = _told_grid(grids[rows, cols], rows, cols)
    if grid is None:
        grid, south_up = _cf_grid(file, entry, (down, rows), (across, cols))
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


_EOS = "HDFEOS INFORMATION"


def _eos_grids(file: Any) -> EosGrids:
    """Grids that the text of an HDF-EOS file tells, in HDF5; HDF4 gives them to its datasets itself."""
    if not hasattr(file, "filename") or _EOS not in file:
        return {}
    told = [file[_EOS][name] for name in sorted(file[_EOS]) if name.startswith(TEXT)]
    pieces = [part[()] for part in told if hasattr(part, "shape") and part.size <= _MOST_TEXT]
    return grids_in("".join(p.decode("ascii", "replace") if isinstance(p, bytes) else str(p) for p in pieces))


_MOST_TEXT = 1 << 20


def _told_grid(attrs: JsonMap, rows: int, cols: int) -> Grid | None:
    """A grid told by attributes of the variable itself, or by the text of the file."""
    if not all(key in attrs for key in ("west", "north", "pixel_m")):
        return None
    crs = _plain_text(attrs.get("crs", "")) or ("epsg" in attrs and str(int(np.ravel(attrs["epsg"])[0])))
    if not crs:
        return None
    west, north, pixel = (float(np.ravel(attrs[key])[0]) for key in ("west", "north", "pixel_m"))
    return Grid(Crs.parse(crs), pixel, pixel, west, north, cols, rows)


def _cf_grid(
    file: h5py.File, entry: Any, vertical: tuple[int, int], horizontal: tuple[int, int]
) -> tuple[Grid | None, bool]:
    """A grid by coordinate variables along both sides, in the system of the grid mapping, else in degrees.

    Each side is told by its dimension and its length.
    """
    (_, rows), (_, cols) = vertical, horizontal
    down, across = _coordinate(entry, *vertical), _coordinate(entry, *horizontal)
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
        scales = entry.dims[dimension]
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
        It cannot be read.
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
    return _plain_text(entry.attrs.get(key, ""))


def _plain_text(value: Any) -> str:
    value = value[0] if isinstance(value, np.ndarray) and value.size else value
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)


def _number(entry: Any, key: str, default: float | None) -> float | None:
    value = entry.attrs.get(key)
    try:
        return default if value is None else float(np.ravel(value)[0])
    except (TypeError, ValueError, IndexError):
        return default
