"""The door from Python: arguments as people have them become what the verbs take, lists show themselves as tables.

A study is given as a :class:`Study` or its folder, an area as an :class:`Area`, a file, a name or coordinates, a
raster as such or by its address. What is none of these is a ``ZoomPickError``.
"""

from __future__ import annotations

import functools
import html
import inspect
import os
from collections.abc import Callable, Iterable, Sequence
from dataclasses import fields, is_dataclass, replace
from pathlib import Path
from typing import Any

from zoompick.errors import UsageError
from zoompick.scenes.finding import Finding
from zoompick.scenes.opening import open_raster
from zoompick.scenes.scenelist import Entry
from zoompick.study.areas import as_area
from zoompick.study.folder import Study as Folder
from zoompick.study.opened import Study

_FILES = ("Files", "Sequence[str | Path]")


def opened(verb: Callable[..., Any]) -> Callable[..., Any]:
    """A verb as Python users call it."""
    signature = inspect.signature(verb)
    kinds = {name: str(param.annotation) for name, param in signature.parameters.items()}

    @functools.wraps(verb)
    def call(*args: Any, **named: Any) -> Any:
        bound = signature.bind(*args, **named)
        for name, value in bound.arguments.items():
            bound.arguments[name] = _taken(name, kinds[name], value)
        return _shown(verb(*bound.args, **bound.kwargs))

    return call


def _taken(name: str, kind: str, value: Any) -> Any:
    """An argument as the verb wants it."""
    words = {word.strip() for word in kind.split("|")}
    if value is None and "None" in words:
        return None
    if kind in _FILES:
        return _files(name, value)
    if "Study" in words:
        return value if isinstance(value, Folder) else Study.need(_path(name, value, "a Study or its folder"))
    if "Area" in words:
        return as_area(name, value)
    if "Shape" in words:
        return value if hasattr(value, "geom_type") else as_area(name, value).polygon
    if "Raster" in words:
        return _raster(name, value)
    if "Path" in words and "str" not in words:
        return _path(name, value, "a path")
    return _refined(value) if is_dataclass(value) and not isinstance(value, type) else value


def _refined(wish: Any) -> Any:
    """A value of options whose paths and areas may be texts, too."""
    kinds = {
        one.name: str(one.type) for one in fields(wish) if isinstance(getattr(wish, one.name), str | os.PathLike)
    }
    texts = {name: kind for name, kind in kinds.items() if {"Path", "Area"} & set(kind.split(" | "))}
    given = {name: _taken(name, kind, getattr(wish, name)) for name, kind in texts.items()}
    return replace(wish, **given) if given else wish


def _path(name: str, value: Any, what: str) -> Path:
    if not isinstance(value, str | os.PathLike):
        raise UsageError(f"`{name}` is {what}, and {type(value).__name__} was given.", "Give a path as text.")
    return Path(value)


def _files(name: str, value: Any) -> Sequence[Any]:
    if not isinstance(value, str | os.PathLike | Iterable):
        raise UsageError(f"`{name}` are files, and {type(value).__name__} was given.", "Give paths, or one.")
    found = [value] if isinstance(value, str | os.PathLike) else list(value)
    if not found:
        raise UsageError(f"`{name}` are none.", "Give at least one file.")
    return found


def _raster(name: str, value: Any) -> Any:
    if isinstance(value, str | os.PathLike):
        return open_raster(value)
    if not hasattr(value, "grid"):
        raise UsageError(f"`{name}` is a raster, and {type(value).__name__} was given.", "Give one, or its file.")
    return value


class Table(list[Any]):
    """A list that a notebook shows as a table."""

    def _repr_html_(self) -> str:
        rows = [_cells(one) for one in self]
        head = "".join(f"<th>{html.escape(name)}</th>" for name in (rows[0] if rows else {}))
        body = "".join(
            "<tr>" + "".join(f"<td>{html.escape(str(cell))}</td>" for cell in row.values()) + "</tr>" for row in rows
        )
        return f"<table><tr>{head}</tr>{body}</table>"


def _cells(one: Entry | Finding) -> dict[str, object]:
    if isinstance(one, Finding):
        return {"check": one.check, "subject": one.subject, "outcome": one.outcome, "figure": one.figure,
                "limit": one.limit, "note": one.note}  # fmt: skip
    scene = one.scene
    cloud = "" if scene.cloud_percent is None else f"{scene.cloud_percent:.0f} %"
    return {"id": scene.id, "taken": f"{scene.when:%Y-%m-%d %H:%M}", "platform": scene.platform, "cloud": cloud,
            "cover": f"{one.cover_percent:.0f} %"}  # fmt: skip


def _shown(result: Any) -> Any:
    if type(result) is Folder:
        return Study(result.root)
    is_table = isinstance(result, list) and result and all(isinstance(one, Entry | Finding) for one in result)
    return Table(result) if is_table else result
