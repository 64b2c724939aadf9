"""A scene as a value, read from a STAC Item."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from typing import Any

from zoompick.catalog import fields
from zoompick.catalog.bands import CLASS_BAND, BandFile, bands_of
from zoompick.errors import AreaError, SourceError
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape, lonlat_box, polygon_of

__all__ = ["CLASS_BAND", "BandFile", "Scene"]


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
        told = fields.Told(properties)
        instruments = properties.get("instruments")
        price = told.number("price_km2")
        return cls(
            id=item["id"],
            collection=str(item.get("collection") or ""),
            source=source,
            when=_moment(properties, item["id"]),
            platform=str(properties.get("platform") or ""),
            tile=str(properties.get("grid:code") or "").rpartition("-")[2],
            cloud_percent=told.number("cloud"),
            version=told.text("baseline"),
            crs=_crs(properties),
            item=item,
            cloud_land_percent=told.number("cloud_land"),
            instruments=tuple(map(str, instruments)) if isinstance(instruments, list) else (),
            level=told.text("level"),
            sun_elevation_deg=told.number("sun_elevation"),
            off_nadir_deg=told.number("off_nadir"),
            pixel_m=fields.as_number(properties.get("gsd")),
            access=told.text("access") or ("priced" if price else "open"),
            price_km2=price,
            published=fields.as_moment(told.value("published")),
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

    @cached_property
    def bands(self) -> Mapping[str, BandFile]:
        """Its band files by common name; all assets with the role ``data`` that this program can name bands of."""
        return bands_of(self.item)

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
        sizes = list({band.href: band.size for band in self.bands.values()}.values())
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
