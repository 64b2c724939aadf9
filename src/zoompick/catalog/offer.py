"""What a STAC Collection says of itself, in words and rows: years, instruments, levels, access, limits, bands."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from zoompick.catalog.fields import as_number

_UNITS = {"km2": "km2", "m": "m", "px": "px", "mb": "MB"}
_MOST_WORDS = 12
_NAMES = (
    "good_for", "access", "login", "limits", "price_km2", "zoom_levels", "pixels", "formats", "attribution",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class OfferedBand:
    """One band of a collection: the asset it lies in, its names, wavelength and width in micrometres, pixel in m."""

    asset: str
    name: str
    common_name: str
    wavelength_um: str
    width_um: str
    pixel_m: str
    what: str


def facts(collection: Mapping[str, Any]) -> list[tuple[str, str]]:
    """Label and text of each thing the collection tells; what it does not tell is left out.

    Members that core STAC does not name (access, log-in, limits, price, uses) are found under any extension's prefix.
    """
    extent, summaries = _object(collection.get("extent")), _object(collection.get("summaries"))
    times = _first_list(_object(extent.get("temporal")).get("interval"))
    box = _first_list(_object(extent.get("spatial")).get("bbox"))
    told = {name: _told(collection, name) for name in _NAMES}
    notes = _object(_told(collection, "level_notes"))
    levels = _list(summaries.get("processing:level"))
    found = [
        ("dates", " to ".join(str(end)[:10] if end else "now" for end in times)),
        ("where", "west {}, south {}, east {}, north {}".format(*box[:4]) if len(box) == 4 else ""),
        ("platforms", _words(summaries.get("platform"))),
        ("instrument", _words(summaries.get("instruments"))),
        ("pixels (m)", _words(summaries.get("gsd"))),
        *((f"level {level}", str(notes.get(str(level)) or "not told what for")) for level in levels),
        ("good for", _words(told["good_for"])),
        ("access", _words(told["access"])),
        ("log-in", _words(told["login"])),
        ("limits", _words(told["limits"])),
        ("zoom levels", _words(told["zoom_levels"])),
        ("pixels", _words(told["pixels"])),
        ("formats", _words(told["formats"])),
        ("attribution", _words(told["attribution"])),
    ]
    found += [("price", _price(told["price_km2"])), ("licence", str(collection.get("license") or ""))]
    return [(label, text) for label, text in found if text]


def limits(collection: Mapping[str, Any]) -> dict[str, float]:
    """What a collection limits, by name: ``parallel_downloads``, ``scenes_an_order``, ``largest_area_km2``."""
    told = _object(_told(collection, "limits"))
    numbers = {str(key): as_number(value) for key, value in told.items()}
    return {key: number for key, number in numbers.items() if number is not None}


def _price(told: object) -> str:
    if isinstance(told, dict):
        low, high = told.get("from"), told.get("to")
        span = f"{low:g} to {high:g}" if isinstance(low, int | float) and isinstance(high, int | float) else "?"
        return f"{span} {told.get('currency', '')} a km2".replace("  ", " ")
    return f"{told} a km2" if told is not None else ""


def _told(collection: Mapping[str, Any], name: str) -> Any:
    """A member of the collection or its summaries, whatever extension's prefix it has."""
    places = (_object(collection.get("summaries")), collection)
    return next((value for place in places for key, value in place.items() if key.partition(":")[2] == name), None)


def _object(value: object) -> Mapping[str, Any]:
    return value if isinstance(value, dict) else {}


def _list(value: object) -> list[Any]:
    return value if isinstance(value, list) else []


def _first_list(value: object) -> list[Any]:
    return _list(next(iter(_list(value)), None))


def _words(told: object) -> str:
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


def bands(collection: Mapping[str, Any]) -> list[OfferedBand]:
    """The band table out of the collection's item assets, as STAC 1.1 or 1.0 writes it."""
    return [row for key, asset in _object(collection.get("item_assets")).items() for row in _of_asset(key, asset)]


def _of_asset(key: str, asset: object) -> Iterator[OfferedBand]:
    if not isinstance(asset, dict):
        return
    given = asset.get("bands") or asset.get("eo:bands") or [{}]
    for entry in given if isinstance(given, list) else [{}]:
        told = {str(name).removeprefix("eo:"): value for name, value in _object(entry).items()}
        pixel = told.get("gsd") or asset.get("gsd") or asset.get("raster:spatial_resolution")
        cells = [told.get(name) for name in ("name", "common_name", "center_wavelength", "full_width_half_max")]
        words = told.get("description") or asset.get("title")
        yield OfferedBand(key, *("" if cell is None else str(cell) for cell in (*cells, pixel, words)))
