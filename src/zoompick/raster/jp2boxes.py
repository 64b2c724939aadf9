"""Boxes of a JP2 file: where its codestream lies, and where on the ground its pixels are.

Source: ISO/IEC 15444-1:2019, annex I (JP2 file format); OGC 08-085r5 (GML in JPEG 2000); the GeoTIFF box that many
programs write, a degenerate GeoTIFF in a box of its own.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, NamedTuple

from zoompick.area.guard import local, xml_root
from zoompick.bytesource import todo_of
from zoompick.errors import AreaError, DataError, FormatError, PlacelessError, UsageError
from zoompick.geo.crs import Crs
from zoompick.raster import codestream, directory, geokeys
from zoompick.raster.placement import Affine, Placed
from zoompick.raster.source import ByteSource

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

_SIGNATURE = b"\0\0\0\x0cjP  \r\n\x87\n"
_GEO = bytes.fromhex("b14bf8bd083d4b43a5ae8cd7d5a6ce03")
_NESTED = (b"jp2h", b"asoc", b"res ")
_MOST_BOX, _MOST_BOXES = 16 << 20, 4096


def is_jp2(head: bytes) -> bool:
    """True when a file begins like a JP2, or is a codestream without boxes."""
    return head.startswith(_SIGNATURE) or codestream.is_codestream(head)


class Jp2(NamedTuple):
    """Where the codestream lies in the file, and what the boxes beside it tell.

    Attributes
    ----------
    has_alpha : bool
        The last component tells opacity (box ``cdef``).
    is_palette : bool
        Values are places in a table of colours.
    geo : bytes
        The degenerate GeoTIFF; empty for none.
    gml : bytes
        The GML document; empty for none.
    """

    offset: int
    length: int
    has_alpha: bool = False
    is_palette: bool = False
    geo: bytes = b""
    gml: bytes = b""


def boxes(source: ByteSource) -> Jp2:
    """Go through the boxes of a file.

    Raises
    ------
    DataError
        A box that cannot be, or no codestream.
    """
    if codestream.is_codestream(source.read(0, 4)):
        return Jp2(0, source.size)
    found = Jp2(0, 0)
    for kind, start, length in _boxes(source, 0, source.size, 0):
        if kind == b"jp2c" and not found.length:
            found = found._replace(offset=start, length=length)
        elif kind == b"uuid" and length <= _MOST_BOX and source.read(start, 16) == _GEO:
            found = found._replace(geo=source.read(start + 16, length - 16))
        elif kind == b"xml " and not found.gml and length <= _MOST_BOX:
            text = source.read(start, length)
            found = found._replace(gml=text) if b"RectifiedGrid" in text else found
        elif kind == b"pclr":
            found = found._replace(is_palette=True)
        elif kind == b"cdef":
            found = found._replace(has_alpha=_tells_opacity(source.read(start, min(length, 4096))))
    if not found.length:
        raise DataError(f"{source.address} is damaged: it has no codestream.", todo_of(source.address))
    return found


def _boxes(source: ByteSource, start: int, stop: int, depth: int) -> Iterator[tuple[bytes, int, int]]:
    """Kind, first byte and length of the content of each box, those in boxes of boxes too (section I.4)."""
    place, count = start, 0
    while place + 8 <= stop:
        head = source.read(place, 16)
        length, kind = struct.unpack(">I4s", head[:8])
        lead = 8
        if length == 1 and len(head) == 16:
            (length,), lead = struct.unpack(">Q", head[8:]), 16
        elif length == 0:
            length = stop - place
        count += 1
        if length < lead or place + length > stop + (stop == source.size) * length or count > _MOST_BOXES:
            raise DataError(
                f"{source.address} is damaged: the box at byte {place} has a length that cannot be.",
                todo_of(source.address),
            )
        inner = place + lead, min(length, stop - place) - lead
        yield kind, *inner
        if kind in _NESTED and depth < 4:
            yield from _boxes(source, inner[0], inner[0] + inner[1], depth + 1)
        place += length


def _tells_opacity(body: bytes) -> bool:
    """True when the last channel is one of opacity (section I.5.3.6)."""
    if len(body) < 2:
        return False
    (count,) = struct.unpack_from(">H", body)
    rows = [struct.unpack_from(">3H", body, 2 + 6 * n) for n in range(min(count, (len(body) - 2) // 6))]
    return any(kind in (1, 2) and channel == count - 1 for channel, kind, _ in rows)


def placed_by(source: ByteSource, told: Jp2, width: int, height: int) -> Placed:
    """Where the pixels are, by the GeoTIFF box, else by GML, else by a world file and a ``.prj`` beside.

    Raises
    ------
    FormatError
        Nothing tells it, or not with an EPSG number.
    """
    if told.geo:
        return geokeys.placed_by(directory.geo_tags(told.geo, source.address), width, height, source.address)
    if told.gml:
        return _from_gml(told.gml, width, height, source.address)
    beside = _from_world_file(source, width, height)
    if beside is None:
        raise PlacelessError(
            f"{source.address} is a JPEG 2000 without a georeference.",
            "Its folder may hold a world file (.j2w) and a .prj: keep them beside it.",
        )
    return beside


def _from_gml(text: bytes, width: int, height: int, where: str) -> Placed:
    """The rectified grid of GML; its origin is the centre of the first pixel."""
    try:
        found = [node for node in xml_root(text, where).iter() if local(node) == "RectifiedGrid"]
        if not found:
            raise ValueError("it has no rectified grid")
        grid = found[0]
        origin, vectors = _numbers(grid, "pos"), _all_numbers(grid, "offsetVector")
        crs = _crs_named(grid)
        if len(vectors) != 2 or len(origin) < 2 or any(len(vector) < 2 for vector in vectors):
            raise ValueError("its grid has no origin with two offset vectors")
        if _is_rows_first(grid, width, height):
            vectors.reverse()
        return _placed(crs, origin, vectors, width, height, where)
    except (AreaError, ValueError, UsageError) as error:
        raise FormatError(
            f"{where} tells its place in GML that cannot be used: {error}.",
            "Write it again with an EPSG number.",
        ) from error


def _placed(crs: Crs, origin: list[float], vectors: list[list[float]], width: int, height: int, where: str) -> Placed:
    """The place from the first pixel's centre, the step to the next column and that to the next row.

    Writers differ in whether the northing comes first; the steps themselves tell.
    """
    across, down = vectors
    if _is_north_up(across[1], across[0], down[1], down[0]) and not _is_north_up(*across[:2], *down[:2]):
        across, down, origin = across[1::-1], down[1::-1], origin[1::-1]
    at = Affine(across[0], down[0], origin[0], across[1], down[1], origin[1]).by_centres()
    return Placed.of(crs, at, width, height, where)


def _is_north_up(a: float, d: float, b: float, e: float) -> bool:
    """True when columns run east by ``a`` and rows south by ``e``, and nothing else."""
    return a > 0 > e and max(abs(b), abs(d)) < min(a, -e)


def _is_rows_first(grid: Element, width: int, height: int) -> bool:
    """True where the limits of the grid count rows before columns."""
    high = _numbers(grid, "high")
    return len(high) == 2 and width != height and [int(value) for value in high] == [height - 1, width - 1]


def _numbers(node: Element, name: str) -> list[float]:
    found = _all_numbers(node, name)
    return found[0] if found else []


def _all_numbers(node: Element, name: str) -> list[list[float]]:
    texts = [entry.text or "" for entry in node.iter() if local(entry) == name]
    return [[float(part) for part in re.split(r"[\s,]+", text.strip()) if part] for text in texts]


def _crs_named(grid: Element) -> Crs:
    """The reference system that the grid, its origin or a vector names: an address, a URN or a code."""
    names = [node.get("srsName", "") for node in grid.iter()]
    number = next(
        (match[1] for name in names if (match := re.search(r"EPSG[^0-9]*(?:[0-9.]+[:/]{1,2})?(\d{4,6})$", name))), ""
    )
    if not number:
        raise ValueError("it names no EPSG number")
    return Crs.parse(number)


def _from_world_file(source: ByteSource, width: int, height: int) -> Placed | None:
    """The place by the six numbers of a world file and of the ``.prj`` beside it, here or there; None without."""
    sibling: Callable[[str], bytes | None] = getattr(source, "sibling", lambda ending: None)
    prj = sibling(".prj")
    world = next((data for end in (".j2w", ".jp2w", ".wld") if (data := sibling(end))), None) if prj else None
    if world is None or prj is None:
        return None
    try:
        a, d, b, e, x, y = (float(part) for part in world.decode("ascii").split()[:6])
        crs = Crs.from_wkt(prj.decode("utf-8", "replace"))
    except (ValueError, UsageError) as error:
        raise FormatError(f"World file or .prj beside {source.address} cannot be used: {error}.") from error
    return _placed(crs, [x, y], [[a, d], [b, e]], width, height, source.address)
