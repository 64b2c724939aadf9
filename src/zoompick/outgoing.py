"""Texts of strangers on their way out: made harmless for where they go.

Sources: RFC 4180 (CSV), whose text cells spreadsheets take for formulas by their first sign; CommonMark 0.31, section
2.4 (backslash escapes) and 6.1 (code spans).
"""

from __future__ import annotations

import re

_UNSEEN = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200b\u200e\u200f\u2028\u2029\u202a-\u202e\u2060-\u2069\ufeff\ud800-\udfff]"
)
_FORMULA = ("=", "+", "-", "@", "\t", "\r")
_MARKED = re.compile(r"[\\`*\[\]<>|~#]|(?<![A-Za-z0-9])_|_(?![A-Za-z0-9])|^(?=[-+]\s|\d+[.)]\s)")


def seen(text: str, instead: str = "\N{REPLACEMENT CHARACTER}") -> str:
    """A text without control characters, which command a terminal, and signs that turn or hide their neighbours."""
    return _UNSEEN.sub(instead, text)


def csv_cell(value: object) -> object:
    """A cell of CSV: numbers stay numbers, and a text that would be taken for a formula gets an apostrophe."""
    if not isinstance(value, str):
        return value
    text = seen(value.replace("\t", " ").replace("\r", " ").replace("\n", " "), "")
    return f"'{text}" if text.startswith(_FORMULA) else text


def csv_text(cell: str) -> str:
    """What :func:`csv_cell` was given, but for signs that nobody sees."""
    return cell[1:] if cell.startswith("'") and cell[1:].startswith(_FORMULA) else cell


class Code(str):
    """A text for a code span of Markdown, where nothing is marked up and only its own sign could end it."""

    __slots__ = ()

    @classmethod
    def of(cls, value: object) -> Code:
        """Without that sign."""
        return cls(seen(str(value).replace("`", "'").replace("\n", " ").replace("|", "\\|")))


def markdown(value: object) -> str:
    """A text as Markdown shows it, nothing of it marked up, on one line."""
    if isinstance(value, Code):
        return str(value)
    return _MARKED.sub(lambda found: f"\\{found[0]}", seen(" ".join(str(value).split("\n"))))
