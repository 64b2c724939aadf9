"""Digests of a study's own files, remembered as long as size and time stamp are what they were."""

from __future__ import annotations

import os
from pathlib import Path
from types import TracebackType

from zoompick import files
from zoompick.errors import DataError


class Vouched:
    """Digests by path; what is new is written down when the block is left.

    Parameters
    ----------
    record : Path
        Where they are kept; paths in it are relative to its folder. One that cannot be read counts as empty.
    keeps : bool
        False for who only looks: nothing is written down.
    trusts : bool
        False for who wants every file read again.
    """

    def __init__(self, record: Path, keeps: bool = True, trusts: bool = True) -> None:
        self._record, self._keeps, self._trusts = record, keeps, trusts
        self._known: dict[str, list[object]] = {}
        self._is_new = False

    def __enter__(self) -> Vouched:
        try:
            read = files.read_json(self._record) if self._record.exists() and self._trusts else {}
        except DataError:
            read = {}
        self._known = {name: row for name, row in read.items() if isinstance(row, list) and len(row) == 3}
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None
    ) -> None:
        if self._is_new and self._keeps:
            here = {name: row for name, row in self._known.items() if (self._record.parent / name).exists()}
            files.write_json(self._record, here)

    def digest(self, path: Path) -> str:
        """Multihash of a file, computed only when its size or time stamp is new."""
        name = Path(os.path.relpath(path, self._record.parent)).as_posix()
        state = path.stat()
        known = self._known.get(name)
        if known is not None and known[:2] == [state.st_size, state.st_mtime_ns]:
            return str(known[2])
        digest = files.multihash_of(path)
        self._known[name] = [state.st_size, state.st_mtime_ns, digest]
        self._is_new = True
        return digest
