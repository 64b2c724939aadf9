"""Members of archives as bytes by position, in place: ``delivery.zip#red.tif``, on disk or on a web server.

What an archive holds as it is (a tar, a stored member of a zip) is read where it lies; a compressed member is
unpacked into memory, up to a limit.
Source of the mark: RFC 3986, section 3.5 (fragment).
"""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zoompick.bytesource import ByteSource, Identity, SourceStream, exactly
from zoompick.errors import DataError, UnknownNameError
from zoompick.files import human_bytes
from zoompick.net.ranges import RemoteFile, Span
from zoompick.scenes.archives import Archive, Member

MARK = "#"
_MOST_HELD = 512 << 20


@dataclass(frozen=True)
class Slice:
    """A stretch of a byte source as one of its own."""

    outer: ByteSource
    span: Span
    name: str

    @property
    def address(self) -> str:
        """Archive and member."""
        return f"{self.outer.address}{MARK}{self.name}"

    @property
    def size(self) -> int:
        """Length of the member."""
        return self.span.length

    @property
    def identity(self) -> Identity:
        """That of the archive, with the member's name and size."""
        outer = self.outer.identity
        return Identity(f"{outer.address}{MARK}{self.name}", self.size, f"{outer.stamp} {outer.size}")

    def read(self, offset: int, length: int) -> bytes:
        """Exactly ``length`` bytes, fewer only at the end."""
        length = max(0, min(length, self.size - offset))
        return exactly(self.outer, self.span.start + offset, length) if length else b""

    def confirm(self) -> None:
        """The archive is what it was."""
        self.outer.confirm()


@dataclass(frozen=True)
class Unpacked(Slice):
    """A member that was compressed; its bytes are in memory."""

    data: bytes = b""

    def __reduce__(self) -> tuple[Any, ...]:
        return _member, (self.outer, self.name)

    def read(self, offset: int, length: int) -> bytes:
        """Exactly ``length`` bytes, fewer only at the end."""
        return self.data[offset : offset + length]


def open_member(address: str, opens: Callable[[str], ByteSource]) -> ByteSource:
    """The bytes of a member; ``opens`` gives those of the archive.

    Raises
    ------
    UnknownNameError
        The archive has no such member.
    DataError
        Damaged, hostile, or too large to be unpacked in memory.
    """
    outer, _, name = address.rpartition(MARK)
    return _member(opens(outer), name)


def _member(outer: ByteSource, name: str) -> ByteSource:
    stream: Any = io.BufferedReader(SourceStream(outer), 64 << 10)
    archive = Archive(Path(outer.address).name, stream, outer.size, outer if isinstance(outer, RemoteFile) else None)
    names = []
    for member in archive.members():
        if name in (member.name, str(member.path)):
            return _opened(outer, archive, member)
        names.append(member.name)
    raise UnknownNameError.of("member", name, names, f"{outer.address} has {', '.join(names[:6])}.")


def _opened(outer: ByteSource, archive: Archive, member: Member) -> ByteSource:
    span = archive.plain_span(member)
    if span is not None:
        return Slice(outer, span, member.name)
    if member.size > _MOST_HELD:
        raise DataError(
            f"{member.name} in {outer.address} is compressed and has {human_bytes(member.size)}.",
            "Unpack it first: 'zoompick unpack'.",
        )
    held = _Held()
    archive.extract(lambda one: held if one == member else None, held.refuse_much, count=1)
    data = held.kept
    return Unpacked(outer, Span(0, len(data)), member.name, data)


class _Held(io.BytesIO):
    """Keeps what was written when it is closed."""

    kept = b""

    def close(self) -> None:
        """Keep the bytes."""
        self.kept = self.kept or self.getvalue()
        super().close()

    def refuse_much(self, count: int) -> None:
        """Of a member that does not tell its size no more is kept than of one that does."""
        if not self.closed and self.tell() > _MOST_HELD:
            raise DataError(f"It unpacks to more than {human_bytes(_MOST_HELD)}.", "Unpack it: 'zoompick unpack'.")
