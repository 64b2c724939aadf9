"""Item search on the archive's side: the query, its filters, sorting and paging.

Source: STAC API 1.0 item search; OGC 21-065r2 (CQL2), JSON encoding.
"""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from typing import Any

import shapely
from shapely.geometry import shape

from zoompick.standin.entry import Entry

_MOST = 500


class QueryError(Exception):
    """The query does not follow the standard; becomes a 400 answer."""


@dataclass(frozen=True)
class Query:
    """One request, read and checked."""

    collections: tuple[str, ...] = ()
    ids: tuple[str, ...] = ()
    bbox: tuple[float, ...] = ()
    intersects: Any = None
    start: datetime | None = None
    end: datetime | None = None
    limit: int = 10
    offset: int = 0
    filter: Any = None
    sortby: tuple[tuple[str, bool], ...] = ()

    @property
    def ground(self) -> Any:
        """The box or the shape that scenes have to touch; None for anywhere."""
        if not self.bbox:
            return self.intersects
        west, south, east, north = self.bbox
        return shapely.box(west, south, east, north)

    @classmethod
    def parse(cls, given: dict[str, Any]) -> Query:
        """Read the parameters of a POST body, or of a GET after :func:`from_get`."""
        if given.get("bbox") and given.get("intersects"):
            raise QueryError("bbox and intersects exclude each other")
        start, end = _interval(given.get("datetime"))
        return cls(
            collections=tuple(given.get("collections") or ()),
            ids=tuple(given.get("ids") or ()),
            bbox=_box(given.get("bbox")),
            intersects=_geometry(given.get("intersects")),
            start=start,
            end=end,
            limit=_limit(given.get("limit", 10)),
            offset=_offset(given.get("token")),
            filter=given.get("filter"),
            sortby=tuple(
                (entry["field"], entry.get("direction", "asc") == "desc") for entry in given.get("sortby") or ()
            ),
        )


def from_get(params: dict[str, str]) -> dict[str, Any]:
    """Turn the query string of a GET into the shape of a POST body."""
    body: dict[str, Any] = dict(params)
    for key in ("collections", "ids"):
        if key in params:
            body[key] = params[key].split(",")
    try:
        if "bbox" in params:
            body["bbox"] = [float(part) for part in params["bbox"].split(",")]
        for key in ("intersects", "filter"):
            if key in params:
                body[key] = json.loads(params[key])
    except ValueError as error:
        raise QueryError(f"cannot read the query: {error}") from error
    if "sortby" in params:
        body["sortby"] = [
            {"field": part.lstrip("+- "), "direction": "desc" if part.startswith("-") else "asc"}
            for part in params["sortby"].split(",")
        ]
    return body


def _box(value: Any) -> tuple[float, ...]:
    if value is None:
        return ()
    if not isinstance(value, list) or len(value) not in (4, 6):
        raise QueryError("bbox wants four or six numbers")
    return tuple(map(float, value if len(value) == 4 else (value[0], value[1], value[3], value[4])))


def _geometry(value: Any) -> Any:
    if value is None:
        return None
    try:
        return shape(value)
    except Exception as error:
        raise QueryError(f"intersects is no geometry: {error}") from error


def _limit(value: Any) -> int:
    try:
        limit = int(value)
    except (TypeError, ValueError) as error:
        raise QueryError("limit wants a whole number") from error
    if limit < 1:
        raise QueryError("limit must be at least 1")
    return min(limit, _MOST)


def token_of(offset: int) -> str:
    """Opaque name of the page that begins at ``offset``."""
    return base64.urlsafe_b64encode(f"ost:{offset}".encode()).decode().rstrip("=")


def _offset(token: Any) -> int:
    if not token:
        return 0
    try:
        text = base64.urlsafe_b64decode(str(token) + "==").decode()
        return int(text.removeprefix("ost:"))
    except ValueError as error:
        raise QueryError("unknown page token") from error


def _interval(value: Any) -> tuple[datetime | None, datetime | None]:
    if not value:
        return None, None
    parts = str(value).split("/")
    if len(parts) > 2:
        raise QueryError("datetime wants one time or two")
    ends = [None if part in ("", "..") else _instant(part) for part in parts]
    return (ends[0], ends[0]) if len(ends) == 1 else (ends[0], ends[1])


def _instant(text: str) -> datetime:
    if not re.fullmatch(r"\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d:\d\d(\.\d+)?([Zz]|[+-]\d\d:?\d\d)", text):
        raise QueryError(f"'{text}' is no RFC 3339 time")
    try:
        return datetime.fromisoformat(text.upper()).astimezone(UTC)
    except ValueError as error:
        raise QueryError(f"'{text}' is no RFC 3339 time") from error


def matches(query: Query, scenes: Sequence[Entry], as_item: Callable[[Any], dict[str, Any]]) -> list[Any]:
    """Scenes that fit, sorted; the newest first when nothing else is asked."""
    found = [scene for scene in scenes if _fits(query, scene)]
    if query.filter:
        found = [scene for scene in found if holds(query.filter, as_item(scene)) is True]
    found.sort(key=lambda scene: scene.id)
    if not query.sortby:
        return sorted(found, key=lambda scene: scene.when, reverse=True)
    for field, descending in reversed(query.sortby):
        found.sort(key=partial(_sort_key, field, as_item), reverse=descending)
    return found


def _sort_key(field: str, as_item: Callable[[Any], dict[str, Any]], scene: Entry) -> Any:
    value = _field(field, as_item(scene))
    return (value is not None, value if value is not None else 0)


def _fits(query: Query, scene: Entry) -> bool:
    if query.ids and scene.id not in query.ids:
        return False
    if (query.start and scene.until < query.start) or (query.end and scene.when > query.end):
        return False
    ground = query.ground
    return ground is None or bool(scene.footprint.intersects(ground))


def _field(name: str, item: dict[str, Any]) -> Any:
    name = name.removeprefix("properties.")
    if name in ("id", "collection", "geometry"):
        return item[name]
    return item["properties"].get(name)


def _comparable(value: Any) -> Any:
    if isinstance(value, str) and re.match(r"\d{4}-\d\d-\d\dT", value):
        return _instant(value)
    return value


def _operand(value: Any, item: dict[str, Any]) -> Any:
    if isinstance(value, dict):
        if "property" in value:
            return _comparable(_field(value["property"], item))
        if "timestamp" in value:
            return _instant(value["timestamp"])
        if "date" in value:
            return _instant(value["date"] + "T00:00:00Z")
        raise QueryError(f"unknown operand {value}")
    return _comparable(value)


_COMPARE: dict[str, Callable[[Any, Any], bool]] = {
    "=": lambda a, b: a == b,
    "<>": lambda a, b: a != b,
    "<": lambda a, b: a < b,
    "<=": lambda a, b: a <= b,
    ">": lambda a, b: a > b,
    ">=": lambda a, b: a >= b,
}


def holds(expression: Any, item: dict[str, Any]) -> bool | None:
    """Truth of a CQL2-JSON expression for an item; None where a property is missing (three-valued logic)."""
    if isinstance(expression, bool):
        return expression
    if not isinstance(expression, dict) or "op" not in expression:
        raise QueryError("filter wants CQL2-JSON: {op, args}")
    op, args = str(expression["op"]).lower(), expression.get("args", [])
    if op in ("and", "or"):
        parts = [holds(arg, item) for arg in args]
        wins = op == "or"
        return wins if wins in parts else None if None in parts else not wins
    if op == "not":
        part = holds(args[0], item)
        return None if part is None else not part
    if op == "isnull":
        return _operand(args[0], item) is None
    values = [_operand(arg, item) if not isinstance(arg, list) else [_operand(a, item) for a in arg] for arg in args]
    if any(value is None for value in values):
        return None
    try:
        return _truth(op, values)
    except (TypeError, IndexError) as error:
        raise QueryError(f"cannot compare in {op}: {error}") from error


def _truth(op: str, values: list[Any]) -> bool:
    if op in _COMPARE:
        return _COMPARE[op](values[0], values[1])
    if op == "between":
        return bool(values[1] <= values[0] <= values[2])
    if op == "in":
        return values[0] in values[1]
    if op == "like":
        pattern = "".join({"%": ".*", "_": "."}.get(char, re.escape(char)) for char in values[1])
        return bool(re.fullmatch(pattern, values[0]))
    raise QueryError(f"the operator {op} is not known here")
