"""Where bytes come from: a small protocol that a local file and a remote one both fit."""

from __future__ import annotations

import io
import os
import threading
from pathlib import Path
from typing import Protocol

from zoompick.errors import DataError


class ByteSource(Protocol):
    """Random access to bytes; safe to call from several threads."""

    @property
    def address(self) -> str:
        """Path or URL, for messages and for opening it again elsewhere."""

    @property
    def size(self) -> int:
        """Length in bytes."""

    def read(self, offset: int, length: int) -> bytes:
        """Exactly ``length`` bytes, fewer only at the end."""


class LocalFile:
    """A file on disk as a :class:`ByteSource`; opened at the first read."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._lock = threading.Lock()
        self._handle: int | None = None
        try:
            self._size = path.stat().st_size
        except OSError as error:
            raise DataError(f"{path} cannot be read: {error.strerror}.", "Check the path.") from error

    @property
    def address(self) -> str:
        """The path."""
        return str(self.path)

    @property
    def size(self) -> int:
        """Length in bytes."""
        return self._size

    def read(self, offset: int, length: int) -> bytes:
        """Read by position, so that threads do not disturb each other."""
        if self._handle is None:
            self._open()
        assert self._handle is not None
        try:
            return os.pread(self._handle, length, offset) if hasattr(os, "pread") else self._seek_read(offset, length)
        except OSError as error:
            raise DataError(f"{self.path} cannot be read: {error.strerror}.", "Check the disk.") from error

    def _open(self) -> None:
        with self._lock:
            if self._handle is None:
                try:
                    self._handle = os.open(self.path, os.O_RDONLY | getattr(os, "O_BINARY", 0))
                except OSError as error:
                    raise DataError(f"{self.path} cannot be read: {error.strerror}.", "Check the path.") from error

    def _seek_read(self, offset: int, length: int) -> bytes:
        assert self._handle is not None
        with self._lock:
            os.lseek(self._handle, offset, os.SEEK_SET)
            return os.read(self._handle, length)

    def __del__(self) -> None:
        if getattr(self, "_handle", None) is not None:
            os.close(self._handle)  # type: ignore[arg-type]


class SourceStream(io.RawIOBase):
    """A :class:`ByteSource` dressed as a seekable file, for libraries that want one."""

    def __init__(self, source: ByteSource) -> None:
        super().__init__()
        self._source = source
        self._position = 0
        self.name = source.address

    def readable(self) -> bool:
        """Always true."""
        return True

    def seekable(self) -> bool:
        """Always true."""
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Move; see :meth:`io.IOBase.seek`."""
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._position, io.SEEK_END: self._source.size}[whence]
        self._position = base + offset
        return self._position

    def tell(self) -> int:
        """Current position."""
        return self._position

    def readinto(self, buffer: object) -> int:
        """Fill a buffer from the current position."""
        view = memoryview(buffer).cast("B")  # type: ignore[arg-type]
        data = self._source.read(self._position, len(view))
        view[: len(data)] = data
        self._position += len(data)
        return len(data)
