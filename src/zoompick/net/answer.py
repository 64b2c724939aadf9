"""An answer whose body is still to be read: in pieces, whole within bounds, or as the error that it is."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from zoompick.addresses import host_of
from zoompick.errors import SourceError
from zoompick.later import urllib3
from zoompick.net.encoding import encoding_of, inflated
from zoompick.net.pace import Pace
from zoompick.net.refusals import Asked, TransientError, refusal

_CHUNK = 1 << 20
_MOST_JSON = 256 << 20
_LEAST_RATE = 1000
"""Bytes a second below which an answer counts as stalled."""


@dataclass(frozen=True)
class Answer:
    """A response whose body is still to be read; ``url`` is where the last redirect led."""

    status: int
    headers: Mapping[str, str]
    url: str
    _response: Any
    _pace: Pace
    _stop: threading.Event
    _stall_s: float

    @property
    def tells_its_end(self) -> bool:
        """True when it tells how long it is, or where it ends (RFC 9112, section 6.3): cut short it is an error."""
        return "Content-Length" in self.headers or "chunked" in self.headers.get("Transfer-Encoding", "").lower()

    def chunks(self) -> Iterator[bytes]:
        """The body in pieces as they come, of up to a megabyte, no faster than the session's pace.

        Raises
        ------
        TransientError
            The connection broke, fewer bytes came than were announced, or they all but stopped coming.
        """
        most = min(_CHUNK, self._pace.most_at_once or _CHUNK)
        waited, came = 0.0, 0
        try:
            while True:
                began = time.monotonic()
                chunk = self._response.read1(most, decode_content=False)
                waited, came = waited + time.monotonic() - began, came + len(chunk)
                if not chunk:
                    return
                yield chunk
                if waited > self._stall_s:
                    if came < _LEAST_RATE * waited:
                        raise TransientError(
                            f"{host_of(self.url)} sends {came / waited:.0f} bytes a second.", "Try again."
                        )
                    waited, came = 0.0, 0
                self._pace.take(len(chunk), self._stop)
        except urllib3.exceptions.HTTPError as error:
            raise TransientError(
                f"The connection to {host_of(self.url)} broke in the middle of a file.", "Try again."
            ) from error


def kind_of(headers: Mapping[str, str]) -> str:
    """The media type that a body is announced as."""
    return headers.get("Content-Type", "something without a type").split(";")[0]


def limited(answer: Answer) -> bytes:
    """All of a document, without its encoding.

    Raises
    ------
    SourceError
        It has more bytes than any document has, or swells beyond all reason.
    """
    parts, size = [], 0
    encoding = encoding_of(answer.headers)
    chunks = inflated(answer.chunks(), encoding, answer.url, _MOST_JSON) if encoding else answer.chunks()
    for part in chunks:
        size += len(part)
        if size > _MOST_JSON:
            raise SourceError(
                f"{answer.url} sends more than {_MOST_JSON >> 20} MB of JSON.", "Ask for smaller pages."
            )
        parts.append(part)
    return b"".join(parts)


def refused(answer: Answer, asked: Asked) -> SourceError:
    """The error that an answer of status 400 or above is, with what its body says."""
    try:
        encoding = encoding_of(answer.headers)
        chunks = inflated(answer.chunks(), encoding, answer.url) if encoding else answer.chunks()
        body = next(chunks, b"")[:4000]
    except SourceError:
        body = b""
    return refusal(answer.url, answer.status, answer.headers, body, asked)
