"""Begin a study from another: its brief as it was written, with other values, its area, sources and facts."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from zoompick import files
from zoompick.discovery.filters import BY_FIELD
from zoompick.errors import StudyError
from zoompick.journal import act
from zoompick.scenes import sources
from zoompick.settings import BRIEF_NAME, FACTS
from zoompick.study.edit import with_values
from zoompick.study.folder import Study, refuse_taken
from zoompick.study.new import NewStudy, area_bytes

_MARK = ".like.json"


def study_like(folder: Path, like: Study, options: NewStudy) -> Study:
    """Make a study from another; what the options tell takes the place of what the other's brief says.

    Raises
    ------
    UsageError
        A date or the cloud limit cannot be used, or the other's brief is not whole.
    StudyError
        The folder is a study already, or its place is taken.
    """
    if options.dates:
        BY_FIELD["periods"].of_person(list(options.dates))
    if options.cloud is not None:
        BY_FIELD["cloud_max"].of_person(options.cloud)
    like.brief()
    wanted = _derived(like, folder, options)
    brief = wanted.pop(BRIEF_NAME)
    refuse_taken(folder, wanted)
    study = Study.create(folder, brief.decode())
    for name, content in wanted.items():
        _write(study.root / name, content)
    with act(study.journal_file, "new", study=options.name or folder.resolve().name, like=like.root.name):
        return study


def follow(folder: Path, like: Study, options: NewStudy) -> Study:
    """The study in a folder, made from another or brought up to it; what was changed there by hand is left alone.

    Raises
    ------
    StudyError
        The study there was not made so, or its brief was changed by hand and the other's since.
    """
    if not (folder / BRIEF_NAME).exists():
        study = study_like(folder, like, options)
        _remember(study, _derived(like, folder, options))
        return study
    study, wanted = Study(folder.resolve()), _derived(like, folder, options)
    known = files.read_json(folder / _MARK) if (folder / _MARK).exists() else None
    if not isinstance(known, dict):
        raise StudyError(f"{folder} is a study of its own.", "Give another folder for the studies of the batch.")
    for name, content in wanted.items():
        path, digest = study.root / name, _digest(content)
        now = _digest(path.read_bytes()) if path.exists() else ""
        if digest in (now, known.get(name)):
            continue
        if now and now != known.get(name):
            raise StudyError(
                f"{path} was changed by hand, and what it was made from has changed since.",
                "Remove that file to have it made anew, or work in that study by itself.",
            )
        _write(path, content)
    _remember(study, wanted)
    return study


def _derived(like: Study, folder: Path, options: NewStudy) -> dict[str, bytes]:
    """Files of the new study, by their path in it."""
    given: dict[tuple[str, str], Any] = {("study", "name"): options.name or folder.resolve().name}
    given |= {("search", "source"): options.source} if options.source else {}
    given |= {("search", "collections"): list(options.collections)} if options.collections else {}
    given |= {("search", "dates"): list(options.dates)} if options.dates else {}
    given |= {("search", "cloud"): options.cloud} if options.cloud is not None else {}
    text = with_values(like.brief_file.read_text(encoding="utf-8-sig"), given)
    own = [like.root / sources.FILE_NAME, *(path for kind in FACTS for path in sorted((like.root / kind).glob("*")))]
    found = {path.relative_to(like.root).as_posix(): path.read_bytes() for path in own if path.is_file()}
    if options.area is not None:
        found["area.geojson"] = area_bytes(options.area)
    elif like.area_file.is_file():
        found["area.geojson"] = like.area_file.read_bytes()
    return found | {BRIEF_NAME: text.encode()}


def _remember(study: Study, written: Mapping[str, bytes]) -> None:
    told = {name: _digest(content) for name, content in sorted(written.items())}
    files.write_json(study.root / _MARK, told)


def _digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def _write(path: Path, content: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with files.writing(path) as stream:
        stream.write(content)
