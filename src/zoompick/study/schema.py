"""The JSON Schema of a brief, for editors: out of the tables of its keys.

It is published as ``data/study.schema.json`` and laid beside each brief, whose first line names it, as several
editors of TOML read it. Source: JSON Schema, draft 2020-12.
"""

from __future__ import annotations

from collections.abc import Mapping
from importlib.resources import files

from zoompick.discovery.filters import BY_KEY, SORTS, Row
from zoompick.given import Value
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.study.brief import KEYS as PLAIN
from zoompick.study.brief import SEVERAL

_SOME = {"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]}
_BY_UNIT: Mapping[str, JsonMap] = {
    "PERCENT": {"type": "number", "minimum": 0, "maximum": 100}, "DEGREES": {"type": "number"},
    "METRES": {"type": "number"}, "WHEN": _SOME, "NAME": _SOME, "ID": _SOME, "A,B,C": _SOME,
    "COUNT": {"type": "integer", "minimum": 1}, "ORDER": {"enum": list(SORTS)},
    "keep|drop": {"enum": ["keep", "drop"]},
    "MONTHS": {"type": "string"}, "HH-HH": {"type": "string"}, "": {"enum": ["newest", "all", True]},
}  # fmt: skip


def published() -> str:
    """The schema as it is published."""
    return files("zoompick.study").joinpath("data", "study.schema.json").read_text(encoding="utf-8")


def brief_schema() -> JsonObject:
    """The schema of all that :func:`zoompick.study.brief.read_brief` reads."""
    sections: dict[str, JsonObject] = {}
    for (section, name), key in PLAIN.items():
        row = BY_KEY.get(name) if section == "search" else None
        entry = dict(_of_row(row) if row is not None else _of_value(key.read))
        about = key.note.strip() or (row.help if row is not None else key.words)
        entry |= {"description": about} if about else {}
        entry |= {"default": key.default} if key.default is not None else {}
        sections.setdefault(section, {})[name] = entry
    tables = {name: _table(keys) for name, keys in sections.items()}
    for name, rows in SEVERAL.items():
        keys = {
            key: {**_of_value(row.value), "description": row.words}
            | ({"default": row.default} if row.default is not None else {})
            for key, row in rows.items()
        }
        tables[name] = {"anyOf": [{"type": "array", "items": _table(keys)}, _table(keys)]}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "The brief of a study: what is sought, what is made",
        **_table(tables),
    }


def _table(keys: JsonMap) -> JsonObject:
    return {"type": "object", "additionalProperties": False, "properties": dict(keys)}


def _of_row(row: Row) -> JsonMap:
    return _BY_UNIT[row.unit]


def _of_value(read: object) -> JsonMap:
    assert isinstance(read, Value)
    return read.schema
