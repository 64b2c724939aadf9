"""Blocks that go from file to file as they are: what no step changes need not be encoded again."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol, runtime_checkable

from zoompick.arrays import Pixels, PixelType
from zoompick.raster.grid import Window
from zoompick.raster.raster import Raster


@dataclass(frozen=True, slots=True)
class Coding:
    """How pixels become the bytes of a block.

    Attributes
    ----------
    compression, predictor : int
        TIFF tags 259 and 317.
    stored : dtype
        Pixel type with the file's byte order.
    """

    compression: int
    predictor: int
    stored: PixelType

    @property
    def dtype(self) -> PixelType:
        """Pixel type in the byte order of this machine."""
        return self.stored.newbyteorder("=")


@dataclass(frozen=True, slots=True)
class CodedBlock:
    """A block of one band as a file holds it, and its pixels.

    Attributes
    ----------
    pixels : ndarray, shape (1, rows, cols)
    data : bytes
        As stored.
    """

    pixels: Pixels
    data: bytes
    coding: Coding


@runtime_checkable
class HasBlocks(Protocol):
    """What a Raster may do beside yielding pixels: give some of them in the form they are stored in."""

    def coded(self, window: Window, band: int) -> CodedBlock | None:
        """The stored block that is exactly this window of one band; None when there is none, or pixels change."""


@runtime_checkable
class HasStretches(Raster, Protocol):
    """A raster in a file of which a window can be fetched without the rest."""

    @property
    def is_tiled(self) -> bool:
        """True when windows can be read without whole rows."""

    @property
    def is_zstd(self) -> bool:
        """True when blocks are compressed with Zstandard."""

    def stretches(self, window: Window) -> list[tuple[int, int]]:
        """Offset and length in bytes of every stored block of the full resolution under a window, of all bands."""


def coded_block(raster: Raster, window: Window, band: int) -> CodedBlock | None:
    """The stored block behind a window, for any raster; see :meth:`HasBlocks.coded`."""
    return raster.coded(window, band) if isinstance(raster, HasBlocks) else None
