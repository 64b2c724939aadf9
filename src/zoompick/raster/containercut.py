"""A part of an HDF5 or netCDF-4 file about a region, as a file of its own (the only door to h5py that writes).

What lies along the sides of a grid is cut: its variables, their coordinates, and whatever else has those dimensions.
All other datasets come as they are. Source: CF conventions 1.11, chapters 4 and 5; HDF5 Dimension Scales
Specification.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zoompick.bytesource import ByteSource, SourceStream
from zoompick.errors import FormatError
from zoompick.later import h5py, np
from zoompick.raster.attributes import Dataset
from zoompick.raster.grid import Grid, Window
from zoompick.raster.variables import Variable, stored_part, variables_in

_SIGNATURE = b"\x89HDF\r\n\x1a\n"
_MOST_BYTES, _MOST_STRETCHES, _AT_ONCE_BYTES = 4 << 20, 20_000, 32 << 20
_OWN_ATTRIBUTES = ("DIMENSION_LIST", "REFERENCE_LIST", "CLASS", "NAME", "_NCProperties")
"""What the library writes itself."""
_OF_THE_WHOLE = ("GeoTransform", "actual_range")
"""What is no longer so of a part; ``geospatial_`` and so on of the file likewise."""
_EOS = "HDFEOS INFORMATION"


@dataclass(frozen=True)
class ContainerCut:
    """Which part of each dimension is wanted.

    Attributes
    ----------
    slices : mapping of str to slice
        By the dataset that is the dimension's scale, in stored order.
    """

    source: ByteSource
    file: Any
    slices: dict[str, slice]

    @classmethod
    def of(cls, source: ByteSource, window_of: Callable[[Grid], Window]) -> ContainerCut:
        """For the windows that are wanted of its grids.

        Raises
        ------
        FormatError
            It cannot be cut: another format, a swath, places told by attributes or at uneven steps, or much that lies
            on no grid.
        DataError, SourceError
        """
        name = Path(source.address).name
        if source.read(0, len(_SIGNATURE)) != _SIGNATURE:
            raise FormatError(f"{name} is no HDF5 or netCDF-4 file: it is fetched whole.")
        try:
            file = h5py.File(SourceStream(source), "r")
            made = cls(source, file, _slices(file, name, window_of))
            for entry in _datasets(file):
                if not made.is_cut(entry) and entry.nbytes > _MOST_BYTES:
                    raise FormatError(f"{entry.name} of {name} lies on no grid that is cut: it is fetched whole.")
        except (OSError, RuntimeError, ValueError, KeyError, TypeError) as error:
            raise FormatError(f"{name} cannot be cut ({error}): it is fetched whole.") from error
        return made

    @property
    def is_empty(self) -> bool:
        """True where the region touches none of its grids."""
        return all(part.start >= part.stop for part in self.slices.values())

    def is_cut(self, entry: Dataset) -> bool:
        """True for a dataset along a dimension of which a part is wanted."""
        return any(scale in self.slices for scale in _scales(entry))

    def place(self, entry: Dataset) -> tuple[slice, ...]:
        """The part of a dataset that is wanted."""
        return tuple(self.slices.get(scale, slice(0, size))
                     for scale, size in zip(_scales(entry), entry.shape, strict=True))  # fmt: skip

    def stretches(self) -> list[tuple[int, int]]:
        """Offset and length in bytes of all that is stored of the wanted parts."""
        return [one for entry in _datasets(self.file) for one in _stretches(entry, self.place(entry))]

    def write(self, target: Path) -> None:
        """The part as a file: values, types, names and attributes stay as they are.

        Raises
        ------
        SourceError, DataError, DiskError
        """
        with h5py.File(target, "w", track_order=True) as made:
            _told(self.file, made)
            self.file.visititems(lambda name, entry: self._group(made, name, entry))
            entries = list(_datasets(self.file))
            for entry in entries:
                self._copied(made, entry)
            for entry in entries:
                if h5py.h5ds.is_scale(entry.id):
                    made[entry.name].make_scale(str(_text(entry.attrs.get("NAME", ""))))
            for entry in entries:
                for axis, side in enumerate(entry.dims):
                    for scale in side.values():
                        made[entry.name].dims[axis].attach_scale(made[scale.name])

    @staticmethod
    def _group(made: Any, name: str, entry: Any) -> None:
        if isinstance(entry, h5py.Group):
            _told(entry, made.require_group(name))

    def _copied(self, made: Any, entry: Any) -> None:
        place = self.place(entry)
        shape = tuple(part.stop - part.start for part in place)
        options: dict[str, Any] = {}
        if entry.chunks and all(shape):
            options["chunks"] = tuple(min(one, size) for one, size in zip(entry.chunks, shape, strict=True))
            options["maxshape"] = tuple(None if most is None else size
                                        for most, size in zip(entry.maxshape, shape, strict=True))  # fmt: skip
        if entry.compression and "chunks" in options:
            options |= {"compression": "gzip", "compression_opts": 1, "shuffle": True}
        plist = entry.id.get_create_plist()
        if plist.fill_value_defined() == h5py.h5d.FILL_VALUE_USER_DEFINED:
            options["fillvalue"] = entry.fillvalue
        new = made.create_dataset(entry.name, shape=shape, dtype=entry.dtype, **options)
        for own, theirs in _blocks(place, shape, entry):
            new[own] = entry[theirs]
        _told(entry, new)


def _slices(file: Any, name: str, window_of: Callable[[Grid], Window]) -> dict[str, slice]:
    found: dict[str, slice] = {}
    seen: set[str] = set()
    for one in variables_in(file):
        if one.path in seen:
            continue
        seen.add(one.path)
        if one.grid is None or one.turn is not None:
            raise FormatError(f"{one.path} of {name} is a swath, or lies at uneven steps: it is fetched whole.")
        for scale, part in _sides(one, file[one.path], window_of(one.grid)):
            if not scale or _EOS in file or "pixel_m" in file[one.path].attrs:
                raise FormatError(f"{name} tells its places otherwise than along its sides: it is fetched whole.")
            if found.setdefault(scale, part) != part:
                raise FormatError(f"{scale} of {name} is a side of two grids: it is fetched whole.")
    if not found:
        raise FormatError(f"{name} has no variable on a grid: it is fetched whole.")
    return found


def _sides(one: Variable, entry: Dataset, window: Window) -> Iterator[tuple[str, slice]]:
    """The scales of rows and columns, and the part of each."""
    scales, layout = _scales(entry), one.layout
    rows, cols = slice(window.row, window.stop_row), slice(window.col, window.stop_col)
    yield scales[layout.down], stored_part(rows, entry.shape[layout.down], layout.is_south_up)
    yield scales[layout.across], stored_part(cols, entry.shape[layout.across], layout.is_mirrored)


def _datasets(file: Any) -> list[Any]:
    """All datasets of a file, those of references left out."""
    found: list[Any] = []

    def visit(name: str, entry: Any) -> None:
        if isinstance(entry, h5py.Dataset) and h5py.check_ref_dtype(entry.dtype) is None:
            found.append(entry)

    file.visititems(visit)
    return found


def _scales(entry: Any) -> tuple[str, ...]:
    """The dataset that is the scale of each dimension; empty for none. A scale is that of its own."""
    if len(entry.shape) == 1 and h5py.h5ds.is_scale(entry.id):
        return (str(entry.name),)
    return tuple(str(side[0].name) if len(side) else "" for side in entry.dims)


def _stretches(entry: Any, place: tuple[slice, ...]) -> Iterator[tuple[int, int]]:
    if not place or any(part.start >= part.stop for part in place):
        return
    if entry.chunks:
        steps = [range(part.start // size * size, part.stop, size)
                 for part, size in zip(place, entry.chunks, strict=True)]  # fmt: skip
        for corner in itertools.islice(itertools.product(*steps), _MOST_STRETCHES):
            info = entry.id.get_chunk_info_by_coord(corner)
            if info.byte_offset is not None and info.size:
                yield int(info.byte_offset), int(info.size)
        return
    start = entry.id.get_offset()
    if start is None:
        return
    # Rows of the last dimension that is cut lie together with all that is behind them.
    last = max(
        (axis for axis, part in enumerate(place) if (part.start, part.stop) != (0, entry.shape[axis])), default=0
    )
    strides = [int(np.prod(entry.shape[axis + 1 :], dtype=np.int64)) * entry.dtype.itemsize for axis in
               range(len(entry.shape))]  # fmt: skip
    outer = itertools.product(*(range(part.start, part.stop) for part in place[:last]))
    for corner in itertools.islice(outer, _MOST_STRETCHES):
        base = start + sum(at * strides[axis] for axis, at in enumerate(corner))
        yield base + place[last].start * strides[last], (place[last].stop - place[last].start) * strides[last]


def _blocks(place: tuple[slice, ...], shape: tuple[int, ...], entry: Dataset) -> Iterator[tuple[Any, Any]]:
    """Parts of a dataset, where each lies in the new one and in the old, so many bytes at once."""
    if not place:
        yield (), ()
        return
    row_bytes = int(np.prod(shape[1:], dtype=np.int64)) * entry.dtype.itemsize
    unit = entry.chunks[0] if entry.chunks else 1
    step = max(1, _AT_ONCE_BYTES // max(row_bytes, 1) // unit) * unit
    for start in range(0, shape[0], step):
        stop = min(shape[0], start + step)
        rest = tuple(slice(0, size) for size in shape[1:])
        yield (slice(start, stop), *rest), (slice(place[0].start + start, place[0].start + stop), *place[1:])


def _told(entry: Dataset, made: Any) -> None:
    """Attributes, but for those of the library itself and what is no longer so."""
    for key in entry.attrs:
        if key in _OWN_ATTRIBUTES or key in _OF_THE_WHOLE or key.startswith("geospatial_"):
            continue
        value = entry.attrs[key]
        if h5py.check_ref_dtype(getattr(value, "dtype", np.dtype(int))) is None:
            made.attrs[key] = value


def _text(value: Any) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
