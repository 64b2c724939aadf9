"""Where bytes come from: a small protocol that a local file and a remote one both fit."""

from __future__ import annotations

import io
from typing import Protocol


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
