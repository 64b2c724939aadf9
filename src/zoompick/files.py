"""Files on disk: atomic writes, digests, safe names, one lock a folder.

A killed run leaves a whole file or none: everything is written under a temporary name beside its target,
flushed, and renamed.
"""

from __future__ import annotations

import errno
import hashlib
import json
import math
import os
import platform
import re
import tempfile
import unicodedata
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path
from typing import Any, BinaryIO

import blake3

from zoompick.errors import BusyError, DataError, DiskError, MissingFileError, UsageError
from zoompick.foreign import without_surrogates
from zoompick.later import filelock, sqlite3

_NO_ROOM = {errno.ENOSPC, errno.EDQUOT, errno.EFBIG}
SHA256, BLAKE3 = "1220", "1e20"
"""Prefixes of a multihash: function code 0x12 (sha2-256) or 0x1e (blake3), length 0x20 (multiformats table)."""
_PART = ".part"
_SHOWN = 160


@contextmanager
def disk_errors(path: Path, left: str = "Nothing was kept of the unfinished file.") -> Iterator[None]:
    """Turn what the operating system says about ``path`` into :class:`DiskError`; ``left`` tells what is left."""
    try:
        yield
    except OSError as error:
        if error.errno in _NO_ROOM:
            raise DiskError(
                f"There is no room left on the disk for {path}.",
                f"{left} Free some space, then give the same command again.",
            ) from error
        if isinstance(error, ConnectionError | TimeoutError):
            raise
        raise DiskError(
            f"{_shown(path)} cannot be written: {error.strerror or error}.",
            "Check the folder, its permissions and its disk, and the length of the name.",
        ) from error


def refused(error: OSError) -> DiskError:
    """What the operating system says, mostly about a file, where nobody has foreseen that it might."""
    where = f" {_shown(error.filename)}" if error.filename else ""
    return DiskError(f"The system refuses{where}: {error.strerror or error}.", "Check the path and the disk.")


def _shown(path: object) -> str:
    """A path for people; of one far too long the ends."""
    text = str(path)
    return text if len(text) <= _SHOWN else f"{text[: _SHOWN // 2]}…{text[-_SHOWN // 4 :]}"


@contextmanager
def database_errors(path: Path, left: str = "Nothing was kept of the unfinished file.") -> Iterator[None]:
    """As :func:`disk_errors`, for an SQLite file, whose library tells in words of its own that it cannot write."""
    with disk_errors(path, left):
        try:
            yield
        except sqlite3.OperationalError as error:
            # Extended codes hold the plain one in their last byte (SQLite, Result and Error Codes).
            if error.sqlite_errorcode & 0xFF == sqlite3.SQLITE_FULL:
                raise OSError(errno.ENOSPC, str(error)) from error
            raise DiskError(
                f"{path} cannot be written: {error}.",
                f"{left} Look whether the disk is full, the folder may be written, or another program has it open.",
            ) from error


def temporary_beside(path: Path) -> tuple[int, Path]:
    """Open a new temporary file in the folder of ``path``, which is made if missing.

    Those that killed runs left for the same name go.
    """
    with disk_errors(path):
        path.parent.mkdir(parents=True, exist_ok=True)
        _sweep_dead(path)
        handle, name = tempfile.mkstemp(
            prefix=f".{path.name}.{_here()}-{os.getpid()}.", suffix=_PART, dir=path.parent
        )
    return handle, Path(name)


@cache
def _here() -> str:
    """This machine, in a few signs: another's processes are not known here."""
    return hashlib.sha256(platform.node().encode()).hexdigest()[:6]


def _sweep_dead(path: Path) -> None:
    """Remove unfinished files for a name whose processes are no more."""
    if os.name != "posix":
        return
    pattern = re.compile(rf"\.+{re.escape(path.name)}\.{_here()}-(\d+)\..*{re.escape(_PART)}")
    for entry in os.scandir(path.parent):
        found = pattern.fullmatch(entry.name)
        if found and not _is_alive(int(found[1])):
            Path(entry.path).unlink(missing_ok=True)


def _is_alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (PermissionError, OverflowError):
        return True
    return True


def take_name(part: Path, path: Path, private: bool = False) -> None:
    """Give a finished temporary file its name in one step, with the rights of any new file or its owner's alone."""
    umask = os.umask(0)
    os.umask(umask)
    part.chmod(0o600 if private else 0o666 & ~umask)
    part.replace(path)


@contextmanager
def writing(path: Path, durable: bool = True, private: bool = False) -> Iterator[BinaryIO]:
    """Give a binary file that takes the name ``path`` only when the block ends well.

    Parameters
    ----------
    durable : bool
        Wait until the bytes are on the disk, so that even a power failure leaves a whole file or none. What can be
        made again from files that are here does without.
    private : bool
        Only its owner may read it.

    Raises
    ------
    DiskError
        No room or no permission; nothing is left behind.
    """
    with disk_errors(path):
        handle, part = temporary_beside(path)
        try:
            with os.fdopen(handle, "w+b") as stream:
                yield stream
                stream.flush()
                if durable:
                    os.fsync(stream.fileno())
            take_name(part, path, private)
        except BaseException:
            part.unlink(missing_ok=True)
            raise


@contextmanager
def unnamed(path: Path) -> Iterator[Path]:
    """A file beside ``path`` for what takes that name later (:func:`take_name`); gone when the block ends.

    Raises
    ------
    DiskError
        No permission.
    """
    handle, part = temporary_beside(path)
    os.close(handle)
    try:
        yield part
    finally:
        part.unlink(missing_ok=True)


def write_text(path: Path, text: str, private: bool = False) -> None:
    """Write ``text`` atomically as UTF-8."""
    with writing(path, private=private) as stream:
        stream.write(text.encode())


def write_json(path: Path, value: object, private: bool = False) -> None:
    """Write ``value`` atomically as indented JSON; keys keep their order."""
    with writing(path, private=private) as stream:
        stream.write(json_bytes(value, 2) + b"\n")


def json_bytes(value: object, indent: int | None = None) -> bytes:
    """A value as JSON in UTF-8; what JSON has no place for, NaN and infinities, becomes null."""
    try:
        text = json.dumps(value, indent=indent, ensure_ascii=False, allow_nan=False)
    except ValueError:
        text = json.dumps(_finite(value), indent=indent, ensure_ascii=False, allow_nan=False)
    try:
        return text.encode()
    except UnicodeEncodeError:
        # Half of a pair of surrogates is no character: JSON can hold it escaped.
        return json.dumps(json.loads(text), indent=indent).encode()


def _finite(value: Any) -> Any:
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, dict):
        return {key: _finite(entry) for key, entry in value.items()}
    return [_finite(entry) for entry in value] if isinstance(value, list | tuple) else value


def parse_json(text: str | bytes) -> Any:
    """Read a JSON text, whoever wrote it; a number of more digits than anybody counts with becomes infinite.

    Raises
    ------
    ValueError
        No JSON, or nested deeper than anything that is meant.
    """
    try:
        is_long = _LONG_NUMBER[type(text)].search(text)
        found = json.loads(text, parse_int=_modest) if is_long else json.loads(text)
    except RecursionError as error:
        raise ValueError("nested too deep") from error
    return _whole_texts(found) if _HALF[type(text)].search(text) else found


_LONG_NUMBER: dict[type, Any] = {str: re.compile(r"\d{40}"), bytes: re.compile(rb"\d{40}")}
_HALF: dict[type, Any] = {
    str: re.compile("\\\\u[dD][89a-fA-F]|[\ud800-\udfff]"),
    bytes: re.compile(rb"\\u[dD][89a-fA-F]"),
}
"""Escapes of halves of characters, which come in pairs (RFC 8259, section 8.2) unless somebody is careless."""


def _modest(digits: str) -> int | float:
    """A whole number, infinite where it has more digits than anybody counts with."""
    return int(digits) if len(digits) < 40 else math.copysign(math.inf, float(digits[0] + "1"))


def _whole_texts(value: Any) -> Any:
    """A JSON value in which every text can be written down."""
    if isinstance(value, str):
        return without_surrogates(value)
    if isinstance(value, dict):
        return {without_surrogates(key): _whole_texts(entry) for key, entry in value.items()}
    return [_whole_texts(entry) for entry in value] if isinstance(value, list) else value


def whole_number(text: str | None) -> int | None:
    """A number of at most 18 plain digits, as headers and names hold it; None for anything else."""
    return int(text) if text and re.fullmatch(r"[0-9]{1,18}", text) else None


def read_json(path: Path) -> Any:
    """Read a JSON file.

    Raises
    ------
    DataError
        The file is missing (:class:`~zoompick.errors.MissingFileError`), not UTF-8 or not JSON.
    """
    try:
        return parse_json(path.read_text(encoding="utf-8"))
    except FileNotFoundError as error:
        raise MissingFileError.at(path) from error
    except OSError as error:
        raise DataError(f"{path} cannot be read: {error.strerror}.", "Check the path.") from error
    except ValueError as error:
        raise DataError(f"{path} is not valid JSON: {error}.", "Open it in an editor, or make it again.") from error


def new_hasher() -> Any:
    """Hasher for files made here: BLAKE3, ten times as fast as SHA-256 on processors without help for that."""
    return blake3.blake3()


def multihash_of(path: Path, like: str = BLAKE3) -> str:
    """Multihash of a file, by the same function as the multihash ``like`` or the prefix given.

    Raises
    ------
    DataError
        A function that is not computed here.
    """
    if not like.startswith((SHA256, BLAKE3)):
        raise DataError(
            f"The multihash {like[:12]}… is of a function that is not known here.", "SHA-256 and BLAKE3 are."
        )
    with path.open("rb") as stream:
        if like.startswith(SHA256):
            return multihash(hashlib.file_digest(stream, "sha256").hexdigest())
        hasher = new_hasher()
        while chunk := stream.read(1 << 20):
            hasher.update(chunk)
        return BLAKE3 + str(hasher.hexdigest())


def multihash(sha256: str) -> str:
    """The multihash (as STAC's file extension wants it) of a hexadecimal SHA-256."""
    return SHA256 + sha256


def sha256_of_multihash(text: str) -> str | None:
    """The hexadecimal SHA-256 in a multihash, or None when it holds another function's digest."""
    text = text.lower()
    return text[4:] if re.fullmatch(SHA256 + "[0-9a-f]{64}", text) else None


def safe_name(text: str, limit: int = 120) -> str:
    """A file name that every system takes and that cannot leave its folder."""
    plain = unicodedata.normalize("NFKC", text)
    plain = re.sub(r"[^\w.+-]+", "-", plain).strip(".-")[:limit]
    reserved = re.fullmatch(r"(?i)(con|prn|aux|nul|com\d|lpt\d)(\..*)?", plain)
    return f"_{plain}" if reserved or not plain else plain


def distinct_name(text: str, limit: int = 120) -> str:
    """A safe name that is another for every other text: one that had to be changed ends in a digest of the text."""
    name = safe_name(text, limit)
    if name == text:
        return name
    tail = "-" + hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:10]
    return name[: limit - len(tail)] + tail


def unique_names(texts: Iterable[str], limit: int = 120, reserved: Iterable[str] = ()) -> list[str]:
    """Safe names for texts, one each in order, no two alike even where capitals do not count.

    A later one that would be the same, or one of the ``reserved``, gets a number: ``scene-2``.
    """
    taken = {name.lower() for name in reserved}
    names = []
    for text in texts:
        name, number = safe_name(text, limit), 1
        stem, dot, end = name.partition(".")
        while name.lower() in taken:
            number += 1
            tail = f"-{number}{dot}{end}"
            name = stem[: limit - len(tail)] + tail
        taken.add(name.lower())
        names.append(name)
    return names


def tree_bytes(path: Path) -> int:
    """Bytes of a file, or of all files under a folder; 0 where there is none. What goes meanwhile doesn't count."""
    total = 0
    for found in files_below(path) if path.is_dir() else [path]:
        with suppress(FileNotFoundError):
            total += found.stat().st_size
    return total


def files_below(folder: Path) -> list[Path]:
    """Files of a folder and of those below it, sorted; folders that go away while one looks do no harm."""
    found = (Path(root, name) for root, _, names in os.walk(folder) for name in names)
    return sorted(path for path in found if path.is_file())


def human_bytes(count: float) -> str:
    """Bytes for people: ``12.3 MB`` (powers of ten)."""
    for unit in ("B", "kB", "MB", "GB", "TB"):
        if abs(count) < 1000 or unit == "TB":
            return f"{count:.0f} B" if unit == "B" else f"{count:.1f} {unit}"
        count /= 1000
    raise AssertionError


_LEAST_KM2 = 0.01
"""A hectare: below it square metres are told."""


def human_km2(size_km2: float, unit: str = " km2") -> str:
    """An area for people, with three digits at least: ``1234.57 km2``, ``0.0123 km2``, ``1235 m2``."""
    if unit and 0 < size_km2 < _LEAST_KM2:
        return f"{1e6 * size_km2:.{max(0, 2 - math.floor(math.log10(1e6 * size_km2)))}f} m2"
    if size_km2 >= 1 or size_km2 <= 0:
        return f"{size_km2:.2f}{unit}"
    digits = min(9, 2 - math.floor(math.log10(size_km2)))
    return f"{size_km2:.{digits}f}{unit}"


def human_time(seconds: float) -> str:
    """A time for people: ``40 s``, ``12 min``, ``3 h 20 min``."""
    if seconds < 90:
        return f"{max(1, round(seconds))} s"
    minutes = round(seconds / 60)
    return f"{minutes} min" if minutes < 90 else f"{minutes // 60} h {minutes % 60} min"


def human_names(names: Sequence[str], most: int = 0) -> str:
    """Names in a sentence: ``a``, ``a and b``, ``a, b and c``; of more than ``most`` the first, and how many more."""
    shown = [*names[: most - 1], f"{len(names) - most + 1} more"] if 0 < most < len(names) else names
    return " and ".join(filter(None, (", ".join(shown[:-1]), *shown[-1:])))


def refuse_existing(paths: Iterable[Path], overwrite: bool = False) -> None:
    """Nothing that exists is overwritten without being told to.

    Raises
    ------
    UsageError
        One of the files exists.
    """
    for path in paths:
        if not overwrite and (path.exists() or path.is_symlink()):
            raise UsageError(
                f"{_shown(path)} exists already. Nothing was written.", "Give another name, or `overwrite`."
            )


def free_name(path: Path) -> Path:
    """The path, or the first with a number that is not taken: ``look-2.png``."""
    found, number = path, 1
    while found.exists() or found.is_symlink():
        number += 1
        found = path.with_stem(f"{path.stem}-{number}")
    return found


def sweep_parts(folder: Path) -> int:
    """Remove unfinished files that a killed run left in ``folder`` or below; returns how many.

    Call it only while holding the folder's lock: a live writer has such files too.
    """
    parts = [path for path in files_below(folder) if path.name.startswith(".") and path.name.endswith(_PART)]
    for path in parts:
        path.unlink(missing_ok=True)
    return len(parts)


@contextmanager
def exclusive(folder: Path) -> Iterator[None]:
    """Hold the lock of ``folder`` for the length of a block.

    The lock is the operating system's: it ends with the process, however that ends.

    Raises
    ------
    BusyError
        Another process holds it.
    """
    lock = filelock.FileLock(folder / ".lock", timeout=0)
    with disk_errors(folder / ".lock"):
        try:
            lock.acquire()
        except filelock.Timeout as error:
            raise BusyError(
                f"Another zoompick is working in {folder}.",
                "Wait until it has ended, then give the command again. Nothing was changed.",
            ) from error
    try:
        yield
    finally:
        lock.release()
