"""Which codec a file was written with, and how hard it tried: a value that records and locks keep as a text."""

from __future__ import annotations

from typing import NamedTuple

from zoompick import settings

BY_TILE = -1
"""The effort of deflate that chooses for each tile what it is worth."""
_BY_TILE = "by tile"
_SETTING = {"deflate": "deflate_level", "zstd": "zstd_level"}
_QUALITY = 88
"""Of pictures that may lose a little: artefacts are hard to find, half the bytes of 95."""
PICTURE_ONLY = ("jpeg", "webp")


class Codec(NamedTuple):
    """A codec by name, with its effort; of jpeg and webp the quality, 0 where a codec has none.

    Its text is ``deflate by tile``, ``zstd 3``, ``jpeg 88``, or the name alone.
    """

    name: str
    effort: int = 0

    @classmethod
    def usual(cls, name: str, effort: int = 0) -> Codec:
        """A codec with the effort given, or that of the settings."""
        if name in PICTURE_ONLY:
            return cls(name, effort or _QUALITY)
        return cls(name, effort or settings.whole(_SETTING[name]) or BY_TILE) if name in _SETTING else cls(name)

    @classmethod
    def of_text(cls, text: str) -> Codec:
        """The codec of a text; files made before such texts were kept are of deflate at level 6."""
        if not text:
            return cls("deflate", 6)
        name, _, effort = text.partition(" ")
        return cls(name, BY_TILE if effort == _BY_TILE else int(effort) if effort.isdecimal() else 0)

    @property
    def text(self) -> str:
        """As records keep it."""
        effort = _BY_TILE if self.effort == BY_TILE else str(self.effort or "")
        return f"{self.name} {effort}".rstrip()
