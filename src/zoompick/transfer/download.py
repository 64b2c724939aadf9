"""Fetch files in parallel; each is whole and checked before it takes its name."""

from __future__ import annotations

import contextlib
import hashlib
import shutil
import threading
from collections.abc import Callable
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from zoompick.errors import CancelledError, ChecksumError, DiskError, FormatError, ZoomPickError
from zoompick.events import Advanced, Finished, Report, Started, ignore
from zoompick.files import human_bytes, writing
from zoompick.net.client import Answer, Client
from zoompick.transfer import record
from zoompick.transfer.checksums import sha256_of_digest
from zoompick.transfer.plan import DownloadPlan, Fetch

TASK, FILES = "download", "files"
_PATIENCE_S = 2.0
_TIFF_MAGIC = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")


@dataclass(frozen=True)
class Outcome:
    """What came and what did not, with the reason."""

    done: tuple[Fetch, ...]
    failed: tuple[tuple[Fetch, ZoomPickError], ...]
    received_bytes: int


def download(
    plan: DownloadPlan, client: Callable[[threading.Event], Client], parallel: int, report: Report = ignore
) -> Outcome:
    """Fetch everything in ``plan.fetch``; one file's failure does not stop the others.

    Parameters
    ----------
    client : callable
        Makes the session from the event by which it is stopped.

    Raises
    ------
    DiskError
        Not enough room for what the items announce; nothing is fetched.
    """
    _check_room(plan)
    report(Started(FILES, len(plan.fetch), "files"))
    report(Started(TASK, plan.known_bytes if not plan.unknown else 0, "B"))
    stop = threading.Event()
    session = client(stop)
    done: list[Fetch] = []
    failed: list[tuple[Fetch, ZoomPickError]] = []
    received = 0
    pool = ThreadPoolExecutor(max_workers=max(1, parallel), thread_name_prefix="zoompick-download")
    flying: dict[Future[int], Fetch] = {}
    try:
        flying = {pool.submit(fetch_one, entry, session, report): entry for entry in plan.fetch}
        waiting = set(flying)
        while waiting:
            ready, waiting = wait(waiting, return_when=FIRST_COMPLETED)
            for future in ready:
                try:
                    received += future.result()
                    done.append(flying[future])
                except DiskError:
                    raise
                except ZoomPickError as error:
                    failed.append((flying[future], error))
                report(Advanced(FILES, 1))
    finally:
        stop.set()
        pool.shutdown(wait=False, cancel_futures=True)
        # A thread that waits for a silent source cannot be woken: leave it after a while, its file has no name yet.
        wait(flying, timeout=_PATIENCE_S)
    report(Finished(FILES))
    report(Finished(TASK))
    return Outcome(tuple(done), tuple(failed), received)


def _check_room(plan: DownloadPlan) -> None:
    if not plan.fetch:
        return
    folder = plan.fetch[0].path.parent
    while not folder.exists():
        folder = folder.parent
    free = shutil.disk_usage(folder).free
    if plan.known_bytes > free:
        raise DiskError(
            f"The download needs {human_bytes(plan.known_bytes)}, but only {human_bytes(free)} are free in {folder}.",
            "Free some space, or choose fewer scenes or bands. Nothing was fetched.",
        )


class _Partial:
    """The bytes of one file so far, over as many connections as it takes."""

    def __init__(self, out: BinaryIO, stop: threading.Event, report: Report) -> None:
        self.out = out
        self.size = 0
        self.hasher = hashlib.sha256()
        self.etag: str | None = None
        self.digest: str | None = None
        self._stop = stop
        self._report = report

    def resume_headers(self) -> dict[str, str]:
        """Ask for the rest only, and only if the file is still the same (RFC 9110, sections 13.1.5 and 14.2)."""
        if not self.size or not self.etag:
            return {}
        return {"Range": f"bytes={self.size}-", "If-Range": self.etag}

    def take(self, answer: Answer) -> None:
        """Append the body of an answer; start over when it is not the rest of what is here."""
        if self.size and not (answer.status == 206 and _range_start(answer) == self.size):
            self._report(Advanced(TASK, -self.size))
            self.out.seek(0)
            self.out.truncate()
            self.size, self.hasher = 0, hashlib.sha256()
        etag = answer.headers.get("ETag")
        self.etag = etag if etag and not etag.startswith("W/") else None
        self.digest = sha256_of_digest(answer.headers.get("Repr-Digest"))
        for chunk in answer.chunks():
            if self._stop.is_set():
                raise CancelledError("Stopped.")
            self.out.write(chunk)
            self.hasher.update(chunk)
            self.size += len(chunk)
            self._report(Advanced(TASK, len(chunk)))


def _range_start(answer: Answer) -> int | None:
    text = answer.headers.get("Content-Range", "")
    start = text.removeprefix("bytes ").split("-")[0]
    return int(start) if start.isdigit() else None


def fetch_one(entry: Fetch, client: Client, report: Report = ignore) -> int:
    """Fetch one file; returns the bytes received.

    Raises
    ------
    ChecksumError, FormatError
        The bytes are not what was published; no file takes the name.
    SourceError
        The source gave up, or we did.
    """
    with writing(entry.path) as out:
        partial = _Partial(out, client.stop, report)

        def attempt() -> None:
            with client.open(entry.url, partial.resume_headers()) as answer:
                partial.take(answer)

        client.again(entry.path.name, attempt)
        sha256 = partial.hasher.hexdigest()
        checked_by = _check(entry, partial, sha256)
        out.seek(0)
        _check_kind(entry.path, out.read(512))
        out.seek(0, 2)
    record.add(entry.path, record.Fetched(entry.band, entry.url, partial.size, sha256, checked_by))
    return partial.size


def _check(entry: Fetch, partial: _Partial, sha256: str) -> str:
    """Hold size and digest against the item's, else the header's."""
    if entry.size is not None and partial.size != entry.size:
        raise ChecksumError(
            f"{entry.path.name} has {partial.size} bytes, its catalogue entry says {entry.size}.",
            "It was not kept. The source may have changed it: search again.",
        )
    expected, by = (entry.sha256, "item") if entry.sha256 else (partial.digest, "header")
    if expected is None:
        return ""
    if sha256 != expected:
        raise ChecksumError(
            f"{entry.path.name} has the SHA-256 {sha256[:12]}…, published is {expected[:12]}….",
            "It was not kept: the file at the source is damaged, or its published digest is wrong.",
        )
    return by


def _check_kind(path: Path, head: bytes) -> None:
    """A log-in page or an error document saved in place of an image is caught here."""
    if path.suffix.lower() in (".tif", ".tiff") and not head.startswith(_TIFF_MAGIC):
        page = head.lstrip().lower().startswith((b"<!doctype", b"<html"))
        shown = "a web page" if page else f"something that begins with {head[:12]!r}"
        raise FormatError(
            f"The source sent {shown} in place of the image {path.name}.",
            "It was not kept. The link may have expired or want a log-in.",
        )


def is_here(entry: Fetch) -> bool:
    """True when the file lies there with the size it was recorded with, and the item has not changed since."""
    recorded = record.read(entry.path.parent).get(entry.path.name)
    if recorded is None:
        return False
    if entry.sha256 is not None and entry.sha256 != recorded.sha256:
        return False
    with contextlib.suppress(OSError):
        return entry.path.stat().st_size == recorded.size
    return False
