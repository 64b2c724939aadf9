"""JPEG 2000 codestreams taken apart: one tile, at one resolution, becomes a codestream of its own.

The codec decodes whole codestreams only. A tile by itself is the main header with the image shrunk to that tile, and
its tile-parts; a coarser resolution is the same with fewer decomposition levels told. Nothing is decoded here.
Source: ISO/IEC 15444-1:2019, annex A (codestream syntax) and B (image and tile structure, progression).
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from zoompick.errors import DataError, FormatError
from zoompick.later import np

SOC, SIZ, COD, COC, TLM, PLM, PLT, QCD, QCC = 0xFF4F, 0xFF51, 0xFF52, 0xFF53, 0xFF55, 0xFF57, 0xFF58, 0xFF5C, 0xFF5D
PPM, PPT, POC, SOT, SOD, EOC = 0xFF60, 0xFF61, 0xFF5F, 0xFF90, 0xFF93, 0xFFD9
_START = struct.pack(">HH", SOC, SIZ)
_LRCP, _RLCP, _RPCL = 0, 1, 2
_ORDERS = {0: "LRCP", 1: "RLCP", 2: "RPCL", 3: "PCRL", 4: "CPRL"}
_MOST_HEAD, _MOST_TILES, _MOST_PARTS = 4 << 20, 1 << 20, 1 << 21
_MOST_TILE_BYTES = 8 << 30

Read = Callable[[int, int], bytes]
"""Bytes of the codestream: position from its start, length; fewer at its end."""


def is_codestream(head: bytes) -> bool:
    """True for bytes that begin a codestream."""
    return head.startswith(_START)


class Segment(NamedTuple):
    """A marker segment: its marker, and what follows its length."""

    marker: int
    body: bytes

    def packed(self) -> bytes:
        """As it stands in a codestream."""
        return struct.pack(">HH", self.marker, len(self.body) + 2) + self.body


class Size(NamedTuple):
    """Image and tile corners on the reference grid (SIZ, section A.5.1)."""

    right: int
    lower: int
    left: int
    upper: int
    tile_width: int
    tile_height: int
    tile_left: int
    tile_upper: int


class Part(NamedTuple):
    """A tile-part: where it stands in the codestream, SOT included, and how long it is."""

    offset: int
    length: int


@dataclass(frozen=True)
class Codestream:
    """What the main header tells, and where the tiles are.

    Attributes
    ----------
    size : Size
    dtype : numpy dtype
        Of the decoded pixels.
    bits : int
        Significant ones of each.
    components : int
    halvings : int
        Decomposition levels: how often the resolution can be halved without decoding more.
    hindrance : str
        Why coarser resolutions cannot be had cheaply; empty when they can.
    coarse_first : bool
        The bytes of coarser resolutions stand first in each tile-part.
    """

    size: Size
    dtype: np.dtype[np.generic]
    bits: int
    components: int
    halvings: int
    hindrance: str
    coarse_first: bool
    segments: tuple[Segment, ...] = field(repr=False)
    parts: dict[int, tuple[Part, ...]] = field(repr=False)

    @property
    def width(self) -> int:
        """Columns."""
        return self.size.right - self.size.left

    @property
    def height(self) -> int:
        """Rows."""
        return self.size.lower - self.size.upper

    @property
    def across(self) -> int:
        """Tiles in a row."""
        return -(-(self.size.right - self.size.tile_left) // self.size.tile_width)

    @property
    def down(self) -> int:
        """Tiles in a column."""
        return -(-(self.size.lower - self.size.tile_upper) // self.size.tile_height)

    def corners(self, tile: int) -> tuple[int, int, int, int]:
        """Left, upper, right and lower of a tile on the reference grid (equations B-7 to B-10)."""
        row, col = divmod(tile, self.across)
        s = self.size
        left, upper = s.tile_left + col * s.tile_width, s.tile_upper + row * s.tile_height
        return (
            max(left, s.left),
            max(upper, s.upper),
            min(left + s.tile_width, s.right),
            min(upper + s.tile_height, s.lower),
        )

    def shape(self, tile: int, halved: int = 0) -> tuple[int, int]:
        """Rows and columns of a tile at a resolution."""
        left, upper, right, lower = (_halved(edge, halved) for edge in self.corners(tile))
        return lower - upper, right - left

    def alone(self, tile: int, parts: list[bytes], halved: int = 0) -> bytes:
        """A codestream of one tile at one resolution.

        Parameters
        ----------
        tile : int
            Counted along rows.
        parts : list of bytes
            Its tile-parts as they stand in the file; the last may be cut short where ``coarse_first`` holds.
        halved : int
            How often the resolution is halved.

        Raises
        ------
        DataError
            A tile-part is none.
        """
        left, upper, right, lower = (_halved(edge, halved) for edge in self.corners(tile))
        size = Size(right, lower, left, upper, right - left, lower - upper, left, upper)
        head = b"".join(
            _coarser(segment, size, halved, self.components).packed()
            for segment in self.segments
            if segment.marker not in (TLM, PLM)
        )
        body = b"".join(_part_alone(part, halved, self.components) for part in parts)
        return struct.pack(">H", SOC) + head + body + struct.pack(">H", EOC)


def parse(read: Read, length: int, where: str) -> Codestream:
    """Read the main header and find the tile-parts.

    Raises
    ------
    FormatError
        Of a kind that is not read here.
    DataError
        Damaged.
    """
    segments, first = _main_header(read, where)
    found = {segment.marker: segment.body for segment in reversed(segments)}
    for marker, name in ((SIZ, "SIZ"), (COD, "COD"), (QCD, "QCD")):
        if marker not in found:
            raise _damaged(where, f"its main header has no {name}")
    try:
        size, depths = _size(found[SIZ], where)
        order, layers, halvings = found[COD][1], int.from_bytes(found[COD][2:4], "big"), found[COD][5]
        if halvings > 32:
            raise _damaged(where, f"it tells {halvings} decompositions")
        halvings = min([halvings, *_others(segments, len(depths))])
    except (struct.error, IndexError) as error:
        raise _damaged(where, "a marker segment in its main header is too short") from error
    dtype, bits = _type(depths, where)
    parts = _tile_parts(segments, read, first, length, size, where)
    coarse_first = order in (_RLCP, _RPCL) or (order == _LRCP and layers == 1)
    markers = {segment.marker for segment in segments}
    hindrance = ""
    if POC in markers or PPM in markers:
        hindrance = "its packets follow no single order, or their headers stand apart"
    elif not coarse_first:
        hindrance = f"its progression is {_ORDERS.get(order, order)} with {layers} layers"
    elif size.left or size.upper:
        hindrance = "its image does not begin at the corner of its reference grid"
    return Codestream(
        size, dtype, bits, len(depths), halvings, hindrance, coarse_first and not hindrance, tuple(segments), parts
    )


def _main_header(read: Read, where: str) -> tuple[list[Segment], int]:
    """Marker segments up to the first tile-part, and where that begins."""
    head, place, wanted = read(0, 4096), 2, 4096
    segments: list[Segment] = []
    while True:
        while len(head) < place + 4:
            head, wanted = _more(read, head, wanted, where)
        marker, size = struct.unpack_from(">HH", head, place)
        if marker == SOT:
            return segments, place
        if not 0xFF4F < marker <= 0xFF7F or size < 2:
            raise _damaged(where, f"byte {place} of its main header begins no marker segment")
        while len(head) < place + 2 + size:
            head, wanted = _more(read, head, wanted, where)
        segments.append(Segment(marker, head[place + 4 : place + 2 + size]))
        place += 2 + size


def _more(read: Read, head: bytes, wanted: int, where: str) -> tuple[bytes, int]:
    if len(head) < wanted or wanted > _MOST_HEAD:
        raise _damaged(where, "its main header does not end")
    return read(0, 4 * wanted), 4 * wanted


def _size(body: bytes, where: str) -> tuple[Size, list[int]]:
    right, lower, left, upper, wide, tall, tile_left, tile_upper, count = struct.unpack_from(">8IH", body, 2)
    size = Size(right, lower, left, upper, wide, tall, tile_left, tile_upper)
    fits = left < right and upper < lower and wide and tall and tile_left <= left and tile_upper <= upper
    if not (fits and tile_left + wide > left and tile_upper + tall > upper and 0 < count <= 16384):
        raise _damaged(where, "sizes in its header that cannot be")
    rows = [struct.unpack_from(">3B", body, 36 + 3 * number) for number in range(count)]
    if any(row[1:] != (1, 1) for row in rows):
        raise FormatError(f"{where} has components of different pixel sizes.", "Write them to files of their own.")
    tiles = -(-(right - tile_left) // wide) * -(-(lower - tile_upper) // tall)
    if tiles > min(_MOST_TILES, 65535):
        raise _damaged(where, f"{tiles} tiles are told where 65535 are the most")
    if min(wide, right) * min(tall, lower) * count * 2 > _MOST_TILE_BYTES:
        raise FormatError(
            f"{where} has tiles of {wide} x {tall} px: too large to decode.", "Write it with smaller ones."
        )
    return size, [row[0] for row in rows]


def _type(depths: list[int], where: str) -> tuple[np.dtype[np.generic], int]:
    """Type of the decoded pixels from the depths of the components (Ssiz, table A.11)."""
    if len(set(depths)) > 1:
        raise FormatError(f"{where} has components of different depths.", "Write them to files of their own.")
    bits, signed = (depths[0] & 0x7F) + 1, bool(depths[0] & 0x80)
    if bits > 16:
        raise FormatError(f"{where} has {bits} bits a pixel; up to 16 are read.", "Write it as a GeoTIFF.")
    return np.dtype(f"{'i' if signed else 'u'}{1 if bits <= 8 else 2}"), bits


def _others(segments: list[Segment], components: int) -> Iterator[int]:
    """Decomposition levels that single components tell for themselves."""
    wide = 1 if components < 257 else 2
    for segment in segments:
        if segment.marker == COC:
            yield segment.body[wide + 1]


def _tile_parts(
    segments: list[Segment], read: Read, first: int, length: int, size: Size, where: str
) -> dict[int, tuple[Part, ...]]:
    """Tile-parts of each tile, by TLM where there is one that holds, else by going from one to the next."""
    told = list(_from_tlm(segments, first))
    if not told or told[-1][1].offset + told[-1][1].length > length:
        told = list(_by_hopping(read, first, length, where))
    found: dict[int, list[Part]] = {}
    for tile, part in told:
        found.setdefault(tile, []).append(part)
    return {tile: tuple(parts) for tile, parts in found.items()}


def _from_tlm(segments: list[Segment], first: int) -> Iterator[tuple[int, Part]]:
    """Tile numbers and lengths as TLM tells them (section A.7.1)."""
    place, number = first, 0
    for segment in sorted((s for s in segments if s.marker == TLM and len(s.body) >= 2), key=lambda s: s.body[0]):
        kind = segment.body[1]
        wide_tile, wide_length = (kind >> 4) & 3, 4 if kind & 0x40 else 2
        step = wide_tile + wide_length
        for start in range(2, len(segment.body) - step + 1, step):
            tile = int.from_bytes(segment.body[start : start + wide_tile], "big") if wide_tile else number
            size = int.from_bytes(segment.body[start + wide_tile : start + step], "big")
            yield tile, Part(place, size)
            place, number = place + size, number + 1


def _by_hopping(read: Read, first: int, length: int, where: str) -> Iterator[tuple[int, Part]]:
    place, count = first, 0
    while place + 12 <= length:
        head = read(place, 12)
        if len(head) < 12 or head[:2] == struct.pack(">H", EOC):
            return
        marker, _, tile, size = struct.unpack_from(">HHHI", head)
        if marker != SOT:
            raise _damaged(where, f"byte {place} of its codestream begins no tile-part")
        size = size or length - place
        if size < 14 or count > _MOST_PARTS:
            raise _damaged(where, f"the tile-part at byte {place} has a length that cannot be")
        yield tile, Part(place, min(size, length - place))
        place, count = place + size, count + 1


def _halved(edge: int, times: int) -> int:
    return -(-edge // (1 << times))


def _coarser(segment: Segment, size: Size, halved: int, components: int) -> Segment:
    """A segment of the main header for one tile with fewer decompositions."""
    marker, body = segment
    if marker == SIZ:
        return Segment(SIZ, body[:2] + struct.pack(">8I", *size) + body[34:])
    return _fewer(segment, halved, components)


def _fewer(segment: Segment, halved: int, components: int) -> Segment:
    """A segment with so many decompositions less: COD and COC in their count, QCD and QCC in their steps (A.6)."""
    marker, body = segment
    if not halved:
        return segment
    wide = 1 if components < 257 else 2
    if marker in (COD, COC):
        at, has_precincts = (5, body[0] & 1) if marker == COD else (wide + 1, body[wide] & 1)
        levels = body[at]
        body = body[:at] + bytes([max(0, levels - halved)]) + body[at + 1 :]
        return Segment(marker, body[: len(body) - min(halved, levels)] if has_precincts else body)
    if marker in (QCD, QCC):
        style = body[0 if marker == QCD else wide] & 0x1F
        # Style 1 tells one step for all; in the others each decomposition has three.
        step = {0: 1, 2: 2}.get(style, 0)
        return Segment(marker, body[: len(body) - 3 * halved * step] if step else body)
    return segment


def _part_alone(part: bytes, halved: int, components: int) -> bytes:
    """A tile-part as one of the only tile, its own header made coarser too, its length told anew."""
    if len(part) < 14 or part[:2] != struct.pack(">H", SOT):
        raise DataError("A tile-part of the codestream is missing.", "Remove the file and download it again.")
    place, head = 12, b""
    while part[place : place + 2] != struct.pack(">H", SOD):
        if len(part) < place + 4:
            raise DataError("A tile-part of the codestream has no data.", "Remove the file and download it again.")
        marker, size = struct.unpack_from(">HH", part, place)
        segment = Segment(marker, part[place + 4 : place + 2 + size])
        if size < 2:
            raise DataError("A tile-part's header is damaged.", "Remove the file and download it again.")
        if marker != PLT:
            head += _fewer(segment, halved, components).packed()
        place += 2 + size
    body = part[place:]
    return struct.pack(">HHHI", SOT, 10, 0, 12 + len(head) + len(body)) + part[10:12] + head + body


def _damaged(where: str, how: str) -> DataError:
    return DataError(f"{where} is damaged: {how}.", "Remove the file and download it again.")
