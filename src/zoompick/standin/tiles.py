"""Picture tiles of the world: WMTS 1.0.0 (capabilities, KVP and REST), XYZ and TileJSON, zoom 6 to 18.

Source: OGC 07-057r7, sections 7.1 (capabilities) and 10.1 (REST); OGC 17-083r4, annex D.1 (WebMercatorQuad).
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

import imagecodecs
import numpy as np

from zoompick.geo.crs import Crs
from zoompick.raster.grid import Grid
from zoompick.standin import ground
from zoompick.standin.passes import Pass

MATRIX_SET = "WebMercatorQuad"
_MERCATOR = Crs(3857)
_HALF_M = 20_037_508.342789244
_PX = 256
_COARSE_M = 12.0
_SCALE = 559_082_264.0287178
FORMATS = {"png": "image/png", "jpg": "image/jpeg", "webp": "image/webp"}
_CREDIT = "Ostrell survey, invented; free to use with this line"
_BRIGHTEST = {"red": 0.28, "green": 0.28, "blue": 0.28, "nir": 0.55}


@dataclass(frozen=True)
class Layer:
    """A layer: its bands, its first and last zoom level, the day it shows."""

    name: str
    title: str
    bands: tuple[str, str, str]
    first: int
    last: int
    day: datetime


_SUMMER, _FLIGHT = datetime(2025, 12, 15, 11, tzinfo=UTC), datetime(2025, 12, 2, 11, tzinfo=UTC)
LAYERS = {
    layer.name: layer
    for layer in (
        Layer("natural", "Natural colour, summer 2025", ("red", "green", "blue"), 6, 14, _SUMMER),
        Layer("infrared", "Colour infrared, summer 2025", ("nir", "red", "green"), 6, 14, _SUMMER),
        Layer("aerial", "Aerial photographs 2025", ("red", "green", "blue"), 12, 18, _FLIGHT),
    )
}


class NoTileError(Exception):
    """There is no such layer, level, place or format."""


@lru_cache(maxsize=256)
def tile(cache: Path, layer: str, zoom: int, x: int, y: int, form: str) -> tuple[bytes, str]:
    """Bytes and media type of a tile; :class:`NoTileError` when there is none."""
    about = LAYERS.get(layer)
    if about is None or form not in FORMATS or not about.first <= zoom <= about.last:
        raise NoTileError(f"no {layer} at level {zoom} as {form}")
    count = 2**zoom
    if not (0 <= x < count and 0 <= y < count):
        raise NoTileError(f"level {zoom} has no tile {x}, {y}")
    side_m = 2 * _HALF_M / count
    # Coarse pixels are the mean of four points.
    points = _PX * (2 if side_m / _PX > _COARSE_M else 1)
    step = side_m / points
    grid = Grid(_MERCATOR, step, step, -_HALF_M + x * side_m, _HALF_M - y * side_m, points, points)
    clear = Pass(9900, "", about.day, 0.0, 0.0, "cumulus", 0.0, 0.0)
    picture = ground.see(clear, grid, cache)
    colours = [np.clip(picture.band(band) / _BRIGHTEST[band], 0, 1) ** 0.6 * 255 for band in about.bands]
    large = np.dstack(colours).reshape(_PX, points // _PX, _PX, points // _PX, 3)
    pixels = np.ascontiguousarray(large.mean(axis=(1, 3)).astype(np.uint8))
    return _encoded(pixels, form), FORMATS[form]


def _encoded(pixels: Any, form: str) -> bytes:
    if form == "png":
        return bytes(imagecodecs.png_encode(pixels))
    return bytes(imagecodecs.jpeg_encode(pixels, 85) if form == "jpg" else imagecodecs.webp_encode(pixels, 80))


def tilejson(base: str, layer: str) -> dict[str, Any]:
    """TileJSON 3.0.0 of a layer."""
    about = LAYERS.get(layer)
    if about is None:
        raise NoTileError(f"no layer {layer}")
    west, south, east, north = ground.outline().bounds
    return {
        "tilejson": "3.0.0",
        "name": about.title,
        "tiles": [f"{base}/tiles/{layer}/{{z}}/{{x}}/{{y}}.png"],
        "minzoom": about.first,
        "maxzoom": about.last,
        "bounds": [round(value, 6) for value in (west, south, east, north)],
        "attribution": _CREDIT,
    }


def capabilities(base: str) -> str:
    """WMTS capabilities."""
    west, south, east, north = ground.outline().bounds
    box = (
        f"<ows:WGS84BoundingBox><ows:LowerCorner>{west:.6f} {south:.6f}</ows:LowerCorner>"
        f"<ows:UpperCorner>{east:.6f} {north:.6f}</ows:UpperCorner></ows:WGS84BoundingBox>"
    )
    layers = "".join(_layer(base, layer, box) for layer in LAYERS.values())
    return (
        '<?xml version="1.0" encoding="UTF-8"?>'
        '<Capabilities xmlns="http://www.opengis.net/wmts/1.0" xmlns:ows="http://www.opengis.net/ows/1.1" '
        'xmlns:xlink="http://www.w3.org/1999/xlink" version="1.0.0">'
        "<ows:ServiceIdentification><ows:Title>Ostrell picture tiles</ows:Title>"
        "<ows:ServiceType>OGC WMTS</ows:ServiceType><ows:ServiceTypeVersion>1.0.0</ows:ServiceTypeVersion>"
        f"<ows:AccessConstraints>{escape(_CREDIT)}</ows:AccessConstraints></ows:ServiceIdentification>"
        f'<ows:OperationsMetadata><ows:Operation name="GetTile"><ows:DCP><ows:HTTP>'
        f'<ows:Get xlink:href="{base}/tiles/wmts?"/></ows:HTTP></ows:DCP></ows:Operation></ows:OperationsMetadata>'
        f"<Contents>{layers}{_matrix_set()}</Contents></Capabilities>"
    )


def _layer(base: str, layer: Layer, box: str) -> str:
    limits = "".join(_limits(level) for level in range(layer.first, layer.last + 1))
    formats = "".join(f"<Format>{kind}</Format>" for kind in FORMATS.values())
    address = f"{base}/tiles/wmts/{layer.name}/{{TileMatrixSet}}/{{TileMatrix}}/{{TileRow}}/{{TileCol}}.png"
    return (
        f"<Layer><ows:Title>{escape(layer.title)}</ows:Title>{box}"
        f"<ows:Identifier>{layer.name}</ows:Identifier>"
        '<Style isDefault="true"><ows:Identifier>default</ows:Identifier></Style>'
        f"{formats}<TileMatrixSetLink><TileMatrixSet>{MATRIX_SET}</TileMatrixSet>"
        f"<TileMatrixSetLimits>{limits}</TileMatrixSetLimits></TileMatrixSetLink>"
        f'<ResourceURL format="image/png" resourceType="tile" template="{address}"/></Layer>'
    )


def _limits(level: int) -> str:
    """Rows and columns in which the world lies on a level."""
    west, south, east, north = ground.outline().bounds
    count = 2**level
    cols = [int((lon + 180) / 360 * count) for lon in (west, east)]
    rows = [int((0.5 - np.arcsinh(np.tan(np.radians(lat))) / (2 * np.pi)) * count) for lat in (north, south)]
    return (
        f"<TileMatrixLimits><TileMatrix>{level}</TileMatrix>"
        f"<MinTileRow>{rows[0]}</MinTileRow><MaxTileRow>{rows[1]}</MaxTileRow>"
        f"<MinTileCol>{cols[0]}</MinTileCol><MaxTileCol>{cols[1]}</MaxTileCol></TileMatrixLimits>"
    )


def _matrix_set() -> str:
    matrices = "".join(
        f"<TileMatrix><ows:Identifier>{level}</ows:Identifier>"
        f"<ScaleDenominator>{_SCALE / 2**level!r}</ScaleDenominator>"
        f"<TopLeftCorner>{-_HALF_M!r} {_HALF_M!r}</TopLeftCorner><TileWidth>{_PX}</TileWidth>"
        f"<TileHeight>{_PX}</TileHeight><MatrixWidth>{2**level}</MatrixWidth>"
        f"<MatrixHeight>{2**level}</MatrixHeight></TileMatrix>"
        for level in range(19)
    )
    return (
        f"<TileMatrixSet><ows:Identifier>{MATRIX_SET}</ows:Identifier>"
        f"<ows:SupportedCRS>urn:ogc:def:crs:EPSG::3857</ows:SupportedCRS>{matrices}</TileMatrixSet>"
    )
