"""When to ask again: a pure decision, apart from the sleeping."""

from __future__ import annotations

import random
import re
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime

TRANSIENT = frozenset({408, 425, 429, 500, 502, 503, 504})
"""Answers that may be different next time (RFC 9110, section 15; RFC 6585, section 4)."""


@dataclass(frozen=True, slots=True)
class RetryPolicy:
    """How often and how patiently to try again.

    Attributes
    ----------
    retries : int
        Attempts after the first.
    first_wait_s, longest_wait_s : float
        The wait doubles from the first to the longest.
    """

    retries: int = 4
    first_wait_s: float = 0.5
    longest_wait_s: float = 60.0

    def wait_s(self, attempt: int, retry_after: str | None, jitter: float | None = None) -> float | None:
        """Seconds to wait after the failed ``attempt`` (1 is the first), or None to give up.

        Parameters
        ----------
        retry_after : str or None
            The header of that name: seconds or an HTTP date. A wait beyond the longest means giving up.
        jitter : float, optional
            From 0 to 1; random by default, so that many clients do not return at the same moment.
        """
        if attempt > self.retries:
            return None
        asked = seconds_of(retry_after)
        if asked is not None:
            return asked if asked <= self.longest_wait_s else None
        jitter = random.random() if jitter is None else jitter
        return min(self.longest_wait_s, self.first_wait_s * 2 ** (attempt - 1)) * (0.5 + jitter / 2)


def seconds_of(retry_after: str | None) -> float | None:
    """Seconds named by a Retry-After header (RFC 9110, section 10.2.3); None when missing or unreadable."""
    if not retry_after:
        return None
    if re.fullmatch(r"\d{1,12}(\.\d{1,9})?", retry_after.strip()):
        return float(retry_after)
    try:
        moment = parsedate_to_datetime(retry_after)
    except (TypeError, ValueError, OverflowError):
        return None
    if moment.tzinfo is None:
        moment = moment.replace(tzinfo=UTC)
    return max(0.0, (moment - datetime.now(UTC)).total_seconds())
