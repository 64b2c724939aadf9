"""HDF4 files, seen as their successor's reader sees it (the only door to pyhdf): datasets, attributes, scales.

Where a dataset lies is told by arrays of longitude and latitude (a swath), by scales along its sides, or by the text
of HDF-EOS grids (:mod:`zoompick.raster.eosgrid`). Source: HDF4 User's Guide, chapter "SD API".
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cached_property
from typing import Any

from zoompick.arrays import PixelType
from zoompick.errors import FormatError
from zoompick.jsontypes import JsonObject
from zoompick.later import np
from zoompick.raster.eosgrid import TEXT, EosGrid, grids_in
from zoompick.raster.source import ByteSource, LocalFile

SIGNATURE = b"\x0e\x03\x13\x01"
_TYPES = {5: "f4", 6: "f8", 20: "i1", 21: "u1", 22: "i2", 23: "u2", 24: "i4", 25: "u4"}
_CALIBRATED = ("scale_factor_err", "calibrated_nt")
"""Attributes by which the library's own calibration is known: it takes the offset off before it scales."""


class Hdf4File:
    """A file, with as much of the interface of an HDF5 file as variables are found and read by.

    Raises
    ------
    FormatError
        The package is not here, or the file is not on this machine.
    OSError
        It cannot be read.
    """

    def __init__(self, source: ByteSource) -> None:
        try:
            from pyhdf import SD, error
        except ImportError as gone:
            raise FormatError(
                f"{source.address} is an HDF4 file, for which a package is not here.",
                "Add it: pip install 'zoompick[hdf4]'.",
            ) from gone
        if not isinstance(source, LocalFile):
            raise FormatError(f"{source.address} is an HDF4 file, of which no part can be had.", "Download it first.")
        self.problem = error.HDF4Error
        with self.errors():
            self._sd = SD.SD(str(source.path))

    @contextmanager
    def errors(self) -> Iterator[None]:
        """The library's errors as those of the system, which readers expect."""
        try:
            yield
        except self.problem as problem:
            raise OSError(str(problem)) from problem

    @cached_property
    def _names(self) -> list[str]:
        with self.errors():
            found = self._sd.datasets()
        return sorted(found, key=lambda name: found[name][3])

    def visititems(self, visit: Callable[[str, Any], object]) -> None:
        """Call ``visit`` with the name and the dataset of each of a kind that is read."""
        for name in self._names:
            entry = self.get(name)
            if entry is not None and visit(name, entry) is not None:
                return

    def get(self, name: str) -> _Dataset | None:
        """A dataset by its name; None for one that is not there, or holds no numbers."""
        try:
            one = _Dataset(self, self._sd.select(name))
        except self.problem:
            return None
        return one if one.kind in _TYPES else None

    def __getitem__(self, name: str) -> _Dataset:
        found = self.get(name)
        if found is None:
            raise KeyError(name)
        return found

    @cached_property
    def grids(self) -> tuple[EosGrid, ...]:
        """Grids that the file's text tells."""
        with self.errors():
            told = sorted(self._sd.attributes().items())
        return grids_in("".join(str(value) for key, value in told if TEXT in key))


class _Dataset:
    """A dataset as one of HDF5 looks."""

    chunks = None

    def __init__(self, parent: Hdf4File, sds: Any) -> None:
        self.parent, self._sds = parent, sds
        self.name, rank, sides, self.kind, _ = sds.info()
        self.shape = tuple(sides) if rank > 1 else (int(np.ravel(sides)[0]),)

    @property
    def dtype(self) -> PixelType:
        """Type of its numbers."""
        return np.dtype(_TYPES[self.kind])

    @cached_property
    def attrs(self) -> JsonObject:
        """Attributes, the calibration as others write it."""
        with self.parent.errors():
            found = dict(self._sds.attributes())
        if any(key in found for key in _CALIBRATED) and "add_offset" in found:
            found["add_offset"] = -float(found.get("scale_factor", 1.0)) * float(found["add_offset"])
        return found

    @cached_property
    def dims(self) -> list[list[_Dataset]]:
        """For each side the dataset that is its scale, if one is."""
        found = []
        for side in range(len(self.shape)):
            with self.parent.errors():
                name = self._sds.dim(side).info()[0]
            scale = self.parent.get(name)
            found.append([scale] if scale is not None and len(scale.shape) == 1 else [])
        return found

    def __getitem__(self, place: Any) -> Any:
        if place is Ellipsis:
            place = tuple(slice(0, size) for size in self.shape)
        with self.parent.errors():
            return np.asarray(self._sds[place], self.dtype)
