"""Names out of a pattern with fields in braces: ``{date}-{platform}``."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

from zoompick.errors import UnknownNameError, UsageError

FIELDS = (
    "date", "year", "month", "day", "platform", "collection", "source", "level", "version", "study", "area",
)  # fmt: skip
_OLD = {"satellite": "platform"}
"""Fields of version 0.1, which still work."""
_FIELD = re.compile(r"\{([^{}]*)\}")


@dataclass(frozen=True, slots=True)
class NamePattern:
    """A checked pattern; what it gives may still hold characters that no file name should: make it safe."""

    text: str

    @classmethod
    def parse(cls, text: str) -> NamePattern:
        """Read a pattern.

        Raises
        ------
        UsageError
            Empty, or with a stray brace.
        UnknownNameError
            A field that does not exist.
        """
        text = _FIELD.sub(lambda match: f"{{{_OLD.get(match[1], match[1])}}}", text)
        for name in _FIELD.findall(text):
            if name not in FIELDS:
                raise UnknownNameError.of("field", name, FIELDS)
        rest = _FIELD.sub("", text)
        if not text.strip() or "{" in rest or "}" in rest:
            raise UsageError(f"'{text}' is no pattern for a name.", "As {date}-{platform}.")
        return cls(text)

    def filled(self, fields: Mapping[str, str]) -> str:
        """The pattern with its fields in place; a field that is not told is left out, with its joint."""
        name = _FIELD.sub(lambda match: fields.get(match[1], ""), self.text)
        return re.sub(r"([-_. ])[-_. ]+", r"\1", name).strip("-_. ")
