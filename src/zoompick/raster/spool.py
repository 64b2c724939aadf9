"""Encoded tiles on their way into a file: a nameless file that threads fill, and that is moved piece by piece."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from zoompick.files import temporary_beside
from zoompick.raster.encode import Block

_BATCH_BYTES = 1 << 20
"""So much is moved at a time."""

Piece = tuple[int, int]
"""Place and length."""


class Spool:
    """Pieces of bytes in the order in which they came, from any thread."""

    def __init__(self, stream: BinaryIO) -> None:
        self._stream = stream
        self._handle = stream.fileno()
        self._lock = threading.Lock()
        self._end = 0

    def put(self, data: Block) -> Piece:
        """Keep some bytes; tells where they lie."""
        with self._lock:
            place = self._end
            self._end += len(data)
        rest, at = memoryview(data), place
        while rest:
            # A file may take less than it was given when the disk is nearly full; the next call then says so.
            done = self._write(rest, at)
            rest, at = rest[done:], at + done
        return place, len(data)

    def get(self, piece: Piece) -> bytes:
        """A piece that was put."""
        place, size = piece
        data = bytearray(size)
        self._read_into(memoryview(data), place)
        return bytes(data)

    def moved(self, pieces: Iterable[Piece], seen: Callable[[memoryview], object]) -> Iterator[memoryview]:
        """Bytes of pieces in the order asked for, about a megabyte at a time.

        Parameters
        ----------
        seen : callable
            Gets all bytes in order too, on a thread that reads ahead of who takes them: a hasher.
        """
        buffers = [memoryview(bytearray(2 * _BATCH_BYTES)) for _ in range(2)]

        def read(batch: list[Piece], which: int) -> memoryview:
            size = sum(count for _, count in batch)
            if len(buffers[which]) < size:
                buffers[which] = memoryview(bytearray(size))
            view = buffers[which][:size]
            end = 0
            for place, count in batch:
                self._read_into(view[end : end + count], place)
                end += count
            seen(view)
            return view

        before: Future[memoryview] | None = None
        with ThreadPoolExecutor(1, "zoompick-spool") as pool:
            for number, batch in enumerate(_batches(pieces)):
                coming = pool.submit(read, batch, number % 2)
                if before is not None:
                    yield before.result()
                before = coming
            if before is not None:
                yield before.result()

    def _read_into(self, buffer: memoryview, place: int) -> None:
        if hasattr(os, "preadv"):
            os.preadv(self._handle, [buffer], place)
            return
        with self._lock:
            self._stream.seek(place)
            self._stream.readinto(buffer)  # type: ignore[attr-defined]

    def _write(self, data: memoryview, place: int) -> int:
        if hasattr(os, "pwrite"):
            return os.pwrite(self._handle, data, place)
        with self._lock:
            self._stream.seek(place)
            return self._stream.write(data)


def _batches(pieces: Iterable[Piece]) -> Iterator[list[Piece]]:
    batch, size = list[Piece](), 0
    for piece in pieces:
        batch.append(piece)
        size += piece[1]
        if size >= _BATCH_BYTES:
            yield batch
            batch, size = [], 0
    if batch:
        yield batch


@contextmanager
def spooling(path: Path) -> Iterator[Spool]:
    """A spool beside ``path``, where the file it is for will need the room anyway; gone when the block is left."""
    handle, name = temporary_beside(path)
    with os.fdopen(handle, "w+b", buffering=0) as stream:
        # It has no use but ours: without a name it goes with the process, however that ends.
        if os.name == "posix":
            name.unlink()
        try:
            yield Spool(stream)
        finally:
            stream.close()
            name.unlink(missing_ok=True)
