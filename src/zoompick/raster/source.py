"""A local file as bytes by position."""

from __future__ import annotations

import os
import threading
from pathlib import Path
from typing import Any

from zoompick.bytesource import ByteSource, Identity, SourceStream
from zoompick.errors import DataError, MissingFileError

__all__ = ["ByteSource", "Identity", "LocalFile", "SourceStream"]


class LocalFile:
    """A file on disk as a :class:`ByteSource`; opened at the first read.

    It travels by its path: where it is unpacked it must be the file that it was.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._lock = threading.Lock()
        self._handle: int | None = None
        try:
            state = path.stat()
            self._identity = Identity(str(path.absolute()), state.st_size, str(state.st_mtime_ns))
        except FileNotFoundError as error:
            raise MissingFileError.at(path) from error
        except OSError as error:
            raise DataError(f"{path} cannot be read: {error.strerror}.", "Check the path.") from error

    @property
    def address(self) -> str:
        """The path."""
        return str(self.path)

    def __reduce__(self) -> tuple[Any, ...]:
        return _the_same, (self._identity,)

    @property
    def size(self) -> int:
        """Length in bytes."""
        return self._identity.size

    @property
    def identity(self) -> Identity:
        """Path, size and time stamp when it was first looked at."""
        return self._identity

    def read(self, offset: int, length: int) -> bytes:
        """Read by position, so that threads do not disturb each other.

        Raises
        ------
        DataError
            The disk fails, or the file has become shorter than it was.
        """
        if self._handle is None:
            self._open()
        expected = max(0, min(length, self.size - offset))
        if not expected:
            return b""  # A file may point to where no system can look: past the end is nothing.
        data = self._pread(offset, expected)
        while len(data) < expected:
            # The system gives at most two gigabytes at once, and nothing past the end.
            more = self._pread(offset + len(data), expected - len(data))
            if not more:
                raise DataError(
                    f"{self.path} changed while it was read: it ends at byte {offset + len(data)}, and had "
                    f"{self.size} bytes.", "Give the same command again.",
                )  # fmt: skip
            data += more
        return data

    def _pread(self, offset: int, length: int) -> bytes:
        assert self._handle is not None
        try:
            return os.pread(self._handle, length, offset) if hasattr(os, "pread") else self._seek_read(offset, length)
        except OSError as error:
            raise DataError(f"{self.path} cannot be read: {error.strerror}.", "Check the disk.") from error

    def sibling(self, ending: str) -> bytes | None:
        """A small file of the same name with another ending; None where there is none."""
        try:
            return self.path.with_suffix(ending).read_bytes()
        except (OSError, ValueError):
            return None

    def confirm(self) -> None:
        """Raise :class:`DataError` when the path holds another state of the file, or none."""
        if LocalFile(self.path).identity != self._identity:
            raise DataError(f"{self.path} changed while it was read.", "Give the same command again.")

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


def _the_same(identity: Identity) -> LocalFile:
    """The file that was meant where this was packed.

    Raises
    ------
    DataError
        It changed since: blocks of two versions must never mix.
    """
    found = LocalFile(Path(identity.address))
    if found.identity != identity:
        raise DataError(f"{identity.address} changed while it was read.", "Give the same command again.")
    return found
