"""What a file is by its first bytes, held against what its name says: a web page never passes for an image.

Sources: TIFF 6.0, section 2; PNG (ISO 15948), 5.2; JPEG 2000 (ISO 15444-1), annex I; HDF5 file format, II.A; ZIP
APPNOTE 4.3; gzip (RFC 1952); bzip2; Zstandard (RFC 8878); POSIX ustar; JPEG; WebP (RIFF); PDF (ISO 32000).
"""

from __future__ import annotations

import zipfile
from pathlib import Path

from zoompick.errors import FormatError

HEAD_BYTES = 512
_TIFF = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")
_HDF5, _ZIP = (b"\x89HDF\r\n\x1a\n",), (b"PK\3\4", b"PK\5\6")
_BY_ENDING: dict[str, tuple[bytes, ...]] = {
    "tif": _TIFF, "tiff": _TIFF, "png": (b"\x89PNG\r\n\x1a\n",),
    "jpg": (b"\xff\xd8\xff",), "jpeg": (b"\xff\xd8\xff",),
    "jp2": (b"\0\0\0\x0cjP  ", b"\xff\x4f\xff\x51"), "h5": _HDF5, "hdf5": _HDF5, "nc": (*_HDF5, b"CDF"),
    "zip": _ZIP, "kmz": _ZIP, "gz": (b"\x1f\x8b",), "tgz": (b"\x1f\x8b",), "bz2": (b"BZh",),
    "zst": (b"\x28\xb5\x2f\xfd",), "pdf": (b"%PDF-",), "webp": (b"RIFF",),
}  # fmt: skip
_PAGES = (b"<!doctype html", b"<html")


def ending_of(name: str) -> str:
    """Last ending of a file name in small letters, without the dot."""
    return name.rpartition(".")[2].lower() if "." in name else ""


def is_page(content_type: str, name: str) -> bool:
    """True when a server announces a web page where a file of this name was asked for."""
    return content_type.split(";")[0].strip().lower() in ("text/html", "application/xhtml+xml") and (
        ending_of(name) in _BY_ENDING or ending_of(name) == "tar"
    )


def refuse_other(name: str, head: bytes) -> None:
    """Hold the first bytes of a file against its name; names that promise nothing pass.

    Raises
    ------
    FormatError
        They are something else: a log-in page, an error document.
    """
    ending = ending_of(name)
    fits = head[257:262] == b"ustar" if ending == "tar" else head.startswith(_BY_ENDING.get(ending, (b"",)))
    if not fits:
        raise another_thing(name, shown(head))


def another_thing(name: str, what: str) -> FormatError:
    """The error for something else in place of a file."""
    return FormatError(
        f"The source sent {what} in place of the file {name}.",
        "It was not kept. The link may have expired or want a log-in: 'zoompick source login'.",
    )


_ENDS = {"jpg": b"\xff\xd9", "jpeg": b"\xff\xd9", "jp2": b"\xff\xd9", "j2k": b"\xff\xd9", "png": b"IEND\xaeB`\x82"}


def ends_well(path: Path) -> bool:
    """Whether a file ends as its kind must; False for kinds whose end tells nothing."""
    with path.open("rb") as stream:
        ending = ending_by(stream.read(HEAD_BYTES)).removeprefix(".")
        if ending in ("zip", "kmz"):
            return zipfile.is_zipfile(stream)
        stream.seek(0, 2)
        stream.seek(max(0, stream.tell() - 8))
        return ending in _ENDS and stream.read().endswith(_ENDS[ending])


def ending_by(head: bytes) -> str:
    """The ending, with its dot, that a file with these first bytes should have; empty for one that is not known."""
    return next((f".{name}" for name, starts in _BY_ENDING.items() if head.startswith(starts)), "")


def shown(head: bytes) -> str:
    """What some bytes look like, in words."""
    start = head.lstrip()[:200].lower()
    if start.startswith(_PAGES):
        return "a web page"
    if start.startswith(b"<?xml"):
        return "an XML document"
    if start.startswith(b"{"):
        return "a JSON document"
    return f"something that begins with {head[:12]!r}" if head else "nothing"
