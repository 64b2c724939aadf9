"""Directories of a TIFF file (the only tifffile door): how its blocks lie, where on the ground it is, what it tells.

Source: TIFF 6.0 (sections 8, 14, 15), OGC 19-008r4.
"""

from __future__ import annotations

import logging
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from zoompick.errors import FormatError
from zoompick.raster import decode, geokeys, tiffmeta
from zoompick.raster.coded import Coding
from zoompick.raster.grid import Grid, Window
from zoompick.raster.source import ByteSource, SourceStream

if TYPE_CHECKING:
    from tifffile import TiffPage

_REDUCED, _MASK = 1, 4
_PLANAR_SEPARATE = 2
_MAX_BLOCK_BYTES = 1 << 30


@dataclass(frozen=True)
class Image:
    """One directory: how its blocks lie in the file.

    Attributes
    ----------
    separate : bool
        Each band in blocks of its own.
    offsets, counts : sequence of int
        Where each block lies in the file, and its length, in bytes.
    """

    width: int
    height: int
    samples: int
    separate: bool
    block_rows: int
    block_cols: int
    is_tiled: bool
    coding: Coding
    offsets: Sequence[int]
    counts: Sequence[int]

    @property
    def across(self) -> int:
        """Blocks side by side."""
        return -(-self.width // self.block_cols)

    @property
    def down(self) -> int:
        """Blocks one under another."""
        return -(-self.height // self.block_rows)

    def under(self, inside: Window) -> tuple[range, range]:
        """Rows and columns of blocks that a window inside the image touches."""
        rows = range(inside.row // self.block_rows, -(-inside.stop_row // self.block_rows))
        return rows, range(inside.col // self.block_cols, -(-inside.stop_col // self.block_cols))

    def rows_in(self, row: int) -> int:
        """Rows stored in a block: tiles are padded, the last strip is cut (TIFF 6.0, sections 15 and 8)."""
        return self.block_rows if self.is_tiled else min(self.block_rows, self.height - row * self.block_rows)


def parse(source: ByteSource) -> tuple[tuple[Image, ...], Grid, tiffmeta.Metadata]:
    """Directories of the first image and its overviews, its grid, its metadata.

    Raises
    ------
    FormatError
        Not a TIFF, not georeferenced, or of a kind that is not read.
    """
    import tifffile

    logging.getLogger("tifffile").setLevel(logging.CRITICAL)
    try:
        stream: Any = SourceStream(source)
        with tifffile.TiffFile(stream, name=Path(source.address).name) as tiff:
            pages = [page for page in tiff.pages if isinstance(page, tifffile.TiffPage)]
            first = pages[0]
            smaller = [page for page in pages[1:] if page.subfiletype & _REDUCED and not page.subfiletype & _MASK]
            smaller.sort(key=lambda page: -page.imagewidth)
            images = [_image(page, tiff.byteorder, source) for page in (first, *smaller)]
            tags = _geo_tags(first)
            grid = geokeys.grid_from(tags, images[0].width, images[0].height, source.address)
            meta = tiffmeta.Metadata.parse(_text(first, tiffmeta.METADATA_TAG), _text(first, tiffmeta.NODATA_TAG))
            return tuple(images), grid, meta
    except (tifffile.TiffFileError, *_BROKEN) as error:
        raise FormatError(
            f"{source.address} begins like a TIFF but its directory cannot be read: {error}.",
            "It may be cut short: download it again.",
        ) from error


_MAGIC = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")


def is_tiff(head: bytes) -> bool:
    """True when a file begins like a TIFF or a BigTIFF (TIFF 6.0, section 2)."""
    return head[:4] in _MAGIC


def refuse_unreadable(path: Path) -> None:
    """Read the directory of a TIFF file, georeferenced or not.

    Raises
    ------
    FormatError
        It is no TIFF, or its first directory cannot be read.
    """
    import tifffile

    logging.getLogger("tifffile").setLevel(logging.CRITICAL)
    try:
        with tifffile.TiffFile(path) as tiff:
            if tiff.pages.first.imagewidth > 0:
                return
    except (tifffile.TiffFileError, *_BROKEN) as error:
        raise FormatError(f"{path.name} begins like a TIFF but its directory cannot be read: {error}.") from error
    raise FormatError(f"{path.name} has no pixels.")


_BROKEN = (struct.error, IndexError, KeyError, ValueError, TypeError, OverflowError)


def _image(page: TiffPage, byteorder: Literal["<", ">"], source: ByteSource) -> Image:
    compression, predictor = int(page.compression), int(page.predictor)
    if not decode.can_decode(compression):
        raise FormatError(
            f"{source.address} uses the TIFF compression {compression}, which is not read.",
            "Write it again with deflate, LZW, zstd or none.",
        )
    if page.dtype is None or page.dtype.kind not in "iuf" or predictor not in (1, decode.HORIZONTAL, decode.FLOATING):
        raise FormatError(
            f"{source.address} has pixels of {page.bitspersample} bits in sample format {page.sampleformat}.",
            "Whole numbers and floats of 8 to 64 bits are read.",
        )
    dtype = np.dtype(page.dtype).newbyteorder("=")
    # The floating-point predictor lays bytes in an order of its own.
    stored = dtype if predictor == decode.FLOATING else dtype.newbyteorder(byteorder)
    image = Image(
        width=page.imagewidth,
        height=page.imagelength,
        samples=page.samplesperpixel,
        separate=int(page.planarconfig) == _PLANAR_SEPARATE and page.samplesperpixel > 1,
        block_rows=page.tilelength if page.is_tiled else min(page.rowsperstrip or page.imagelength, page.imagelength),
        block_cols=page.tilewidth if page.is_tiled else page.imagewidth,
        is_tiled=page.is_tiled,
        coding=Coding(compression, predictor, stored),
        offsets=page.dataoffsets,
        counts=page.databytecounts,
    )
    _refuse_absurd(image, source)
    return image


def _refuse_absurd(image: Image, source: ByteSource) -> None:
    """A directory is only a claim: refuse sizes that no honest file has before memory is taken for them."""
    planes = image.samples if image.separate else 1
    block_bytes = image.block_rows * image.block_cols * image.coding.dtype.itemsize * (image.samples // planes)
    if image.width <= 0 or image.height <= 0 or not 0 < block_bytes <= _MAX_BLOCK_BYTES:
        raise FormatError(
            f"{source.address} claims blocks of {image.block_rows} x {image.block_cols} px ({block_bytes} bytes).",
            "The file is damaged or hostile; download it again.",
        )
    expected = image.across * image.down * planes
    if len(image.offsets) < expected or len(image.counts) < expected:
        raise FormatError(
            f"{source.address} lists {len(image.offsets)} blocks where its size asks for {expected}.",
            "It may be cut short: download it again.",
        )


def _geo_tags(page: TiffPage) -> geokeys.GeoTags:
    def numbers(tag: int) -> tuple[Any, ...]:
        entry = page.tags.get(tag)
        value = entry.value if entry is not None else ()
        return tuple(value) if isinstance(value, tuple | list) else (value,)

    return geokeys.GeoTags(
        numbers(geokeys.PIXEL_SCALE_TAG),
        numbers(geokeys.TIEPOINT_TAG),
        numbers(geokeys.TRANSFORMATION_TAG),
        numbers(geokeys.DIRECTORY_TAG),
    )


def _text(page: TiffPage, tag: int) -> str:
    entry = page.tags.get(tag)
    value = entry.value if entry is not None else ""
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)


def level_grid(full: Grid, image: Image) -> Grid:
    """Grid of an overview: it covers the same ground with fewer pixels."""
    if (image.width, image.height) == (full.width, full.height):
        return full
    factor_x, factor_y = round(full.width / image.width), round(full.height / image.height)
    return Grid(
        full.crs,
        full.pixel_x * factor_x,
        full.pixel_y * factor_y,
        full.west,
        full.north,
        image.width,
        image.height,
    )
