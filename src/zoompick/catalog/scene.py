"""A scene as a value, read from a STAC Item."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import cached_property
from typing import Any
from urllib.parse import urljoin

from zoompick.errors import AreaError, SourceError
from zoompick.files import sha256_of_multihash
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape, polygon_of

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

    ``cloud_percent`` is None when the item does not tell.
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

    @classmethod
    def from_item(cls, item: Mapping[str, Any], source: str = "") -> Scene:
        """Read a STAC 1.0 or 1.1 Item.

        Raises
        ------
        SourceError
            No id, or neither ``datetime`` nor ``start_datetime``.
        """
        properties = item.get("properties") or {}
        if not isinstance(item.get("id"), str):
            raise SourceError("The source sent an item without an id.", "Tell the people who run it.")
        return cls(
            id=item["id"],
            collection=str(item.get("collection") or ""),
            source=source,
            when=_moment(properties, item["id"]),
            platform=str(properties.get("platform") or ""),
            tile=str(properties.get("grid:code") or "").rpartition("-")[2],
            cloud_percent=_number(properties.get("eo:cloud_cover")),
            version=str(properties.get("processing:version") or ""),
            crs=_crs(properties),
            bands=_bands(item),
            item=item,
        )

    @cached_property
    def footprint(self) -> Shape:
        """Ground polygon in longitude/latitude; AreaError when the item has none that is valid."""
        return polygon_of(self.item.get("geometry"), f"The footprint of {self.id}")

    @property
    def day(self) -> str:
        """Date of acquisition, ``2025-12-15``."""
        return self.when.strftime("%Y-%m-%d")

    @property
    def acquisition(self) -> tuple[str, str, str]:
        """What reprocessed twins share: platform, time, tile."""
        return self.platform, self.when.isoformat(), self.tile or self.id

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


def _moment(properties: Mapping[str, Any], scene_id: str) -> datetime:
    text = properties.get("datetime") or properties.get("start_datetime")
    try:
        moment = datetime.fromisoformat(str(text))
    except ValueError as error:
        raise SourceError(
            f"The item {scene_id} has the datetime {text!r}, which cannot be read.",
            "Tell the people who run the source.",
        ) from error
    return moment.astimezone(UTC) if moment.tzinfo else moment.replace(tzinfo=UTC)


def _number(value: Any) -> float | None:
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else None


def _crs(properties: Mapping[str, Any]) -> Crs | None:
    """``proj:code`` (projection extension 2) or ``proj:epsg`` (1)."""
    code = str(properties.get("proj:code") or "")
    if code.upper().startswith("EPSG:") and code[5:].isdigit():
        return Crs(int(code[5:]))
    epsg = properties.get("proj:epsg")
    return Crs(epsg) if isinstance(epsg, int) else None


def _bands(item: Mapping[str, Any]) -> dict[str, BandFile]:
    assets = item.get("assets")
    base = next((link.get("href") for link in item.get("links") or () if link.get("rel") == "self"), "")
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
    first = (asset.get("bands") or [{}])[0]
    optical = (asset.get("eo:bands") or [{}])[0]
    raster = (asset.get("raster:bands") or [{}])[0]
    classes = asset.get("classification:classes") or first.get("classification:classes") or ()
    common = first.get("eo:common_name") or optical.get("common_name")
    checksum = asset.get("file:checksum")
    scale = _first_number(first.get("raster:scale"), asset.get("raster:scale"), raster.get("scale"))
    offset = _first_number(first.get("raster:offset"), asset.get("raster:offset"), raster.get("offset"))
    return BandFile(
        name=CLASS_BAND if classes else str(common or key),
        href=urljoin(base, asset["href"]),
        size=asset["file:size"] if isinstance(asset.get("file:size"), int) else None,
        sha256=sha256_of_multihash(checksum) if isinstance(checksum, str) else None,
        scale=1.0 if scale is None else scale,
        offset=0.0 if offset is None else offset,
        pixel_m=_number(asset.get("gsd")),
        classes=tuple(classes),
    )


def _first_number(*values: Any) -> float | None:
    return next((number for number in map(_number, values) if number is not None), None)
