"""Byte layout of a Cloud Optimized GeoTIFF: directories before data, smallest overview first.

Source: OGC 21-026 (Cloud Optimized GeoTIFF), TIFF 6.0 section 2, BigTIFF (8-byte offsets) beyond 4 GiB.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from zoompick.arrays import Counts, PixelType
from zoompick.later import np
from zoompick.raster import geokeys, tiffmeta
from zoompick.raster.grid import Grid

_ASCII, _SHORT, _LONG, _DOUBLE, _LONG8 = 2, 3, 4, 12, 16
_CODES = {_ASCII: "s", _SHORT: "H", _LONG: "I", _DOUBLE: "d", _LONG8: "Q"}
_CLASSIC_LIMIT = (1 << 32) - 1
_GREY, _RGB = 1, 2
_SAMPLE_FORMAT = {"u": 1, "i": 2, "f": 3}
COMPRESSION = {"none": 1, "lzw": 5, "jpeg": 7, "deflate": 8, "zstd": 50000, "webp": 50001,
               "lerc": 34887}  # fmt: skip
DEFLATES = (COMPRESSION["deflate"], 32946)
"""The registered number and the one used before."""
_YCBCR, _COPYRIGHT_TAG = 6, 33432
_MASK, _TRANSPARENCY = 4, 4
_LERC_TAG = 50674


@dataclass(frozen=True)
class ImageForm:
    """What all levels of one file share.

    Attributes
    ----------
    separate : bool
        Each band in tiles of its own, else bands lie together pixel by pixel.
    predictor : int
        1 none, 2 horizontal, 3 floating point.
    has_mask : bool
        Each level has a mask of bits beside it, which tells what is there.
    """

    dtype: PixelType
    samples: int
    separate: bool
    side: int
    compression: str
    predictor: int
    is_rgb: bool
    nodata: float | None
    xml: str
    credit: str = ""
    has_mask: bool = False


@dataclass(frozen=True)
class LevelTiles:
    """One level: its grid and the length of each tile, planes outermost, then rows, then columns; of its mask too."""

    grid: Grid
    counts: Counts
    mask: Counts | None = None

    @property
    def parts(self) -> tuple[Counts, ...]:
        """Lengths of the tiles of the picture, and of its mask where it has one."""
        return (self.counts,) if self.mask is None else (self.counts, self.mask)


@dataclass(frozen=True)
class Layout:
    """The head of the file, and where each level's tiles begin, picture and mask."""

    head: bytes
    is_big: bool
    offsets: tuple[tuple[Counts, ...], ...]


def layout(form: ImageForm, levels: Sequence[LevelTiles]) -> Layout:
    """Compute all offsets and the bytes of header and directories.

    Parameters
    ----------
    levels : sequence of LevelTiles
        Full resolution first; the data lie in the opposite order.
    """
    parts = [counts for level in levels for counts in level.parts]
    total = sum(int(counts.sum()) for counts in parts)
    is_big = total + sum(64 * len(counts) for counts in parts) + 1_000_000 > _CLASSIC_LIMIT
    blank = [tuple(np.zeros_like(counts) for counts in level.parts) for level in levels]
    position = len(_head(form, levels, blank, is_big))
    offsets = list(blank)
    for number in reversed(range(len(levels))):
        found = []
        for counts in levels[number].parts:
            found.append(position + np.cumsum(counts) - counts)
            position += int(counts.sum())
        offsets[number] = tuple(found)
    return Layout(_head(form, levels, offsets, is_big), is_big, tuple(offsets))


def _head(
    form: ImageForm, levels: Sequence[LevelTiles], offsets: Sequence[tuple[Counts, ...]], is_big: bool
) -> bytes:
    head = struct.pack("<2sHHHQ", b"II", 43, 8, 0, 16) if is_big else struct.pack("<2sHI", b"II", 42, 8)
    for number, (level, places) in enumerate(zip(levels, offsets, strict=True)):
        every = [_tags(form, level, places[0], number, is_big)]
        if level.mask is not None:
            every.append(_mask_tags(form, level, places[1], number, is_big))
        for tags in every:
            last = number == len(levels) - 1 and tags is every[-1]
            head += _directory(tags, len(head), last, is_big)
    return head


def _mask_tags(form: ImageForm, level: LevelTiles, offsets: Counts, number: int, is_big: bool) -> list[Any]:
    """Tags of a mask: one bit a pixel, 1 where it is there (TIFF 6.0, PhotometricInterpretation 4)."""
    long_type = _LONG8 if is_big else _LONG
    return [
        (254, _LONG, [_MASK | (1 if number else 0)]),
        (256, _LONG, [level.grid.width]),
        (257, _LONG, [level.grid.height]),
        (258, _SHORT, [1]),
        (259, _SHORT, [COMPRESSION["deflate"]]),
        (262, _SHORT, [_TRANSPARENCY]),
        (277, _SHORT, [1]),
        (284, _SHORT, [1]),
        (322, _LONG, [form.side]),
        (323, _LONG, [form.side]),
        (324, long_type, offsets),
        (325, long_type if is_big else _LONG, level.mask),
    ]


def _tags(form: ImageForm, level: LevelTiles, offsets: Counts, number: int, is_big: bool) -> list[Any]:
    """Tags as (number, type, values) in ascending order."""
    long_type = _LONG8 if is_big else _LONG
    bits = form.dtype.itemsize * 8
    extra = form.samples - (3 if form.is_rgb else 1)
    tags: list[Any] = [
        (254, _LONG, [1 if number else 0]),
        (256, _LONG, [level.grid.width]),
        (257, _LONG, [level.grid.height]),
        (258, _SHORT, [bits] * form.samples),
        (259, _SHORT, [COMPRESSION[form.compression]]),
        (262, _SHORT, [_YCBCR if form.compression == "jpeg" else _RGB if form.is_rgb else _GREY]),
        (277, _SHORT, [form.samples]),
        (284, _SHORT, [2 if form.separate else 1]),
    ]
    if form.predictor != 1:
        tags.append((317, _SHORT, [form.predictor]))
    tags += [
        (322, _LONG, [form.side]),
        (323, _LONG, [form.side]),
        (324, long_type, offsets),
        (325, long_type if is_big else _LONG, level.counts),
    ]
    if extra:
        tags.append((338, _SHORT, [0] * extra))
    tags.append((339, _SHORT, [_SAMPLE_FORMAT[form.dtype.kind]] * form.samples))
    if form.compression == "jpeg":
        tags.append((530, _SHORT, [2, 2]))
    if number == 0:
        geo = geokeys.tags_for(level.grid)
        tags += [(_COPYRIGHT_TAG, _ASCII, form.credit)] if form.credit else []
        tags += [
            (geokeys.PIXEL_SCALE_TAG, _DOUBLE, geo.pixel_scale),
            (geokeys.TIEPOINT_TAG, _DOUBLE, geo.tiepoint),
            (geokeys.DIRECTORY_TAG, _SHORT, geo.directory),
            *([(geokeys.DOUBLES_TAG, _DOUBLE, geo.doubles)] if geo.doubles else []),
            *([(geokeys.TEXTS_TAG, _ASCII, geo.texts)] if geo.texts else []),
            (tiffmeta.METADATA_TAG, _ASCII, form.xml),
        ]
    if form.nodata is not None:
        tags.append((tiffmeta.NODATA_TAG, _ASCII, tiffmeta.nodata_text(form.nodata)))
    if form.compression == "lerc":
        # Version of the codec's bytes, and that nothing packs them again.
        tags.append((_LERC_TAG, _LONG, [4, 0]))
    return tags


def _directory(tags: list[Any], start: int, last: bool, is_big: bool) -> bytes:
    """One directory and, after it, the values that do not fit in its entries."""
    entry_size, inline, word = (20, 8, "Q") if is_big else (12, 4, "I")
    count_size = 8 if is_big else 2
    after = start + count_size + entry_size * len(tags) + struct.calcsize(word)
    entries, values = b"", b""
    for number, kind, value in tags:
        data, count = _encoded(kind, value)
        if len(data) <= inline:
            cell = data.ljust(inline, b"\0")
        else:
            cell = struct.pack("<" + word, after + len(values))
            values += data + b"\0" * (-len(data) % 8)
        entries += struct.pack("<HH" + word, number, kind, count) + cell
    values += b"\0" * (-(after + len(values)) % 8)
    following = 0 if last else after + len(values)
    return (
        struct.pack("<" + ("Q" if is_big else "H"), len(tags)) + entries + struct.pack("<" + word, following) + values
    )


def _encoded(kind: int, value: Any) -> tuple[bytes, int]:
    if kind == _ASCII:
        data = value.encode("utf-8") + b"\0"
        return data, len(data)
    array = np.asarray(value, dtype="<" + {"H": "u2", "I": "u4", "d": "f8", "Q": "u8"}[_CODES[kind]])
    return array.tobytes(), array.size
