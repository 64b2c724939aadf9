"""What a source has changed since its scenes were locked: asked where a locked run cannot have what it needs."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zoompick.addresses import without_query
from zoompick.discovery import find
from zoompick.discovery.criteria import Criteria
from zoompick.errors import ChecksumError, NothingFoundError, SourceError, ZoomPickError
from zoompick.events import Report
from zoompick.net.refusals import AnsweredError
from zoompick.scenes import sources
from zoompick.scenes.fetchplan import OfferedFile, file_of
from zoompick.scenes.period import Period
from zoompick.scenes.scene import Scene
from zoompick.study import needs
from zoompick.study.brief import Brief
from zoompick.study.folder import Study
from zoompick.study.lock import Lock
from zoompick.study.locking import changed_files
from zoompick.study.session import session_of

_GONE = (404, 410)
_MOST = 4
"""So many scenes are asked for: of more the first tell what happened."""


def refuse_other_files(study: Study, brief: Brief, lock: Lock, scenes: Sequence[Scene], report: Report) -> None:
    """Refuse to work with files that came with other content than those that were locked.

    Raises
    ------
    ChecksumError
        Names files, and what the source says now.
    """
    changed = changed_files(study, brief, lock)
    if not changed:
        return
    first = "; ".join(f"{Path(one.name).name} {one.words}" for one in changed[:3])
    folders = {(study.root / one.name).parent for one in changed}
    theirs = [scene for scene in scenes if study.scene_folder(scene.key) in folders]
    told = _changes(study, theirs, brief.bands, report)
    raise ChecksumError(
        " ".join([f"{len(changed)} of {len(lock.files)} files are not as they were locked: {first}.", *told]),
        "What was locked is not here. A plain 'zoompick run' works with what the source has now; 'zoompick lock' "
        "then locks that.",
    )


def not_as_locked(study: Study, brief: Brief, scenes: Sequence[Scene], report: Report) -> ChecksumError | None:
    """What to tell where files of a lock did not come; None where the source tells of no change."""
    left = {entry.key for entry in needs.wanted_files(study, brief, scenes).fetch}
    told = _changes(study, [scene for scene in scenes if scene.key in left], brief.bands, report)
    if not told:
        return None
    return ChecksumError(
        f"{len(left)} of {len(scenes)} scenes cannot be had as they were locked. {' '.join(told)}",
        "Files that came stay. A plain 'zoompick run' works with what the source has now; 'zoompick lock' then locks "
        "that.",
    )


def newer_versions(study: Study, scenes: Sequence[Scene], report: Report) -> list[str]:
    """A sentence for each scene, of the first few, of which the source lists a newer version."""
    known, found = sources.known(study.root), list[str]()
    for scene in scenes[:_MOST]:
        try:
            listed = _listed(study, scene, report) if scene.source in known else []
        except ZoomPickError:
            continue
        newest = max((one for one in listed if one.acquisition == scene.acquisition), key=_version, default=scene)
        if newest.version > scene.version and newest.id == scene.id:
            found.append(f"{scene.id} has version {newest.version} at its source; {scene.version} was locked.")
        elif newest.version > scene.version:
            found.append(f"{newest.id} is a newer version of {scene.id}, which was locked and is taken.")
    return found


def _version(scene: Scene) -> str:
    return scene.version


def _changes(study: Study, scenes: Sequence[Scene], bands: Sequence[str], report: Report) -> list[str]:
    """A sentence for each scene that is no longer as it was locked; empty where the source tells of no change.

    Parameters
    ----------
    scenes : sequence of Scene
        As they were locked.
    bands : sequence of str
        Bands whose files are looked at.
    """
    known, found = sources.known(study.root), list[str]()
    for scene in scenes[:_MOST]:
        try:
            listed = _listed(study, scene, report) if scene.source in known else None
        except ZoomPickError:
            listed = None
        if listed is None:
            # A source that does not answer has not changed anything, as far as anybody knows.
            continue
        told = _compared(study, scene, listed, bands, report)
        found += [f"{scene.id}: {told}."] if told else []
    return found


def _listed(study: Study, scene: Scene, report: Report) -> list[Scene]:
    """Scenes of its collection, place and day that the source lists now."""
    wanted = Criteria(scene.footprint, (scene.collection,) if scene.collection else (), (Period.parse(scene.day),),
                      versions="all", unknown_cloud="keep")  # fmt: skip
    try:
        found = find.search(sources.known(study.root)[scene.source], wanted, report)
    except NothingFoundError:
        return []
    return [entry.scene for entry in found]


def _compared(study: Study, scene: Scene, listed: Sequence[Scene], bands: Sequence[str], report: Report) -> str:
    now = next((one for one in listed if one.key == scene.key), None)
    others = [one for one in listed if one.acquisition == scene.acquisition and one.key != scene.key]
    twins = [one for one in others if one.version > scene.version] if now else others
    beside = f"{twins[0].id} is a newer version of it" if twins and twins[0].version > scene.version else ""
    if now is None:
        instead = beside or (f"{twins[0].id} is of the same moment" if twins else "")
        return "; ".join(filter(None, ("the source lists it no longer", instead)))
    told = (
        []
        if now.version == scene.version
        else [f"its version is {now.version or 'not told'}, locked {scene.version or 'not told'}"]
    )
    for band in bands:
        was, new = file_of(scene, band), file_of(now, band)
        if was is not None:
            told += filter(None, [_of_file(study, scene, band, was, new, report)])
    return "; ".join([*told[:3], *filter(None, [beside])]) if told else ""


def _of_file(study: Study, scene: Scene, band: str, was: OfferedFile, new: OfferedFile | None, report: Report) -> str:
    if new is None:
        return f"its item offers {band} no longer"
    if without_query(new.href) != without_query(was.href):
        return f"its item names another file for {band}"
    if was.sha256 and new.sha256 and was.sha256 != new.sha256:
        return f"its item tells another digest for {band} ({new.sha256[:12]}…, locked {was.sha256[:12]}…)"
    if was.size and new.size and was.size != new.size:
        return f"its item tells another size for {band} ({new.size} bytes, locked {was.size})"
    try:
        there = session_of(study, report).on_behalf(scene.source).state(new.href)
    except AnsweredError as error:
        return f"{band} is there no longer: {error.what}".rstrip(".") if error.status in _GONE else ""
    except SourceError:
        return ""
    if was.size and there.size is not None and there.size != was.size:
        return f"another file lies at the address of {band} ({there.size} bytes, locked {was.size})"
    return ""
