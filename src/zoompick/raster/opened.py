"""What all rasters out of files have in common: they are values, known by the state of their file."""

from __future__ import annotations

from typing import Any

from zoompick.raster.raster import Arrayed
from zoompick.raster.source import ByteSource, Identity


class Opened(Arrayed):
    """A raster that a format makes of bytes. Two are equal when they show the same state of a file in the same way.

    Parameters
    ----------
    source : ByteSource
    names : tuple of str
        Band names in place of those in the file.
    """

    def __init__(self, source: ByteSource, names: tuple[str, ...] = ()) -> None:
        self.source = source
        self.names = names

    @property
    def identity(self) -> Identity:
        """The state of the file: the key under which its blocks are kept."""
        return self.source.identity

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (self.source, self.names)

    def __eq__(self, other: object) -> bool:
        if type(other) is not type(self):
            return NotImplemented
        assert isinstance(other, Opened)
        return (self.identity, self.names) == (other.identity, other.names)

    def __hash__(self) -> int:
        return hash((self.identity, self.names))
