"""HDF5, netCDF and HDF4 files: variables on a grid as Rasters (the only door to h5py that reads).

Where a variable lies is told by a CF grid mapping with coordinate variables, by longitude and latitude along its
sides, by attributes (epsg, west, north, pixel_m), or by arrays of longitude and latitude: a swath.
Source: CF conventions 1.11, sections 2.5 (missing data), 5.6 (grid mappings), 8.1 (packed data); HDF5 file format.
"""

from __future__ import annotations

import threading
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from zoompick.arrays import Pixels, PixelType
from zoompick.bytesource import todo_of
from zoompick.errors import DataError, FormatError
from zoompick.later import h5py, np
from zoompick.raster import hdf4, netcdf3
from zoompick.raster.attributes import Packing
from zoompick.raster.chosen import chosen
from zoompick.raster.grid import Grid, Window
from zoompick.raster.opened import Opened
from zoompick.raster.pairs import Pair
from zoompick.raster.raster import Arrayed, Band, Raster, valid_mask
from zoompick.raster.resample import finish
from zoompick.raster.source import ByteSource, SourceStream
from zoompick.raster.swath import Swath
from zoompick.raster.upright import upright
from zoompick.raster.variables import Variable, variables_in

_CHUNKS_KEPT = 32 << 20
"""Bytes of chunks that the library keeps: one holds many layers of a cube."""
_SIGNATURE = b"\x89HDF\r\n\x1a\n"


def is_hdf(head: bytes) -> bool:
    """True when a file begins like an HDF5 file, as netCDF-4 files do, an HDF4 file, or a netCDF-3 file."""
    return head.startswith((_SIGNATURE, hdf4.SIGNATURE, *netcdf3.SIGNATURES, netcdf3.NEWER))


class _Handle:
    """An open file; one thread reads at a time, as the library wants it."""

    def __init__(self, source: ByteSource) -> None:
        self.source = source
        self.lock = threading.RLock()
        self.swaths: dict[Pair, Swath] = {}
        self._file: Any = None

    def file(self) -> h5py.File:
        """The file, opened at the first call."""
        with self.lock:
            if self._file is None:
                try:
                    self._file = self._opened(self.source.read(0, 4))
                except (OSError, RuntimeError, ValueError) as error:
                    raise _damaged(self.source, str(error)) from error
            return self._file

    def _opened(self, head: bytes) -> Any:
        if head == hdf4.SIGNATURE:
            return hdf4.Hdf4File(self.source)
        if head in (*netcdf3.SIGNATURES, netcdf3.NEWER):
            return netcdf3.Netcdf3File(self.source)
        return h5py.File(SourceStream(self.source), "r", rdcc_nbytes=_CHUNKS_KEPT)


def _damaged(source: ByteSource, why: str) -> DataError:
    return DataError(f"{source.address} is damaged: {why}.", todo_of(source.address))


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
    def dtype(self) -> PixelType:
        """Type as stored."""
        return self.variable.packing.dtype

    @property
    def nodata(self) -> float | None:
        """The value that all that is missing takes."""
        return self.variable.packing.nodata

    @property
    def levels(self) -> tuple[Grid, ...]:
        """Full resolution only."""
        return (self._grid,)


class OnGrid2d(_OfVariable):
    """One variable on a map grid."""

    def __init__(self, source: ByteSource, variable: Variable, handle: _Handle | None = None) -> None:
        super().__init__(source, (variable.path, str(variable.layout.layer)))
        assert variable.grid is not None
        self.variable = variable
        self._grid = variable.grid
        self.turn = variable.turn
        self._handle = handle or _Handle(source)

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (self.source, self.variable)

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
        rows, cols = slice(inside.row, inside.stop_row), slice(inside.col, inside.stop_col)
        return read_part(self._handle, self.variable, rows, cols)


def _fill(nodata: float | None) -> float:
    return 0 if nodata is None else nodata


def read_part(handle: _Handle, variable: Variable, rows: slice, cols: slice) -> Pixels:
    """Stored values of a part of a variable, north up; what its attributes call missing is no-data.

    Raises
    ------
    DataError
        A chunk does not decode.
    """
    try:
        with handle.lock:
            values = variable.layout.read(handle.file()[variable.path], rows, cols)
    except (OSError, RuntimeError, ValueError, KeyError, IndexError) as error:
        raise _damaged(handle.source, f"{variable.path} cannot be read ({error})") from error
    return variable.packing.settled(values)


class OnSwath(_OfVariable):
    """One variable of a swath, carried to a grid; gaps stay gaps.

    Parameters
    ----------
    is_weighted : bool
        A pixel is the mean of those about it, weighted by inverse distance; else the nearest within the radius.
    grid : Grid, optional
        By default one with pixels as large as the swath's in its middle.
    """

    def __init__(
        self, source: ByteSource, variable: Variable, handle: _Handle | None = None, is_weighted: bool = False,
        grid: Grid | None = None,
    ) -> None:  # fmt: skip
        super().__init__(source, (variable.path, str(variable.layout.layer), str(is_weighted), str(grid or "")))
        self.variable, self.is_weighted = variable, is_weighted
        self._handle = handle or _Handle(source)
        self._lock = threading.Lock()
        self._values: Pixels | None = None
        self._grid = grid or self.swath.grid

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (self.source, self.variable, None, self.is_weighted, self._grid)

    def put_on(self, grid: Grid, way: str = "") -> OnSwath | None:
        """See :func:`zoompick.raster.raster.put_on`."""
        if not self.swath.is_fine_enough(grid):
            return None
        return OnSwath(self.source, self.variable, self._handle, self.is_weighted, grid)

    @property
    def swath(self) -> Swath:
        """Places of its pixels, read once for all variables that lie on them."""
        pair = self.variable.places
        assert pair is not None
        with self._handle.lock:
            if pair not in self._handle.swaths:
                file = self._handle.file()
                lon, lat = (Packing.of(file[name]).decoded(np.asarray(file[name][...])).reshape(pair.shape)
                            for name in (pair.lon, pair.lat))  # fmt: skip
                self._handle.swaths[pair] = Swath.of(lon, lat, self.source.address)
            return self._handle.swaths[pair]

    @property
    def nodata(self) -> float | None:
        """The value that all that is missing takes; one beside its values where it tells none."""
        told = self.variable.packing.nodata
        if told is not None:
            return told
        return float("nan") if self.dtype.kind == "f" else float(np.iinfo(self.dtype).max)

    @property
    def block(self) -> tuple[int, int]:
        """Any part is as dear as another."""
        return 256, 256

    @property
    def notes(self) -> tuple[str, ...]:
        """How it was brought to a grid."""
        how = "the mean by distance" if self.is_weighted and not self.variable.band.is_class else "the nearest"
        name, told = Path(self.source.address).name, self.swath.told(self._grid)
        return (f"{name} is a swath, {told}: {how} within that radius.",)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        with self._lock:
            if self._values is None:
                rows, cols = (slice(0, size) for size in self.variable.shape)
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
    def dtype(self) -> PixelType:
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
            found = chosen(list(variables_in(handle.file())), source)
        except (OSError, RuntimeError, ValueError, KeyError, TypeError) as error:
            raise _damaged(source, str(error)) from error
    if not found:
        raise FormatError(
            f"{source.address} has no variable with a place on the ground.",
            "Read are CF grid mappings, longitude and latitude (also uneven, or of each pixel), grids of HDF-EOS in "
            "degrees, UTM and sinusoidal, and attributes epsg, west, north, pixel_m.",
        )
    return [
        upright(OnGrid2d(source, one, handle)) if one.grid else OnSwath(source, one, handle, is_weighted)
        for one in found
    ]


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
