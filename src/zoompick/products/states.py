"""States of files on disk, held against a later look: nothing is made of what changed meanwhile."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

from zoompick.addresses import is_remote
from zoompick.errors import DataError

States = Mapping[Path, tuple[int, int, int]]


def states_of(paths: Iterable[Path]) -> dict[Path, tuple[int, int, int]]:
    """Size, time stamp and number of files on disk, by which a later look tells whether they are the same."""
    found = {}
    for path in paths:
        outer = Path(str(path).rpartition("#")[0]) if "#" in path.name and not path.exists() else path
        if not is_remote(path) and outer.is_file():
            state = outer.stat()
            found[outer] = state.st_size, state.st_mtime_ns, state.st_ino
    return found


def refuse_changed(before: States) -> None:
    """Refuse what was made of files that are not there any more as they were.

    Raises
    ------
    DataError
    """
    now = states_of(before)
    if changed := next((path for path, state in before.items() if now.get(path) != state), None):
        raise DataError(
            f"{changed} changed while it was read; nothing was kept of what was made of it.",
            "Give the same command again.",
        )
