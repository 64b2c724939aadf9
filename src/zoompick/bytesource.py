"""Where bytes come from: a small protocol that a local file and a remote one both fit."""

from __future__ import annotations

import io
from typing import NamedTuple, Protocol

from zoompick.addresses import is_remote
from zoompick.errors import DataError


class Identity(NamedTuple):
    """What tells one state of a file from all others: what is equal in all three holds the same bytes.

    Attributes
    ----------
    address : str
        Absolute path, or URL.
    stamp : str
        When it was last changed, as its system tells: a time stamp, or an entity tag (RFC 9110, section 8.8).
    """

    address: str
    size: int
    stamp: str


class ByteSource(Protocol):
    """Random access to bytes; safe to call from several threads.

    It gives what was asked for or raises: a read that ends early is an error, never "nothing".
    """

    @property
    def address(self) -> str:
        """Path or URL, for messages and for opening it again elsewhere."""

    @property
    def size(self) -> int:
        """Length in bytes."""

    @property
    def identity(self) -> Identity:
        """This state of the file."""

    def read(self, offset: int, length: int) -> bytes:
        """Exactly ``length`` bytes, fewer only at the end."""

    def confirm(self) -> None:
        """Look again, before what was made of it takes a name.

        Raises
        ------
        DataError, SourceError
            It is not the file any more that it was when it was opened.
        """


def todo_of(address: str) -> str:
    """What to do about a damaged file: one that lies elsewhere nobody here can remove."""
    if is_remote(address):
        return "Its source may have changed it meanwhile: try again, or tell the people who run it."
    return "Remove the file and download it again."


def exactly(source: ByteSource, offset: int, length: int) -> bytes:
    """So many bytes and none fewer.

    Raises
    ------
    DataError
        The file ends before.
    """
    data = source.read(offset, length)
    if len(data) != length:
        raise DataError(
            f"{source.address} gave {len(data)} of {length} bytes at byte {offset}: it is cut short.",
            todo_of(source.address),
        )
    return data


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
