"""The bytes of a file that is under way, and a note of what they are a part of: both outlive a killed run."""

from __future__ import annotations

import hashlib
import json
import os
import queue
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

from zoompick.addresses import without_query
from zoompick.errors import CancelledError, ChecksumError
from zoompick.events import Advanced, Report
from zoompick.files import disk_errors, parse_json, take_name, whole_number, writing
from zoompick.net import contents as kinds
from zoompick.net.encoding import encoding_of, inflated, refuse_encoded
from zoompick.net.refusals import TransientError
from zoompick.net.validators import strong_of, version_of
from zoompick.records import of_row
from zoompick.scenes.checksums import sha256_of_digest
from zoompick.scenes.fetched import paths_beside

if TYPE_CHECKING:
    from zoompick.net.client import Answer

_BEHIND = 8
_PIECE, _SLACK = 1 << 20, 64 << 10
_WRITE_BACK = 32 << 20


@dataclass(frozen=True, slots=True)
class Note:
    """What the source said of a file when its first bytes came.

    Attributes
    ----------
    place : str
        Address without its query: a signature in it changes, the file does not.
    validator : str
        Strong ETag or Last-Modified, by which the rest can be asked for; empty for none.
    version : str
        What tells this state of the file from another when it is looked at again; a weak tag does.
    """

    place: str
    validator: str = ""
    size: int | None = None
    sha256: str | None = None
    version: str = ""

    @classmethod
    def of(cls, url: str, answer: Answer) -> Note:
        """Take it from the headers of an answer that carries the file or its rest."""
        told = answer.headers.get("Content-Range", "").rpartition("/")[2]
        size = told if answer.status == 206 else answer.headers.get("Content-Length", "")
        etag, modified = answer.headers.get("ETag"), answer.headers.get("Last-Modified")
        if encoding_of(answer.headers):
            # Length and digest are those of what is sent, and its rest is no rest of the file.
            return cls(without_query(url), version=version_of(etag, modified))
        return cls(
            without_query(url),
            strong_of(etag, modified, answer.headers.get("Date")),
            whole_number(size),
            sha256_of_digest(answer.headers.get("Repr-Digest")),
            version_of(etag, modified),
        )

    def is_continued_by(self, other: Note) -> bool:
        """True when another answer is of the same version: some servers send a part whatever ``If-Range`` says."""
        same_size = None in (self.size, other.size) or self.size == other.size
        return same_size and (not other.validator or self.validator == other.validator)


class Hashing:
    """SHA-256 in a thread of its own, at most a few pieces behind the writing."""

    def __init__(self) -> None:
        self._hasher = hashlib.sha256()
        self._waiting: queue.Queue[bytes | None] = queue.Queue(_BEHIND)
        self._thread = threading.Thread(target=self._work, daemon=True, name="zoompick-digest")
        self._thread.start()

    def _work(self) -> None:
        while (piece := self._waiting.get()) is not None:
            self._hasher.update(piece)

    def update(self, piece: bytes) -> None:
        """Add bytes; waits when the thread is far behind."""
        self._waiting.put(piece)

    def close(self) -> str:
        """End the thread and give the digest, hexadecimal."""
        if self._thread.is_alive():
            self._waiting.put(None)
            self._thread.join()
        return self._hasher.hexdigest()


class Partial:
    """One file under way, over as many connections and runs as it takes.

    Attributes
    ----------
    size : int
        Bytes that are here.
    resumed : int
        Bytes that an earlier run left.
    received : int
        Bytes that came in this run.
    keep : bool
        False when they are not worth keeping for the next run.
    has_end : bool
        The last answer told where it ends: cut short it would have been an error.
    most : int or None
        Bytes that were announced: hardly more are taken.
    """

    def __init__(self, path: Path, url: str, stop: threading.Event, task: str, report: Report) -> None:
        self.path, self.url, self.stop = path, url, stop
        self.task, self._report = task, report
        self.part, self._note_file = paths_beside(path)
        self.size = self.resumed = self.received = 0
        self.keep = True
        self.has_end = False
        self.most: int | None = None
        self.note = Note(without_query(url))
        self._hashing = Hashing()
        self._out: BinaryIO | None = None

    @property
    def is_whole(self) -> bool:
        """True when every byte that the source announced is here."""
        return self.note.size is not None and self.size == self.note.size and self.size > 0

    def open(self) -> None:
        """Take up what an earlier run left of the same file; what belongs to another is dropped."""
        self.path.parent.mkdir(parents=True, exist_ok=True)
        known = _read(self._note_file)
        if known is not None and known.place == without_query(self.url) and self.part.is_file():
            self.note = known
            self._out = self.part.open("r+b")
            while piece := self._out.read(_PIECE):
                self._hashing.update(piece)
                self.size += len(piece)
            self.resumed = self.size
            self._report(Advanced(self.task, self.size, True))
        else:
            self._out = self.part.open("w+b")

    def close(self) -> None:
        """End the work; the bytes are kept for the next run, unless they are worthless."""
        self._hashing.close()
        if self._out is not None:
            self._out.close()
        if not self.keep or not self.size:
            self.part.unlink(missing_ok=True)
            self._note_file.unlink(missing_ok=True)

    def headers(self) -> dict[str, str]:
        """Ask for the rest only, and only if the file is still the same (RFC 9110, sections 13.1.5 and 14.2)."""
        if not self.size or not self.note.validator:
            return {}
        return {"Range": f"bytes={self.size}-", "If-Range": self.note.validator}

    def take(self, answer: Answer) -> None:
        """Append the body of an answer; start over when it is another file, or all of it.

        Raises
        ------
        FormatError
            A web page is announced in place of the file; what is here stays.
        TransientError
            The connection broke, or another range came than was asked for.
        CancelledError
        """
        if kinds.is_page(answer.headers.get("Content-Type", ""), self.path.name):
            raise kinds.another_thing(self.path.name, "a web page")
        told, encoding = Note.of(self.url, answer), encoding_of(answer.headers)
        if answer.status == 206:
            refuse_encoded(answer.headers, self.url)
        self.has_end = bool(encoding) or answer.tells_its_end
        if answer.status != 206:
            self.restart()
        elif _range_start(answer) != self.size or not self.note.is_continued_by(told):
            self.restart()
            raise TransientError(f"{self.path.name} came with another range than was asked for.", "Try again.")
        # An answer with the rest may leave out what the first one told.
        self._keep_note(replace(told, size=told.size or self.note.size, sha256=told.sha256 or self.note.sha256))
        assert self._out is not None
        for chunk in inflated(answer.chunks(), encoding, self.url, self.most) if encoding else answer.chunks():
            if self.stop.is_set():
                raise CancelledError("Stopped.")
            if self.most is not None and self.size + len(chunk) > self.most + _SLACK:
                self.keep = False
                raise ChecksumError(
                    f"{self.path.name} has more than the {self.most} bytes that its catalogue entry says.",
                    "It was not kept. The source may have changed it: search again.",
                )
            self._out.write(chunk)
            self._hashing.update(chunk)
            self._begin_writing_back(len(chunk))
            self.size += len(chunk)
            self.received += len(chunk)
            self._report(Advanced(self.task, len(chunk)))

    def _begin_writing_back(self, count: int) -> None:
        """Now and then let the system begin to put the bytes on the disk, so that little is left to wait for."""
        before, now = self.size // _WRITE_BACK, (self.size + count) // _WRITE_BACK
        if now > before and hasattr(os, "posix_fadvise"):
            assert self._out is not None
            self._out.flush()
            # For pages that are not on the disk yet this advice begins the writing, and keeps them.
            os.posix_fadvise(self._out.fileno(), before * _WRITE_BACK, _WRITE_BACK, os.POSIX_FADV_DONTNEED)

    def restart(self) -> None:
        """Forget the bytes that are here."""
        assert self._out is not None
        if self.size:
            self._report(Advanced(self.task, -self.size))
            self._out.seek(0)
            self._out.truncate()
            self._hashing.close()
            self._hashing = Hashing()
        self.size, self.note = 0, Note(without_query(self.url))

    def start_anew(self) -> None:
        """Forget what is here, the digest too: an old part of it is wrong."""
        self.restart()
        self.resumed = 0

    def _keep_note(self, note: Note) -> None:
        """Written before the bytes; what a power failure leaves of both is judged by the digest at the end."""
        if note != self.note or not self._note_file.exists():
            self.note = note
            with writing(self._note_file, durable=False) as stream:
                stream.write(json.dumps(asdict(note)).encode())

    def digest(self) -> str:
        """Hexadecimal SHA-256 of all bytes; nothing can be added afterwards."""
        return self._hashing.close()

    def head(self) -> bytes:
        """The first bytes."""
        assert self._out is not None
        self._out.flush()
        self._out.seek(0)
        return self._out.read(kinds.HEAD_BYTES)

    def finish(self) -> None:
        """Give the file its name; the bytes are on the disk before."""
        assert self._out is not None
        self._out.flush()
        os.fsync(self._out.fileno())
        self._out.close()
        self._out = None
        take_name(self.part, self.path)
        self._note_file.unlink(missing_ok=True)


@contextmanager
def under_way(path: Path, url: str, stop: threading.Event, task: str, report: Report) -> Iterator[Partial]:
    """A file under way; when the block fails, what came is kept, unless ``keep`` was set to False."""
    partial = Partial(path, url, stop, task, report)
    with disk_errors(path, "What came of it is kept."):
        try:
            partial.open()
            yield partial
        finally:
            partial.close()


def _read(path: Path) -> Note | None:
    try:
        return of_row(Note, parse_json(path.read_text(encoding="utf-8")))
    except (OSError, ValueError, TypeError):
        return None


def _range_start(answer: Answer) -> int | None:
    text = answer.headers.get("Content-Range", "")
    start = text.removeprefix("bytes ").split("-")[0]
    return whole_number(start)
