"""The shortlist of a study: who chose it, and the way back when a change was a mistake."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zoompick import files
from zoompick.errors import NothingFoundError
from zoompick.study.folder import Study
from zoompick.study.scenelist import Entry, read_list, to_collection

BY_HAND = "hand"
_CHOSEN_BY = "zoompick:chosen_by"
_MOST_KEPT = 20


def shortlist(study: Study) -> list[Entry]:
    """The picked scenes."""
    return read_list(study.shortlist_file)


def chosen_by(study: Study) -> str:
    """By whom it was chosen: a person, or the brief with this fingerprint; empty when nothing is picked."""
    if not study.shortlist_file.exists():
        return ""
    value = files.read_json(study.shortlist_file)
    return str(value.get(_CHOSEN_BY, "")) if isinstance(value, dict) and value.get("features") else ""


def keep(study: Study, entries: Sequence[Entry], by: str) -> None:
    """Write the shortlist; what it was before is kept for :func:`undo`."""
    path = study.shortlist_file
    kept = _kept(study)
    number = int(kept[-1].stem.rpartition("-")[2]) + 1 if kept else 1
    before = files.read_json(path) if path.exists() else to_collection([])
    files.write_json(study.undo_folder / f"shortlist-{number:06d}.json", before)
    for old in kept[: max(0, len(kept) + 1 - _MOST_KEPT)]:
        old.unlink(missing_ok=True)
    files.write_json(path, to_collection(entries) | {_CHOSEN_BY: by})


def undo(study: Study) -> list[Entry]:
    """Put the shortlist back as it was before the last change; returns it.

    Raises
    ------
    NothingFoundError
        There was no change.
    """
    kept = _kept(study)
    if not kept:
        raise NothingFoundError("There is no earlier shortlist.", "The last 20 changes can be undone.")
    files.write_json(study.shortlist_file, files.read_json(kept[-1]))
    kept[-1].unlink()
    return shortlist(study)


def _kept(study: Study) -> list[Path]:
    return sorted(study.undo_folder.glob("shortlist-*.json"))
