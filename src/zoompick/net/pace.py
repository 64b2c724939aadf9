"""How fast bytes may come: a limit that all transfers of a session share."""

from __future__ import annotations

import re
import threading
import time

from zoompick.errors import UsageError

_UNITS = {"k": 1e3, "m": 1e6, "g": 1e9}
_BURST_S = 0.25


class Pace:
    """A limit in bytes a second; safe to use from several threads.

    Parameters
    ----------
    bytes_per_s : float
        0 for no limit.
    """

    def __init__(self, bytes_per_s: float = 0.0) -> None:
        self.bytes_per_s = bytes_per_s
        self._lock = threading.Lock()
        self._free_at = 0.0

    @classmethod
    def parse(cls, text: str) -> Pace:
        """Read ``500k``, ``2MB``, ``1.5 MB/s``: powers of ten, in bytes; an empty text is no limit.

        Raises
        ------
        UsageError
        """
        if not text:
            return cls()
        match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(?:([kmg])b?|b)(?:/s)?\s*", text.lower())
        if not match or not float(match[1]):
            raise UsageError(f"'{text}' is no rate with a unit.", "As 500k or 2MB: bytes a second.")
        return cls(float(match[1]) * _UNITS.get(match[2], 1))

    @property
    def most_at_once(self) -> int:
        """Bytes to ask for at a time, so that the rate stays even; 0 when there is no limit."""
        return max(1024, int(self.bytes_per_s * _BURST_S)) if self.bytes_per_s else 0

    def take(self, count: int, stop: threading.Event) -> None:
        """Account for bytes that came, and wait until they were due; a stop ends the wait."""
        if not self.bytes_per_s:
            return
        with self._lock:
            now = time.monotonic()
            self._free_at = max(self._free_at, now) + count / self.bytes_per_s
            wait = self._free_at - now
        stop.wait(wait)
