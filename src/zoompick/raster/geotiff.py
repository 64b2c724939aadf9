"""GeoTIFF read by windows (the only tifffile door): it parses the directories, we read and decode blocks.

Tiles or strips, pixel- or band-interleaved, 8 to 64 bits, deflate, LZW, zstd, PackBits or plain, with the
horizontal or floating-point predictor, with overviews.
Source: TIFF 6.0 (sections 8, 9, 13, 14, 15), TIFF Technical Note 3 (floating-point predictor), OGC 19-008r4.
"""

from __future__ import annotations

import functools
import itertools
import logging
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np

from zoompick.errors import DataError, FormatError
from zoompick.raster import blockcache, geokeys, kernels, tiffmeta
from zoompick.raster.coded import CodedBlock
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Band, Pixels, fill_value
from zoompick.raster.source import ByteSource, LocalFile, SourceStream

_REDUCED, _MASK = 1, 4
_PLANAR_SEPARATE = 2
_HORIZONTAL, _FLOATING = 2, 3
_MAX_BLOCK_BYTES = 1 << 30
_serial = itertools.count()


@dataclass(frozen=True)
class _Image:
    """One directory: how its blocks lie in the file."""

    width: int
    height: int
    samples: int
    separate: bool
    block_rows: int
    block_cols: int
    is_tiled: bool
    dtype: np.dtype[Any]
    stored: np.dtype[Any]
    compression: int
    predictor: int
    offsets: Sequence[int]
    counts: Sequence[int]

    @property
    def across(self) -> int:
        return -(-self.width // self.block_cols)

    @property
    def down(self) -> int:
        return -(-self.height // self.block_rows)

    def under(self, inside: Window) -> tuple[range, range]:
        """Rows and columns of blocks that a window inside the image touches."""
        rows = range(inside.row // self.block_rows, -(-inside.stop_row // self.block_rows))
        return rows, range(inside.col // self.block_cols, -(-inside.stop_col // self.block_cols))

    def rows_in(self, row: int) -> int:
        """Rows stored in a block: tiles are padded, the last strip is cut (TIFF 6.0, sections 15 and 8)."""
        return self.block_rows if self.is_tiled else min(self.block_rows, self.height - row * self.block_rows)


class GeoTiff:
    """A GeoTIFF file as a Raster.

    Parameters
    ----------
    where : Path or ByteSource
        A file, or bytes from elsewhere: a remote file read by ranges.
    names : sequence of str, optional
        Band names to use in place of those in the file.

    Raises
    ------
    FormatError
        Not a TIFF, not georeferenced, or of a kind that is not read.
    DataError
        Missing, or damaged; blocks are checked when they are read.
    """

    def __init__(self, where: Path | ByteSource, names: Sequence[str] = ()) -> None:
        self._where = where
        self._names = tuple(names)
        self._source: ByteSource = LocalFile(Path(where)) if isinstance(where, str | Path) else where
        self._key = next(_serial)
        self._images, self._grid, self._meta = _parse(self._source)
        first = self._images[0]
        self._nodata = self._meta.nodata
        self._bands = self._meta.bands_of(first.samples, self._names)
        self._levels = tuple(_level_grid(self._grid, image) for image in self._images)

    def __reduce__(self) -> tuple[Any, ...]:
        return GeoTiff, (self._where, self._names)

    @property
    def grid(self) -> Grid:
        """Grid of the full resolution."""
        return self._grid

    @property
    def bands(self) -> tuple[Band, ...]:
        """Bands with the names, scales and offsets the file tells."""
        return self._bands

    @property
    def dtype(self) -> np.dtype[Any]:
        """Pixel type in native byte order."""
        return self._images[0].dtype

    @property
    def nodata(self) -> float | None:
        """No-data value from the file."""
        return self._nodata

    @property
    def levels(self) -> tuple[Grid, ...]:
        """Full resolution and overviews."""
        return self._levels

    @property
    def block(self) -> tuple[int, int]:
        """Rows and columns of a stored block."""
        return self._images[0].block_rows, self._images[0].block_cols

    @property
    def metadata(self) -> tiffmeta.Metadata:
        """Band names, statistics and no-data as the file tells them."""
        return self._meta

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        image = self._images[level]
        wanted = tuple(range(image.samples)) if bands is None else tuple(bands)
        only = self._only_block(image, window, wanted)
        if only is not None:
            return self._block(image, level, wanted[0], *only, keep=False)
        out = np.empty((len(wanted), window.height, window.width), image.dtype)
        inside = window.intersect(Window(0, 0, image.width, image.height))
        if inside != window:
            out[...] = fill_value(self._nodata)
        if inside.is_empty:
            return out
        for block, row, col, indices in self._blocks(image, inside, wanted, level):
            place = Window(col * image.block_cols, row * image.block_rows, block.shape[2], block.shape[1])
            both = place.intersect(inside)
            rows, cols = both.slices_in(place)
            target_rows, target_cols = both.slices_in(window)
            for target, sample in indices:
                out[target, target_rows, target_cols] = block[sample, rows, cols]
        return out

    @property
    def is_zstd(self) -> bool:
        """True when blocks are compressed with Zstandard."""
        return self._images[0].compression == _ZSTD

    @property
    def is_tiled(self) -> bool:
        """True when windows can be read without whole rows."""
        return self._images[0].is_tiled

    def stretches(self, window: Window) -> list[tuple[int, int]]:
        """Offset and length in bytes of every stored block of the full resolution under a window, of all bands."""
        image = self._images[0]
        inside = window.intersect(Window(0, 0, image.width, image.height))
        if inside.is_empty:
            return []
        rows, cols = image.under(inside)
        planes = range(image.samples if image.separate else 1)
        indices = [
            (plane * image.down + row) * image.across + col
            for plane, row, col in itertools.product(planes, rows, cols)
        ]
        return [(int(image.offsets[index]), int(image.counts[index])) for index in indices if image.counts[index]]

    def coded(self, window: Window, band: int) -> CodedBlock | None:
        """The stored block; see :meth:`zoompick.raster.coded.HasBlocks.coded`."""
        image = self._images[0]
        place = self._only_block(image, window, (band,))
        data = self._stored(image, band, *place) if place else b""
        if not place or not data:
            return None
        pixels = self._unpacked(image, data, *place)
        return CodedBlock(pixels, data, image.compression, image.predictor, image.stored)

    def _only_block(self, image: _Image, window: Window, wanted: tuple[int, ...]) -> tuple[int, int] | None:
        """Row and column of the block when one band of exactly one stored block is asked for."""
        if len(wanted) != 1 or not (image.separate or image.samples == 1):
            return None
        if (window.height, window.width) != (image.block_rows, image.block_cols):
            return None
        row, row_rest = divmod(window.row, image.block_rows)
        col, col_rest = divmod(window.col, image.block_cols)
        if row_rest or col_rest or not (0 <= row < image.down and 0 <= col < image.across):
            return None
        if window.stop_row > image.height or window.stop_col > image.width:
            return None
        return row, col

    def _blocks(self, image: _Image, inside: Window, wanted: tuple[int, ...], level: int) -> Any:
        """Blocks under a window, with pairs (index in the output, index in the block)."""
        rows, cols = image.under(inside)
        if image.separate or image.samples == 1:
            planes = [(sample, [(target, 0)]) for target, sample in enumerate(wanted)]
        else:
            planes = [(0, list(enumerate(wanted)))]
        for row, col in itertools.product(rows, cols):
            for plane, indices in planes:
                yield self._block(image, level, plane, row, col), row, col, indices

    def _block(self, image: _Image, level: int, plane: int, row: int, col: int, keep: bool = True) -> Pixels:
        """One decoded block, shape (samples in it, rows, cols), read-only."""
        cache = blockcache.shared()
        key = (self._key, level, plane, row, col)
        block = cache.get(key)
        if block is None:
            block = self._decode(image, plane, row, col)
            block.flags.writeable = False
            if keep:
                cache.put(key, block)
        return block

    def _decode(self, image: _Image, plane: int, row: int, col: int) -> Pixels:
        data = self._stored(image, plane, row, col)
        if not data:
            # A block of no length stands for no-data throughout.
            bands = 1 if image.separate else image.samples
            return np.full((bands, image.rows_in(row), image.block_cols), fill_value(self._nodata), image.dtype)
        return self._unpacked(image, data, row, col)

    def _stored(self, image: _Image, plane: int, row: int, col: int) -> bytes:
        index = (plane * image.down + row) * image.across + col
        offset, count = image.offsets[index], image.counts[index]
        if offset < 0 or count < 0 or offset + count > self._source.size:
            raise DataError(
                f"{self._source.address} is cut short: a block at byte {offset} ends after the file's last byte.",
                "Remove the file and download it again.",
            )
        return self._source.read(offset, count) if count else b""

    def _unpacked(self, image: _Image, data: bytes, row: int, col: int) -> Pixels:
        shape = image.rows_in(row), image.block_cols, 1 if image.separate else image.samples
        try:
            return _unpack(image, data, shape)
        except (RuntimeError, ValueError, TypeError) as error:
            raise DataError(
                f"{self._source.address} is damaged: the block in row {row}, column {col} does not decode ({error}).",
                "Remove the file and download it again.",
            ) from error


def _unpack(image: _Image, data: bytes, shape: tuple[int, int, int]) -> Pixels:
    pixels = np.empty(shape, image.stored)
    _decompress(image.compression, data, pixels.reshape(-1).view(np.uint8))
    if image.predictor == _FLOATING:
        pixels = imagecodecs.floatpred_decode(pixels.view(image.dtype), axis=-2)
    else:
        pixels = pixels.astype(image.dtype, copy=False)
        if image.predictor == _HORIZONTAL:
            pixels = imagecodecs.delta_decode(pixels, axis=-2, out=pixels)
    if shape[2] == 1:
        return np.asarray(pixels).reshape(1, shape[0], shape[1])
    return kernels.apart(np.asarray(pixels))


def _decompress(compression: int, data: bytes, out: Pixels) -> None:
    """Fill ``out`` with what ``data`` holds; ValueError when that is too little, so a cut block never passes."""
    if compression == _PLAIN:
        if len(data) < out.size:
            raise ValueError(f"{len(data)} bytes where {out.size} are expected")
        out[:] = np.frombuffer(data, np.uint8, count=out.size)
        return
    if compression in _PICTURES:
        pixels = np.asarray(_PICTURES[compression](data)).reshape(-1)
        if pixels.size != out.size:
            raise ValueError(f"{pixels.size} values where {out.size} are expected")
        out[:] = pixels
        return
    got = _CODECS[compression](data, out=out)
    if len(got) < out.size:
        raise ValueError(f"{len(got)} bytes where {out.size} are expected")


_PLAIN, _ZSTD = 1, 50000
_PICTURES: dict[int, Any] = {
    7: functools.partial(imagecodecs.jpeg8_decode, outcolorspace="RGB"),
    50001: functools.partial(imagecodecs.webp_decode, hasalpha=False),
}
"""Blocks that are pictures of their own (TIFF Technical Note 2 with whole JPEG streams; WebP)."""
_CODECS: dict[int, Any] = {
    5: imagecodecs.lzw_decode,
    8: imagecodecs.deflate_decode,
    32946: imagecodecs.deflate_decode,
    32773: imagecodecs.packbits_decode,
    _ZSTD: imagecodecs.zstd_decode,
}


def _parse(source: ByteSource) -> tuple[tuple[_Image, ...], Grid, tiffmeta.Metadata]:
    """Directories of the first image and its overviews, its grid, its metadata."""
    import tifffile

    if source.read(0, 4)[:4] not in _MAGIC:
        raise FormatError(
            f"{source.address} is not a TIFF file.",
            "Give a GeoTIFF; look at the file's first bytes to see what it is.",
        )
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


def _image(page: Any, byteorder: str, source: ByteSource) -> _Image:
    compression, predictor = int(page.compression), int(page.predictor)
    if compression != _PLAIN and compression not in _CODECS and compression not in _PICTURES:
        raise FormatError(
            f"{source.address} uses the TIFF compression {compression}, which is not read.",
            "Write it again with deflate, LZW, zstd or none.",
        )
    if page.dtype is None or page.dtype.kind not in "iuf" or predictor not in (1, _HORIZONTAL, _FLOATING):
        raise FormatError(
            f"{source.address} has pixels of {page.bitspersample} bits in sample format {page.sampleformat}.",
            "Whole numbers and floats of 8 to 64 bits are read.",
        )
    dtype = np.dtype(page.dtype).newbyteorder("=")
    image = _Image(
        width=page.imagewidth,
        height=page.imagelength,
        samples=page.samplesperpixel,
        separate=int(page.planarconfig) == _PLANAR_SEPARATE and page.samplesperpixel > 1,
        block_rows=page.tilelength if page.is_tiled else min(page.rowsperstrip or page.imagelength, page.imagelength),
        block_cols=page.tilewidth if page.is_tiled else page.imagewidth,
        is_tiled=page.is_tiled,
        dtype=dtype,
        stored=dtype if predictor == _FLOATING else dtype.newbyteorder(byteorder),
        compression=compression,
        predictor=predictor,
        offsets=page.dataoffsets,
        counts=page.databytecounts,
    )
    _refuse_absurd(image, source)
    return image


def _refuse_absurd(image: _Image, source: ByteSource) -> None:
    """A directory is only a claim: refuse sizes that no honest file has before memory is taken for them."""
    planes = image.samples if image.separate else 1
    block_bytes = image.block_rows * image.block_cols * image.dtype.itemsize * (image.samples // planes)
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


def _geo_tags(page: Any) -> geokeys.GeoTags:
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


def _text(page: Any, tag: int) -> str:
    entry = page.tags.get(tag)
    value = entry.value if entry is not None else ""
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)


def _level_grid(full: Grid, image: _Image) -> Grid:
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
