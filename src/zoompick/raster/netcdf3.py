"""netCDF-3 files (classic, 64-bit offset), seen as HDF5's reader sees its own (the only door to SciPy's reader).

Source: NetCDF User's Guide, appendix "File format specifications" (classic format).
"""

from __future__ import annotations

import io
from collections.abc import Callable
from functools import cached_property
from typing import Any

from zoompick.arrays import PixelType
from zoompick.errors import FormatError
from zoompick.files import human_bytes
from zoompick.jsontypes import JsonObject
from zoompick.later import np, scipy_io
from zoompick.raster.attributes import DEFAULT_FILLS, plain
from zoompick.raster.source import ByteSource, LocalFile

SIGNATURES = (b"CDF\x01", b"CDF\x02")
NEWER = b"CDF\x05"
_MOST_HELD = 512 << 20


class Netcdf3File:
    """A file, with as much of the interface of an HDF5 file as variables are found and read by.

    Raises
    ------
    FormatError
        It is of the kind with 64-bit data, or lies elsewhere and is too large to be held.
    OSError
        It cannot be read.
    """

    def __init__(self, source: ByteSource) -> None:
        if source.read(0, 4) == NEWER:
            raise FormatError(
                f"{source.address} is a netCDF file of the kind CDF-5, which is not read here.",
                "Write it as netCDF-4.",
            )
        is_here = isinstance(source, LocalFile)
        if not is_here and source.size > _MOST_HELD:
            raise FormatError(
                f"{source.address} is a netCDF-3 file of {human_bytes(source.size)}, of which no part can be had.",
                "Download it first.",
            )
        held = str(source.path) if isinstance(source, LocalFile) else io.BytesIO(source.read(0, source.size))
        try:
            self._file = scipy_io.netcdf_file(held, "r", mmap=is_here, maskandscale=False)
        except (TypeError, ValueError, KeyError, IndexError, OverflowError, MemoryError) as error:
            raise OSError(f"its header cannot be read ({error})") from error

    def visititems(self, visit: Callable[[str, Any], object]) -> None:
        """Call ``visit`` with the name and the dataset of each variable."""
        for name in self._file.variables:
            if visit(name, self[name]) is not None:
                return

    def get(self, name: str) -> _Dataset | None:
        """A dataset by its name; None for one that is not there."""
        found = self._file.variables.get(name.lstrip("/"))
        return None if found is None else _Dataset(self, name.lstrip("/"), found)

    def __getitem__(self, name: str) -> _Dataset:
        found = self.get(name)
        if found is None:
            raise KeyError(name)
        return found


class _Dataset:
    """A variable as a dataset of HDF5 looks."""

    chunks = None

    def __init__(self, parent: Netcdf3File, name: str, held: Any) -> None:
        self.parent, self.name, self._held = parent, name, held
        self.shape = tuple(int(size) for size in held.shape)

    @property
    def dtype(self) -> PixelType:
        """Type of its numbers."""
        return np.dtype(self._held.data.dtype)

    @property
    def fillvalue(self) -> float | None:
        """What was never written holds: the default of its type, whether the file was filled or not."""
        return DEFAULT_FILLS.get(f"{self.dtype.kind}{self.dtype.itemsize}")

    @cached_property
    def attrs(self) -> JsonObject:
        """Attributes."""
        return {key: plain(value) for key, value in self._held._attributes.items()}

    @cached_property
    def dims(self) -> list[list[_Dataset]]:
        """For each side the variable of its name, if there is one."""
        found = [self.parent.get(name) for name in self._held.dimensions]
        return [[one] if one is not None and len(one.shape) == 1 else [] for one in found]

    def __getitem__(self, place: Any) -> Any:
        # A copy: what is mapped must not outlive the file.
        return np.array(self._held.data[place])
