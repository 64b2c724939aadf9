"""The brief, ``study.toml``: what is sought and what is made."""

from __future__ import annotations

import difflib
import re
import tomllib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields
from pathlib import Path
from typing import Any

from zoompick.catalog.criteria import percent
from zoompick.catalog.period import Hours, Period, Season
from zoompick.errors import BriefError, UsageError
from zoompick.geo.crs import Crs
from zoompick.study.names import NamePattern

BRIEF_NAME = "study.toml"

TEMPLATE = """\
# The brief of this study: what is sought, what is made. 'zoompick run' carries it out.

[study]
name = {name}

[search]
source = {source}             # a name from 'zoompick source list'
collections = {collections}
# One scene set is chosen for each period: a day, a month, a year, or START/END.
dates = {dates}
cloud = {cloud}                 # percent of a scene, at most
# More conditions, if you like: season, hours, published, cloud_land, cloud_area, scene_cover, sun, off_nadir,
# platforms, instruments, levels, pixel_max, access, has (bands), versions: as the options of 'zoompick search'.
cover = 99                 # percent of the area that the chosen scenes must cover together

[download]
window = {window}             # true: fetch only the study area's part of each file; false: whole files

[grid]
crs = "auto"               # the UTM zone of the area's centre, or EPSG:…
pixel_m = 8

[stack]
bands = ["blue", "green", "red", "rededge", "nir", "swir16"]

[clip]
touch = false              # true keeps every pixel the outline passes through

[composite]
recipes = ["natural", "infrared"]
stretch = [2, 98]          # percentiles, taken inside the area

[index]
recipes = ["ndvi", "ndwi"]

[products]
# Name of each folder, out of: date, year, month, day, satellite, collection, source, level, version, study, area.
folder = "{{date}}"

[verify]
valid = 98                 # percent of the area with valid pixels, at least
cloud = 10                 # percent of the area under cloud, at most
"""


@dataclass(frozen=True)
class Brief:
    """The brief's values, checked.

    Attributes
    ----------
    periods : tuple of Period
        One scene set is chosen for each.
    crs : Crs or None
        None: the UTM zone of the area.
    cloud, cover, valid, cloud_inside : float
        Percentages: of a scene at most, of the area by footprints at least, of the area with valid pixels at
        least, of the area under cloud at most.
    stretch : (float, float)
        Percentiles.
    folder : NamePattern
        Of the folder of each scene set's products.
    filters : mapping
        All further conditions of the search, by their names in :class:`~zoompick.catalog.criteria.Criteria`.
    """

    name: str
    source: str
    collections: tuple[str, ...]
    periods: tuple[Period, ...]
    cloud: float
    cover: float
    crs: Crs | None
    pixel_m: float
    bands: tuple[str, ...]
    touch: bool
    composites: tuple[str, ...]
    stretch: tuple[float, float]
    indices: tuple[str, ...]
    folder: NamePattern
    valid: float
    cloud_inside: float
    window: bool
    filters: Mapping[str, Any] = field(default_factory=dict)


def _text(value: Any) -> str:
    if not isinstance(value, str):
        raise UsageError("It must be a text in quotes.")
    return value


def _names(value: Any) -> tuple[str, ...]:
    if not isinstance(value, list) or not all(isinstance(entry, str) for entry in value):
        raise UsageError('It must be a list of names: ["red", "nir"], say.')
    if len(set(value)) < len(value):
        raise UsageError("A name stands in it twice.")
    return tuple(value)


def _periods(value: Any) -> tuple[Period, ...]:
    values = [value] if isinstance(value, str) else value
    if not isinstance(values, list) or not values:
        raise UsageError("It must be a text or a list of texts.")
    return tuple(Period.parse(_text(entry)) for entry in values)


def _number(value: Any) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise UsageError("It must be a number.")
    return float(value)


def _percent(value: Any) -> float:
    return percent(_number(value), "value")


def _pixel(value: Any) -> float:
    number = _number(value)
    if not 0 < number <= 100_000:
        raise UsageError("It must be a pixel size in metres, above 0.")
    return number


def _crs(value: Any) -> Crs | None:
    return None if value == "auto" else Crs.parse(_text(value))


def _flag(value: Any) -> bool:
    if not isinstance(value, bool):
        raise UsageError("It must be true or false.")
    return value


def stretch_of(value: Any) -> tuple[float, float]:
    """Two rising percentiles."""
    if not isinstance(value, list | tuple) or len(value) != 2:
        raise UsageError("It must be two percentiles: [2, 98], say.")
    low, high = (percent(_number(entry), "percentile") for entry in value)
    if low >= high:
        raise UsageError("The first percentile must be below the second.")
    return low, high


_KEYS: dict[tuple[str, str], tuple[str, Callable[[Any], Any], Any]] = {
    ("study", "name"): ("name", _text, ""),
    ("search", "source"): ("source", _text, ""),
    ("search", "collections"): ("collections", _names, []),
    ("search", "dates"): ("periods", _periods, "../.."),
    ("search", "cloud"): ("cloud", _percent, 20),
    ("search", "cover"): ("cover", _percent, 99),
    ("download", "window"): ("window", _flag, False),
    ("grid", "crs"): ("crs", _crs, "auto"),
    ("grid", "pixel_m"): ("pixel_m", _pixel, 8),
    ("stack", "bands"): ("bands", _names, ["blue", "green", "red", "nir"]),
    ("clip", "touch"): ("touch", _flag, False),
    ("composite", "recipes"): ("composites", _names, []),
    ("composite", "stretch"): ("stretch", stretch_of, [2, 98]),
    ("index", "recipes"): ("indices", _names, []),
    ("products", "folder"): ("folder", lambda value: NamePattern.parse(_text(value)), "{date}"),
    ("verify", "valid"): ("valid", _percent, 98),
    ("verify", "cloud"): ("cloud_inside", _percent, 10),
}


_FILTERS: dict[str, tuple[str, Callable[[Any], Any]]] = {
    "season": ("season", lambda value: Season.parse(_text(value))),
    "hours": ("hours", lambda value: Hours.parse(_text(value))),
    "published": ("published", _periods),
    "cloud_land": ("cloud_land_max", _percent),
    "cloud_area": ("cloud_area_max", _percent),
    "scene_cover": ("cover_min", _percent),
    "sun": ("sun_min_deg", _number),
    "off_nadir": ("off_nadir_max_deg", _number),
    "platforms": ("platforms", _names),
    "instruments": ("instruments", _names),
    "levels": ("levels", _names),
    "pixel_max": ("pixel_max_m", _pixel),
    "access": ("access", _names),
    "has": ("bands", _names),
    "versions": ("versions", _text),
}
"""Further keys of [search]: the name in Criteria, and how it is read."""


def read_brief(path: Path) -> Brief:
    """Read and check ``study.toml``.

    Raises
    ------
    BriefError
        Names the line, the key, the value and what is expected.
    """
    try:
        text = path.read_text(encoding="utf-8")
        table = tomllib.loads(text)
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise BriefError(f"{path.name} cannot be read: {error}.", "Mend that line.") from error
    _check_keys(table, text)
    values: dict[str, Any] = {}
    for (section, key), (name, reader, default) in _KEYS.items():
        given = table.get(section, {}).get(key)
        if given is None:
            values[name] = () if name == "periods" else reader(default)
        else:
            values[name] = _read(reader, given, (section, key), path, text)
    search = table.get("search", {})
    values["filters"] = {
        name: _read(reader, search[key], ("search", key), path, text)
        for key, (name, reader) in _FILTERS.items()
        if key in search
    }
    return Brief(**values)


def _read(reader: Callable[[Any], Any], given: Any, place: tuple[str, str], path: Path, text: str) -> Any:
    section, key = place
    try:
        return reader(given)
    except UsageError as error:
        where = f"{path.name}, line {_line(text, section, key)}"
        raise BriefError(f"{where}: [{section}] {key} = {given!r} cannot be used.", str(error)) from error


def _check_keys(table: dict[str, Any], text: str) -> None:
    sections = {section for section, _ in _KEYS}
    for section, content in table.items():
        if section not in sections or not isinstance(content, dict):
            raise _unknown(f"[{section}]", sorted(sections), _line(text, section, ""))
        for key in content:
            if (section, key) not in _KEYS and not (section == "search" and key in _FILTERS):
                known = sorted(
                    [k for s, k in _KEYS if s == section] + (list(_FILTERS) if section == "search" else [])
                )
                raise _unknown(f"[{section}] {key}", known, _line(text, section, key))


def _unknown(what: str, known: list[str], line: int) -> BriefError:
    near = difflib.get_close_matches(what.rpartition(" ")[2].strip("[]"), known, n=1)
    hint = f"Did you mean {near[0]}?" if near else f"There is {', '.join(known)}."
    return BriefError(f"{BRIEF_NAME}, line {line}: {what} is not known.", hint)


def _line(text: str, section: str, key: str) -> int:
    """Line of a key in its section, counted from 1; of the section when the key is empty or not found."""
    current, section_line = "", 0
    for number, line in enumerate(text.splitlines(), 1):
        header = re.match(r"\s*\[([^\]]+)\]", line)
        if header:
            current = header[1].strip()
            section_line = number if current == section else section_line
        elif key and current == section and re.match(rf"\s*{re.escape(key)}\s*=", line):
            return number
    return section_line


assert {entry.name for entry in fields(Brief)} == {entry[0] for entry in _KEYS.values()} | {"filters"}
