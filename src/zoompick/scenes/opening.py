"""Rasters wherever they lie, on disk, on a web server, in an archive: the opener learns addresses beyond paths.

What reads them is loaded when the first such address comes.
"""

from __future__ import annotations

from pathlib import Path

from zoompick.addresses import is_remote
from zoompick.bytesource import ByteSource
from zoompick.net.ranges import remote_file
from zoompick.raster.chosen import Part, parted
from zoompick.raster.opening import open_raster, provide, source_of
from zoompick.scenes.members import open_member

__all__ = ["open_raster", "source_of"]


def state_of(path: Path) -> str:
    """Size and entity tag of a file that lies elsewhere: what tells this state of it from others."""
    identity = source_of(path).identity
    return f"{identity.size} bytes, {identity.stamp}"


def _is_part(address: str) -> bool:
    # A file may have the mark in its own name.
    return bool(parted(address)[1]) and not Path(address).exists()


def _part(address: str) -> ByteSource:
    outer, wanted = parted(address)
    return Part(source_of(outer), wanted)


def _is_member(address: str) -> bool:
    outer, mark, name = address.rpartition("#")
    # A file may have the mark in its own name.
    return bool(mark and outer and name) and not Path(address).exists()


def _member(address: str) -> ByteSource:
    return open_member(address, source_of)


def _remote(url: str) -> ByteSource:
    return remote_file(url)


provide(_is_part, _part)
provide(_is_member, _member)
provide(is_remote, _remote)
