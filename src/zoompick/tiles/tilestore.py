"""Picture tiles on disk: one SQLite file a layer, read by many programs, which works offline and is shared by runs.

Source: MBTiles 1.3 (tables ``metadata`` and ``tiles``, rows counted from the south). A table of our own, ``absent``,
tells which tiles the service said it does not have; other programs pass it by. For a tile grid that is not web
mercator the format has no place: the metadata then name it, and rows are still counted from the south.
"""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import Any

from zoompick.errors import DataError, UsageError
from zoompick.files import database_errors
from zoompick.geo.tilegrid import TileKey
from zoompick.later import sqlite3

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
_MOST_TILE_BYTES, _PATIENCE_S = 64 << 20, 120.0
"""What a store of others may take: its tiles may be a view that gives anything, for ever."""
_KEPT = "Tiles that came before are kept."


class TileStore:
    """One layer's tiles; safe to use from several threads.

    Parameters
    ----------
    path : Path
        Made when it is missing, unless ``must_exist``: then nothing is written into it, whoever made it.

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
        self._can_write, self._ends = not must_exist, time.monotonic() + _PATIENCE_S
        try:
            with database_errors(path, _KEPT):
                if path.is_file():
                    self._open_to_read()
                    self._tables = self._looked_at()
                if self._can_write:
                    self._open_to_write()
        except (sqlite3.DatabaseError, UnicodeDecodeError) as error:
            raise DataError(f"{path} is no tile store: {error}.", "Remove it, or give another `store`.") from error

    def _open_to_read(self) -> None:
        address = f"{self.path.resolve().as_uri()}?mode=ro"
        self._base = sqlite3.connect(address, uri=True, check_same_thread=False, timeout=30)
        self._base.text_factory = lambda data: data.decode("utf-8", "replace")
        self._base.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _MOST_TILE_BYTES)
        self._base.set_progress_handler(lambda: time.monotonic() > self._ends, 1_000_000)

    def _looked_at(self) -> set[str]:
        """Tables and views that are there; DataError for a file that holds no tiles."""
        names = {str(name) for (name,) in self._base.execute("SELECT name FROM sqlite_master")}
        if names and not {"metadata", "tiles"} <= names:
            raise DataError(f"{self.path} is no tile store: it has no table of tiles.", "Give another `store`.")
        if names and self._can_write and "absent" not in names:
            raise UsageError(
                f"{self.path} was made by another program: it is read, and never written into.",
                "Give another `store`.",
            )
        return names

    def _open_to_write(self) -> None:
        if self.path.is_file():
            self._base.close()
        self.path.parent.mkdir(parents=True, exist_ok=True)
        self._base = sqlite3.connect(self.path, check_same_thread=False, timeout=30)
        self._base.execute("PRAGMA journal_mode = WAL")
        self._base.execute("PRAGMA synchronous = NORMAL")
        self._base.executescript(_SCHEMA)
        self._tables = {"metadata", "tiles", "absent"}

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
            if self._can_write:
                self._base.execute("PRAGMA journal_mode = DELETE")
        self._base.close()

    @property
    def facts(self) -> dict[str, str]:
        """The metadata."""
        with self._lock:
            rows = self._asked("SELECT name, value FROM metadata")
            return {str(name): str(value) for name, value in rows}

    @property
    def credit(self) -> str:
        """Who has to be named with its pictures; empty for nobody."""
        return self.facts.get("attribution", "")

    def _asked(self, query: str, cell: tuple[int, ...] = ()) -> list[tuple[Any, ...]]:
        """Rows of a query; the lock is held.

        Raises
        ------
        DataError
            The file is damaged, or takes too long or too much room to answer.
        """
        self._ends = time.monotonic() + _PATIENCE_S
        try:
            return self._base.execute(query, cell).fetchall()
        except (sqlite3.Error, MemoryError, OverflowError, UnicodeDecodeError) as error:
            raise DataError(f"{self.path} cannot be read: {error}.", "Give another `store`.") from error

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
        found: list[set[TileKey]] = []
        with self._lock:
            for table in ("tiles", "absent"):
                if table not in self._tables:
                    found.append(set())
                    continue
                query = (
                    f"SELECT tile_column, tile_row FROM {table} WHERE zoom_level = ?"
                    " AND typeof(tile_column) = 'integer' AND typeof(tile_row) = 'integer'"
                )
                found.append({TileKey(rows - 1 - row, col) for col, row in self._asked(query, (level,))})
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
            found = self._asked(query, (level, key.col, rows - 1 - key.row))
        return bytes(found[0][0]) if found and isinstance(found[0][0], bytes) else None

    def mean_bytes(self) -> float | None:
        """Mean length of the tiles that are here; None when there are none."""
        with self._lock:
            query = f"SELECT AVG(LENGTH(tile_data)) FROM (SELECT tile_data FROM tiles LIMIT {_AT_ONCE})"
            ((mean,),) = self._asked(query)
        return None if mean is None else float(mean)


@cache
def _opened_here(path: Path) -> TileStore:
    """A store that travelled by its path; opened once in a process."""
    return TileStore(path, must_exist=True)
