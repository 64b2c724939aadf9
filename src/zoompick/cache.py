"""The cache folder: what this program made there, how large it is, and how it is kept within its limit."""

from __future__ import annotations

import os
import re
import shutil
import time
from pathlib import Path
from typing import NamedTuple

from zoompick.files import tree_bytes
from zoompick.settings import cache_folder, whole

_INDEX = re.compile(r"[0-9a-f]{24}\.(sqlite|looked-at)")
"""Names of indexes: what else lies beside them is not ours to remove."""
_IN_USE_S = 600
"""What was used so lately may be in use: it stays."""


class Entry(NamedTuple):
    """One thing that can be made again: its bytes, and when it was last used (seconds since 1970)."""

    path: Path
    size: int
    used: float


def parts() -> list[Path]:
    """What this program made in the cache folder, indexes and worlds: all of it can be made again."""
    folder = cache_folder()
    indexes = sorted(path for path in folder.glob("footprints/*.*") if _INDEX.fullmatch(path.name))
    return [*indexes, *sorted(path for path in folder.glob("ostrell-*") if path.is_dir())]


def size() -> int:
    """Bytes of all that lies in the cache."""
    return sum(map(tree_bytes, parts()))


def clear() -> None:
    """Remove what can be made again.

    Raises
    ------
    OSError
        A part cannot be removed.
    """
    for path in parts():
        shutil.rmtree(path) if path.is_dir() else path.unlink()
    indexes = cache_folder() / "footprints"
    if indexes.is_dir() and not any(indexes.iterdir()):
        indexes.rmdir()


def use(path: Path) -> None:
    """Note that something in the cache is used now."""
    try:
        os.utime(path)
    except OSError:
        return


def trim() -> int:
    """Remove what was used longest ago, down to the setting ``cache_max_mb``; returns the bytes freed.

    What other runs are using, and what goes away meanwhile, is left alone: the limit may be passed for a while.
    """
    entries = _entries()
    others = size() - sum(entry.size for entry in entries)
    freed = 0
    for entry in to_remove(entries, whole("cache_max_mb") * 1_000_000 - others, time.time() - _IN_USE_S):
        try:
            shutil.rmtree(entry.path) if entry.path.is_dir() else entry.path.unlink()
        except OSError:
            continue
        freed += entry.size
    return freed


def to_remove(entries: list[Entry], limit: int, before: float) -> list[Entry]:
    """Of entries those that must go so that the others have at most ``limit`` bytes: the longest unused first."""
    over = sum(entry.size for entry in entries) - limit
    chosen = []
    for entry in sorted(entries, key=lambda entry: entry.used):
        if over <= 0:
            break
        if entry.used < before:
            chosen.append(entry)
            over -= entry.size
    return chosen


def _entries() -> list[Entry]:
    """Indexes of footprint files, and scenes of the simulated archive."""
    folder = cache_folder()
    found = []
    indexes = (path for path in parts() if path.is_file())
    for path in (*indexes, *folder.glob("ostrell-*/scenes/[!.]*")):
        try:
            used = path.stat().st_mtime
            found.append(Entry(path, tree_bytes(path), used))
        except OSError:
            continue
    return found
