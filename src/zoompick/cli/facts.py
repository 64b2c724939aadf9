"""What a scene and a collection tell, as labels and texts in the order in which an analyst asks."""

from __future__ import annotations

import math
from collections.abc import Sequence

from zoompick.area.model import Area
from zoompick.errors import SourceError
from zoompick.files import human_bytes, human_km2
from zoompick.geo.crs import METRES_A_DEGREE
from zoompick.geo.shapes import intersection
from zoompick.geo.sizes import area_km2
from zoompick.jsontypes import JsonMap
from zoompick.scenes import offer
from zoompick.scenes.bands import formats_of
from zoompick.scenes.prices import km2_price, price_of
from zoompick.scenes.scene import CLASS_BAND, Scene
from zoompick.sensors.guide import guide_for_collection

Fact = tuple[str, str]
_UNITS = {"km2": "km2", "m": "m", "px": "px", "mb": "MB"}
_MOST_WORDS = 12
_LABELS = {
    "good_for": "good for", "access": "access", "login": "log-in", "limits": "limits", "zoom_levels": "zoom levels",
    "grids": "grids", "pixels": "pixels", "formats": "formats", "attribution": "attribution",
}  # fmt: skip


def of_scene(scene: Scene, area: Area | None, cloud_inside: float | None) -> list[Fact]:
    """Labels and texts, in order of use; what is not told is left out."""
    found: list[Fact] = [("scene", scene.id), ("collection", scene.collection), ("source", scene.source)]
    found += [("platform", " ".join([scene.platform, *(f"({name})" for name in scene.instruments)]).strip())]
    found += [("level", scene.level), ("version", scene.version)]
    taken = scene.when.strftime("%Y-%m-%d %H:%M:%S UTC")
    span = f" to {scene.until:%Y-%m-%d %H:%M:%S UTC}" if scene.until != scene.when else ""
    found += [("taken", taken + span)]
    found += [("published", scene.published.strftime("%Y-%m-%d %H:%M UTC") if scene.published else "")]
    found += _where(scene, area)
    found += [("cloud", _cloud(scene, cloud_inside)), ("view", _view(scene))]
    found += _rights(scene, area)
    formats = formats_of(scene.item)
    more = f"{', '.join(formats)}; choose with 'zoompick download --file-format'" if len(formats) > 1 else ""
    found += [
        ("formats", more),
        ("pixels", _pixels(scene)),
        ("size", human_bytes(scene.size) if scene.size is not None else ""),
    ]
    found += [("address", scene.address)]
    return [(label, text) for label, text in found if text]


def _where(scene: Scene, area: Area | None) -> list[Fact]:
    if not scene.has_footprint():
        return [("where", "the item has no footprint")]
    west, south, east, north = scene.footprint.bounds
    found = [
        ("tile", f"{scene.tile} in {scene.crs}" if scene.crs and scene.tile else scene.tile),
        ("system", str(scene.crs) if scene.crs and not scene.tile else ""),
        ("where", f"west {west:.4f}, south {south:.4f}, east {east:.4f}, north {north:.4f}"),
        ("ground", human_km2(area_km2(scene.footprint))),
    ]
    if area is not None:
        inside = area_km2(intersection(area.polygon, scene.footprint))
        found.append(("covers", f"{100 * inside / area.size_km2:.1f} % of {area.name} ({human_km2(inside)})"))
    return found


def _span(dates: Sequence[object]) -> str:
    """From when to when a collection has scenes; an open end is open, not today's."""
    first, last = (str(end)[:10] if end else "" for end in (*dates, "", "")[:2])
    if first and last:
        return f"{first} to {last}"
    return f"since {first}" if first else f"until {last}" if last else ""


def _cloud(scene: Scene, inside: float | None) -> str:
    told = [
        (scene.cloud_percent, "over the scene"),
        (scene.cloud_land_percent, "over its land"),
        (inside, "inside the area"),
    ]
    return ", ".join(f"{value:.1f} % {where}" for value, where in told if value is not None) or "not told"


def _view(scene: Scene) -> str:
    parts = []
    if scene.sun_elevation_deg is not None:
        parts.append(f"sun {scene.sun_elevation_deg:.1f}° above the horizon")
    if scene.off_nadir_deg is not None:
        parts.append(f"{scene.off_nadir_deg:.1f}° off nadir")
    return ", ".join(parts)


def _rights(scene: Scene, area: Area | None) -> list[Fact]:
    properties = scene.item.get("properties") or {}
    words = {"open": "open to all", "ask": "on request; terms to accept", "priced": "priced"}
    access = words.get(scene.access, scene.access)
    try:
        each = km2_price(scene)
        access += f", {each.amount:g} {each.currency}".rstrip() + " a km2" if each is not None else ""
        price = price_of(scene, area.polygon) if area is not None else None
        access += f": {price.text} of the area in it" if price else ""
    except SourceError as problem:
        access += f" ({problem.what})"
    licence = properties.get("license")
    return [("access", access), ("licence", str(licence) if isinstance(licence, str) else "")]


def _pixels(scene: Scene) -> str:
    """Pixel sizes in metres, also of grids in degrees, where a degree of longitude shrinks with latitude."""
    sizes = sorted({band.pixel_m for band in scene.bands.values() if band.pixel_m})
    if not sizes:
        return f"{scene.pixel_m:g} m" if scene.pixel_m else ""
    if scene.crs is not None and scene.crs.is_geographic and scene.has_footprint():
        shrink = math.cos(math.radians(scene.footprint.centroid.y))
        return ", ".join(
            f"{size:g}° ({size * METRES_A_DEGREE * shrink:.1f} x {size * METRES_A_DEGREE:.1f} m)" for size in sizes
        )
    return ", ".join(f"{size:g} m" for size in sizes)


def band_rows(scene: Scene) -> list[list[str]]:
    """A row a band: name, wavelength, pixel size, bytes, and whether it is here; missing ones against the guide."""
    guide = guide_for_collection(scene.collection)
    known = {band.name: band for band in guide.bands} if guide else {}
    names = list(dict.fromkeys([*known, *scene.bands]))
    rows = []
    for name in names:
        band, told = scene.bands.get(name), known.get(name)
        wavelength = f"{told.wavelength_um:g}" if told and told.wavelength_um else ""
        pixel = band.pixel_m if band and band.pixel_m else told.pixel_m if told else None
        size = human_bytes(band.size) if band and band.size is not None else ""
        state = "published" if band else "missing"
        rows.append([name, wavelength, f"{pixel:g}" if pixel else "", size, state])
    if guide and guide.class_band and CLASS_BAND not in scene.bands:
        rows.append([guide.class_band, "", "", "", "missing"])
    return rows


def name_parts(scene: Scene) -> list[tuple[str, str, str]]:
    """Name, text and meaning of each part of the scene's name, after its band guide."""
    guide = guide_for_collection(scene.collection)
    return guide.parts_of(scene.id) if guide else []


def of_collection(collection: JsonMap) -> list[Fact]:
    """Labels and texts of what a collection tells; what it does not tell is left out."""
    offered = offer.of_collection(collection)
    found = [
        ("dates", _span(offered.dates)),
        ("where", "west {:g}, south {:g}, east {:g}, north {:g}".format(*offered.bbox) if offered.bbox else ""),
        ("platforms", words(offered.platforms)),
        ("instrument", words(offered.instruments)),
        ("pixels (m)", words(offered.gsd_m)),
        *((f"level {level}", note or "not told what for") for level, note in offered.levels.items()),
        *((label, words(offered.told[name])) for name, label in _LABELS.items()),
        ("price", _price(offered.told["price_km2"])),
        ("licence", offered.licence),
    ]
    return [(label, text) for label, text in found if text]


def _price(told: object) -> str:
    if isinstance(told, dict):
        low, high = told.get("from"), told.get("to")
        span = f"{low:g} to {high:g}" if isinstance(low, int | float) and isinstance(high, int | float) else "?"
        return f"{span} {told.get('currency', '')} a km2".replace("  ", " ")
    return f"{told} a km2" if told is not None else ""


def words(told: object) -> str:
    """What a catalogue tells under a name, as one text: lists cut short, limits with their units."""
    if isinstance(told, dict):
        return ", ".join(_limit(str(key), value) for key, value in told.items())
    if isinstance(told, list):
        more = f" and {len(told) - _MOST_WORDS} more" if len(told) > _MOST_WORDS else ""
        return ", ".join(map(str, told[:_MOST_WORDS])) + more
    return "" if told is None else str(told)


def _limit(key: str, value: object) -> str:
    """``largest_area_km2: 100`` as ``largest area 100 km2``."""
    *words, last = key.split("_")
    return f"{' '.join(words)} {value} {_UNITS[last]}" if last in _UNITS else f"{' '.join((*words, last))} {value}"
