"""What was fetched into a folder: one small JSON file beside the scene's files."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from zoompick.files import read_json, write_json

RECORD = "downloads.json"
ITEM = "item.json"
_lock = threading.Lock()


@dataclass(frozen=True, slots=True)
class Fetched:
    """A file that came whole.

    ``checked_by`` names what its digest was held against: ``item``, ``header`` or nothing.
    """

    band: str
    url: str
    size: int
    sha256: str
    checked_by: str


def read(folder: Path) -> dict[str, Fetched]:
    """Files recorded in ``folder`` by name."""
    path = folder / RECORD
    if not path.exists():
        return {}
    return {name: Fetched(**entry) for name, entry in read_json(path).items()}


def add(path: Path, fetched: Fetched) -> None:
    """Record one file; safe to call from several threads of one process."""
    with _lock:
        table = read(path.parent) | {path.name: fetched}
        write_json(path.parent / RECORD, {name: asdict(table[name]) for name in sorted(table)})


def write_item(folder: Path, item: Mapping[str, Any]) -> None:
    """Keep the STAC Item beside the scene's files."""
    path = folder / ITEM
    if not path.exists() or read_json(path) != item:
        write_json(path, item)
