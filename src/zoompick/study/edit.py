"""Change values in the text of a brief and leave all else as its author wrote it: order, comments, blank lines."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from typing import Any

from zoompick.errors import BriefError
from zoompick.jsontypes import JsonObject
from zoompick.settings import BRIEF_NAME
from zoompick.study.brief import toml_value

_HEADER = re.compile(r"\s*\[([A-Za-z_]+)\]\s*(#.*)?$")
_ANY_HEADER = re.compile(r"\s*\[\[?[A-Za-z_]+\]\]?\s*(#.*)?$")


def with_values(text: str, given: Mapping[tuple[str, str], Any]) -> str:
    """The text with other values.

    Parameters
    ----------
    given : mapping of (section, key) to object
        A key that is not there is added to its section, a section that is not there at the end.

    Raises
    ------
    BriefError
        The key stands there in a form that is not understood here.
    """
    lines = text.splitlines()
    for (section, key), value in given.items():
        _set(lines, section, key, f"{key} = {toml_value(value)}")
        whole = "\n".join(lines)
        if _read(whole).get(section, {}).get(key) != _read(f"v = {toml_value(value)}")["v"]:
            raise BriefError(
                f"[{section}] {key} cannot be changed in {BRIEF_NAME}.",
                f"Write it as a line of its own below [{section}].",
            )
    return "\n".join(lines) + "\n"


def _set(lines: list[str], section: str, key: str, line: str) -> None:
    start = next((at for at, own in enumerate(lines) if (m := _HEADER.match(own)) and m[1] == section), None)
    if start is None:
        lines += ["", f"[{section}]", line]
        return
    end = next((at for at in range(start + 1, len(lines)) if _ANY_HEADER.match(lines[at])), len(lines))
    for at in range(start + 1, end):
        if re.match(rf"\s*(?:{key}|\"{key}\")\s*=", lines[at]):
            last, note = _value_end(lines, at)
            width = lines[at].find("#") - 1 if note and last == at else 0
            lines[at : last + 1] = [f"{line:<{width}} {note}".rstrip() if note else line]
            return
    lines.insert(start + 1, line)


def _value_end(lines: list[str], start: int) -> tuple[int, str]:
    """Last line of the value that begins in a line, and the comment behind it."""
    for last in range(start, len(lines)):
        whole = "\n".join(lines[start : last + 1])
        told = _read(whole)
        if not told:
            continue
        marks = [found.start() for found in re.finditer("#", lines[last])]
        before = "\n".join(lines[start:last])
        for mark in marks:
            if _read("\n".join(part for part in (before, lines[last][:mark]) if part)) == told:
                return last, lines[last][mark:]
        return last, ""
    return start, ""


def _read(text: str) -> JsonObject:
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError:
        return {}
