"""A scene as a value, read from a STAC Item."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from typing import Any

from zoompick import foreign
from zoompick.errors import AreaError, SourceError, UnknownNameError
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape, lonlat_box, polygon_of, polygons_of
from zoompick.jsontypes import JsonMap
from zoompick.scenes import fields
from zoompick.scenes.bands import CLASS_BAND, BandFile, band_words, bands_of, files_of, self_address

__all__ = ["CLASS_BAND", "BandFile", "Key", "Scene", "footprints_of"]

Key = tuple[str, str, str]
"""Source, collection and id: what tells a scene from all others."""


@dataclass(frozen=True)
class Scene:
    """One STAC Item, with what Zoom Pick asks of it; ``item`` holds all the rest.

    Wrong types count as missing. Most properties are read when they are first asked for: of a hundred thousand
    scenes few are asked for everything. ``form`` is the format its bands are wanted in; empty for the first that can
    be read.
    """

    id: str
    collection: str
    source: str
    when: datetime
    item: JsonMap = field(repr=False, compare=False)
    form: str = ""

    @classmethod
    def from_item(cls, item: JsonMap, source: str = "") -> Scene:
        """Take a STAC 1.0 or 1.1 Item.

        Raises
        ------
        SourceError
            No id, or neither ``datetime`` nor ``start_datetime``.
        """
        if not isinstance(item.get("id"), str) or not item["id"]:
            raise SourceError("an item has no id.", "Tell the people who run the source.")
        when = _moment(_properties(item), item["id"])
        return cls(item["id"], str(item.get("collection") or ""), source, when, item)

    @cached_property
    def _told(self) -> fields.Told:
        return fields.Told(_properties(self.item))

    @property
    def platform(self) -> str:
        """Satellite, or an empty text."""
        return str(_properties(self.item).get("platform") or "")

    @property
    def tile(self) -> str:
        """Tile, sheet or frame: the grid code without its scheme, or an empty text."""
        return str(_properties(self.item).get("grid:code") or "").rpartition("-")[2]

    @property
    def track(self) -> str:
        """Relative orbit, with its frame where that is told; empty where it is not (STAC satellite extension)."""
        told = _properties(self.item).get("sat:relative_orbit")
        return "" if told is None or isinstance(told, dict | list) else f"{told} {self.tile}".strip()

    @property
    def cloud_percent(self) -> float | None:
        """Cloud over the whole scene, where it is told."""
        return self._told.number("cloud")

    @property
    def cloud_land_percent(self) -> float | None:
        """Cloud over its land, where it is told."""
        return self._told.number("cloud_land")

    @property
    def version(self) -> str:
        """Processing baseline, or an empty text."""
        return self._told.text("baseline")

    @property
    def level(self) -> str:
        """Processing level, or an empty text."""
        return self._told.text("level")

    @property
    def instruments(self) -> tuple[str, ...]:
        """Instruments, as far as they are told."""
        found = _properties(self.item).get("instruments")
        return tuple(map(str, found)) if isinstance(found, list) else ()

    @property
    def crs(self) -> Crs | None:
        """CRS of its grid, where it is told."""
        return _crs(_properties(self.item))

    @property
    def sun_elevation_deg(self) -> float | None:
        """Sun above the horizon, where it is told; below 0 by night."""
        return self._told.number("sun_elevation")

    @property
    def sun_azimuth_deg(self) -> float | None:
        """Towards the sun, clockwise from north, where it is told."""
        return self._told.number("sun_azimuth")

    @property
    def off_nadir_deg(self) -> float | None:
        """Angle between the line of sight and nadir, where it is told."""
        return self._told.number("off_nadir")

    @property
    def pixel_m(self) -> float | None:
        """Finest ground sample distance, where it is told."""
        return foreign.number(_properties(self.item).get("gsd"))

    @property
    def access(self) -> str:
        """``open``, ``ask`` (on request, terms to accept) or ``priced``."""
        return self._told.text("access") or ("priced" if self.price_told else "open")

    @property
    def price_told(self) -> Any:
        """Price of a square kilometre as the source writes it, whatever that is; None where it tells none."""
        return self._told.value("price_km2")

    @property
    def currency(self) -> str:
        """The archive's currency, or an empty text."""
        return self._told.text("currency")

    @property
    def until(self) -> datetime:
        """End of the acquisition; its moment for a scene that tells no span."""
        end = None if _properties(self.item).get("datetime") else _properties(self.item).get("end_datetime")
        return foreign.moment(end) or self.when

    @property
    def published(self) -> datetime | None:
        """When the scene was published, where it is told."""
        return foreign.moment(self._told.value("published"))

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
    def band_words(self) -> frozenset[str]:
        """All names by which its bands can be meant."""
        return band_words(self.item)

    @cached_property
    def bands(self) -> Mapping[str, BandFile]:
        """Its band files by common name; all assets with the role ``data`` that this program can name bands of."""
        return bands_of(self.item, self.form)

    @cached_property
    def files(self) -> Mapping[str, BandFile]:
        """All its files: those of bands by common name, the others by the key of their asset."""
        return files_of(self.item, self.form)

    @property
    def address(self) -> str:
        """Where its item can be asked for again, or an empty text."""
        return self_address(self.item)

    @property
    def day(self) -> str:
        """Date of acquisition, ``2025-12-15``."""
        return self.when.strftime("%Y-%m-%d")

    @property
    def days(self) -> str:
        """Its day, or the days of its span: ``2025-06-01 to 2025-06-08``."""
        last = self.until.strftime("%Y-%m-%d")
        return self.day if last == self.day else f"{self.day} to {last}"

    @property
    def months(self) -> tuple[datetime, ...]:
        """A moment in each month of its span, twelve at most."""
        found, moment = [self.when], self.when
        while len(found) < 12 and (moment.year, moment.month) < (self.until.year, self.until.month):
            ahead = moment.month % 12 + 1
            moment = moment.replace(year=moment.year + (ahead == 1), month=ahead, day=1)
            found.append(moment)
        return tuple(found)

    @property
    def label(self) -> str:
        """What people call it in a study: its day and tile, else its id."""
        return f"{self.day} {self.tile}" if self.tile else self.id

    @property
    def acquisition(self) -> tuple[str, str, str, str, float, str]:
        """What reprocessed twins share: source, collection, level, platform, time in seconds, tile."""
        where = self.source, self.collection, self.level, self.platform
        return *where, self.when.timestamp(), self.tile or self.id

    @property
    def key(self) -> Key:
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


def _properties(item: JsonMap) -> JsonMap:
    given = item.get("properties")
    return given if isinstance(given, dict) else {}


def footprints_of(scenes: Sequence[Scene]) -> list[Shape | None]:
    """Footprints of many scenes, made together; None for each that has none that is valid."""
    found = polygons_of([scene.item.get("geometry") for scene in scenes])
    for number, scene in enumerate(scenes):
        if found[number] is None and scene.has_footprint():
            found[number] = scene.footprint
    return found


def _of_bbox(bbox: object, scene_id: str) -> Shape:
    edges = fields.edges_of(bbox)
    if not edges:
        raise AreaError(f"{scene_id} has neither a footprint nor a bbox.", "It cannot be placed.")
    return lonlat_box(*edges)


def _moment(properties: JsonMap, scene_id: str) -> datetime:
    text = properties.get("datetime") or properties.get("start_datetime")
    moment = foreign.moment(text)
    if moment is None:
        raise SourceError(
            f"{scene_id} has the datetime {str(text)[:60]!r}, which cannot be read.",
            "Tell the people who run the source.",
        )
    return moment


def _crs(properties: JsonMap) -> Crs | None:
    """``proj:code`` (projection extension 2) or ``proj:epsg`` (1)."""
    code = str(properties.get("proj:code") or "")
    if code.upper().startswith("EPSG:") and code[5:].isdecimal() and len(code) < 12:
        return Crs(int(code[5:]))
    epsg = properties.get("proj:epsg")
    known = foreign.whole(epsg, 1, 999_999)
    return Crs(known) if known is not None else None


def refuse_unknown(bands: Sequence[str], scenes: Iterable[Scene]) -> None:
    """Refuse bands that none of some scenes has.

    Raises
    ------
    UnknownNameError
    """
    offered = {name for scene in scenes for name in scene.bands}
    for name in bands:
        if name not in offered:
            raise UnknownNameError.of("band", name, offered)
