"""Deliveries as archives: their members by name and place, whether they lie here, in parts, or on a web server.

zip, tar, compressed tar, and single files in gzip, bzip2, xz or Zstandard. Everything in an archive is hostile until
it was held against what is allowed: names that leave the folder, links, devices, bombs.
Sources: APPNOTE 4.3 (zip); POSIX.1-2017, pax (tar); RFC 1952 (gzip); RFC 8878 (Zstandard).
"""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import re
import struct
import sys
import zipfile
import zlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path, PurePosixPath
from typing import IO, Any

from zoompick.bytesource import SourceStream
from zoompick.errors import DataError, FormatError, MissingFileError, UsageError
from zoompick.files import human_bytes, safe_name
from zoompick.jsontypes import JsonObject
from zoompick.later import tarfile
from zoompick.net import contents as kinds
from zoompick.net.ranges import RemoteFile, RemoteParts, Span

if sys.version_info >= (3, 14):
    from compression import zstd
else:
    from backports import zstd

HEADER_BYTES = 768
"""What is read of a remote archive at a time: a tar header and the byte before it."""
_COPY_BYTES, _TAR_BYTES = 64 << 10, 32 << 10
"""Larger pieces come from fresh pages each time, which costs more than the copying."""
_MOST_MEMBERS = 200_000
_MOST_HEADER = 1 << 20
_BOMB_BYTES, _BOMB_RATIO = 2 << 30, 200
_BROKEN = (
    tarfile.TarError, zipfile.BadZipFile, gzip.BadGzipFile, EOFError, OSError, lzma.LZMAError, zlib.error,
    zstd.ZstdError, NotImplementedError, RuntimeError, ValueError,
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Member:
    """One file in an archive.

    Attributes
    ----------
    name : str
        As the archive writes it.
    path : PurePosixPath
        Where it goes, below the folder of the delivery: safe on every system.
    span : Span or None
        Where its bytes lie in an archive of which parts can be had.
    place : int
        Its place in the archive, from 0: names may be there twice.
    """

    name: str
    path: PurePosixPath
    size: int
    span: Span | None = None
    place: int = 0


class PartsStream(io.RawIOBase):
    """Several files, one after the other, as one."""

    def __init__(self, paths: Sequence[Path]) -> None:
        super().__init__()
        self._streams = [path.open("rb") for path in paths]
        self._sizes = [path.stat().st_size for path in paths]
        self._position = 0

    def readable(self) -> bool:
        """Always true."""
        return True

    def seekable(self) -> bool:
        """Always true."""
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Move; see :meth:`io.IOBase.seek`."""
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._position, io.SEEK_END: sum(self._sizes)}[whence]
        self._position = base + offset
        return self._position

    def tell(self) -> int:
        """Current position."""
        return self._position

    def readinto(self, buffer: Any) -> int:
        """Fill a buffer from the part in which the position lies."""
        start = 0
        for stream, size in zip(self._streams, self._sizes, strict=True):
            if self._position < start + size:
                stream.seek(self._position - start)
                count = stream.readinto(memoryview(buffer)[: start + size - self._position])
                self._position += count
                return count
            start += size
        return 0

    def close(self) -> None:
        """Close all parts."""
        for stream in self._streams:
            stream.close()
        super().close()


class Archive:
    """An archive that is open.

    Parameters
    ----------
    label : str
        Name for messages; its endings tell the form.
    stream : binary stream
        Seekable.
    remote : RemoteFile or RemoteParts, optional
        The web file under the stream: members are fetched from it by ranges.

    Raises
    ------
    FormatError
        No archive of a form that is read.
    """

    def __init__(
        self, label: str, stream: IO[bytes], size: int, remote: RemoteFile | RemoteParts | None = None
    ) -> None:
        self.label, self.size, self.remote = label, size, remote
        self._stream = stream
        self._form = _form_of(label, stream)
        self._zip: zipfile.ZipFile | None = None
        self._unpacked = 0
        if remote is not None and self._form not in ("zip", "tar"):
            raise FormatError(
                f"{label} is compressed as a whole: its members cannot be had one by one.", "Download it first."
            )

    @property
    def can_skip(self) -> bool:
        """True when a member can be had without all before it."""
        return self._form in ("zip", "tar")

    def members(self) -> Iterator[Member]:
        """Files, in stored order; a name that would leave the folder, a link or a device ends it.

        Raises
        ------
        DataError
            Damaged, or hostile.
        """
        for count, (member, _) in enumerate(self._entries()):
            if count >= _MOST_MEMBERS:
                raise DataError(f"{self.label} has more than {_MOST_MEMBERS} members.", "That is no delivery.")
            yield member

    @property
    def has_checksums(self) -> bool:
        """True when what is unpacked is held against a checksum in the archive, not against its length alone."""
        if self._form == "tar":
            return False
        self._stream.seek(0)
        head = self._stream.read(16)
        self._stream.seek(0)
        if self._form.endswith("zst"):
            # Bit 2 of the frame header descriptor (RFC 8878, section 3.1.1.1.1).
            return len(head) > 4 and bool(head[4] & 4)
        # The kind of check in the stream flags (the .xz file format, section 2.1.1.2); the others always have one.
        return not self._form.endswith("xz") or (len(head) > 7 and bool(head[7] & 15))

    def plain_span(self, member: Member) -> Span | None:
        """Where the bytes of a member lie as they are; None when they are compressed or encrypted."""
        if self._form == "tar":
            return member.span
        if self._zip is None or member.span is None:
            return None
        info = next(info for info in self._zip.infolist() if info.header_offset == member.span.start)
        if info.compress_type != zipfile.ZIP_STORED or info.flag_bits & 1:
            return None
        # The local header repeats the name, with extra fields of its own (APPNOTE 4.3.7).
        self._stream.seek(info.header_offset)
        name_length, extra_length = struct.unpack("<26xHH", self._stream.read(30))
        return Span(info.header_offset + 30 + name_length + extra_length, info.file_size)

    def extract(
        self, wanted: Callable[[Member], IO[bytes] | None], told: Callable[[int], None], count: int | None = None
    ) -> int:
        """Copy members into the streams that ``wanted`` gives for them (None to pass one by); returns the bytes.

        Parameters
        ----------
        told : callable
            Given the bytes of each piece that is written.
        count : int, optional
            Stop after so many members.

        Raises
        ------
        DataError
            Damaged, hostile, or larger than it claims.
        """
        written = done = 0

        def counted(came: int) -> None:
            self._unpacked += came
            if self._is_bomb(self._unpacked):
                raise _bomb(self.label, self.size, self._unpacked)
            told(came)

        for member, opened in self._entries():
            target = wanted(member)
            if target is None:
                continue
            with target:
                if self.remote is not None and member.span is not None:
                    self.remote.fetch([member.span])
                written += self._copy(member, opened, target, counted)
            done += 1
            if done == count:
                break
        return written

    def _copy(
        self, member: Member, opened: Callable[[], IO[bytes]], target: IO[bytes], told: Callable[[int], None]
    ) -> int:
        came = 0
        try:
            with opened() as source:
                while chunk := source.read(_COPY_BYTES):
                    target.write(chunk)
                    came += len(chunk)
                    told(len(chunk))
        except _BROKEN as error:
            raise self._damaged(error, member.name) from error
        if member.size >= 0 and came != member.size:
            claim = f"{member.name} in {self.label} has {came} bytes, it claims {member.size}."
            raise DataError(claim, "Download it again.")
        return came

    def _is_bomb(self, total: int) -> bool:
        return total > _BOMB_BYTES and total > _BOMB_RATIO * self.size

    def _entries(self) -> Iterator[tuple[Member, Callable[[], IO[bytes]]]]:
        forms = {"zip": self._of_zip, "tar": self._of_tar}
        try:
            self._stream.seek(0)
            for place, (member, opened) in enumerate(forms.get(self._form, self._of_one)()):
                yield replace(member, place=place), opened
        except _BROKEN as error:
            raise self._damaged(error) from error

    def _damaged(self, error: Exception, member: str = "") -> DataError:
        where = f", at {member}" if member else ""
        return DataError(f"{self.label} is damaged or cut short{where}: {error}.", "Download it again.")

    def _of_zip(self) -> Iterator[tuple[Member, Callable[[], IO[bytes]]]]:
        self._zip = self._zip or zipfile.ZipFile(self._stream)
        archive, infos = self._zip, sorted(self._zip.infolist(), key=lambda info: info.header_offset)
        claimed = sum(info.file_size for info in infos)
        if self._is_bomb(claimed):
            raise _bomb(self.label, self.size, claimed)
        stops = [info.header_offset for info in infos[1:]] + [archive.start_dir][: len(infos)]
        for info, stop in zip(infos, stops, strict=True):
            kind = (info.external_attr >> 16) & 0o170000
            if not info.filename or info.is_dir():
                continue
            if kind not in (0, 0o100000):
                raise _hostile(self.label, info.filename, "is a link or a device")
            span = Span(info.header_offset, stop - info.header_offset)
            member = Member(info.filename, self._path(info.filename), info.file_size, span)
            yield member, lambda info=info: archive.open(info)  # type: ignore[misc]

    def _of_tar(self) -> Iterator[tuple[Member, Callable[[], IO[bytes]]]]:
        mode = "r:" if self.can_skip else "r|"
        source: Any = self._stream if self.can_skip else _opener_of(self._form)(self._stream)
        with tarfile.open(fileobj=source, mode=mode, bufsize=_TAR_BYTES, tarinfo=_Modest) as archive:  # type: ignore[call-overload]
            for info in archive:
                if info.isdir():
                    continue
                if not info.isreg():
                    raise _hostile(self.label, info.name, "is a link or a device")
                span = Span(info.offset_data, info.size) if self.can_skip else None
                member = Member(info.name, self._path(info.name), info.size, span)
                yield member, lambda info=info: archive.extractfile(info)  # type: ignore[misc]

    def _of_one(self) -> Iterator[tuple[Member, Callable[[], IO[bytes]]]]:
        if self._form.startswith("tar"):
            yield from self._of_tar()
            return
        name = PurePosixPath(self.label).stem
        if "." not in name:
            with _opener_of(self._form)(self._stream) as inside:
                name += kinds.ending_by(inside.read(kinds.HEAD_BYTES))
            self._stream.seek(0)
        member = Member(name, self._path(name), -1)
        yield member, lambda: _opener_of(self._form)(self._stream)

    def _path(self, name: str) -> PurePosixPath:
        """The safe place of a member; an absurd part of its name is made plain.

        Raises
        ------
        DataError
            It would leave the folder.
        """
        plain = name.replace("\\", "/")
        parts = [part for part in plain.split("/") if part not in ("", ".")]
        if plain.startswith("/") or ".." in parts or re.match(r"^[A-Za-z]:", plain) or not parts:
            raise _hostile(self.label, name, "would leave the folder")
        return PurePosixPath(*map(safe_name, parts))

    def close(self) -> None:
        """Close the stream."""
        if self._zip is not None:
            self._zip.close()
        self._stream.close()


def _hostile(label: str, member: str, why: str) -> DataError:
    return DataError(f"'{member[:100]}' in {label} {why}.", "It is hostile or damaged: nothing was unpacked.")


def _bomb(label: str, size: int, unpacked: int) -> DataError:
    return DataError(
        f"{label} of {human_bytes(size)} unpacks to {human_bytes(unpacked)} or more.",
        "That looks like a bomb: nothing was unpacked.",
    )


_FORMS = {b"PK": "zip", b"\x1f\x8b": "gz", b"BZ": "bz2", b"\x28\xb5": "zst", b"\xfd7": "xz"}
_TAR_NAMES = {"tgz": "gz", "tbz2": "bz2", "tzst": "zst", "txz": "xz"}


class _Modest(tarfile.TarInfo):
    """A tar header whose long names and records are of a size that a person would make: they are read into memory."""

    _LONG = (tarfile.XHDTYPE, tarfile.XGLTYPE, tarfile.SOLARIS_XHDTYPE, tarfile.GNUTYPE_LONGNAME,
             tarfile.GNUTYPE_LONGLINK)  # fmt: skip

    @classmethod
    def frombuf(cls, buf: bytes | bytearray, encoding: str, errors: str) -> _Modest:
        """Read one header; see :meth:`tarfile.TarInfo.frombuf`."""
        found = super().frombuf(buf, encoding, errors)
        if found.type in cls._LONG and found.size > _MOST_HEADER:
            raise tarfile.ReadError(f"a header of {human_bytes(found.size)}")
        return found


def _form_of(label: str, stream: IO[bytes]) -> str:
    """``zip``, ``tar``, a compression (``gz``), or a compressed tar (``tar.gz``), by the first bytes and the name."""
    stream.seek(0)
    head = stream.read(512)
    if not head:
        raise FormatError(f"{label} is empty.", "Download it again.")
    if head[257:262] == b"ustar" or label.lower().endswith(".tar"):
        return "tar"
    packed = _FORMS.get(head[:2], "")
    if not packed:
        raise FormatError(f"{label} is no archive of a form that is read.", "zip, tar, and gz, bz2, zst, xz are.")
    if packed == "zip":
        return packed
    words = label.lower().split(".")
    is_tar = words[-1] in _TAR_NAMES or (len(words) > 2 and words[-2] == "tar") or _holds_tar(packed, stream)
    return f"tar.{packed}" if is_tar else packed


def _holds_tar(packed: str, stream: IO[bytes]) -> bool:
    """True when what is compressed begins as a tar does, whatever its name."""
    stream.seek(0)
    try:
        return bytes(_opener_of(packed)(stream).read(512)[257:262]) == b"ustar"
    except _BROKEN:
        return False
    finally:
        stream.seek(0)


def _opener_of(form: str) -> Callable[[IO[bytes]], IO[bytes]]:
    """What takes the compression off a stream."""
    packed = form.removeprefix("tar.")
    openers: JsonObject = {"gz": gzip.GzipFile, "bz2": bz2.BZ2File, "xz": lzma.LZMAFile, "zst": zstd.ZstdFile}
    return lambda stream: openers[packed](fileobj=stream) if packed == "gz" else openers[packed](stream)


def parts_of(path: Path) -> list[Path]:
    """All parts of the delivery that a file is the first of, in order; the file alone when it has no others.

    ``name.tar.001``, ``name.tar.part1``, ``name.part01.tar`` and ``name.zip.aa`` are ways of counting in common use.

    Raises
    ------
    UsageError
        A part is missing.
    """
    match = re.fullmatch(r"(.*?)([._-](?:part)?)(\d{1,3}|a[a-z])(\.[a-z0-9.]+)?", path.name, re.IGNORECASE)
    ending = (match[4] or "") if match else ""
    if not match or (not ending and not re.search(r"\.(tar|zip|gz|bz2|zst|tgz)", match[1], re.IGNORECASE)):
        return [path]
    if ending and "part" not in match[2].lower():
        return [path]
    pattern = re.compile(
        re.escape(match[1] + match[2]) + rf"(\d{{{len(match[3])}}}|a[a-z])" + re.escape(ending), re.IGNORECASE
    )
    found = sorted(entry for entry in path.parent.iterdir() if pattern.fullmatch(entry.name))
    numbers = [pattern.fullmatch(entry.name)[1] for entry in found]  # type: ignore[index]
    if numbers and numbers[0].isdecimal():
        first = int(numbers[0])
        missing = next((n for n, text in enumerate(numbers, first) if int(text) != n), None)
        if first > 1 or missing is not None:
            lacking = first - 1 if first > 1 else missing
            raise UsageError(f"Part {lacking} of {path.name} is missing.", "Put all parts into one folder.")
    return found or [path]


def open_archive(path: Path) -> Archive:
    """An archive on disk, by its file or by the first of its parts.

    Raises
    ------
    FormatError, UsageError, DataError
    """
    if not path.is_file():
        raise MissingFileError.at(path)
    parts = parts_of(path)
    size = sum(part.stat().st_size for part in parts)
    if len(parts) == 1:
        return Archive(path.name, path.open("rb"), size)
    label = re.sub(r"[._-](?:part)?(?:\d{1,3}|a[a-z])(?=(\.[a-z0-9.]+)?$)", "", path.name, flags=re.IGNORECASE)
    return Archive(label, io.BufferedReader(PartsStream(parts), 1 << 20), size)


def open_remote(remote: RemoteFile | RemoteParts, label: str) -> Archive:
    """An archive on a web server, of which only what is asked for is fetched."""
    return Archive(label, SourceStream(remote), remote.size, remote)  # type: ignore[arg-type]
