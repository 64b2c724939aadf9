"""The one opener: bytes from anywhere become a Raster; formats are known by how files begin.

A kind of address beyond paths (``http:``, a member of an archive) is made known by the room that can read it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from os import PathLike
from pathlib import Path

from zoompick.addresses import restored
from zoompick.errors import FormatError
from zoompick.raster import directory, hdf5, jp2boxes
from zoompick.raster.geotiff import GeoTiff
from zoompick.raster.jpeg2000 import Jpeg2000
from zoompick.raster.raster import Raster
from zoompick.raster.source import ByteSource, LocalFile
from zoompick.raster.upright import upright

_HEAD_BYTES = 64


@dataclass(frozen=True, slots=True)
class Format:
    """A kind of raster file.

    Attributes
    ----------
    name : str
        As people call it.
    is_one : callable
        Tells by the first 64 bytes (fewer in a shorter file).
    open : callable
        Makes the raster of a byte source and of band names that take the place of the file's.
    """

    name: str
    is_one: Callable[[bytes], bool]
    open: Callable[[ByteSource, Sequence[str]], Raster]


FORMATS: tuple[Format, ...] = (
    Format("GeoTIFF", directory.is_tiff, GeoTiff),
    Format("JPEG 2000", jp2boxes.is_jp2, Jpeg2000),
    Format("HDF5, netCDF or HDF4", hdf5.is_hdf, hdf5.open_hdf5),
)
"""What is read here. A new format is a file of its own and an entry here."""

Provider = Callable[[str], ByteSource]
_PROVIDERS: list[tuple[Callable[[str], bool], Provider]] = []


def provide(fits: Callable[[str], bool], provider: Provider) -> None:
    """Make a kind of address known; ``fits`` tells an address of it."""
    _PROVIDERS.append((fits, provider))


def open_raster(address: str | PathLike[str] | ByteSource, names: Sequence[str] = ()) -> Raster:
    """Open a raster; its pixels are read when they are asked for.

    Parameters
    ----------
    address : str, path or ByteSource
        A path, another address that is known here, or bytes from elsewhere.
    names : sequence of str, optional
        Band names in place of those in the file.

    Raises
    ------
    MissingFileError, DataError
        There is no such file, or it cannot be read.
    FormatError
        Of no kind that is read, or not georeferenced.
    """
    source = source_of(address)
    head = source.read(0, _HEAD_BYTES)
    for kind in FORMATS:
        if kind.is_one(head):
            return upright(kind.open(source, names))
    known = " or ".join(kind.name for kind in FORMATS)
    raise FormatError(
        f"{source.address} is no raster of a kind that is read here.",
        f"Give a {known}; look at the file's first bytes to see what it is.",
    )


def source_of(address: str | PathLike[str] | ByteSource) -> ByteSource:
    """The bytes behind an address."""
    if not isinstance(address, str | PathLike):
        return address
    text = restored(address)
    for fits, provider in _PROVIDERS:
        if fits(text):
            return provider(text)
    return LocalFile(Path(address))
