"""What a STAC Collection says of itself, as values: years, instruments, levels, access, limits, bands."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from zoompick import foreign
from zoompick.jsontypes import JsonMap
from zoompick.scenes.fields import edges_of

_NAMES = (
    "good_for", "access", "login", "limits", "price_km2", "zoom_levels", "grids", "pixels", "formats", "attribution",
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


@dataclass(frozen=True, slots=True)
class Offer:
    """What a collection tells; what it does not tell is empty.

    Attributes
    ----------
    dates : tuple
        First and last, as RFC 3339 texts; None at an open end.
    bbox : tuple
        West, south, east, north in degrees.
    levels : mapping
        Processing level to what it is for.
    gsd_m : list of float
        Ground sample distances.
    told : mapping
        Members that core STAC does not name (access, login, limits, price_km2, uses), by their name without prefix.
    """

    dates: tuple[Any, ...]
    bbox: tuple[Any, ...]
    platforms: Any
    instruments: Any
    gsd_m: Any
    levels: Mapping[str, str]
    told: JsonMap
    licence: str


def of_collection(collection: JsonMap) -> Offer:
    """Read a STAC Collection; members of any other shape than the standard's count as not told."""
    extent, summaries = _object(collection.get("extent")), _object(collection.get("summaries"))
    box = _first_list(_object(extent.get("spatial")).get("bbox"))
    notes = _object(_told(collection, "level_notes"))
    return Offer(
        dates=tuple(_first_list(_object(extent.get("temporal")).get("interval"))),
        bbox=edges_of(box),
        platforms=summaries.get("platform"),
        instruments=summaries.get("instruments"),
        gsd_m=summaries.get("gsd"),
        levels={str(level): str(notes.get(str(level)) or "") for level in _list(summaries.get("processing:level"))},
        told={name: _told(collection, name) for name in _NAMES},
        licence=str(collection.get("license") or ""),
    )


def limits(collection: JsonMap) -> dict[str, float]:
    """What a collection limits, by name: ``parallel_downloads``, ``scenes_an_order``, ``largest_area_km2``.

    What is no number above 0 limits nothing: no order could be planned under it.
    """
    told = _object(_told(collection, "limits"))
    numbers = {str(key): foreign.number(value) for key, value in told.items()}
    return {key: number for key, number in numbers.items() if number is not None and number > 0}


def _told(collection: JsonMap, name: str) -> Any:
    """A member of the collection or its summaries, whatever extension's prefix it has."""
    places = (_object(collection.get("summaries")), collection)
    return next((value for place in places for key, value in place.items() if key.partition(":")[2] == name), None)


def _object(value: object) -> JsonMap:
    return value if isinstance(value, dict) else {}


def _list(value: object) -> list[Any]:
    return value if isinstance(value, list) else []


def _first_list(value: object) -> list[Any]:
    return _list(next(iter(_list(value)), None))


def bands(collection: JsonMap) -> list[OfferedBand]:
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
