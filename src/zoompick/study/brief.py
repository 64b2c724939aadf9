"""The brief, ``study.toml``: what is sought and what is made.

One table tells every key: its section, the field of :class:`Brief`, how its value is read, its default, and the words
beside it in a new brief. Keys of ``[search]`` come from the table of filters.
"""

from __future__ import annotations

import difflib
import tomllib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, fields
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple

from zoompick.discovery.criteria import Criteria
from zoompick.discovery.filters import BY_KEY
from zoompick.errors import BriefError, UsageError
from zoompick.geo.crs import Crs
from zoompick.given import CRS, FLAG, FOLDER, LIMIT_WORDS, LIMITS, NAMES, PERCENT, PIXEL, TEXT
from zoompick.jsontypes import JsonObject
from zoompick.patterns import FIELDS, NamePattern
from zoompick.products.asked import Asked
from zoompick.products.kinds.table import KINDS
from zoompick.products.sections import Reader, keys_of
from zoompick.scenes.period import Period
from zoompick.settings import BRIEF_NAME, SCHEMA_NAME


@dataclass(frozen=True, kw_only=True)
class Brief(Asked):
    """The brief's values, checked: what is sought, how far it goes, and, of :class:`Asked`, what is made.

    Attributes
    ----------
    search : Criteria
        Everything that is sought, without the area. One scene set is chosen for each of its periods.
    crs : Crs or None
        None: the UTM zone of the area.
    cover, valid, cloud_area_max : float
        Percentages: of the area by footprints at least, of the area with valid pixels at least, of the area under
        cloud at most.
    limits : tuple of str
        Other limits of checks: ``shift_px=0.3``.
    old_words : tuple of str
        Sentences on keys that are called otherwise now.
    folder : NamePattern
        Of the folder of each scene set's products.
    intermediate : bool
        What products are made of is written too.
    window : bool
        Fetch only the area's part of each file.
    """

    name: str
    source: str
    search: Criteria
    cover: float
    window: bool
    crs: Crs | None
    pixel_m: float
    folder: NamePattern
    intermediate: bool
    valid: float
    cloud_area_max: float
    stop_at_failure: bool
    skip_checks: tuple[str, ...]
    limits: tuple[str, ...]
    old_words: tuple[str, ...] = ()

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
        In ``Brief``; for a filter, in its ``search``; empty for what the rules of a product hold.
    read : callable
        Value to what is kept, or UsageError.
    default : object
        As it would stand in the file; None for a filter that is not set.
    note : str
        Beside it in a new brief; empty for keys that a new brief does not show.
    start : object
        What a new brief shows in place of the default.
    words : str
        What it is for, of a key without a note.
    """

    field: str
    read: Callable[[Any], Any]
    default: object
    note: str = ""
    start: object = None
    words: str = ""


_FILTERS = {("search", key): Key(row.field, row.of_person, None) for key, row in BY_KEY.items()}
_BANDS = ["blue", "green", "red", "rededge", "nir", "swir16"]
KEYS: dict[tuple[str, str], Key] = {
    ("study", "name"): Key("name", TEXT, "", " "),
    ("search", "source"): Key("source", TEXT, "", "a name from 'zoompick source list'"),
    **_FILTERS,
    ("search", "collections"): Key("collections", BY_KEY["collections"].of_person, None, " ", []),
    ("search", "dates"): Key(
        "periods", BY_KEY["dates"].of_person, None,
        "one scene set is chosen for each: a day, a month, a year, START/END", "2000/..",
    ),
    ("search", "cloud"): Key("cloud_max", BY_KEY["cloud"].of_person, 20, "percent of a scene, at most"),
    ("search", "cover"): Key("cover", PERCENT, 99, "percent of the area that the chosen scenes must cover together"),
    ("download", "window"): Key(
        "window", FLAG, False, "true: fetch only the study area's part of each file; false: whole files"
    ),
    ("grid", "crs"): Key("crs", CRS, "auto", "the UTM zone of the area's centre, or EPSG:…, or WKT2"),
    ("grid", "pixel_m"): Key("pixel_m", PIXEL, 8, " "),
    ("stack", "bands"): Key("bands", NAMES, ["blue", "green", "red", "nir"], " ", _BANDS),
    **{
        (kind.name, name): Key("", row.value, row.default, row.note, row.start, row.words)
        for kind in KINDS if not kind.is_several
        for name, row in keys_of(kind).items()
    },
    ("products", "folder"): Key("folder", FOLDER, "{date}", f"of the fields {', '.join(FIELDS)}"),
    ("products", "intermediate"): Key(
        "intermediate", FLAG, True, words="false: stack, aligned and clip are computed on the way, and not written"
    ),
    ("products", "stop_at_failure"): Key(
        "stop_at_failure", FLAG, False, words="true: the first scene or product that fails ends a run; else the "
                                              "rest is done"
    ),
    ("verify", "valid"): Key("valid", PERCENT, 98, "percent of the area with valid pixels, at least"),
    ("verify", "cloud"): Key("cloud_area_max", PERCENT, 10, "percent of the area under cloud, at most"),
    ("verify", "skip"): Key("skip_checks", NAMES, [], words="checks or groups of checks that are not made"),
    ("verify", "limits"): Key(
        "limits", LIMITS, {}, words=f"other limits: {{ {' = …, '.join(LIMIT_WORDS)} = … }}"
    ),
}  # fmt: skip
_SECTIONS = tuple(dict.fromkeys(section for section, _ in KEYS))
SEVERAL = {kind.name: keys_of(kind) for kind in KINDS if kind.is_several}
"""Keys of the sections that a brief may hold as often as wanted."""
_HEAD = f"""\
#:schema {SCHEMA_NAME}
# The brief of this study: what is sought, what is made. 'zoompick run' carries it out.
# More conditions for [search], if you like, as the options of 'zoompick search':
# {", ".join(key for section, key in _FILTERS if not KEYS[section, key].note)}.
# More products, if you like, each as often as wanted: {", ".join(f"[[{kind}]]" for kind in SEVERAL)}.
# [align] lays the days on one another. 'zoompick run --plan' shows what is made of what.
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
        if not any(key.note or place in given for place, key in KEYS.items() if place[0] == section):
            continue
        parts.append(f"\n[{section}]\n")
        for (own, name), key in KEYS.items():
            if own == section and ((own, name) in given or key.note):
                value = given.get((own, name), key.default if key.start is None else key.start)
                line, note = f"{name} = {toml_value(value)}", key.note.strip()
                parts.append(f"{line:<{_NOTE_COLUMN - 1}} # {note}\n" if note else f"{line}\n")
    return "".join(parts)


def toml_value(value: object) -> str:
    """A value as TOML; lists on one line."""
    import tomli_w

    if isinstance(value, list | tuple):
        return f"[{', '.join(map(toml_value, value))}]"
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
    old_words = _renewed(table)
    _check_keys(table, content)
    values: JsonObject = {}
    sought: JsonObject = {}
    for place, key in KEYS.items():
        given = table.get(place[0], {}).get(place[1], key.default)
        if given is not None and key.field:
            kept = sought if place in _FILTERS else values
            kept[key.field] = _read(key, given, place, path, content)
    reader = Reader(table, lambda kind, place, key: _line(content, kind, key, place), path.name)
    return Brief(search=Criteria(None, **sought), sections=reader.read(KINDS), old_words=old_words, **values)


_OLD_KEYS = {
    ("search", "scene_cover"): "cover_min", ("align", "to"): "reference", ("blend", "every"): "per",
    ("compare", "by"): "change_min",
}  # fmt: skip
"""Keys of version 0.1 and what they are called now; they still work for one version more."""


def _renewed(table: JsonObject) -> tuple[str, ...]:
    """Put keys of now in place of old ones; a sentence for each."""
    told = {}
    for (section, old), new in _OLD_KEYS.items():
        entries = table.get(section, [])
        for row in [entries] if isinstance(entries, dict) else entries:
            if isinstance(row, dict) and old in row and new not in row:
                row[new] = row.pop(old)
                told[old] = f"[{section}] {old} is called {new} now; the old word works for one version more."
    return tuple(told.values())


def _read(key: Key, given: object, place: tuple[str, str], path: Path, content: str) -> object:
    section, name = place
    try:
        return key.read(given)
    except UsageError as error:
        where = f"{path.name}, line {_line(content, section, name)}"
        raise BriefError(f"{where}: [{section}] {name} = {given!r} cannot be used.", str(error)) from error


def _check_keys(table: JsonObject, content: str) -> None:
    for section, keys in table.items():
        if section in SEVERAL:
            _check_extra(section, keys, content)
            continue
        if section not in _SECTIONS or not isinstance(keys, dict):
            raise _unknown(f"[{section}]", sorted((*_SECTIONS, *SEVERAL)), _line(content, section, ""))
        for name in keys:
            if (section, name) not in KEYS:
                known = sorted(key for own, key in KEYS if own == section)
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
            if name not in SEVERAL[section]:
                raise _unknown(
                    f"[[{section}]] {name}", sorted(SEVERAL[section]), _line(content, section, name, place)
                )


def _unknown(what: str, known: list[str], line: int) -> BriefError:
    near = difflib.get_close_matches(what.rpartition(" ")[2].strip("[]"), known, n=1)
    hint = f"Did you mean {near[0]}?" if near else f"There is {', '.join(known)}."
    return BriefError(f"{BRIEF_NAME}, line {line}: {what} is not known.", hint)


def _line(content: str, section: str, key: str, place: int = 0) -> int:
    """Line of a key in the n-th section of a name, counted from 1; of the section when the key is not found."""
    old = next((name for (own, name), new in _OLD_KEYS.items() if (own, new) == (section, key)), key)
    rows, alone = _rows(content), _rows(content).get(("", 0, section))
    found = [row for name in {key, old} if (row := rows.get((section, place, name)))]
    return min([*found, *([alone] if alone else [])], default=rows.get((section, place, ""), 0))


@lru_cache(maxsize=4)
def _rows(content: str) -> Mapping[tuple[str, int, str], int]:
    """Lines by section, which of that name, and key; a section's own by an empty key."""
    found: dict[tuple[str, int, str], int] = {}
    current, count = ("", 0), dict[str, int]()
    for row, line in enumerate(content.splitlines(), 1):
        text = line.strip()
        name = text.lstrip("[").partition("]")[0].strip() if text.startswith("[") and "]" in text else ""
        if name:
            count[name] = count.get(name, -1) + 1
            current = name, count[name]
            found.setdefault((*current, ""), row)
        elif "=" in text:
            found.setdefault((*current, text.partition("=")[0].strip()), row)
    return found


assert {entry.name for entry in fields(Brief)} == {
    key.field for place, key in KEYS.items() if place not in _FILTERS and key.field
} | {"search", "sections", "old_words"}
