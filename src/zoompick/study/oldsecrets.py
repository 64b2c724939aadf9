"""Secrets of addresses in the records of studies and settings that older versions wrote: found, moved, told once."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from zoompick.addresses import redacted
from zoompick.errors import DataError
from zoompick.events import Noted, Report, ignore
from zoompick.files import distinct_name, read_json, write_json
from zoompick.net import vault
from zoompick.scenes import sources
from zoompick.study.folder import Study

_MARK = "addresses.json"
_LISTS = (
    "sources.json", "shortlist.json", "found.json", ".found.json", ".local/found.json", "orders.json",
    "study.lock.json", "terms.json", "collections.json", ".undo/*.json", ".local/undo/*.json", "scenes/**/item.json",
    "scenes/**/downloads.json", "products/**/*.json",
)  # fmt: skip


def move(study: Study | None, report: Report = ignore) -> int:
    """Move the secrets of addresses into the private store; returns how many files held some.

    Of a study this is done once, and remembered; the user's own sources are looked at each time.
    """
    own = sources.sources_file(None)
    count = int(own.exists() and _moved(own, ""))
    if study is not None and not study.local(_MARK).exists():
        names = {distinct_name(name): name for name in sources.known(study.root)}
        for path in _records(study.root):
            count += _moved(path, _source_of(path, study.root, names))
        write_json(study.local(_MARK), {"public": True})
    if count:
        files = "1 file" if count == 1 else f"{count} files"
        report(
            Noted(
                f"{files} of an older version held keys in addresses: they are in {vault.path()} now, for you alone."
            )
        )
    return count


def _records(root: Path) -> Iterator[Path]:
    for pattern in _LISTS:
        yield from (path for path in root.glob(pattern) if path.is_file() and not path.is_symlink())


def _source_of(path: Path, root: Path, names: dict[str, str]) -> str:
    """The source of a scene's record, by the folder that it lies in."""
    parts = path.relative_to(root).parts
    return names.get(parts[1], "") if parts[0] == "scenes" and len(parts) > 2 else ""


def _moved(path: Path, source: str) -> bool:
    """Rewrite a record whose addresses hold secrets; False when it holds none, or is no JSON."""
    try:
        text = path.read_text(encoding="utf-8")
        if "://" not in text or redacted(text) == text:
            return False
        value = read_json(path)
    except (OSError, UnicodeDecodeError, DataError):
        return False
    is_sources = path.name == sources.FILE_NAME and isinstance(value, dict)
    if is_sources:
        public = {name: vault.put_away(row, str(name), lasting=True) for name, row in value.items()}
    else:
        public = _public(value, source)
    if json.dumps(public, sort_keys=True) == json.dumps(value, sort_keys=True):
        return False
    write_json(path, public)
    return True


def _public(value: Any, source: str) -> Any:
    """Each part of a record for the source that it names."""
    if isinstance(value, dict):
        note = value.get("zoompick:pick")
        told = note.get("source") if isinstance(note, dict) else value.get("source")
        if isinstance(told, str) and told:
            return vault.put_away(value, told)
        return {key: _public(entry, source) for key, entry in value.items()}
    if isinstance(value, list):
        return [_public(entry, source) for entry in value]
    return vault.put_away(value, source)
