"""Values that strangers wrote: numbers, moments and texts enter here, within bounds, or not at all.

Catalogues, files and people write what they like where a number is expected. What is none, or beyond all that is
meant, is None here, so that whoever asks decides what its lack means.
"""

from __future__ import annotations

import math
import re
from datetime import UTC, datetime

_MOST = 1e300
"""Beyond it sums and squares would overflow: no quantity is that large."""
_MOST_WHOLE = (1 << 63) - 1
_MOST_TEXT = 10_000
_YEARS = range(1800, 2300)
"""Of moments that mean something: arithmetic with days stays within what a date can be."""
_SURROGATES = re.compile("[\ud800-\udfff]")


def number(found: object, least: float = -_MOST, most: float = _MOST) -> float | None:
    """A JSON number within bounds, as a float; never a boolean, never NaN or an infinity."""
    if isinstance(found, bool) or not isinstance(found, int | float):
        return None
    # A whole number of hundreds of digits is compared exactly, and only then converted.
    return float(found) if least <= found <= most and math.isfinite(float(found)) else None


def whole(found: object, least: int = 0, most: int = _MOST_WHOLE) -> int | None:
    """A whole JSON number within bounds: sizes, counts, codes."""
    is_whole = isinstance(found, int) and not isinstance(found, bool)
    return int(found) if is_whole and least <= found <= most else None  # type: ignore[call-overload, operator]


def moment(found: object) -> datetime | None:
    """An RFC 3339 date-time in UTC, of a year that is meant; one without a zone is taken for UTC."""
    try:
        told = datetime.fromisoformat(found) if isinstance(found, str) and len(found) < 64 else None
        if told is None or told.year not in _YEARS:
            return None
        return told.astimezone(UTC) if told.tzinfo else told.replace(tzinfo=UTC)
    except (ValueError, OverflowError):
        return None


def text(found: object, most: int = _MOST_TEXT) -> str:
    """A text of moderate length that can be written down; a number as it is written, anything else as empty."""
    if isinstance(found, bool) or not isinstance(found, str | int | float):
        return ""
    if isinstance(found, int) and abs(found) > _MOST_WHOLE:
        return ""
    return without_surrogates(str(found)[:most])


def without_surrogates(told: str) -> str:
    """A text without halves of characters, which no encoding can write."""
    return told if told.isascii() else _SURROGATES.sub("\N{REPLACEMENT CHARACTER}", told)
