"""A scene as a value, read from a STAC Item."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from typing import Any
from urllib.parse import urljoin

from zoompick.catalog import fields
from zoompick.errors import AreaError, SourceError
from zoompick.files import sha256_of_multihash
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape, lonlat_box, polygon_of

CLASS_BAND = "classes"


@dataclass(frozen=True, slots=True)
class BandFile:
    """One band of a scene and the file that holds it.

    Attributes
    ----------
    name : str
        Common name; ``classes`` for the class layer.
    href : str
        Absolute address.
    size : int or None
        Bytes, where the item tells.
    sha256 : str or None
        Hexadecimal, where the item tells.
    scale, offset : float
        Physical value = stored value * scale + offset.
    pixel_m : float or None
    classes : tuple of mapping
        ``classification:classes`` of a class layer.
    """

    name: str
    href: str
    size: int | None = None
    sha256: str | None = None
    scale: float = 1.0
    offset: float = 0.0
    pixel_m: float | None = None
    classes: tuple[Mapping[str, Any], ...] = ()


@dataclass(frozen=True)
class Scene:
    """One STAC Item, with what Zoom Pick asks of it; ``item`` holds all the rest.

    A figure is None, a text empty, when the item does not tell.

    Attributes
    ----------
    cloud_percent, cloud_land_percent : float or None
        Over the whole scene, and over its land.
    version : str
        Processing baseline.
    sun_elevation_deg, off_nadir_deg, pixel_m : float or None
    access : str
        ``open``, ``ask`` (on request, terms to accept) or ``priced``.
    price_km2 : float or None
        In the archive's currency.
    published : datetime or None
    """

    id: str
    collection: str
    source: str
    when: datetime
    platform: str
    tile: str
    cloud_percent: float | None
    version: str
    crs: Crs | None
    bands: Mapping[str, BandFile]
    item: Mapping[str, Any] = field(repr=False, compare=False)
    cloud_land_percent: float | None = None
    instruments: tuple[str, ...] = ()
    level: str = ""
    sun_elevation_deg: float | None = None
    off_nadir_deg: float | None = None
    pixel_m: float | None = None
    access: str = "open"
    price_km2: float | None = None
    published: datetime | None = None

    @classmethod
    def from_item(cls, item: Mapping[str, Any], source: str = "") -> Scene:
        """Read a STAC 1.0 or 1.1 Item; wrong types count as missing.

        Raises
        ------
        SourceError
            No id, or neither ``datetime`` nor ``start_datetime``.
        """
        if not isinstance(item.get("id"), str):
            raise SourceError("The source sent an item without an id.", "Tell the people who run it.")
        given = item.get("properties")
        properties: Mapping[str, Any] = given if isinstance(given, dict) else {}
        instruments = properties.get("instruments")
        price = fields.number(properties, "price_km2")
        return cls(
            id=item["id"],
            collection=str(item.get("collection") or ""),
            source=source,
            when=_moment(properties, item["id"]),
            platform=str(properties.get("platform") or ""),
            tile=str(properties.get("grid:code") or "").rpartition("-")[2],
            cloud_percent=fields.number(properties, "cloud"),
            version=fields.text(properties, "baseline"),
            crs=_crs(properties),
            bands=_bands(item),
            item=item,
            cloud_land_percent=fields.number(properties, "cloud_land"),
            instruments=tuple(map(str, instruments)) if isinstance(instruments, list) else (),
            level=fields.text(properties, "level"),
            sun_elevation_deg=fields.number(properties, "sun_elevation"),
            off_nadir_deg=fields.number(properties, "off_nadir"),
            pixel_m=fields.as_number(properties.get("gsd")),
            access=fields.text(properties, "access") or ("priced" if price else "open"),
            price_km2=price,
            published=fields.as_moment(fields.value(properties, "published")),
        )

    @cached_property
    def footprint(self) -> Shape:
        """Ground polygon in longitude/latitude; AreaError when the item has none that is valid.

        An item without a geometry is taken by its bbox, of four numbers or of six.
        """
        geometry = self.item.get("geometry")
        if geometry is None:
            return _of_bbox(self.item.get("bbox"), self.id)
        return polygon_of(geometry, f"The footprint of {self.id}")

    @property
    def day(self) -> str:
        """Date of acquisition, ``2025-12-15``."""
        return self.when.strftime("%Y-%m-%d")

    @property
    def acquisition(self) -> tuple[str, str, str]:
        """What reprocessed twins share: platform, time, tile."""
        return self.platform, self.when.isoformat(), self.tile or self.id

    @property
    def key(self) -> tuple[str, str, str]:
        """What no other scene shares: an id is unique only within its collection."""
        return self.source, self.collection, self.id

    @property
    def size(self) -> int | None:
        """Bytes of all bands, or None while the item does not tell them all."""
        sizes = [band.size for band in self.bands.values()]
        return sum(size for size in sizes if size is not None) if sizes and None not in sizes else None

    def has_footprint(self) -> bool:
        """True when the item's geometry can be used."""
        try:
            return not self.footprint.is_empty
        except AreaError:
            return False


def _of_bbox(bbox: Any, scene_id: str) -> Shape:
    numbers = [fields.as_number(entry) for entry in bbox] if isinstance(bbox, list) else []
    if len(numbers) not in (4, 6) or None in numbers:
        raise AreaError(f"{scene_id} has neither a footprint nor a bbox.", "It cannot be placed.")
    half = len(numbers) // 2
    west, south, east, north = (float(entry or 0) for entry in (*numbers[:2], *numbers[half : half + 2]))
    return lonlat_box(west, south, east, north)


def _moment(properties: Mapping[str, Any], scene_id: str) -> datetime:
    text = properties.get("datetime") or properties.get("start_datetime")
    moment = fields.as_moment(text)
    if moment is None:
        raise SourceError(
            f"The item {scene_id} has the datetime {text!r}, which cannot be read.",
            "Tell the people who run the source.",
        )
    return moment


def _crs(properties: Mapping[str, Any]) -> Crs | None:
    """``proj:code`` (projection extension 2) or ``proj:epsg`` (1)."""
    code = str(properties.get("proj:code") or "")
    if code.upper().startswith("EPSG:") and code[5:].isdigit():
        return Crs(int(code[5:]))
    epsg = properties.get("proj:epsg")
    return Crs(epsg) if isinstance(epsg, int) else None


def _bands(item: Mapping[str, Any]) -> dict[str, BandFile]:
    assets = item.get("assets")
    links = [link for link in item.get("links") or () if isinstance(link, dict)]
    base = next((link.get("href") for link in links if link.get("rel") == "self"), "")
    found: dict[str, BandFile] = {}
    for key, asset in (assets if isinstance(assets, dict) else {}).items():
        if not isinstance(asset, dict) or not isinstance(asset.get("href"), str):
            continue
        if "data" not in (asset.get("roles") or ()) or "tiff" not in str(asset.get("type", "")):
            continue
        band = _band(key, asset, str(base))
        found.setdefault(band.name, band)
    return found


def _band(key: str, asset: Mapping[str, Any], base: str) -> BandFile:
    """Names, scales and sizes as STAC 1.1 writes them, else as ``eo:bands`` and ``raster:bands`` of 1.0."""
    first, optical, raster = (_first(asset.get(key)) for key in ("bands", "eo:bands", "raster:bands"))
    classes = asset.get("classification:classes") or first.get("classification:classes") or ()
    common = first.get("eo:common_name") or optical.get("common_name")
    checksum = asset.get("file:checksum")
    scale = _first_number(first.get("raster:scale"), asset.get("raster:scale"), raster.get("scale"))
    offset = _first_number(first.get("raster:offset"), asset.get("raster:offset"), raster.get("offset"))
    size = asset.get("file:size")
    return BandFile(
        name=CLASS_BAND if classes else str(common or key),
        href=urljoin(base, asset["href"]),
        size=size if isinstance(size, int) else None,
        sha256=sha256_of_multihash(checksum) if isinstance(checksum, str) else None,
        scale=1.0 if scale is None else scale,
        offset=0.0 if offset is None else offset,
        pixel_m=fields.as_number(asset.get("gsd")),
        classes=tuple(entry for entry in classes if isinstance(entry, dict)) if isinstance(classes, list) else (),
    )


def _first(value: Any) -> Mapping[str, Any]:
    """The first object of a list of objects, else an empty one."""
    return value[0] if isinstance(value, list) and value and isinstance(value[0], dict) else {}


def _first_number(*values: Any) -> float | None:
    return next((number for number in map(fields.as_number, values) if number is not None), None)
