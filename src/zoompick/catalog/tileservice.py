"""Picture-tile services: what one offers, read from WMTS capabilities, a TileJSON document, or an address pattern.

Source: OGC 07-057r7 (WMTS 1.0.0), section 7; TileJSON 3.0.0; OGC 17-083r4 (Two Dimensional Tile Matrix Set).
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode, urljoin, urlsplit

import defusedxml.ElementTree
from defusedxml.common import DefusedXmlException

from zoompick.catalog.criteria import Criteria
from zoompick.errors import SourceError, UsageError
from zoompick.net.client import Client

_PIXEL_M = 0.00028
"""Side of a pixel on the screen that scale denominators assume (WMTS 1.0.0, section 6.1)."""
_EQUATOR_M, _TILE_PX = 40_075_016.686, 256
_MOST_ZOOM = 24


@dataclass(frozen=True, slots=True)
class TileLayer:
    """One layer.

    Attributes
    ----------
    matrix_set : str
        Its grid of tiles.
    zooms : tuple of str
        Names of its levels, coarse to fine.
    finest_m, coarsest_m : float or None
        Ground sample distance at the equator, where it is told.
    address : str
        Pattern of a tile's address: ``{z}``, ``{x}``, ``{y}`` or the WMTS names.
    """

    name: str
    title: str
    formats: tuple[str, ...]
    matrix_set: str
    zooms: tuple[str, ...]
    finest_m: float | None
    coarsest_m: float | None
    address: str
    attribution: str = ""
    bounds: tuple[float, ...] = ()

    def sample_address(self) -> str:
        """Address of the tile in the middle of the layer on its coarsest level, counted as in web mercator.

        Source: OGC 17-083r4, annex D.1.
        """
        west, south, east, north = self.bounds or (-180.0, -85.0, 180.0, 85.0)
        zoom = int(self.zooms[0]) if self.zooms and self.zooms[0].isdigit() else 0
        count = 2**zoom
        x = int(((west + east) / 2 + 180) / 360 * count)
        y = int((1 - math.asinh(math.tan(math.radians((south + north) / 2))) / math.pi) / 2 * count)
        places = {
            "z": zoom, "x": x, "y": y, "-y": count - 1 - y, "TileMatrixSet": self.matrix_set,
            "TileMatrix": self.zooms[0] if self.zooms else zoom, "TileRow": y, "TileCol": x, "Style": "default",
        }  # fmt: skip
        return re.sub(r"\{([^{}]+)\}", lambda match: str(places.get(match[1], match[0])), self.address)


def is_pattern(url: str) -> bool:
    """True for the address pattern of a tile: ``…/{z}/{x}/{y}.png``."""
    return all(word in url for word in ("{z}", "{x}")) and ("{y}" in url or "{-y}" in url)


class TileService:
    """One service. It has pictures, no scenes: a search says so."""

    def __init__(self, name: str, url: str, client: Client) -> None:
        self.name, self.url, self._client = name, url, client

    def layers(self) -> list[TileLayer]:
        """All layers.

        Raises
        ------
        SourceError
            Not reachable, or neither capabilities nor TileJSON.
        """
        if is_pattern(self.url):
            zooms = tuple(map(str, range(_MOST_ZOOM + 1)))
            return [TileLayer(self.name, "", (), "web mercator", zooms, None, None, self.url)]
        text = self._client.text(_asking(self.url))
        if text.lstrip().startswith("{"):
            return [self._of_tilejson(text)]
        return list(self._of_capabilities(text))

    def collections(self) -> list[dict[str, Any]]:
        """Its layers in the shape of STAC Collections, for the commands that list a source."""
        return [_as_collection(layer) for layer in self.layers()]

    def search(self, criteria: Criteria) -> Iterator[dict[str, Any]]:
        """Refuse: there is nothing to search."""
        raise UsageError(
            f"{self.name} is a service of picture tiles: it has layers, but no scenes to search.",
            f"See them with 'zoompick source show {self.name}'.",
        )

    def _of_tilejson(self, text: str) -> TileLayer:
        try:
            told = json.loads(text)
            low, high = int(told.get("minzoom", 0)), int(told.get("maxzoom", _MOST_ZOOM))
            address = urljoin(self.url, str(told["tiles"][0]))
        except (ValueError, KeyError, IndexError, TypeError, AttributeError) as error:
            raise SourceError(f"{self.url} is no TileJSON: {error}.", "Check the address.") from error
        bounds = told.get("bounds")
        return TileLayer(
            name=self.name,
            title=str(told.get("name") or ""),
            formats=(address.rpartition(".")[2],),
            matrix_set="web mercator",
            zooms=tuple(map(str, range(low, high + 1))),
            finest_m=_EQUATOR_M / _TILE_PX / 2**high,
            coarsest_m=_EQUATOR_M / _TILE_PX / 2**low,
            address=address,
            attribution=re.sub(r"<[^>]*>", "", str(told.get("attribution") or "")),
            bounds=tuple(map(float, bounds)) if isinstance(bounds, list) and len(bounds) == 4 else (),
        )

    def _of_capabilities(self, text: str) -> Iterator[TileLayer]:
        try:
            root = defusedxml.ElementTree.fromstring(text)
        except (defusedxml.ElementTree.ParseError, DefusedXmlException) as error:
            raise SourceError(f"{self.url} is no WMTS: {error}.", "Give the address of its capabilities.") from error
        if not root.tag.endswith("Capabilities") or "wmts" not in root.tag:
            raise SourceError(
                f"{self.url} answers with {root.tag.rpartition('}')[2]}, which is no WMTS.",
                "Give the address of its capabilities.",
            )
        sets = {
            _text(entry, "Identifier"): _levels(entry)
            for entry in _all(root, "TileMatrixSet")
            if _first(entry, "TileMatrix") is not None
        }
        by = _first(root, "AccessConstraints")
        for layer in _all(root, "Layer"):
            yield _layer(layer, sets, "" if by is None or not by.text else by.text.strip(), self.url)


def _asking(url: str) -> str:
    """The address of a service's capabilities: as it is given, or with the request of WMTS 1.0.0, section 8.2.1."""
    parts = urlsplit(url)
    if "getcapabilities" in url.lower() or re.search(r"\.(xml|json)$", parts.path.lower()):
        return url
    if "wmts" not in url.lower():
        return url
    words = urlencode({"SERVICE": "WMTS", "REQUEST": "GetCapabilities", "VERSION": "1.0.0"})
    return f"{url}{'&' if parts.query else '?'}{words}"


def _layer(layer: Any, sets: dict[str, list[tuple[str, float]]], by: str, base: str) -> TileLayer:
    link = _first(layer, "TileMatrixSetLink")
    name = "" if link is None else _text(link, "TileMatrixSet")
    levels = sets.get(name, [])
    limited = [_text(entry, "TileMatrix") for entry in _all(layer, "TileMatrixLimits")]
    levels = [level for level in levels if level[0] in limited] if limited else levels
    sizes = [size for _, size in levels]
    address = next((entry.get("template", "") for entry in _all(layer, "ResourceURL")), "")
    low, high = (_first(layer, corner) for corner in ("LowerCorner", "UpperCorner"))
    corners = [float(value) for c in (low, high) if c is not None for value in (c.text or "").split()]
    return TileLayer(
        name=_text(layer, "Identifier"),
        title=_text(layer, "Title"),
        formats=tuple(entry.text.strip() for entry in _all(layer, "Format") if entry.text),
        matrix_set=name,
        zooms=tuple(level for level, _ in levels),
        finest_m=min(sizes, default=None),
        coarsest_m=max(sizes, default=None),
        address=urljoin(base, address) if address else "",
        attribution="" if by.lower() == "none" else by,
        bounds=tuple(corners) if len(corners) == 4 else (),
    )


def _levels(matrix_set: Any) -> list[tuple[str, float]]:
    """Name and ground sample distance of each level of a matrix set, coarse to fine."""
    found = [
        (_text(entry, "Identifier"), float(_text(entry, "ScaleDenominator") or "nan") * _PIXEL_M)
        for entry in _all(matrix_set, "TileMatrix")
    ]
    return sorted(found, key=lambda level: -level[1])


def _all(place: Any, name: str) -> list[Any]:
    return [entry for entry in place.iter() if entry.tag.rpartition("}")[2] == name]


def _first(place: Any, name: str) -> Any:
    return next(iter(_all(place, name)), None)


def _text(place: Any, name: str) -> str:
    """Text of a child of this name; empty when there is none."""
    child = next((entry for entry in place if entry.tag.rpartition("}")[2] == name), None)
    return "" if child is None or not child.text else child.text.strip()


def _as_collection(layer: TileLayer) -> dict[str, Any]:
    zooms = f"{layer.zooms[0]} to {layer.zooms[-1]} of {layer.matrix_set}" if layer.zooms else "not told"
    told: dict[str, Any] = {"tiles:zoom_levels": zooms, "tiles:formats": list(layer.formats)}
    if layer.finest_m is not None and layer.coarsest_m is not None:
        told["tiles:pixels"] = f"{layer.finest_m:.3g} to {layer.coarsest_m:.3g} m at the equator"
    if layer.attribution:
        told["tiles:attribution"] = layer.attribution
    extent = {"spatial": {"bbox": [list(layer.bounds)]}} if layer.bounds else {}
    return {"id": layer.name, "title": layer.title, "extent": extent} | told
