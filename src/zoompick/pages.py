"""Keep the memory of freed blocks and pieces of files for the next ones.

The C library gives large pieces back to the system as soon as they are freed, and the system clears every page
before it hands it out again: for blocks that come and go by the thousand that costs a twentieth of the codec's own
time. What is kept is bounded by what was in use at once.
Source: mallopt(3), parameters M_TRIM_THRESHOLD and M_MMAP_THRESHOLD of the GNU C library; elsewhere nothing is done.
"""

from __future__ import annotations

import ctypes
import sys
from functools import cache

_TRIM_THRESHOLD, _MMAP_THRESHOLD = -1, -3
_KEEP_BYTES, _LARGEST_BYTES = 128 << 20, 8 << 20


@cache
def keep_freed() -> bool:
    """Ask the C library to keep freed pieces of up to 8 MB; True when it could be asked."""
    if not sys.platform.startswith("linux"):
        return False
    try:
        library = ctypes.CDLL(None)
        return bool(
            library.mallopt(_MMAP_THRESHOLD, _LARGEST_BYTES) and library.mallopt(_TRIM_THRESHOLD, _KEEP_BYTES)
        )
    except (OSError, AttributeError):
        return False
