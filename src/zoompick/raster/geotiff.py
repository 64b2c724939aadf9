"""GeoTIFF read by windows: its directories are parsed once, blocks are read and decoded when asked for.

Tiles or strips, pixel- or band-interleaved, 8 to 64 bits, with overviews.
Source: TIFF 6.0, sections 8 and 15.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import replace

from zoompick.arrays import Pixels, PixelType
from zoompick.bytesource import exactly, todo_of
from zoompick.errors import DataError
from zoompick.later import np
from zoompick.raster import blockcache, directory, tiffmeta
from zoompick.raster.coded import CodedBlock
from zoompick.raster.decode import ZSTD, decoded
from zoompick.raster.directory import Image
from zoompick.raster.grid import Grid, Window
from zoompick.raster.opened import Opened
from zoompick.raster.raster import Band, fill_value, with_room
from zoompick.raster.source import ByteSource


class GeoTiff(Opened):
    """A GeoTIFF file as a Raster. Open one with :func:`zoompick.raster.opening.open_raster`.

    Parameters
    ----------
    source : ByteSource
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

    is_placed = True

    def __init__(self, source: ByteSource, names: Sequence[str] = ()) -> None:
        super().__init__(source, tuple(names))
        self._images, placed, self._meta, self.notes = directory.parse(self.source, self.is_placed)
        self._grid, self.turn = placed.grid, placed.turn
        first = self._images[0]
        stored = first.coding.dtype
        self._nodata = tiffmeta.fitting(self._meta.nodata, stored)
        self._dtype, self._is_covered = stored, first.has_alpha or first.mask is not None
        self._lifts_zero = False
        if self._is_covered and self._nodata is None:
            self._lifts_zero = first.is_picture
            self._dtype, self._nodata = (stored, 0.0) if first.is_picture else with_room(stored)
        bands = self._meta.bands_of(first.samples - first.has_alpha, self.names)
        self._bands = tuple(replace(band, is_class=band.is_class or first.is_palette) for band in bands)
        self._levels = tuple(directory.level_grid(self._grid, image) for image in self._images)

    @property
    def grid(self) -> Grid:
        """Grid of the full resolution."""
        return self._grid

    @property
    def bands(self) -> tuple[Band, ...]:
        """Bands with the names, scales and offsets the file tells."""
        return self._bands

    @property
    def dtype(self) -> PixelType:
        """Pixel type in native byte order; wider than stored where a mask needs a no-data value."""
        return self._dtype

    @property
    def nodata(self) -> float | None:
        """No-data value from the file; where a mask or an opacity tells what is missing and no value does, one."""
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
        wanted = tuple(range(len(self._bands))) if bands is None else tuple(bands)
        only = None if self._is_covered else self._only_block(image, window, wanted)
        if only is not None:
            return self._block(image, (level, ""), wanted[0], *only, keep=False)
        pixels = self._read(image, window, wanted, (level, ""), 0 if self._is_covered else fill_value(self._nodata))
        return self._covered(pixels, image, window, level) if self._is_covered else pixels

    def _covered(self, pixels: Pixels, image: Image, window: Window, level: int) -> Pixels:
        """Pixels with no-data where the mask or the opacity tells that there is none."""
        valid = np.ones(pixels.shape[1:], bool)
        if image.has_alpha:
            valid &= self._read(image, window, (image.samples - 1,), (level, ""), 0)[0] != 0
        if image.mask is not None:
            valid &= self._read(image.mask, window, (0,), (level, "mask"), 0)[0] != 0
        out = pixels.astype(self._dtype)
        if self._lifts_zero:
            np.maximum(out, 1, out=out)
        out[:, ~valid] = fill_value(self._nodata)
        return out

    def _read(
        self, image: Image, window: Window, wanted: tuple[int, ...], level: tuple[int, str], fill: float
    ) -> Pixels:
        """Stored values of a window; ``fill`` outside."""
        out = np.empty((len(wanted), window.height, window.width), image.coding.dtype)
        inside = window.intersect(Window(0, 0, image.width, image.height))
        if inside != window:
            out[...] = fill
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
        return self._images[0].coding.compression == ZSTD

    @property
    def is_tiled(self) -> bool:
        """True when windows can be read without whole rows."""
        return self._images[0].is_tiled

    def stretches(self, window: Window) -> list[tuple[int, int]]:
        """Offset and length in bytes of every stored block of the full resolution under a window, of all bands."""
        every = [image for image in (self._images[0], self._images[0].mask) if image is not None]
        return [stretch for image in every for stretch in self._stretches(image, window)]

    def _stretches(self, image: Image, window: Window) -> list[tuple[int, int]]:
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

    def decode_all(self) -> None:
        """Decode every block of every level and mask once.

        Raises
        ------
        DataError
            One does not decode, or lies beyond the end of the file.
        """
        for image in self._images:
            for each in (image, image.mask) if image.mask is not None else (image,):
                planes = range(each.samples if each.separate else 1)
                for plane, row, col in itertools.product(planes, range(each.down), range(each.across)):
                    self._decode(each, plane, row, col)

    def coded(self, window: Window, band: int) -> CodedBlock | None:
        """The stored block; see :meth:`zoompick.raster.coded.HasBlocks.coded`."""
        image = self._images[0]
        if self._is_covered or image.special is not None:
            return None
        place = self._only_block(image, window, (band,))
        data = self._stored(image, band, *place) if place else b""
        if not place or not data:
            return None
        pixels = self._unpacked(image, data, 0, *place)
        return CodedBlock(pixels, data, image.coding)

    def _only_block(self, image: Image, window: Window, wanted: tuple[int, ...]) -> tuple[int, int] | None:
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

    def _blocks(
        self, image: Image, inside: Window, wanted: tuple[int, ...], level: tuple[int, str]
    ) -> Iterator[tuple[Pixels, int, int, list[tuple[int, int]]]]:
        """Blocks under a window, with pairs (index in the output, index in the block)."""
        rows, cols = image.under(inside)
        if image.separate or image.samples == 1:
            planes = [(sample, [(target, 0)]) for target, sample in enumerate(wanted)]
        else:
            planes = [(0, list(enumerate(wanted)))]
        for row, col in itertools.product(rows, cols):
            for plane, indices in planes:
                yield self._block(image, level, plane, row, col), row, col, indices

    def _block(
        self, image: Image, level: tuple[int, str], plane: int, row: int, col: int, keep: bool = True
    ) -> Pixels:
        """One decoded block, shape (samples in it, rows, cols), read-only."""
        cache = blockcache.shared()
        key = (self.identity, level, plane, row, col)
        block = cache.get(key)
        if block is None:
            block = self._decode(image, plane, row, col)
            block.flags.writeable = False
            if keep:
                cache.put(key, block)
        return block

    def _decode(self, image: Image, plane: int, row: int, col: int) -> Pixels:
        data = self._stored(image, plane, row, col)
        if not data:
            # A block of no length stands for no-data throughout.
            bands = 1 if image.separate else image.samples
            return np.full(
                (bands, image.rows_in(row), image.block_cols), fill_value(self._nodata), image.coding.dtype
            )
        return self._unpacked(image, data, plane, row, col)

    def _stored(self, image: Image, plane: int, row: int, col: int) -> bytes:
        index = (plane * image.down + row) * image.across + col
        offset, count = image.offsets[index], image.counts[index]
        if offset < 0 or count < 0 or offset + count > self.source.size:
            raise DataError(
                f"{self.source.address} is cut short: a block at byte {offset} ends after the file's last byte.",
                todo_of(self.source.address),
            )
        return exactly(self.source, int(offset), int(count)) if count else b""

    def _unpacked(self, image: Image, data: bytes, plane: int, row: int, col: int) -> Pixels:
        shape = image.rows_in(row), image.block_cols, 1 if image.separate else image.samples
        try:
            if image.special is not None:
                index = (plane * image.down + row) * image.across + col
                return _cut(image.special(data, index), shape)
            if shape[0] < image.block_rows and len(data) and not image.is_tiled:
                return self._last_strip(image, data, shape)
            return decoded(image.coding, data, shape)
        except (RuntimeError, ValueError, TypeError, NotImplementedError, OverflowError) as error:
            raise DataError(
                f"{self.source.address} is damaged: the block in row {row}, column {col} does not decode ({error}).",
                todo_of(self.source.address),
            ) from error

    @staticmethod
    def _last_strip(image: Image, data: bytes, shape: tuple[int, int, int]) -> Pixels:
        """The last strip, which some programs write as long as the others."""
        try:
            return decoded(image.coding, data, shape)
        except (RuntimeError, ValueError):
            return decoded(image.coding, data, (image.block_rows, *shape[1:]))[:, : shape[0]]


class Placeless(GeoTiff):
    """A TIFF that does not tell where it lies, for what needs no place: its grid counts pixels."""

    is_placed = False


def _cut(block: Pixels, shape: tuple[int, int, int]) -> Pixels:
    """A block of another decoder, cut or filled up to the shape (rows, cols, bands) that is expected."""
    rows, cols, bands = shape
    if len(block) != bands:
        raise ValueError(f"{len(block)} bands where {bands} are expected")
    if block.shape[1:] == (rows, cols):
        return np.ascontiguousarray(block)
    out = np.zeros((bands, rows, cols), block.dtype)
    part = block[:, :rows, :cols]
    out[:, : part.shape[1], : part.shape[2]] = part
    return out
