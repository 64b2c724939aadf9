"""Lock a study, and tell whether a later run came to the same scenes, files and products."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

from zoompick.errors import NothingFoundError, StudyError
from zoompick.journal import act
from zoompick.scenes import fetched as record
from zoompick.scenes.sidecar import read_sidecar
from zoompick.study import needs
from zoompick.study.brief import Brief
from zoompick.study.folder import Study, at_home
from zoompick.study.lock import Lock, LockedFile, area_geometry, brief_table, write_lock
from zoompick.study.outdated import CURRENT, states_of
from zoompick.study.plan import plan_study
from zoompick.study.shortlist import shortlist
from zoompick.versions import versions
from zoompick.vouched import Vouched


class Differing(NamedTuple):
    """A file that is not as it was locked: its path in the study, and how it differs, in words."""

    name: str
    words: str


@at_home
def lock_study(study: Study) -> tuple[Path, Lock]:
    """Write down scenes, files and products of a study that is up to date, with their digests.

    Raises
    ------
    NothingFoundError
        No scene is picked.
    StudyError
        A product is not made, or not of what the brief asks for now.
    """
    brief, area, entries = study.brief(), study.area(), shortlist(study)
    if not entries:
        raise NothingFoundError("There is nothing to lock: no scene is picked.", "'zoompick run' first.")
    with study.locked(), act(study.journal_file, "lock", scenes=len(entries)) as doing:
        steps = plan_study(study, brief, area, [entry.scene for entry in entries]).steps
        with Vouched(study.vouched_file) as vouched:
            states = states_of(study, steps, vouched)
            old = [name for name, state in states.items() if state != CURRENT]
            if old:
                raise StudyError(
                    f"{len(old)} of {len(states)} products are not up to date, {old[0]} among them.",
                    "'zoompick run' makes them; then lock.",
                )
            products = {name: _state_of(study.root / name, vouched) for name in states}
        files = _fetched(study, brief)
        lock = Lock(versions(), brief_table(study), area_geometry(study), tuple(entries), files, products)
        doing.note(files=len(lock.files), products=len(products))
        return write_lock(study, lock), lock


def changed_files(study: Study, brief: Brief, lock: Lock) -> list[Differing]:
    """Files of scenes that are not as they were locked: what the source has changed."""
    return _compared(lock.files, _fetched(study, brief))


def changed_products(study: Study, lock: Lock, keeps: bool = True) -> list[Differing]:
    """Products that are not as they were locked.

    Parameters
    ----------
    keeps : bool
        Digests are remembered for the next look.
    """
    with Vouched(study.vouched_file, keeps=keeps) as vouched:
        now = {name: _state_of(path, vouched) for name in lock.products if (path := study.root / name).is_file()}
    return _compared(lock.products, now)


def _compared(locked: Mapping[str, LockedFile], now: Mapping[str, LockedFile]) -> list[Differing]:
    found = []
    for name, was in locked.items():
        there = now.get(name)
        if there is None:
            found.append(Differing(name, "is not here"))
        elif there.multihash != was.multihash:
            size = (
                f"{there.size} bytes, locked {was.size}" if there.size != was.size else f"{was.size} bytes as locked"
            )
            words = f"has other content ({size}; digest {there.multihash[:16]}…, locked {was.multihash[:16]}…)"
            found.append(Differing(name, words))
    return found


def _fetched(study: Study, brief: Brief) -> dict[str, LockedFile]:
    """Files of the picked scenes that the brief needs and that are here, as their records tell."""
    found = {}
    for entry in needs.wanted_files(study, brief, [one.scene for one in shortlist(study)]).here:
        row = record.read(entry.path.parent)[entry.path.name]
        found[entry.path.relative_to(study.root).as_posix()] = LockedFile(row.size, row.multihash, row.url)
    return dict(sorted(found.items()))


def _state_of(path: Path, vouched: Vouched) -> LockedFile:
    recorded = read_sidecar(path)
    return LockedFile(path.stat().st_size, vouched.digest(path), codec=recorded.codec if recorded else "")
