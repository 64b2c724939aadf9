"""Bounds on what a file from outside may ask of this machine: sizes, numbers of corners, members of archives."""

from __future__ import annotations

import re
import zipfile
import zlib
from pathlib import Path
from typing import TYPE_CHECKING

import defusedxml
from defusedxml import ElementTree

from zoompick.errors import AreaError
from zoompick.files import human_bytes

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

MOST_BYTES = 64 << 20
MOST_MEMBERS = 2000


def read_bytes(path: Path) -> bytes:
    """A file's bytes; AreaError when it cannot be read or is larger than any area is."""
    try:
        size = path.stat().st_size
        if size > MOST_BYTES:
            raise AreaError(
                f"{path} has {human_bytes(size)}, which is too large for an area.",
                "Simplify it first, or give the one polygon that is meant.",
            )
        return path.read_bytes()
    except OSError as error:
        raise AreaError(f"{path} cannot be read: {error.strerror}.", "Check the path.") from error


def as_utf8(data: bytes) -> bytes:
    """A text in UTF-16 or UTF-32, as its first bytes tell, in UTF-8; all else as it is."""
    for mark, encoding in _MARKS:
        if data.startswith(mark):
            text = data.decode(encoding, "replace").lstrip("\ufeff")
            return re.sub(r"""(<\?xml[^>]*?)\s+encoding\s*=\s*["'][^"']*["']""", r"\1", text, count=1).encode()
    return data


_MARKS = ((b"\xff\xfe\0\0", "utf-32"), (b"\0\0\xfe\xff", "utf-32"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"))
_MOST_DEPTH = 64
"""Brackets within brackets; a polygon of parts with holes has four or five."""


def refuse_deep(text: str, label: str) -> None:
    """Refuse a text whose brackets lie deeper in one another than in any area: readers go down with them.

    Raises
    ------
    AreaError
    """
    depth = 0
    for found in re.finditer(r"[\[{(]|[\]})]", text):
        depth += 1 if found[0] in "[{(" else -1
        if depth > _MOST_DEPTH:
            raise AreaError(f"{label} is nested more than {_MOST_DEPTH} deep.", "That is no area.")


def local(element: Element) -> str:
    """Name of an XML element without its namespace."""
    return str(element.tag).rpartition("}")[2] if isinstance(element.tag, str) else ""


def members(path: Path) -> dict[str, bytes]:
    """Files in a zip archive by name, unpacked in memory, never more than a bound.

    Raises
    ------
    AreaError
        No zip archive, damaged, or a bomb.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            entries = [entry for entry in archive.infolist() if entry.filename and not entry.is_dir()]
            claimed = sum(entry.file_size for entry in entries)
            if len(entries) > MOST_MEMBERS or claimed > MOST_BYTES:
                raise AreaError(
                    f"{path} would unpack to {len(entries)} files and {human_bytes(claimed)}.",
                    "That is no area; unpack it yourself if you trust it.",
                )
            return {entry.filename: _member(archive, entry, path) for entry in entries}
    except (
        zipfile.BadZipFile,
        zlib.error,
        NotImplementedError,
        RuntimeError,
        OSError,
        EOFError,
        ValueError,
    ) as error:
        raise AreaError(
            f"{path} is no zip archive that can be read: {error}.", "Download or make it again."
        ) from error


def _member(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, path: Path) -> bytes:
    with archive.open(entry) as stream:
        data = stream.read(entry.file_size + 1)
    if len(data) > entry.file_size:
        raise AreaError(
            f"{path} holds more in {entry.filename} than it claims.", "The archive is hostile or damaged."
        )
    return data


def xml_root(data: bytes, label: str) -> Element:
    """Root element of an XML text without entities or outside references.

    Raises
    ------
    AreaError
        No XML, or one with entity declarations.
    """
    try:
        root: Element = ElementTree.fromstring(data, forbid_dtd=False)
        _refuse_deep_xml(root, label)
        return root
    except defusedxml.DefusedXmlException as error:
        raise AreaError(
            f"{label} declares XML entities, which can be used to attack; it is not read.",
            "Export it again from the program it came from.",
        ) from error
    except (ElementTree.ParseError, ValueError, LookupError) as error:
        raise AreaError(f"{label} is not XML that can be read: {error}.", "Export it again.") from error


def _refuse_deep_xml(root: Element, label: str) -> None:
    """XML whose elements lie thousands deep in one another is taken apart by nobody's stack but its maker's."""
    level, depth = [root], 0
    while level:
        depth += 1
        if depth > 4 * _MOST_DEPTH:
            raise AreaError(f"{label} is nested more than {4 * _MOST_DEPTH} deep.", "That is no area.")
        level = [child for element in level for child in element]
