"""Download the bands of scenes, into a study or a plain folder."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from zoompick import settings
from zoompick.catalog.scene import CLASS_BAND, Scene
from zoompick.errors import IncompleteError, NothingFoundError, UnknownNameError
from zoompick.events import Report, ignore
from zoompick.files import safe_name
from zoompick.net.client import Client
from zoompick.sensors.guide import known_bands
from zoompick.study.folder import Study
from zoompick.transfer import record
from zoompick.transfer.download import Outcome, download, is_here
from zoompick.transfer.plan import DownloadPlan, plan


def folders_in(study: Study, scenes: Sequence[Scene]) -> dict[str, Path]:
    """Where the files of a study's scenes lie."""
    return {scene.id: study.scene_folder(scene.source, scene.id) for scene in scenes}


def folders_under(root: Path, scenes: Sequence[Scene]) -> dict[str, Path]:
    """Where files of scenes go outside a study."""
    return {scene.id: root / safe_name(scene.id) for scene in scenes}


def plan_for(scenes: Sequence[Scene], bands: Sequence[str], folders: Mapping[str, Path]) -> DownloadPlan:
    """Decide what to fetch; all bands when none is named.

    Raises
    ------
    NothingFoundError
        No scene.
    UnknownNameError
        A band that no instrument here has. One that a scene lacks is told in the plan.
    """
    if not scenes:
        raise NothingFoundError("No scene is picked.", "Search, then pick by number: 'zoompick pick 1'.")
    offered = list(dict.fromkeys(name for scene in scenes for name in scene.bands))
    for name in bands:
        if name not in known_bands(offered):
            raise UnknownNameError.of("band", name, offered, f"The scenes have {', '.join(offered)}.")
    return plan(scenes, list(bands) or offered, folders, is_here)


def with_classes(bands: Sequence[str], scenes: Sequence[Scene]) -> list[str]:
    """The bands, and the class layer that checks need, where the scenes have one."""
    has_classes = any(CLASS_BAND in scene.bands for scene in scenes)
    return [*bands, CLASS_BAND] if has_classes and bands and CLASS_BAND not in bands else list(bands)


def fetch(
    decided: DownloadPlan, scenes: Sequence[Scene], folders: Mapping[str, Path], report: Report = ignore
) -> Outcome:
    """Carry out a download plan; the item of each scene is kept beside its files."""
    for scene in scenes:
        record.write_item(folders[scene.id], scene.item)
    return download(decided, lambda stop: Client(report, stop), settings.whole("parallel_downloads"), report)


def incomplete(decided: DownloadPlan, outcome: Outcome) -> IncompleteError | None:
    """The error for what did not come, or None when all is here."""
    if outcome.failed:
        entry, error = outcome.failed[0]
        more = f" {len(outcome.failed) - 1} more failed." if len(outcome.failed) > 1 else ""
        good = len(outcome.done) + len(decided.here)
        return IncompleteError(
            f"{good} of {good + len(outcome.failed)} files are here; {entry.scene}, {entry.band}: {error.what}{more}",
            f"{error.todo} The same command again fetches only what is missing.",
        )
    if decided.lacking:
        scene, band = decided.lacking[0]
        return IncompleteError(
            f"{scene} was published without the band {band}; all else is here.",
            "Pick another scene, or ask for other bands.",
        )
    return None
