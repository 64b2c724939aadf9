"""How far a study is: each scene of its shortlist, bytes on disk, and what could be freed."""

from __future__ import annotations

import shutil
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from zoompick.errors import DataError
from zoompick.files import files_below, read_json, tree_bytes
from zoompick.journal import acts
from zoompick.jsontypes import JsonObject
from zoompick.orders.queue import PLANNED, READY, Queue
from zoompick.scenes.fetchplan import ITEM, RECORD, DownloadPlan
from zoompick.scenes.scene import Key, Scene
from zoompick.scenes.scenelist import Entry
from zoompick.study import needs
from zoompick.study.folder import JUDGED, Study, at_home
from zoompick.study.outdated import product_states
from zoompick.study.shortlist import shortlist

if TYPE_CHECKING:
    from zoompick.orders.queue import Order

_UNFINISHED = (".*.partial", ".*.partial.json", ".*.part")


@dataclass(frozen=True)
class SceneState:
    """One scene of the shortlist.

    Attributes
    ----------
    state : str
        ``picked``, ``ordered``, ``partly here``, ``here``, ``verified`` or ``failed``.
    note : str
        Why it failed, or how its order is.
    here, wanted : int
        Files.
    """

    entry: Entry
    state: str
    note: str
    here: int
    wanted: int
    disk_bytes: int

    def to_json(self) -> JsonObject:
        """As the command prints it."""
        return {
            "scene": self.entry.scene.id, "date": self.entry.scene.day, "state": self.state, "note": self.note,
            "here": self.here, "wanted": self.wanted, "bytes": self.disk_bytes,
        }  # fmt: skip


@dataclass(frozen=True)
class StudyState:
    """The whole study.

    Attributes
    ----------
    sizes : mapping
        Bytes on disk by what they are: scenes, products, tiles.
    can_free : mapping of Path to int
        Bytes of scenes that are no longer picked, and of unfinished files.
    products : mapping
        Product to its state: up to date, out of date, not made.
    """

    scenes: tuple[SceneState, ...]
    sizes: Mapping[str, int]
    can_free: Mapping[Path, int]
    products: Mapping[str, str]


@at_home
def state_of(study: Study, with_products: bool = True) -> StudyState:
    """Look at the study's records and folders; nothing is asked of a source."""
    entries = shortlist(study)
    orders = _orders(study)
    failures, verified = _failures(study), _verified(study)
    judged = [path for path in (study.checks_file, study.local(JUDGED)) if verified and path.exists()]
    judged_at = max((path.stat().st_mtime for path in judged), default=0.0)
    plans = _plans(study, [entry.scene for entry in entries])
    known = _Known(orders, failures, verified, judged_at)
    states = tuple(_scene(study, *pair, known) for pair in zip(entries, plans, strict=True))
    folders = {study.scene_folder(entry.scene.key) for entry in entries}
    places = {name: study.root / name for name in ("scenes", "products", "tiles")}
    sizes = {name: tree_bytes(path) for name, path in places.items() if path.exists()}
    products = product_states(study, study.brief()) if entries and with_products else {}
    return StudyState(states, sizes, _to_free(study, folders), products)


class _Known(NamedTuple):
    """What the records tell of all scenes."""

    orders: Mapping[Key, Order]
    failures: Mapping[Key, str]
    verified: Mapping[str, bool]
    verified_at: float


def _scene(study: Study, entry: Entry, plan: DownloadPlan, known: _Known) -> SceneState:
    scene = entry.scene
    folder = study.scene_folder(scene.key)
    here, wanted = len(plan.here), len(plan.here) + len(plan.fetch) + len(plan.on_order)
    state, note = "picked", ""
    order = known.orders.get(scene.key)
    if wanted and here == wanted:
        label = scene.label
        is_judged = all(entry.path.stat().st_mtime <= known.verified_at for entry in plan.here)
        state = "verified" if is_judged and known.verified.get(label) else "here"
    elif order is not None and order.state == PLANNED:
        note = f"order {order.number} is planned and not handed in"
    elif order is not None and order.state == READY:
        state, note = "ordered", f"order {order.number} is ready: 'zoompick order wait' fetches it"
    elif order is not None and not order.has_failed and order.state != "fetched":
        state, note = "ordered", f"order {order.number} is {order.state}"
    elif order is not None and order.state in ("failed", "lost"):
        state, note = "failed", f"order {order.number}: {order.message or order.state}"
    elif scene.key in known.failures:
        state, note = "failed", known.failures[scene.key]
    elif here or plan.under_way_bytes:
        state = "partly here"
    return SceneState(entry, state, note, here, wanted, tree_bytes(folder))


def _orders(study: Study) -> Mapping[Key, Order]:
    """The order that tells most of each scene."""
    if not study.orders_file.exists():
        return {}

    return Queue(study.orders_file).by_scene()


def _plans(study: Study, scenes: Sequence[Scene]) -> list[DownloadPlan]:
    """What the brief wants of each scene."""
    if not scenes:
        return []
    brief, area = study.brief(), needs.area_of(study)
    region = needs.region_in(study, brief) if area is not None else None
    plans = []
    for scene in scenes:
        bands = [name for name in needs.with_classes(brief.bands, [scene]) if name in scene.bands]
        plans.append(needs.plan_for([scene], bands, needs.folders_in(study, [scene]), region, area))
    return plans


def _failures(study: Study) -> dict[Key, str]:
    """Scenes of which the last download could not fetch something, and why."""
    last: dict[Key, str] = {}
    for line in acts(study.journal_file):
        if line.get("act") == "download":
            told = line.get("failures")
            rows = [row for row in told if isinstance(row, list) and len(row) == 4] if isinstance(told, list) else []
            last = {(str(row[0]), str(row[1]), str(row[2])): str(row[3]) for row in rows}
    return last


def _verified(study: Study) -> dict[str, bool]:
    """Subjects of the last verification, and whether all their findings were good."""
    if not study.checks_file.exists():
        return {}
    try:
        findings = read_json(study.checks_file)["findings"]
        subjects = {str(finding["subject"]) for finding in findings}
        bad = {str(finding["subject"]) for finding in findings if finding["outcome"] == "fail"}
    except (DataError, KeyError, TypeError):
        return {}
    return {subject: subject not in bad for subject in subjects}


def _to_free(study: Study, kept: set[Path]) -> dict[Path, int]:
    root = study.root / "scenes"
    scenes = {path.parent for path in files_below(root) if path.name in (ITEM, RECORD)}
    found = {path: tree_bytes(path) for path in sorted(scenes - kept)}
    for path in files_below(study.root):
        unfinished = any(path.match(pattern) for pattern in _UNFINISHED)
        if unfinished and not any(folder in path.parents for folder in found):
            found[path] = tree_bytes(path)
    return found


def free(state: StudyState) -> int:
    """Remove what can be freed; returns the bytes."""
    for path in state.can_free:
        if path.is_dir():
            shutil.rmtree(path)
        else:
            path.unlink(missing_ok=True)
    return sum(state.can_free.values())
