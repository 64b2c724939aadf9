"""Unpack deliveries: all of one, or the members that touch an area, also out of an archive on a web server."""

from __future__ import annotations

import contextlib
import fnmatch
import re
import shutil
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import IO

from zoompick.addresses import address_parts, is_remote
from zoompick.errors import DiskError, FormatError, NothingFoundError, StudyError
from zoompick.events import Advanced, Finished, Report, Started, ignore
from zoompick.fetch import tileindex
from zoompick.files import disk_errors, files_below, human_bytes
from zoompick.geo.shapes import Shape
from zoompick.net.authority import Authority
from zoompick.net.client import Client
from zoompick.net.ranges import Cost, RemoteFile, RemoteParts
from zoompick.net.refusals import AnsweredError
from zoompick.scenes.archives import HEADER_BYTES, Archive, Member, open_archive, open_remote, parts_of


@dataclass(frozen=True)
class Choice:
    """Which members are wanted.

    Attributes
    ----------
    area : polygon or point, or None
        Longitude/latitude: only members whose ground touches it.
    only : str
        Pattern for names, ``*-red.tif``; empty for all.
    """

    area: Shape | None = None
    only: str = ""

    @property
    def is_all(self) -> bool:
        """True when nothing is passed by."""
        return self.area is None and not self.only


@dataclass(frozen=True)
class Chosen:
    """The decision.

    Attributes
    ----------
    members : tuple of Member
        Wanted; empty and of no meaning when all of a streamed archive is.
    others : int
        Members passed by.
    told_by : str
        What told where members lie; empty when no area was given.
    """

    members: tuple[Member, ...]
    others: int
    told_by: str

    @property
    def size(self) -> int:
        """Bytes that they unpack to, as far as it is told."""
        return sum(max(0, member.size) for member in self.members)


@dataclass(frozen=True)
class Unpacked:
    """What came of it.

    Attributes
    ----------
    received : int or None
        Bytes fetched of an archive on a web server, with ``requests``.
    has_checksums : bool
        The archive carries checksums, and what was unpacked fits them; else only lengths were held against it.
    """

    files: tuple[Path, ...]
    written: int
    size: int
    received: int | None = None
    requests: int = 0
    has_checksums: bool = True

    @classmethod
    def of(cls, archive: Archive, files: tuple[Path, ...], written: int) -> Unpacked:
        """What came of an archive."""
        cost = archive.remote.cost if archive.remote is not None else None
        received, requests = (cost.received, cost.requests) if cost else (None, 0)
        return cls(files, written, archive.size, received, requests, archive.has_checksums)


@contextmanager
def opened(where: str, report: Report = ignore) -> Iterator[Archive]:
    """An archive by its path or its address.

    Raises
    ------
    FormatError, UsageError, SourceError
    """
    if is_remote(where):
        name = PurePosixPath(address_parts(where).path).name or "delivery"
        archive = open_remote(
            _remote(where, Client(report).acting(Authority.of_address(where))), re.sub(r"\.001$", "", name)
        )
    else:
        archive = open_archive(Path(where))
    try:
        yield archive
    finally:
        archive.close()


def _remote(url: str, client: Client) -> RemoteFile | RemoteParts:
    """A remote archive; of one counted ``.001`` all parts that there are."""
    files = [_ranged(url, client)]
    while re.search(r"\.001$", address_parts(url).path):
        following = re.sub(r"\.001(?=$|\?)", f".{len(files) + 1:03d}", url)
        try:
            client.size(following)
        except AnsweredError:
            break
        files.append(_ranged(following, client, files[0].cost))
    return RemoteParts(files) if len(files) > 1 else files[0]


def _ranged(url: str, client: Client, cost: Cost | None = None) -> RemoteFile:
    return RemoteFile(url, client, cost, head_bytes=HEADER_BYTES, ahead_bytes=HEADER_BYTES)


def choose(archive: Archive, choice: Choice) -> Chosen:
    """Look at all members and decide.

    Raises
    ------
    NothingFoundError
        Nothing tells where members lie, or none is wanted.
    DataError
        Damaged or hostile.
    """
    members = list(archive.members())
    if not members:
        raise NothingFoundError(f"{archive.label} holds no files.", "Look at it where it came from.")
    wanted, told_by = members, ""
    if choice.only:
        wanted = [
            m for m in wanted if fnmatch.fnmatch(m.name, choice.only) or fnmatch.fnmatch(m.path.name, choice.only)
        ]
    if choice.area is not None:
        footprints, told_by = tileindex.placed(archive, members)
        if not footprints:
            raise NothingFoundError(
                f"{archive.label} has no tile index, and the names of its {len(members)} members tell no sheets.",
                "Unpack all of it, or choose by name with `files`.",
            )
        inside = tileindex.touching(footprints, choice.area)
        wanted = [member for member in wanted if member.name in inside]
    if not wanted:
        raise NothingFoundError(
            f"None of the {len(members)} members of {archive.label} is wanted.", "`list` shows them all."
        )
    _refuse_both(archive.label, wanted)
    return Chosen(tuple(wanted), len(members) - len(wanted), told_by)


def _refuse_both(label: str, members: Sequence[Member]) -> None:
    """Refuse members of which one is a file where another needs a folder."""
    files = {member.path for member in members}
    for member in members:
        if above := next((folder for folder in member.path.parents if folder in files), None):
            raise FormatError(
                f"{label} holds the file {above} and the file {member.path} in a folder of that name: no disk can "
                "hold both.",
                "Unpack one of them by its name, with `files`.",
            )


def unpack(
    archive: Archive, choice: Choice, folder: Path, overwrite: bool = False, report: Report = ignore
) -> Unpacked:
    """Unpack into ``folder``: first into a hidden one inside it, so that a hostile or broken archive leaves nothing.

    Raises
    ------
    StudyError
        A file is there already and may not be replaced.
    DataError, DiskError, NothingFoundError
    """
    chosen = None if choice.is_all and not archive.can_skip else choose(archive, choice)
    places = None if chosen is None else {member.place for member in chosen.members}
    total, count = (chosen.size, len(chosen.members)) if chosen else (0, None)
    _refuse_early(chosen, folder, total, overwrite)
    was_there, taken = folder.exists(), dict[PurePosixPath, PurePosixPath]()
    folder.mkdir(parents=True, exist_ok=True)
    work = Path(tempfile.mkdtemp(prefix=".unpack-", dir=folder))

    def wanted(member: Member) -> IO[bytes] | None:
        if places is not None and member.place not in places:
            return None
        place = _unique(member.path, taken)
        (work / place).parent.mkdir(parents=True, exist_ok=True)
        return (work / place).open("wb")

    report(Started(archive.label, total, "B"))
    try:
        with disk_errors(folder, "Nothing was unpacked."):
            written = archive.extract(wanted, lambda came: report(Advanced(archive.label, came)), count)
            files = _into_place(work, folder, overwrite)
        if not files:
            raise NothingFoundError(f"{archive.label} holds no files.", "Look at it where it came from.")
    finally:
        shutil.rmtree(work, ignore_errors=True)
        if not was_there:
            with contextlib.suppress(OSError):
                folder.rmdir()
    report(Finished(archive.label))
    return Unpacked.of(archive, files, written)


def _refuse_early(chosen: Chosen | None, folder: Path, total: int, overwrite: bool) -> None:
    """What can be known before the first byte is written."""
    if chosen is not None and not overwrite:
        there = next((folder / m.path for m in chosen.members if (folder / m.path).exists()), None)
        if there is not None:
            raise StudyError(f"{there} exists already.", "Give another `to`, or `overwrite`. Nothing was unpacked.")
    above = folder
    while not above.exists():
        above = above.parent
    free = shutil.disk_usage(above).free
    if total > free:
        raise DiskError(
            f"Unpacked it takes {human_bytes(total)}, but only {human_bytes(free)} are free in {above}.",
            "Take only the members you need: `area`, `files`. Nothing was unpacked.",
        )


def _unique(path: PurePosixPath, taken: dict[PurePosixPath, PurePosixPath]) -> PurePosixPath:
    """The path, or one with a number where another member would have the same on a system without capitals."""
    place, number = path, 1
    while PurePosixPath(str(place).lower()) in taken:
        number += 1
        place = path.with_name(f"{path.stem}-{number}{path.suffix}")
    taken[PurePosixPath(str(place).lower())] = place
    return place


def _into_place(work: Path, folder: Path, overwrite: bool) -> tuple[Path, ...]:
    """Move finished files to their names; when one may not be replaced none is moved."""
    files = [path.relative_to(work) for path in files_below(work)]
    there = [folder / path for path in files if (folder / path).exists()]
    if there and not overwrite:
        raise StudyError(f"{there[0]} exists already.", "Give another `to`, or `overwrite`. Nothing was unpacked.")
    for path in files:
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (work / path).replace(folder / path)
    return tuple(folder / path for path in files)


def remove_delivery(path: Path) -> list[Path]:
    """Remove an archive that was unpacked and verified, all its parts."""
    parts = parts_of(path)
    for part in parts:
        part.unlink()
    return parts
