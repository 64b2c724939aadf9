"""A remote file as bytes by position: few requests, a head that is read once, and a count of what it cost.

Source: RFC 9110, section 14 (range requests).
"""

from __future__ import annotations

import bisect
import re
import tempfile
import threading
import uuid
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache
from typing import Any

from zoompick.bytesource import Identity
from zoompick.errors import SourceError
from zoompick.net import vault
from zoompick.net.authority import Authority
from zoompick.net.client import Client
from zoompick.net.encoding import refuse_encoded
from zoompick.net.refusals import EXPIRED, AnsweredError, TransientError
from zoompick.net.validators import version_of

HEAD_BYTES = 16 << 10
_AHEAD_BYTES = 8 << 10
_IN_MEMORY = 32 << 20
_LOOKED_AGAIN = 256 << 10
"""So much of a stretch is fetched once more at most, to see whether it is the same."""


class NoRangesError(SourceError):
    """A server sends a file only whole."""


@dataclass
class Cost:
    """Requests made and bytes received; safe to add to from several threads."""

    requests: int = 0
    received: int = 0

    def __post_init__(self) -> None:
        self._lock = threading.Lock()

    def add(self, received: int) -> None:
        """Count one request."""
        with self._lock:
            self.requests += 1
            self.received += received


@dataclass(frozen=True, slots=True, order=True)
class Span:
    """A stretch of a file in bytes."""

    start: int
    length: int

    @property
    def stop(self) -> int:
        """First byte after it."""
        return self.start + self.length


def merged(spans: Iterable[Span], gap: int = 0) -> list[Span]:
    """Spans in order; those that overlap, touch, or leave no more than ``gap`` bytes between them become one."""
    found: list[Span] = []
    for span in sorted(span for span in spans if span.length > 0):
        if found and span.start - found[-1].stop <= gap:
            found[-1] = Span(found[-1].start, max(found[-1].stop, span.stop) - found[-1].start)
        else:
            found.append(span)
    return found


_MOST_BESIDE = 64 << 10


class _Pieces:
    """Stretches of a file that are here: in memory, and in a nameless file when they grow large."""

    def __init__(self) -> None:
        self._starts: list[int] = []
        self._held: list[tuple[Span, bytes | int]] = []
        self._total = 0
        self._spool: Any = None

    def add(self, start: int, data: bytes) -> None:
        place = bisect.bisect(self._starts, start)
        kept: bytes | int = data
        if self._total + len(data) > _IN_MEMORY:
            self._spool = self._spool or tempfile.TemporaryFile()  # noqa: SIM115
            kept = self._spool.seek(0, 2)
            self._spool.write(data)
        else:
            self._total += len(data)
        self._starts.insert(place, start)
        self._held.insert(place, (Span(start, len(data)), kept))

    def ends(self) -> list[Span]:
        """The first and the last of them."""
        spans = [span for span, _ in self._held if span.length]
        return spans if len(spans) < 2 else [spans[0], spans[-1]]

    def get(self, start: int, length: int) -> bytes | None:
        """The bytes, or None when no single piece holds them."""
        for place in range(bisect.bisect(self._starts, start) - 1, -1, -1):
            span, kept = self._held[place]
            if span.start <= start and start + length <= span.stop:
                if isinstance(kept, bytes):
                    return kept[start - span.start : start - span.start + length]
                self._spool.seek(kept + start - span.start)
                return bytes(self._spool.read(length))
        return None


class RemoteFile:
    """A file on a web server as a byte source; pieces that were fetched are kept while it lives.

    Parameters
    ----------
    head_bytes, ahead_bytes : int
        Read at once at the first contact, and at least at every later one.
    renew : callable
        Gives the file's address of today when this one is refused: signed addresses end.

    Raises
    ------
    SourceError
        At the first read: not reachable, or (:class:`NoRangesError`) the server sends no ranges.
    """

    def __init__(
        self,
        url: str,
        client: Client,
        cost: Cost | None = None,
        head_bytes: int = HEAD_BYTES,
        ahead_bytes: int = _AHEAD_BYTES,
        renew: Callable[[], str | None] = lambda: None,
    ) -> None:
        self.url = url
        self._renew = renew
        self.cost = cost or Cost()
        self._client = client
        self._head_bytes, self._ahead_bytes = head_bytes, ahead_bytes
        self._pieces = _Pieces()
        self._size: int | None = None
        self._etag: str | None = None
        self._changed: str | None = None
        self._coming: list[tuple[Span, Future[None]]] = []
        self._lock = threading.Lock()
        self._own_stamp = uuid.uuid4().hex

    def __reduce__(self) -> tuple[Any, ...]:
        state = (self.identity, self._etag, self._changed) if self._size is not None else None
        by = self._client.authority
        # Whoever opens it elsewhere has no secrets of addresses.
        url = vault.joined(self.url, by.source if by else "")
        return _reopened, (url, self._head_bytes, self._ahead_bytes, state, self._client.authority)

    @property
    def address(self) -> str:
        """The URL."""
        return self.url

    @property
    def size(self) -> int:
        """Length in bytes; asked for with the head."""
        if self._size is None:
            self.read(0, 1)
        return self._size or 0

    @property
    def version(self) -> str:
        """Entity tag or date of the file; empty where the server tells none."""
        return version_of(self._etag, self._changed) if self.size else ""

    @property
    def identity(self) -> Identity:
        """URL, size and entity tag; where the server tells none its date, else what holds for this object alone."""
        size = self.size
        return Identity(self.url, size, self._etag or self._changed or self._own_stamp)

    def read(self, offset: int, length: int) -> bytes:
        """Exactly ``length`` bytes, fewer only at the end; from memory where they were fetched before.

        Waits for a stretch that is on its way.
        """
        if (coming := self._on_its_way(offset, length)) is not None:
            coming.result()
        with self._lock:
            if self._size is None:
                self._pieces.add(0, self._fetch(Span(0, max(self._head_bytes, length if offset == 0 else 0))))
            length = max(0, min(length, (self._size or 0) - offset))
            if not length:
                return b""
            found = self._pieces.get(offset, length)
            if found is None:
                data = self._fetch(Span(offset, max(length, self._ahead_bytes)))
                self._pieces.add(offset, data)
                found = data[:length]
            return found

    def fetch(self, spans: Iterable[Span], told: Callable[[int], None] = lambda count: None) -> None:
        """Bring stretches here, side by side, so that reading them later asks for nothing."""
        with self.coming(spans, told):
            pass

    @contextmanager
    def coming(self, spans: Iterable[Span], told: Callable[[int], None] = lambda count: None) -> Iterator[None]:
        """Bring stretches here, side by side, while the block works with those that have come; at its end all have.

        Parameters
        ----------
        told : callable
            Given the bytes of each stretch that has come.
        """
        wanted = [span for span in spans if self._pieces.get(span.start, span.length) is None]

        def one(span: Span) -> None:
            data = self._fetch(span)
            with self._lock:
                self._pieces.add(span.start, data)
            told(len(data))

        pool = ThreadPoolExecutor(max(1, min(8, len(wanted))), "zoompick-ranges")
        try:
            self._coming = [(span, pool.submit(one, span)) for span in sorted(wanted)]
            yield
            for _, done in self._coming:
                done.result()
        finally:
            pool.shutdown(wait=True, cancel_futures=True)
            self._coming = []

    def _on_its_way(self, offset: int, length: int) -> Future[None] | None:
        """The stretch that holds these bytes, when it is being fetched."""
        place = bisect.bisect(self._coming, offset, key=lambda entry: entry[0].start) - 1
        if place < 0 or offset + length > self._coming[place][0].stop:
            return None
        return self._coming[place][1]

    def _fetch(self, span: Span) -> bytes:
        last = span.stop - 1
        if self._size is not None:
            last = min(last, self._size - 1)

        def asked() -> bytes:
            with self._client.open(self.url, {"Range": f"bytes={span.start}-{last}"}) as answer:
                refuse_encoded(answer.headers, self.url)
                if answer.status != 206:
                    raise NoRangesError(f"{self.url} is only sent whole.", "Download it: 'zoompick download'.")
                match = re.fullmatch(r"bytes (\d+)-(\d+)/(\d+)", answer.headers.get("Content-Range", ""))
                if not match or int(match[1]) != span.start:
                    raise SourceError(f"{self.url} answered with another range than was asked for.", "Try again.")
                self._refuse_change(int(match[3]), answer.headers.get("ETag"), answer.headers.get("Last-Modified"))
                expected = min(last + 1, int(match[3])) - span.start
                data = _at_most(answer.chunks(), expected + 1)
                self.cost.add(len(data))
                if len(data) != expected:
                    raise TransientError(
                        f"{self.url} sent {_counted(len(data), expected)} of a stretch of {expected} bytes.",
                        "Give the same command again.",
                    )
                return data

        def once() -> bytes:
            try:
                return asked()
            except AnsweredError as error:
                url = self._renew() if error.status in EXPIRED else None
                if not url or url == self.url:
                    raise
                self.url = url
                return asked()

        return bytes(self._client.again(self.url, once))

    def _refuse_change(self, size: int, etag: str | None, changed: str | None) -> None:
        """Blocks of two versions of a file must never mix: by tag, weak ones too, else by date."""
        known = (self._size, self._etag, None if self._etag else self._changed)
        if self._size is not None and (size, etag, None if etag else changed) != known:
            raise self._has_changed()
        self._size, self._etag, self._changed = size, etag, changed

    def _has_changed(self) -> SourceError:
        return SourceError(f"{self.url} changed at the source while it was read.", "Give the same command again.")

    def sibling(self, ending: str) -> bytes | None:
        """A small file of the same name with another ending, as a world file is; None where the server has none."""
        head, mark, query = self.url.partition("?")
        url = f"{re.sub(r'[.][^./]*$', '', head)}{ending}{mark}{query}"
        try:
            with self._client.open(url) as answer:
                refuse_encoded(answer.headers, url)
                data = _at_most(answer.chunks(), _MOST_BESIDE)
        except (AnsweredError, SourceError):
            return None
        self.cost.add(len(data))
        return data

    def confirm(self) -> None:
        """Look whether the file is still the one that was read.

        Where the server tells neither tag nor date, the first and the last stretch that came are fetched again.

        Raises
        ------
        SourceError
            It changed.
        """
        if self._size is None:
            return
        with self._lock:
            ends = self._pieces.ends()
        is_told = bool(self._etag or self._changed)
        for span in ends[:1] if is_told else ends:
            wanted = Span(span.start, min(span.length, 1 if is_told else _LOOKED_AGAIN))
            # Another tag or date is refused as it comes.
            if self._fetch(wanted) != self._pieces.get(wanted.start, wanted.length):
                raise self._has_changed()


def _counted(came: int, expected: int) -> str:
    return f"{came} bytes" if came <= expected else "more"


def _at_most(chunks: Iterable[bytes], length: int) -> bytes:
    """Bytes until there are so many; a server that sends more than it was asked for is not listened to any longer."""
    data = bytearray()
    for chunk in chunks:
        data += chunk
        if len(data) >= length:
            break
    return bytes(data[:length])


@cache
def _own_client() -> Client:
    """The session of files that are opened by their address alone."""
    return Client()


def remote_file(url: str) -> RemoteFile:
    """A file by its address as a person gave it, in a session of this process."""
    return RemoteFile(url, _own_client().acting(Authority.of_address(url)))


def _reopened(
    url: str,
    head_bytes: int,
    ahead_bytes: int,
    state: tuple[Identity, str | None, str | None] | None,
    authority: Authority | None,
) -> RemoteFile:
    """A remote file that travelled: it is the one of that state, or reading it raises :class:`SourceError`."""
    file = RemoteFile(url, _own_client().acting(authority), None, head_bytes, ahead_bytes)
    if state is not None:
        identity, file._etag, file._changed = state
        file._size, file._own_stamp = identity.size, identity.stamp
    return file


class RemoteParts:
    """Several remote files, one after the other, as one byte source."""

    def __init__(self, files: Sequence[RemoteFile]) -> None:
        self._files = tuple(files)
        self.cost = files[0].cost

    @property
    def address(self) -> str:
        """The URL of the first."""
        return self._files[0].address

    @property
    def size(self) -> int:
        """Length of all together."""
        return sum(file.size for file in self._files)

    @property
    def identity(self) -> Identity:
        """The first one's address, the length of all, and the stamps of all."""
        return Identity(self.address, self.size, " ".join(file.identity.stamp for file in self._files))

    def confirm(self) -> None:
        """Each is what it was."""
        for file in self._files:
            file.confirm()

    def _pieces(self, span: Span) -> Iterator[tuple[RemoteFile, Span]]:
        start = 0
        for file in self._files:
            first, stop = max(span.start, start), min(span.stop, start + file.size)
            if first < stop:
                yield file, Span(first - start, stop - first)
            start += file.size

    def read(self, offset: int, length: int) -> bytes:
        """Exactly ``length`` bytes, fewer only at the end."""
        return b"".join(file.read(part.start, part.length) for file, part in self._pieces(Span(offset, length)))

    def fetch(self, spans: Iterable[Span], told: Callable[[int], None] = lambda count: None) -> None:
        """Bring stretches here."""
        for span in spans:
            for file, part in self._pieces(span):
                file.fetch([part], told)
