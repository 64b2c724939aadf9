"""JPEG 2000 as a Raster: windows tile by tile, overviews by leaving out decompositions, without decoding the rest.

Source: ISO/IEC 15444-1:2019; see :mod:`zoompick.raster.codestream`.
"""

from __future__ import annotations

import itertools
import math
import threading
from collections import OrderedDict
from collections.abc import Sequence
from contextlib import nullcontext
from pathlib import Path
from typing import Any

from zoompick.arrays import Pixels, PixelType
from zoompick.bytesource import todo_of
from zoompick.errors import DataError
from zoompick.later import imagecodecs, np
from zoompick.raster import blockcache, codestream, jp2boxes
from zoompick.raster.grid import Grid, Window
from zoompick.raster.opened import Opened
from zoompick.raster.raster import Band
from zoompick.raster.source import ByteSource, LocalFile

_LEAST_SIDE_PX = 64
_LARGE_PX, _LARGE_KEPT = 2048 * 2048, 2
"""A tile beyond so many pixels is kept outside the common memory for blocks; so many of them at most."""
_SHARES = (0.0, 0.36, 0.12, 0.05)
_LEAST_SHARE_BYTES = 4096
_WORTH_CUTTING = 1 << 16
"""Below so many bytes a tile-part is fetched whole: another request would cost more."""


class Jpeg2000(Opened):
    """A JP2 file or a bare codestream as a Raster. Open one with :func:`zoompick.raster.opening.open_raster`.

    The format has no place for a no-data value.

    Parameters
    ----------
    source : ByteSource
    names : sequence of str, optional
        Band names.

    Raises
    ------
    FormatError
        Not georeferenced, or of a kind that is not read.
    DataError
        Damaged; tiles are checked when they are read.
    """

    def __init__(self, source: ByteSource, names: Sequence[str] = ()) -> None:
        super().__init__(source, tuple(names))
        told = jp2boxes.boxes(source)
        self._start = told.offset
        stream = codestream.parse(self._stream_bytes, told.length, source.address)
        placed = jp2boxes.placed_by(source, told, stream.width, stream.height)
        self._grid, self.turn = placed.grid, placed.turn
        self._stream, self._has_alpha = stream, told.has_alpha and stream.components > 1
        count = stream.components - self._has_alpha
        called = [*names, *(f"band{number + 1}" for number in range(len(names), count))][:count]
        self._bands = tuple(Band(name, is_class=told.is_palette) for name in called)
        self._levels = tuple(_levels(self._grid, stream))
        self._shares = list(_SHARES)

    def _stream_bytes(self, offset: int, length: int) -> bytes:
        return self.source.read(self._start + offset, length)

    @property
    def grid(self) -> Grid:
        """Grid of the full resolution."""
        return self._grid

    @property
    def bands(self) -> tuple[Band, ...]:
        """Components."""
        return self._bands

    @property
    def dtype(self) -> PixelType:
        """Whole numbers of 8 or 16 bits."""
        return self._stream.dtype

    @property
    def nodata(self) -> float | None:
        """Zero where an opacity tells what is missing; else none: the format has no place for one."""
        return 0.0 if self._has_alpha else None

    @property
    def levels(self) -> tuple[Grid, ...]:
        """Full resolution, and those that its decompositions give.

        A low-pass sample stands at the first of the two pixels it is made of (annex F), so that the pixels of a
        coarser level lie half a pixel, less half one of the full resolution, further west and north than averages.
        """
        return self._levels

    @property
    def block(self) -> tuple[int, int]:
        """Rows and columns of a tile."""
        size = self._stream.size
        return min(size.tile_height, self._stream.height), min(size.tile_width, self._stream.width)

    @property
    def notes(self) -> tuple[str, ...]:
        """Why windows or overviews of this file are dear, where they are."""
        stream, name = self._stream, Path(self.source.address).name
        found = []
        if stream.across * stream.down == 1 and stream.width * stream.height > _LARGE_PX:
            found.append(f"{name} is one tile: any window of it decodes the whole image.")
        if stream.hindrance:
            found.append(f"{name} has no overviews that can be read by themselves: {stream.hindrance}.")
        return tuple(found)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        wanted = list(range(len(self._bands)) if bands is None else bands)
        grid = self._levels[level]
        out = np.zeros((len(wanted), window.height, window.width), self.dtype)
        inside = window.intersect(grid.window)
        if inside.is_empty:
            return out
        for tile in self._tiles_under(inside, level):
            left, upper, right, lower = self._place(tile, level)
            place = Window(left, upper, right - left, lower - upper)
            both = place.intersect(inside)
            if both.is_empty:
                continue
            rows, cols = both.slices_in(place)
            block = self._block(tile, level)[:, rows, cols]
            target = (slice(None), *both.slices_in(window))
            out[target] = self._shown(block, wanted)
        return out

    def _shown(self, block: Pixels, wanted: list[int]) -> Pixels:
        if not self._has_alpha:
            return block[wanted]
        return np.where(block[-1:] != 0, np.maximum(block[wanted], 1), 0)

    def _tiles_under(self, inside: Window, level: int) -> list[int]:
        """Tiles that a window of a level touches."""
        stream, size, times = self._stream, self._stream.size, 1 << level
        lefts, uppers = size.left - size.tile_left, size.upper - size.tile_upper
        # A pixel of a level is that of the full resolution whose number is its own times the reduction.
        cols = [(inside.col * times + lefts), ((inside.stop_col - 1) * times + lefts)]
        rows = [(inside.row * times + uppers), ((inside.stop_row - 1) * times + uppers)]
        across = range(cols[0] // size.tile_width, min(cols[1] // size.tile_width + 1, stream.across))
        down = range(rows[0] // size.tile_height, min(rows[1] // size.tile_height + 1, stream.down))
        return [row * stream.across + col for row, col in itertools.product(down, across)]

    def _place(self, tile: int, level: int) -> tuple[int, int, int, int]:
        size, times = self._stream.size, 1 << level
        left, upper, right, lower = self._stream.corners(tile)
        edges = left - size.left, upper - size.upper, right - size.left, lower - size.upper
        return tuple(-(-edge // times) for edge in edges)  # type: ignore[return-value]

    @property
    def is_tiled(self) -> bool:
        """True when windows can be read without the whole image."""
        return self._stream.across * self._stream.down > 1

    @property
    def is_zstd(self) -> bool:
        """Never."""
        return False

    def stretches(self, window: Window) -> list[tuple[int, int]]:
        """Offset and length in bytes of every tile-part of the full resolution under a window."""
        inside = window.intersect(self._grid.window)
        tiles = [] if inside.is_empty else self._tiles_under(inside, 0)
        parts = [part for tile in tiles for part in self._stream.parts.get(tile, ())]
        return [(self._start + part.offset, part.length) for part in parts]

    def _block(self, tile: int, level: int) -> Pixels:
        """A decoded tile, shape (components, rows, cols), read-only."""
        key = (self.identity, level, tile)
        rows, cols = self._stream.shape(tile, level)
        cache: Any = _LARGE if rows * cols > _LARGE_PX else blockcache.shared()
        block = cache.get(key)
        if block is None:
            with _LARGE.lock if cache is _LARGE else nullcontext():
                block = cache.get(key)
                if block is None:
                    block = self._decode(tile, level)
                    block.flags.writeable = False
                    cache.put(key, block)
        found: Pixels = block
        return found

    def _decode(self, tile: int, level: int) -> Pixels:
        parts = self._stream.parts.get(tile, ())
        rows, cols = self._stream.shape(tile, level)
        if not parts:
            raise self._damaged(tile, "it is not there")
        if level and self._stream.coarse_first and len(parts) == 1 and self._is_far(parts[0].length):
            block = self._from_share(tile, level, parts[0])
            if block is not None:
                return block
        data = [self._whole(tile, part) for part in parts]
        return self._decoded(tile, level, data, (rows, cols))

    def _is_far(self, length: int) -> bool:
        return length > _WORTH_CUTTING and not isinstance(self.source, LocalFile)

    def _whole(self, tile: int, part: codestream.Part) -> bytes:
        data = self._stream_bytes(part.offset, part.length)
        if len(data) < part.length:
            raise self._damaged(tile, "it ends after the file's last byte")
        return data

    def _from_share(self, tile: int, level: int, part: codestream.Part) -> Pixels | None:
        """A coarse level from the first bytes of a tile-part; None when most of it would be needed.

        Too short a piece mostly fails to decode. One that ends just between two packets need not: what decodes is
        tried again with some bytes less, and only what comes out the same counts.
        """
        shape = self._stream.shape(tile, level)
        share = self._shares[min(level, len(self._shares) - 1)]
        while (length := max(_LEAST_SHARE_BYTES, math.ceil(share * part.length))) < 0.8 * part.length:
            data = self._stream_bytes(part.offset, length)
            try:
                block = self._decoded(tile, level, [data], shape)
                if np.array_equal(block, self._decoded(tile, level, [data[: length - length // 16]], shape)):
                    return block
            except DataError:
                pass
            share = length / part.length * 1.4
            if level < len(self._shares):
                self._shares[level] = max(self._shares[level], min(share, 0.8))
        return None

    def _decoded(self, tile: int, level: int, parts: list[bytes], shape: tuple[int, int]) -> Pixels:
        alone = self._stream.alone(tile, parts, level)
        try:
            pixels = np.asarray(imagecodecs.jpeg2k_decode(alone))
        except (imagecodecs.Jpeg2kError, ValueError, RuntimeError, TypeError) as error:
            raise self._damaged(tile, f"it does not decode ({error})") from error
        pixels = pixels[np.newaxis] if pixels.ndim == 2 else np.moveaxis(pixels, 2, 0)
        if pixels.shape != (self._stream.components, *shape) or pixels.dtype != self.dtype:
            raise self._damaged(tile, f"it decodes to {pixels.shape} of {pixels.dtype}")
        return np.ascontiguousarray(pixels)

    def _damaged(self, tile: int, how: str) -> DataError:
        row, col = divmod(tile, self._stream.across)
        return DataError(
            f"{self.source.address} is damaged: of the tile in row {row}, column {col} {how}.",
            todo_of(self.source.address),
        )


def _levels(grid: Grid, stream: codestream.Codestream) -> list[Grid]:
    """The full grid, and one for each decomposition that leaves a picture worth its name."""
    found = [grid]
    for halved in range(1, stream.halvings + 1) if not stream.hindrance else ():
        times = 1 << halved
        width, height = -(-stream.width // times), -(-stream.height // times)
        if max(width, height) < _LEAST_SIDE_PX:
            break
        west = grid.west + (0.5 - times / 2) * grid.pixel_x
        north = grid.north - (0.5 - times / 2) * grid.pixel_y
        found.append(Grid(grid.crs, grid.pixel_x * times, grid.pixel_y * times, west, north, width, height))
    return found


class _Large:
    """The last few decoded tiles that are too large for the common memory."""

    def __init__(self) -> None:
        self.lock = threading.RLock()
        self._kept: OrderedDict[Any, Pixels] = OrderedDict()

    def get(self, key: Any) -> Pixels | None:
        """The tile, or None."""
        with self.lock:
            return self._kept.get(key)

    def put(self, key: Any, block: Pixels) -> None:
        """Keep a tile."""
        with self.lock:
            self._kept[key] = block
            while len(self._kept) > _LARGE_KEPT:
                self._kept.popitem(last=False)


_LARGE = _Large()
