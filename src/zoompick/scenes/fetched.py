"""What was fetched into a folder, by a small JSON file in it; and what there is of files under way."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from functools import lru_cache
from pathlib import Path

from zoompick.errors import DataError
from zoompick.files import multihash, multihash_of, read_json, write_json
from zoompick.geo.shapes import from_text
from zoompick.jsontypes import JsonMap
from zoompick.net.vault import put_away
from zoompick.records import of_row
from zoompick.scenes.fetchplan import ITEM, RECORD, Fetch

_ENDING = ".partial"
_SLACK_DEG = 1e-6
"""About 0.1 m, by which corners may have been rounded."""
_lock = threading.Lock()


@dataclass(frozen=True, slots=True)
class Fetched:
    """A file that came whole.

    Attributes
    ----------
    url : str
        Address without its query, which may hold a signature.
    multihash : str
        Of the file here.
    checked_by : str
        What its digest was held against: ``item``, ``header`` or nothing.
    region : str
        For a part of a raster the region that was asked for, longitude/latitude as well-known text.
    region_key : str
        The key of that region, if it has one.
    whole_size : int or None
        For a part, bytes of the whole file at the source.
    version : str
        Entity tag or date of the file at its source when it came; empty where it told none.
    modified_ns : int
        Time stamp of the file here when it was checked: with the size it vouches for the digest. 0: not known.
    cut : str
        Of an ordered scene the ground that was bought, as well-known text, where others give the rest of the region.
    """

    band: str
    url: str
    size: int
    multihash: str
    checked_by: str
    region: str = ""
    region_key: str = ""
    whole_size: int | None = None
    modified_ns: int = 0
    version: str = ""
    cut: str = ""


def exists(folder: Path) -> bool:
    """True when files were fetched into a folder."""
    path = folder / RECORD
    return path.exists() and bool(read_json(path))


def read(folder: Path) -> dict[str, Fetched]:
    """Files recorded in ``folder`` by name; a row that is none is left out, so that its file is fetched again."""
    path = folder / RECORD
    try:
        state = path.stat()
    except OSError:
        return {}
    return dict(_rows(path, state.st_size, state.st_mtime_ns))


@lru_cache(maxsize=64)
def _rows(path: Path, size: int, mtime_ns: int) -> Mapping[str, Fetched]:
    """Rows of one state of a record: a plan asks for each file of a folder."""
    found: dict[str, Fetched] = {}
    table = read_json(path)
    for name, row in table.items() if isinstance(table, dict) else ():
        with contextlib.suppress(TypeError):
            found[name] = of_row(Fetched, row)
    return found


def add(path: Path, fetched: Fetched) -> None:
    """Record one file; safe to call from several threads of one process."""
    stamp = path.stat().st_mtime_ns if path.exists() else 0
    with _lock:
        table = read(path.parent) | {path.name: replace(fetched, modified_ns=stamp)}
        rows = {name: {key: value for key, value in asdict(table[name]).items() if value is not None}
                for name in sorted(table)}  # fmt: skip
        write_json(path.parent / RECORD, rows)


def is_here(entry: Fetch) -> bool:
    """True when the file lies there as it was recorded, holds what is wanted, and its item has not changed since."""
    recorded = read(entry.path.parent).get(entry.path.name)
    return recorded is not None and _holds(recorded, entry) and is_as_recorded(entry.path, recorded)


def is_as_recorded(path: Path, recorded: Fetched) -> bool:
    """True when size and time stamp vouch for the file, or its digest is the recorded one."""
    try:
        state = path.stat()
        if state.st_size != recorded.size:
            return False
        return state.st_mtime_ns == recorded.modified_ns or _digest(path, state.st_mtime_ns, recorded.multihash)
    except (OSError, DataError):
        return False


@lru_cache(maxsize=4096)
def _digest(path: Path, mtime_ns: int, expected: str) -> bool:
    """Whether a file has a digest; asked once for each state of it."""
    return multihash_of(path, expected) == expected


def _holds(recorded: Fetched, entry: Fetch) -> bool:
    if not recorded.region:
        return entry.sha256 is None or multihash(entry.sha256) == recorded.multihash
    if entry.region is None:
        return False
    if entry.region.key and entry.region.key == recorded.region_key:
        return True
    return bool(from_text(recorded.region).buffer(_SLACK_DEG).covers(entry.region.shape))


def write_item(folder: Path, item: JsonMap, source: str) -> None:
    """Keep the STAC Item of a source beside the scene's files; secrets of its addresses are kept elsewhere."""
    path, item = folder / ITEM, put_away(item, source)
    if not path.exists() or read_json(path) != item:
        write_json(path, item)


def paths_beside(path: Path) -> tuple[Path, Path]:
    """Where the bytes under way and their note lie."""
    part = path.with_name(f".{path.name}{_ENDING}")
    return part, part.with_name(part.name + ".json")


def size_under_way(path: Path) -> int:
    """Bytes that an earlier run left of a file; 0 for none."""
    with contextlib.suppress(OSError):
        return paths_beside(path)[0].stat().st_size
    return 0
