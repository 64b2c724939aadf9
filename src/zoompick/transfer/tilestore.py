"""Picture tiles on disk: one SQLite file a layer, read by many programs, which works offline and is shared by runs.

Source: MBTiles 1.3 (tables ``metadata`` and ``tiles``, rows counted from the south). A table of our own, ``absent``,
tells which tiles the service said it does not have; other programs pass it by. For a tile grid that is not web
mercator the format has no place: the metadata then name it, and rows are still counted from the south.
"""

from __future__ import annotations

import contextlib
import sqlite3
import threading
from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import Any

from zoompick.errors import DataError, UsageError
from zoompick.files import database_errors
from zoompick.geo.tilegrid import TileKey

_SCHEMA = """
CREATE TABLE IF NOT EXISTS metadata (name TEXT PRIMARY KEY, value TEXT);
CREATE TABLE IF NOT EXISTS tiles (
    zoom_level INTEGER, tile_column INTEGER, tile_row INTEGER, tile_data BLOB,
    PRIMARY KEY (zoom_level, tile_column, tile_row)
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS absent (
    zoom_level INTEGER, tile_column INTEGER, tile_row INTEGER, status INTEGER,
    PRIMARY KEY (zoom_level, tile_column, tile_row)
) WITHOUT ROWID;
"""
_AT_ONCE = 500
_KEPT = "Tiles that came before are kept."


class TileStore:
    """One layer's tiles; safe to use from several threads.

    Parameters
    ----------
    path : Path
        Made when it is missing, unless ``must_exist``.

    Raises
    ------
    DataError
        The file is no such store.
    """

    def __init__(self, path: Path, must_exist: bool = False) -> None:
        if must_exist and not path.is_file():
            raise UsageError(f"There is no tile store {path}.", "Fetch tiles first: 'zoompick tiles get'.")
        self.path = path
        self._lock = threading.Lock()
        try:
            with database_errors(path, _KEPT):
                path.parent.mkdir(parents=True, exist_ok=True)
                self._base = sqlite3.connect(path, check_same_thread=False, timeout=30)
                self._base.execute("PRAGMA journal_mode = WAL")
                self._base.execute("PRAGMA synchronous = NORMAL")
                self._base.executescript(_SCHEMA)
        except sqlite3.DatabaseError as error:
            raise DataError(f"{path} is no tile store: {error}.", "Remove it, or give another `store`.") from error

    def __reduce__(self) -> tuple[Any, ...]:
        return _opened_here, (self.path.absolute(),)

    def __enter__(self) -> TileStore:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: object, at: object) -> None:
        self.close()

    def close(self) -> None:
        """Close the file; one file is left, without a journal."""
        with contextlib.suppress(sqlite3.OperationalError):
            # On a full disk the journal stays beside the file, and the next run takes it up.
            self._base.execute("PRAGMA journal_mode = DELETE")
        self._base.close()

    @property
    def facts(self) -> dict[str, str]:
        """The metadata."""
        with self._lock:
            return dict(self._base.execute("SELECT name, value FROM metadata"))

    def describe(self, facts: Mapping[str, str]) -> None:
        """Keep metadata.

        Raises
        ------
        UsageError
            The store holds another layer, grid or form of tiles.
        """
        known = self.facts
        for name in ("name", "format", "zoompick:grid"):
            if name in known and known[name] != facts.get(name, known[name]):
                raise UsageError(
                    f"{self.path} holds tiles of {known[name]}, not of {facts[name]}.", "Give another `store`."
                )
        with self._lock, database_errors(self.path, _KEPT), self._base:
            self._base.executemany("INSERT OR REPLACE INTO metadata VALUES (?, ?)", list(facts.items()))

    def known(self, level: int, rows: int) -> tuple[set[TileKey], set[TileKey]]:
        """Tiles of a level that are here, and those that the service does not have; ``rows`` of the level."""
        found = []
        with self._lock:
            for table in ("tiles", "absent"):
                query = f"SELECT tile_column, tile_row FROM {table} WHERE zoom_level = ?"
                found.append({TileKey(rows - 1 - row, col) for col, row in self._base.execute(query, (level,))})
        return found[0], found[1]

    def put(self, level: int, rows: int, tiles: Sequence[tuple[TileKey, bytes]]) -> None:
        """Keep tiles, all of them or none."""
        cells = [(level, key.col, rows - 1 - key.row, data) for key, data in tiles]
        with self._lock, database_errors(self.path, _KEPT), self._base:
            self._base.executemany("INSERT OR REPLACE INTO tiles VALUES (?, ?, ?, ?)", cells)
            self._base.executemany(
                "DELETE FROM absent WHERE zoom_level = ? AND tile_column = ? AND tile_row = ?",
                [cell[:3] for cell in cells],
            )

    def mark_absent(self, level: int, rows: int, keys: Iterable[tuple[TileKey, int]]) -> None:
        """Note tiles that the service said it does not have, with the status of its answer."""
        cells = [(level, key.col, rows - 1 - key.row, status) for key, status in keys]
        with self._lock, database_errors(self.path, _KEPT), self._base:
            self._base.executemany("INSERT OR REPLACE INTO absent VALUES (?, ?, ?, ?)", cells)

    def tile(self, level: int, rows: int, key: TileKey) -> bytes | None:
        """Bytes of a tile, or None."""
        query = "SELECT tile_data FROM tiles WHERE zoom_level = ? AND tile_column = ? AND tile_row = ?"
        with self._lock:
            row = self._base.execute(query, (level, key.col, rows - 1 - key.row)).fetchone()
        return None if row is None else bytes(row[0])

    def mean_bytes(self) -> float | None:
        """Mean length of the tiles that are here; None when there are none."""
        with self._lock:
            query = f"SELECT AVG(LENGTH(tile_data)) FROM (SELECT tile_data FROM tiles LIMIT {_AT_ONCE})"
            (mean,) = self._base.execute(query).fetchone()
        return None if mean is None else float(mean)


@cache
def _opened_here(path: Path) -> TileStore:
    """A store that travelled by its path; opened once in a process."""
    return TileStore(path, must_exist=True)
