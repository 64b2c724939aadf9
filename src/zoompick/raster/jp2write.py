"""JP2 files without loss: tiles encoded one by one, laid under one main header, their place told in GML.

Source: ISO/IEC 15444-1:2019, annexes A and I; OGC 08-085r5 (GML in JPEG 2000), section 8.
"""

from __future__ import annotations

import struct
from pathlib import Path

from zoompick.errors import FormatError
from zoompick.files import writing
from zoompick.later import imagecodecs
from zoompick.raster.grid import Grid
from zoompick.raster.raster import Raster

_SIDE_PX, _LEVELS = 512, 3
"""A tile's side is a multiple of a code block's (64) at the coarsest level, so that tiles fit their places."""
_SIZ, _SOT, _SOD, _TLM = 0xFF51, 0xFF90, 0xFF93, 0xFF55


def write_jp2(raster: Raster, path: Path) -> None:
    """Write a raster of one band of unsigned 8 or 16 bits; the format has no place for a no-data value.

    Raises
    ------
    FormatError
        Other pixels.
    DiskError
        No room; nothing is left behind.
    """
    if len(raster.bands) != 1 or raster.dtype.kind != "u" or raster.dtype.itemsize > 2:
        raise FormatError(f"{len(raster.bands)} bands of {raster.dtype} are not written as JPEG 2000.", "As GeoTIFF.")
    rows, cols = raster.grid.height, raster.grid.width
    head, parts = b"", []
    for number, window in enumerate(raster.grid.tiles(_SIDE_PX)):
        tile = raster.read(window)[0].copy()
        coded = imagecodecs.jpeg2k_encode(tile, level=0, codecformat="J2K", reversible=True, resolutions=_LEVELS + 1)
        start = coded.index(struct.pack(">HH", _SOT, 10))
        head = head or bytes(coded[2:start])
        body = bytes(coded[start + 12 : -2])
        parts.append(struct.pack(">HHHIBB", _SOT, 10, number, 12 + len(body), 0, 1) + body)
    told = b"".join(struct.pack(">HI", number, len(part)) for number, part in enumerate(parts))
    lengths = struct.pack(">HHBB", _TLM, 4 + len(told), 0, 0x60) + told
    size = struct.pack(">8I", cols, rows, 0, 0, _SIDE_PX, _SIDE_PX, 0, 0)
    # The first segment is SIZ: marker, length and capabilities stay.
    stream = b"\xff\x4f" + head[:6] + size + head[38:] + lengths + b"".join(parts) + b"\xff\xd9"
    depth = 8 * raster.dtype.itemsize - 1
    image = _box(b"ihdr", struct.pack(">IIHBBBB", rows, cols, 1, depth, 7, 0, 0))
    colour = _box(b"colr", struct.pack(">BBBI", 1, 0, 0, 17))
    with writing(path, durable=False) as out:
        out.write(_box(b"jP  ", b"\r\n\x87\n") + _box(b"ftyp", b"jp2 \0\0\0\0jp2 jpx "))
        out.write(_box(b"jp2h", image + colour) + _gml(raster.grid) + _box(b"jp2c", stream))


def _box(kind: bytes, body: bytes) -> bytes:
    return struct.pack(">I4s", 8 + len(body), kind) + body


def _gml(grid: Grid) -> bytes:
    """The association of boxes that carries a GML document; its origin is the centre of the first pixel."""
    if not grid.crs.epsg:
        raise FormatError(
            f"A JP2 names its reference system by an EPSG number, which {grid.crs} has not.", "Write a .tif."
        )
    name = f"urn:ogc:def:crs:EPSG::{grid.crs.epsg}"
    west, north = grid.west + grid.pixel_x / 2, grid.north - grid.pixel_y / 2
    text = f"""<gml:FeatureCollection xmlns:gml="http://www.opengis.net/gml/3.2"><gml:featureMember>
<gml:RectifiedGridCoverage><gml:domainSet><gml:RectifiedGrid dimension="2" srsName="{name}">
<gml:limits><gml:GridEnvelope><gml:low>0 0</gml:low><gml:high>{grid.width - 1} {grid.height - 1}</gml:high>
</gml:GridEnvelope></gml:limits><gml:axisLabels>x y</gml:axisLabels>
<gml:origin><gml:Point gml:id="p1" srsName="{name}"><gml:pos>{west} {north}</gml:pos></gml:Point></gml:origin>
<gml:offsetVector srsName="{name}">{grid.pixel_x} 0</gml:offsetVector>
<gml:offsetVector srsName="{name}">0 {-grid.pixel_y}</gml:offsetVector>
</gml:RectifiedGrid></gml:domainSet></gml:RectifiedGridCoverage></gml:featureMember></gml:FeatureCollection>"""
    label = _box(b"lbl ", b"gml.root-instance") + _box(b"xml ", text.encode())
    return _box(b"asoc", _box(b"lbl ", b"gml.data") + _box(b"asoc", label))
