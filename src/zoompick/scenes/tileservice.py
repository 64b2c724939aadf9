"""Picture-tile services: what one offers, read from WMTS capabilities, a TileJSON document, or an address pattern.

Source: OGC 07-057r7 (WMTS 1.0.0), section 7; TileJSON 3.0.0; OGC 17-083r4 (Two Dimensional Tile Matrix Set).
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING
from urllib.parse import urlencode

import defusedxml.ElementTree
from defusedxml.common import DefusedXmlException

from zoompick.addresses import address_parts
from zoompick.errors import SourceError, UnknownNameError, UsageError
from zoompick.files import parse_json, whole_number
from zoompick.geo.crs import Crs
from zoompick.geo.tilegrid import (
    MERCATOR,
    METRES_PER_DEGREE,
    MOST_ZOOM,
    SCREEN_PIXEL_M,
    Matrix,
    TileGrid,
    TileKey,
    sorted_grid,
    web_mercator,
)
from zoompick.jsontypes import JsonObject
from zoompick.later import shapely
from zoompick.net.authority import Authority, Purpose
from zoompick.net.client import Client
from zoompick.net.links import joined
from zoompick.scenes.fields import edges_of

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

_KVP = {
    "SERVICE": "WMTS", "REQUEST": "GetTile", "VERSION": "1.0.0", "LAYER": "{Layer}", "STYLE": "{Style}",
    "TILEMATRIXSET": "{TileMatrixSet}", "TILEMATRIX": "{TileMatrix}", "TILEROW": "{TileRow}", "TILECOL": "{TileCol}",
}  # fmt: skip
_KINDS = {"png": "image/png", "jpg": "image/jpeg", "webp": "image/webp"}


@dataclass(frozen=True, slots=True)
class TileLayer:
    """One layer.

    Attributes
    ----------
    grid : TileGrid
        Its levels, those that it has.
    others : tuple of TileGrid
        More grids that it lies on.
    addresses : mapping of str to str
        Pattern of a tile's address by media type: with ``{z}``, ``{x}``, ``{y}`` or the WMTS names.
    style : str
    bounds : tuple of float
        West, south, east, north in degrees; empty when they are not told.
    authority : Authority or None
        On whose behalf its tiles are fetched.
    """

    name: str
    title: str
    grid: TileGrid
    addresses: Mapping[str, str]
    style: str = "default"
    attribution: str = ""
    bounds: tuple[float, ...] = ()
    authority: Authority | None = None
    others: tuple[TileGrid, ...] = ()

    def on_grid(self, name: str) -> TileLayer:
        """The layer on another of its grids.

        Raises
        ------
        UnknownNameError
            It does not lie on one of this name.
        """
        every = {grid.name: grid for grid in (self.grid, *self.others)}
        if name not in every:
            raise UnknownNameError.of(f"grid of {self.name}", name, every)
        rest = tuple(grid for grid in every.values() if grid.name != name)
        return replace(self, grid=every[name], others=rest)

    def form(self, wanted: str = "") -> str:
        """Media type of its tiles: the one asked for as ``png``, ``jpg`` or ``webp``, else the first it has.

        Raises
        ------
        UsageError
            It has none of that kind.
        """
        if not wanted:
            return next(iter(self.addresses))
        kind = _KINDS.get(wanted, wanted)
        if kind not in self.addresses:
            known = ", ".join(self.addresses) or "nothing told"
            raise UsageError(f"The layer {self.name} has no tiles as {wanted}.", f"It has {known}.")
        return kind

    def address(self, matrix: Matrix, key: TileKey, form: str) -> str:
        """Address of a tile."""
        places = {
            "z": matrix.name, "x": key.col, "y": key.row, "-y": matrix.rows - 1 - key.row, "Layer": self.name,
            "TileMatrixSet": self.grid.name, "TileMatrix": matrix.name, "TileRow": key.row, "TileCol": key.col,
            "Style": self.style, "style": self.style, "s": "abc"[(key.col + key.row) % 3],
        }  # fmt: skip
        return re.sub(r"\{([^{}]+)\}", lambda found: str(places.get(found[1], found[0])), self.addresses[form])

    def sample_address(self) -> str:
        """Address of the tile in the middle of the layer on its coarsest level."""
        matrix = self.grid.matrices[0]
        west, south, east, north = self.bounds or (-180.0, -85.0, 180.0, 85.0)
        middle = shapely.Point((west + east) / 2 - 1e-9, (south + north) / 2 - 1e-9).buffer(1e-9)
        key = next(iter(self.grid.under(middle, matrix)), TileKey(0, 0))
        return self.address(matrix, key, self.form())


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
            return [TileLayer(self.name, "", web_mercator(), {_kind_of(self.url): self.url})]
        text = self._client.text(_asking(self.url))
        if text.lstrip().startswith("{"):
            return [self._of_tilejson(text)]
        return list(self._of_capabilities(text))

    def collections(self) -> list[JsonObject]:
        """Its layers in the shape of STAC Collections, for the commands that list a source."""
        return [_as_collection(layer) for layer in self.layers()]

    def search(self, criteria: object) -> Iterator[JsonObject]:
        """Refuse: there is nothing to search."""
        raise UsageError(
            f"{self.name} is a service of picture tiles: it has layers, but no scenes to search.",
            f"See them with 'zoompick source show {self.name}'.",
        )

    def _of_tilejson(self, text: str) -> TileLayer:
        try:
            told = parse_json(text)
            low, high = int(told.get("minzoom", 0)), int(told.get("maxzoom", MOST_ZOOM))
            address = joined(self.url, str(told["tiles"][0]))
        except (ValueError, KeyError, IndexError, TypeError, AttributeError, OverflowError) as error:
            raise SourceError(f"{self.url} is no TileJSON: {error}.", "Check the address.") from error
        bounds, last = told.get("bounds"), min(MOST_ZOOM, high)
        if not 0 <= low <= last:
            raise SourceError(f"{self.url} tells the levels {low} to {high}.", "That is no TileJSON of pictures.")
        return TileLayer(
            name=self.name,
            title=str(told.get("name") or ""),
            grid=web_mercator(low, last),
            addresses={_kind_of(address): _down(address, str(told.get("scheme")))},
            attribution=re.sub(r"<[^>]*>", "", str(told.get("attribution") or "")),
            bounds=edges_of(bounds),
        )

    def layer(self, name: str) -> TileLayer:
        """A layer by name; the only one when the name is empty.

        Raises
        ------
        UnknownNameError, UsageError, SourceError
        """
        found = {layer.name: layer for layer in self.layers()}
        if name and name not in found:
            raise UnknownNameError.of("layer", name, found)
        if not name and len(found) > 1:
            raise UsageError(f"{self.name} has {len(found)} layers: {', '.join(found)}.", "Say which with `layer`.")
        if not found:
            raise SourceError(f"{self.name} has no layer of tiles that can be read.", "Check its address.")
        chosen, by = found[name] if name else next(iter(found.values())), self._client.authority
        return replace(chosen, authority=replace(by, purpose=Purpose.FETCH) if by else None)

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
        grids = [_grid(entry) for entry in _all(root, "TileMatrixSet") if _first(entry, "TileMatrix") is not None]
        sets = {grid.name: grid for grid in grids if grid is not None}
        by = _first(root, "AccessConstraints")
        credit = "" if by is None or not by.text else by.text.strip()
        for layer in _all(root, "Layer"):
            found = _layer(
                layer, sets, "" if credit.lower() == "none" else credit, self.url, _tiles_at(root, self.url)
            )
            if found is not None:
                yield found


def _asking(url: str) -> str:
    """The address of a service's capabilities: as it is given, or with the request of WMTS 1.0.0, section 8.2.1."""
    parts = address_parts(url)
    if "getcapabilities" in url.lower() or re.search(r"\.(xml|json)$", parts.path.lower()):
        return url
    if "wmts" not in url.lower():
        return url
    words = urlencode({"SERVICE": "WMTS", "REQUEST": "GetCapabilities", "VERSION": "1.0.0"})
    return f"{url}{'&' if parts.query else '?'}{words}"


def _layer(layer: Element, sets: Mapping[str, TileGrid], credit: str, base: str, kvp: str) -> TileLayer | None:
    """One layer on the first of its matrix sets that can be read; None when there is none."""
    links = [entry for entry in _all(layer, "TileMatrixSetLink") if _text(entry, "TileMatrixSet") in sets]
    if not links:
        return None
    # Where a layer lies on several grids, that of most services is the surest.
    links.sort(key=lambda entry: sets[_text(entry, "TileMatrixSet")].crs != MERCATOR)
    grids = [_limited(sets[_text(link, "TileMatrixSet")], _all(link, "TileMatrixLimits")) for link in links]
    styles = sorted(_all(layer, "Style"), key=lambda entry: entry.get("isDefault", "") != "true")
    low, high = (_first(layer, corner) for corner in ("LowerCorner", "UpperCorner"))
    corners = [_finite(value) for c in (low, high) if c is not None for value in (c.text or "").split()]
    addresses = {
        entry.get("format", ""): joined(base, entry.get("template", ""))
        for entry in _all(layer, "ResourceURL")
        if entry.get("resourceType") == "tile"
    }
    for entry in _all(layer, "Format"):
        form = (entry.text or "").strip()
        if kvp and form in _KINDS.values():
            addresses.setdefault(form, f"{kvp}&FORMAT={form}")
    return TileLayer(
        name=_text(layer, "Identifier"),
        title=_text(layer, "Title"),
        grid=grids[0],
        others=tuple(grids[1:]),
        addresses=addresses,
        style=_text(styles[0], "Identifier") if styles else "default",
        attribution=credit,
        bounds=edges_of(corners),
    )


def _tiles_at(root: Element, base: str) -> str:
    """Address pattern of tiles by key-value pairs (WMTS 1.0.0, section 8.2.3); empty when no address is told."""
    for operation in _all(root, "Operation"):
        get = _first(operation, "Get")
        href = "" if get is None else next((v for k, v in get.items() if k.endswith("href")), "")
        if operation.get("name") == "GetTile" and href:
            words = "&".join(f"{key}={value}" for key, value in _KVP.items())
            where = joined(base, href)
            return where + ("" if where.endswith(("?", "&")) else "&" if "?" in where else "?") + words
    return ""


def _grid(matrix_set: Element) -> TileGrid | None:
    """A matrix set of the capabilities; None for one in a CRS without an EPSG code, or without numbers."""
    name = _text(matrix_set, "SupportedCRS")
    try:
        crs = MERCATOR if name.endswith("900913") else Crs.parse(name)
    except UsageError:
        return None
    is_lonlat = bool(re.search(r"(?i)crs:?84$", name))
    try:
        turned = not is_lonlat and crs.is_north_first
        unit_m = METRES_PER_DEGREE if crs.is_geographic else crs.metres_per_unit
        # Some tell corners of degrees with longitude first all the same: no latitude is beyond 90.
        turned = turned and not (crs.is_geographic and _begins_beyond_a_pole(matrix_set))
        matrices = [_matrix(entry, unit_m, turned) for entry in _all(matrix_set, "TileMatrix")]
    except (ValueError, UsageError):
        return None
    if not matrices:
        return None
    return sorted_grid(_text(matrix_set, "Identifier"), crs, matrices)


def _matrix(entry: Element, unit_m: float, turned: bool) -> Matrix:
    """One level; its corner has the axes in the order of the register (OGC 17-083r4, section 7.1)."""
    first, second = (_number(value) for value in _text(entry, "TopLeftCorner").split())
    width, height, cols, rows = (
        _count(_text(entry, name)) for name in ("TileWidth", "TileHeight", "MatrixWidth", "MatrixHeight")
    )
    west, north = (second, first) if turned else (first, second)
    pixel = _number(_text(entry, "ScaleDenominator")) * SCREEN_PIXEL_M / unit_m
    if not (pixel > 0 and max(width, height) <= _MOST_TILE_PX):
        raise ValueError("a level without pixels, or of far too large tiles")
    return Matrix(_text(entry, "Identifier"), pixel, west, north, width, height, cols, rows)


def _begins_beyond_a_pole(matrix_set: Element) -> bool:
    corners = (_text(entry, "TopLeftCorner").split() for entry in _all(matrix_set, "TileMatrix"))
    return any(abs(_number(corner[0])) > _POLE_DEG for corner in corners if corner)


_POLE_DEG = 90.0


def _number(text: str) -> float:
    """A finite number, or ValueError."""
    found = float(text)
    if not math.isfinite(found):
        raise ValueError(f"{text} is no number")
    return found


def _finite(text: str) -> float | None:
    """A finite number, or None."""
    try:
        return _number(text)
    except ValueError:
        return None


def _count(text: str) -> int:
    """A whole number above 0, or ValueError."""
    found = whole_number(text)
    if not found:
        raise ValueError(f"{text} is no count")
    return found


_MOST_TILE_PX = 8192


def _limited(grid: TileGrid, limits: Sequence[Element]) -> TileGrid:
    """A grid with the levels, rows and columns that a layer has."""
    names = ("MinTileCol", "MaxTileCol", "MinTileRow", "MaxTileRow")
    told = {}
    for entry in limits:
        numbers = tuple(whole_number(_text(entry, name)) for name in names)
        if None not in numbers:
            told[_text(entry, "TileMatrix")] = tuple(number or 0 for number in numbers)
    kept = [replace(matrix, limits=told[matrix.name]) for matrix in grid.matrices if matrix.name in told]
    return replace(grid, matrices=tuple(kept)) if kept else grid


def _kind_of(address: str) -> str:
    """Media type of the tiles at an address, by its ending; PNG where that tells nothing."""
    ending = address_parts(address).path.rpartition(".")[2].lower()
    return _KINDS.get({"jpeg": "jpg"}.get(ending, ending), "image/png")


def _down(address: str, scheme: str) -> str:
    """A pattern whose rows are counted from the top."""
    return address.replace("{y}", "{-y}") if scheme == "tms" else address


def _all(place: Element, name: str) -> list[Element]:
    return [entry for entry in place.iter() if entry.tag.rpartition("}")[2] == name]


def _first(place: Element, name: str) -> Element | None:
    return next(iter(_all(place, name)), None)


def _text(place: Element, name: str) -> str:
    """Text of a child of this name; empty when there is none."""
    child = next((entry for entry in place if entry.tag.rpartition("}")[2] == name), None)
    return "" if child is None or not child.text else child.text.strip()


def _as_collection(layer: TileLayer) -> JsonObject:
    matrices, grid = layer.grid.matrices, layer.grid
    finest, coarsest = grid.ground_m(matrices[-1], 0), grid.ground_m(matrices[0], 0)
    told: JsonObject = {
        "tiles:zoom_levels": f"{matrices[0].name} to {matrices[-1].name} of {grid.name}",
        "tiles:formats": [form for form in layer.addresses if form],
        "tiles:pixels": f"{finest:.3g} to {coarsest:.3g} m at the equator",
        "tiles:grids": [f"{one.name} ({one.crs})" for one in (grid, *layer.others)],
    }
    if layer.attribution:
        told["tiles:attribution"] = layer.attribution
    extent = {"spatial": {"bbox": [list(layer.bounds)]}} if layer.bounds else {}
    return {"id": layer.name, "title": layer.title, "extent": extent} | told
