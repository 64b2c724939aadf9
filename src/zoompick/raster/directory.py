"""Directories of a TIFF file (the only tifffile door): how its blocks lie, where on the ground it is, what it tells.

Source: TIFF 6.0 (sections 8, 14, 15), OGC 19-008r4.
"""

from __future__ import annotations

import io
import logging
import math
import struct
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

from zoompick.arrays import Pixels
from zoompick.errors import FormatError, UnreadKindError
from zoompick.later import np, tifffile
from zoompick.raster import decode, geokeys, tiffmeta
from zoompick.raster.coded import Coding
from zoompick.raster.grid import Grid, Window
from zoompick.raster.placement import Placed
from zoompick.raster.source import ByteSource, SourceStream

if TYPE_CHECKING:
    from tifffile import TiffFile, TiffPage

_REDUCED, _MASK = 1, 4
_RGB, _PALETTE, _YCBCR = 2, 3, 6
_MOST_PAGES = 4096
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
    special : callable or None
        Decodes a block, by its bytes and number, that is of no kind :mod:`zoompick.raster.decode` knows.
    has_alpha : bool
        The last sample tells opacity (TIFF 6.0, ExtraSamples).
    mask : Image or None
        Bits that tell which pixels are there (TIFF 6.0, NewSubfileType bit 2).
    is_picture, is_palette : bool
        Colours of 8 bits; codes with a table of colours.
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
    special: Callable[[bytes, int], Pixels] | None = None
    has_alpha: bool = False
    mask: Image | None = None
    is_picture: bool = False
    is_palette: bool = False

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


class Parsed(NamedTuple):
    """The first image of a file and its overviews, its place, its metadata, and what a person should know."""

    images: tuple[Image, ...]
    placed: Placed
    meta: tiffmeta.Metadata
    notes: tuple[str, ...]


def _pages(tiff: TiffFile, source: ByteSource) -> list[TiffPage]:
    """All directories, whole; more than any honest file has are no directories but a circle."""
    found: list[TiffPage] = []
    for page in tiff.pages:
        if isinstance(page, tifffile.TiffPage):
            found.append(page)
        if len(found) > _MOST_PAGES:
            raise FormatError(
                f"{source.address} has more than {_MOST_PAGES} directories.", "It is damaged or hostile."
            )
    if not found:
        raise FormatError(
            f"{source.address} begins like a TIFF but its directory cannot be read: none is there.",
            "It may be cut short: download it again.",
        )
    if found[0].imagewidth <= 0 or found[0].imagelength <= 0:
        raise FormatError(f"{source.address} has no pixels.", "Look at it where it came from.")
    return found


def _is_overview(page: TiffPage, first: TiffPage) -> bool:
    """True for a smaller picture of the same ground: same bands and type, and reduced alike both ways."""
    alike = (page.samplesperpixel, page.dtype) == (first.samplesperpixel, first.dtype)
    is_told = page.subfiletype & _REDUCED and not page.subfiletype & _MASK
    if (
        not (is_told and alike)
        or not 0 < page.imagewidth < first.imagewidth
        or not 0 < page.imagelength <= first.imagelength
    ):
        return False
    factor = first.imagewidth / page.imagewidth
    slack = 1 + factor / page.imagewidth
    return abs(first.imagelength / factor - page.imagelength) <= slack


def parse(source: ByteSource, is_placed: bool = True) -> Parsed:
    """Directories of the first image and its overviews, its grid, its metadata.

    Parameters
    ----------
    is_placed : bool
        It has to tell where it lies; else its grid counts pixels.

    Raises
    ------
    FormatError
        Not a TIFF, not georeferenced, or of a kind that is not read.
    """
    logging.getLogger("tifffile").setLevel(logging.CRITICAL)
    try:
        stream: Any = SourceStream(source)
        with tifffile.TiffFile(stream, name=Path(source.address).name) as tiff:
            pages = _pages(tiff, source)
            first = pages[0]
            tags = _geo_tags(first)
            size = first.imagewidth, first.imagelength
            placed = geokeys.placed_by(tags, *size, source.address) if is_placed else Placed.nowhere(*size)
            images = _images(pages, tiff.byteorder, source)
            meta = tiffmeta.Metadata.parse(_text(first, tiffmeta.METADATA_TAG), _text(first, tiffmeta.NODATA_TAG))
            others = [page for page in pages[1:] if not page.subfiletype & (_REDUCED | _MASK)]
            note = f"{Path(source.address).name} holds {1 + len(others)} images: the first is read."
            return Parsed(tuple(images), placed, meta, (note,) if others else ())
    except (tifffile.TiffFileError, *_BROKEN) as error:
        raise FormatError(
            f"{source.address} begins like a TIFF but its directory cannot be read: {error}.",
            "It may be cut short: download it again.",
        ) from error


def _images(pages: Sequence[TiffPage], byteorder: Literal["<", ">"], source: ByteSource) -> list[Image]:
    """The first image and its overviews, large before small, with their masks; of masked ones only those."""
    first = pages[0]
    smaller = [page for page in pages[1:] if page.subfiletype & _REDUCED and not page.subfiletype & _MASK]
    smaller = sorted((page for page in smaller if _is_overview(page, first)), key=lambda page: -page.imagewidth)
    masks = {
        (page.imagewidth, page.imagelength): _image(page, byteorder, source)
        for page in pages[1:]
        if page.subfiletype & _MASK and page.samplesperpixel == 1
    }
    images = []
    for page in (first, *smaller):
        image = _image(page, byteorder, source)
        images.append(replace(image, mask=masks.get((image.width, image.height))))
    return images if images[0].mask is None else [image for image in images if image.mask is not None]


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
    special = None if _is_common(page) else _special(page, source)
    if page.dtype is None or page.dtype.kind not in "biuf":
        raise UnreadKindError(
            f"{source.address} has pixels of {page.bitspersample} bits in sample format {page.sampleformat}.",
            "Whole numbers of up to 64 bits and floats of 16 to 64 are read; complex numbers are not.",
        )
    dtype = np.dtype(np.uint8 if page.dtype.kind == "b" else page.dtype).newbyteorder("=")
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
        special=special,
        has_alpha=page.samplesperpixel > 1 and tuple(page.extrasamples)[-1:] in ((1,), (2,)),
        is_picture=page.dtype == np.uint8 and int(page.photometric) in (_RGB, _YCBCR),
        is_palette=int(page.photometric) == _PALETTE,
    )
    _refuse_absurd(image, source)
    return image


def _is_common(page: TiffPage) -> bool:
    """True for blocks that are decoded here, which is fast."""
    if not decode.can_decode(int(page.compression)) or page.fillorder != 1 or page.dtype is None:
        return False
    if int(page.predictor) not in (1, decode.HORIZONTAL, decode.FLOATING):
        return False
    return page.bitspersample == page.dtype.itemsize * 8


def _special(page: TiffPage, source: ByteSource) -> Callable[[bytes, int], Pixels]:
    """The library's own decoder: JPEG with shared tables or 12 bits, WebP, bits that do not fill bytes, and more.

    Raises
    ------
    FormatError
        Of a kind that nothing here decodes.
    """
    compression, name = int(page.compression), getattr(page.compression, "name", page.compression)
    tables = page.jpegtables if compression in (6, 7, 34892, 33007) else None
    more = {"jpegtables": tables} if tables else {}
    unpacked = page.decode
    try:
        if compression != 1:
            tifffile.TIFF.DECOMPRESSORS[compression]
    except KeyError as error:
        raise FormatError(
            f"{source.address} uses the TIFF compression {compression} ({name}), which is not read.",
            "Write it again with deflate, LZW, zstd or none.",
        ) from error

    def decoded(data: bytes, index: int) -> Pixels:
        # Damage that its library tells in words of its own is told as damage by whoever asked.
        segment, _, _ = unpacked(data, index, **more)
        if segment is None:
            raise ValueError("an empty block")
        return np.moveaxis(np.asarray(segment)[0], 2, 0)

    return decoded


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


class PagePlace(NamedTuple):
    """Where one image of a TIFF lies in its file.

    Attributes
    ----------
    offset, first_tile : int
        Bytes: of its directory, and of the first of its blocks.
    size_px, tile_px : int
        The longer side, and the width of a tile; 0 for strips.
    """

    offset: int
    first_tile: int
    size_px: int
    tile_px: int
    is_mask: bool


def pages_of(path: Path) -> list[PagePlace]:
    """Where the images of a TIFF lie in its file, in stored order.

    Raises
    ------
    FormatError
        It cannot be read.
    """
    try:
        with tifffile.TiffFile(path) as tiff:
            pages: list[Any] = list(tiff.pages)
            return [
                PagePlace(page.offset, min((start for start in page.dataoffsets if start), default=page.offset),
                          max(page.imagewidth, page.imagelength), page.tilewidth if page.is_tiled else 0,
                          bool(page.subfiletype & _MASK))
                for page in pages
            ]  # fmt: skip
    except (tifffile.TiffFileError, *_BROKEN) as error:
        raise FormatError(f"{path} has directories that cannot be read: {error}.") from error


def geo_tags(data: bytes, address: str) -> geokeys.GeoTags:
    """Georeferencing tags of a TIFF in memory: of one without pixels of its own, as other formats carry it.

    Raises
    ------
    FormatError
        It is no TIFF.
    """
    logging.getLogger("tifffile").setLevel(logging.CRITICAL)
    try:
        with tifffile.TiffFile(io.BytesIO(data)) as tiff:
            return _geo_tags(tiff.pages.first)
    except (tifffile.TiffFileError, *_BROKEN) as error:
        raise FormatError(f"{address} has a GeoTIFF box that cannot be read: {error}.") from error


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
        numbers(geokeys.DOUBLES_TAG),
        _text(page, geokeys.TEXTS_TAG),
    )


def _text(page: TiffPage, tag: int) -> str:
    entry = page.tags.get(tag)
    value = entry.value if entry is not None else ""
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)


def level_grid(full: Grid, image: Image) -> Grid:
    """Grid of an overview: it covers the same ground with fewer pixels.

    Where its size is that of a reduction by a whole number, its last pixels may reach over the edge; else its pixels
    divide the ground evenly.
    """
    if (image.width, image.height) == (full.width, full.height):
        return full
    return Grid(
        full.crs,
        full.pixel_x * _reduction(full.width, image.width),
        full.pixel_y * _reduction(full.height, image.height),
        full.west,
        full.north,
        image.width,
        image.height,
    )


def _reduction(full: int, small: int) -> float:
    factor = math.ceil(full / small)
    return factor if -(-full // factor) == small else full / small
