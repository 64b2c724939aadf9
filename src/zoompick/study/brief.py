"""The brief, ``study.toml``: what is sought and what is made.

One table tells every key: its section, the field of :class:`Brief`, how its value is read, its default, and the words
beside it in a new brief. Keys of ``[search]`` come from the table of filters.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any, NamedTuple

from zoompick.catalog.criteria import Criteria
from zoompick.catalog.filters import BY_KEY, number, percent, pixel, text
from zoompick.catalog.period import Period
from zoompick.errors import BriefError, UsageError
from zoompick.geo.crs import Crs
from zoompick.settings import BRIEF_NAME
from zoompick.study.extras import KEYS, Extra, extras_of
from zoompick.study.names import FIELDS, NamePattern


@dataclass(frozen=True)
class Brief:
    """The brief's values, checked.

    Attributes
    ----------
    search : Criteria
        Everything that is sought, without the area. One scene set is chosen for each of its periods.
    crs : Crs or None
        None: the UTM zone of the area.
    cover, valid, cloud_area_max : float
        Percentages: of the area by footprints at least, of the area with valid pixels at least, of the area under
        cloud at most.
    stretch : str
        Percentiles, ``2,98``, or the words for another stretch.
    folder : NamePattern
        Of the folder of each scene set's products.
    window : bool
        Fetch only the area's part of each file.
    extras : tuple of Extra
        Products of all days together: mosaics, blends, comparisons.
    mix_scenes : bool
        Where scenes fill each other's gaps each band does so by itself; else a pixel is of one scene.
    """

    name: str
    source: str
    search: Criteria
    cover: float
    window: bool
    crs: Crs | None
    pixel_m: float
    bands: tuple[str, ...]
    mix_scenes: bool
    touch: bool
    composites: tuple[str, ...]
    stretch: str
    gamma: float
    saturation: float
    brightness: float
    contrast: float
    indices: tuple[str, ...]
    folder: NamePattern
    valid: float
    cloud_area_max: float
    extras: tuple[Extra, ...] = ()

    @property
    def collections(self) -> tuple[str, ...]:
        """Collections that are searched; all when empty."""
        return self.search.collections

    @property
    def periods(self) -> tuple[Period, ...]:
        """Periods, for each of which a scene set is chosen; any time when empty."""
        return self.search.periods


class Key(NamedTuple):
    """A key of the brief.

    Attributes
    ----------
    field : str
        In ``Brief``; for a filter, in its ``search``.
    read : callable
        Value to what is kept, or UsageError.
    default : object
        As it would stand in the file; None for a filter that is not set.
    note : str
        Beside it in a new brief; empty for keys that a new brief does not show.
    start : object
        What a new brief shows in place of the default.
    """

    field: str
    read: Callable[[Any], Any]
    default: object
    note: str = ""
    start: object = None


def _names(value: object) -> tuple[str, ...]:
    if not isinstance(value, list) or not all(isinstance(entry, str) for entry in value):
        raise UsageError('It must be a list of names: ["red", "nir"], say.')
    if len(set(value)) < len(value):
        raise UsageError("A name stands in it twice.")
    return tuple(value)


def _crs(value: object) -> Crs | None:
    return None if value == "auto" else Crs.parse(text(value))


def _flag(value: object) -> bool:
    if not isinstance(value, bool):
        raise UsageError("It must be true or false.")
    return value


def stretch_of(value: object) -> str:
    """Two rising percentiles, or the words for another stretch: as ``--stretch`` takes them."""
    if isinstance(value, str) and re.fullmatch(r"minmax|equalize|sigma(=\d+(\.\d+)?)?", value):
        return value
    if not isinstance(value, list | tuple) or len(value) != 2:
        raise UsageError('It must be two percentiles, [2, 98], or "minmax", "sigma=2", "equalize".')
    low, high = (percent(number(entry), "percentile") for entry in value)
    if low >= high:
        raise UsageError("The first percentile must be below the second.")
    return f"{low:g},{high:g}"


def _within(low: float, high: float) -> Callable[[Any], float]:
    """Reads a number of a range."""

    def read(value: Any) -> float:
        found = number(value)
        if not low <= found <= high:
            raise UsageError(f"It must be from {low:g} to {high:g}.")
        return found

    return read


_FILTERS = {("search", key): Key(row.field, row.of_person, None) for key, row in BY_KEY.items()}
_BANDS = ["blue", "green", "red", "rededge", "nir", "swir16"]
_KEYS: dict[tuple[str, str], Key] = {
    ("study", "name"): Key("name", text, "", " "),
    ("search", "source"): Key("source", text, "", "a name from 'zoompick source list'"),
    **_FILTERS,
    ("search", "collections"): Key("collections", BY_KEY["collections"].of_person, None, " ", []),
    ("search", "dates"): Key(
        "periods", BY_KEY["dates"].of_person, None,
        "one scene set is chosen for each: a day, a month, a year, START/END", "2000/..",
    ),
    ("search", "cloud"): Key("cloud_max", BY_KEY["cloud"].of_person, 20, "percent of a scene, at most"),
    ("search", "cover"): Key("cover", percent, 99, "percent of the area that the chosen scenes must cover together"),
    ("download", "window"): Key(
        "window", _flag, False, "true: fetch only the study area's part of each file; false: whole files"
    ),
    ("grid", "crs"): Key("crs", _crs, "auto", "the UTM zone of the area's centre, or EPSG:…"),
    ("grid", "pixel_m"): Key("pixel_m", pixel, 8, " "),
    ("stack", "bands"): Key("bands", _names, ["blue", "green", "red", "nir"], " ", _BANDS),
    ("stack", "mix_scenes"): Key("mix_scenes", _flag, False),
    ("clip", "touch"): Key("touch", _flag, False, "true keeps every pixel the outline passes through"),
    ("composite", "recipes"): Key("composites", _names, [], " ", ["natural", "infrared"]),
    ("composite", "stretch"): Key(
        "stretch", stretch_of, [0.5, 99.7], 'percentiles, taken inside the area; or "minmax", "sigma=2", "equalize"'
    ),
    ("composite", "gamma"): Key("gamma", _within(0.1, 10), 1.8, "above 1 lifts what is dark"),
    ("composite", "saturation"): Key("saturation", _within(0, 5), 1.2),
    ("composite", "brightness"): Key("brightness", _within(-1, 1), 0),
    ("composite", "contrast"): Key("contrast", _within(0, 10), 1),
    ("index", "recipes"): Key("indices", _names, [], " ", ["ndvi", "ndwi"]),
    ("products", "folder"): Key(
        "folder", lambda value: NamePattern.parse(text(value)), "{date}", f"of the fields {', '.join(FIELDS)}"
    ),
    ("verify", "valid"): Key("valid", percent, 98, "percent of the area with valid pixels, at least"),
    ("verify", "cloud"): Key("cloud_area_max", percent, 10, "percent of the area under cloud, at most"),
}  # fmt: skip
_SECTIONS = tuple(dict.fromkeys(section for section, _ in _KEYS))
_HEAD = f"""\
# The brief of this study: what is sought, what is made. 'zoompick run' carries it out.
# More conditions for [search], if you like, as the options of 'zoompick search':
# {", ".join(key for section, key in _FILTERS if not _KEYS[section, key].note)}.
# Products of all days together, if you like, each as often as wanted: {", ".join(f"[[{kind}]]" for kind in KEYS)}.
"""
_NOTE_COLUMN = 27


def brief_text(given: Mapping[tuple[str, str], Any]) -> str:
    """Text of a new brief.

    Parameters
    ----------
    given : mapping of (section, key) to object
        Values in place of those that a new brief starts with.
    """
    parts = [_HEAD]
    for section in _SECTIONS:
        parts.append(f"\n[{section}]\n")
        for (own, name), key in _KEYS.items():
            if own == section and key.note:
                value = given.get((own, name), key.default if key.start is None else key.start)
                line, note = f"{name} = {_toml(value)}", key.note.strip()
                parts.append(f"{line:<{_NOTE_COLUMN - 1}} # {note}\n" if note else f"{line}\n")
    return "".join(parts)


def _toml(value: object) -> str:
    """A value as TOML; lists on one line."""
    import tomli_w

    if isinstance(value, list | tuple):
        return f"[{', '.join(map(_toml, value))}]"
    return tomli_w.dumps({"v": value}).removeprefix("v = ").strip()


def read_brief(path: Path) -> Brief:
    """Read and check ``study.toml``.

    Raises
    ------
    BriefError
        Names the line, the key, the value and what is expected.
    """
    try:
        content = path.read_text(encoding="utf-8-sig")
        table = tomllib.loads(content)
    except (OSError, ValueError, RecursionError) as error:
        raise BriefError(f"{path.name} cannot be read: {error}.", "Mend that line.") from error
    _check_keys(table, content)
    values: dict[str, Any] = {}
    sought: dict[str, Any] = {}
    for place, key in _KEYS.items():
        given = table.get(place[0], {}).get(place[1], key.default)
        if given is not None:
            kept = sought if place in _FILTERS else values
            kept[key.field] = _read(key, given, place, path, content)
    extras = extras_of(table, lambda kind, place, key: _line(content, kind, key, place), path.name)
    return Brief(search=Criteria(None, **sought), extras=extras, **values)


def _read(key: Key, given: object, place: tuple[str, str], path: Path, content: str) -> object:
    section, name = place
    try:
        return key.read(given)
    except UsageError as error:
        where = f"{path.name}, line {_line(content, section, name)}"
        raise BriefError(f"{where}: [{section}] {name} = {given!r} cannot be used.", str(error)) from error


def _check_keys(table: dict[str, Any], content: str) -> None:
    for section, keys in table.items():
        if section in KEYS:
            _check_extra(section, keys, content)
            continue
        if section not in _SECTIONS or not isinstance(keys, dict):
            raise _unknown(f"[{section}]", sorted((*_SECTIONS, *KEYS)), _line(content, section, ""))
        for name in keys:
            if (section, name) not in _KEYS:
                known = sorted(key for own, key in _KEYS if own == section)
                raise _unknown(f"[{section}] {name}", known, _line(content, section, name))


def _check_extra(section: str, entries: object, content: str) -> None:
    """Keys of sections that may stand there several times."""
    rows = [entries] if isinstance(entries, dict) else entries
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        line = _line(content, section, "")
        raise BriefError(
            f"{BRIEF_NAME}, line {line}: [[{section}]] must be a section.", f"As [[{section}]] and keys below."
        )
    for place, row in enumerate(rows):
        for name in row:
            if name not in KEYS[section]:
                raise _unknown(f"[[{section}]] {name}", sorted(KEYS[section]), _line(content, section, name, place))


def _unknown(what: str, known: list[str], line: int) -> BriefError:
    import difflib

    near = difflib.get_close_matches(what.rpartition(" ")[2].strip("[]"), known, n=1)
    hint = f"Did you mean {near[0]}?" if near else f"There is {', '.join(known)}."
    return BriefError(f"{BRIEF_NAME}, line {line}: {what} is not known.", hint)


def _line(content: str, section: str, key: str, place: int = 0) -> int:
    """Line of a key in the n-th section of a name, counted from 1; of the section when the key is not found."""
    current, section_line, number = "", 0, -1
    for row, line in enumerate(content.splitlines(), 1):
        header = re.match(r"\s*\[\[?([^\]]+)\]", line)
        if header:
            current = header[1].strip()
            number += current == section
            section_line = row if current == section and number == place else section_line
        elif (key and current == section and number == place and re.match(rf"\s*{re.escape(key)}\s*=", line)) or (
            not current and re.match(rf"\s*{re.escape(section)}\s*=", line)
        ):
            return row
    return section_line


assert {entry.name for entry in fields(Brief)} == {
    key.field for place, key in _KEYS.items() if place not in _FILTERS
} | {"search", "extras"}
