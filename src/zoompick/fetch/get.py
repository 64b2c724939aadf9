"""Download the bands of scenes, whole or the area's part of them, into a study or a plain folder."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from zoompick import settings
from zoompick.errors import IncompleteError, SourceError, ZoomPickError
from zoompick.events import Noted, Report, ignore
from zoompick.fetch.download import Limits, Outcome, check_room, download
from zoompick.fetch.whole import Tools, fetch_whole
from zoompick.fetch.windows import Opened, Survey, fetch_window, survey
from zoompick.files import human_bytes
from zoompick.net import contents as kinds
from zoompick.net.client import Client, workers
from zoompick.raster import directory
from zoompick.raster.geotiff import GeoTiff
from zoompick.scenes import fetched as record
from zoompick.scenes import limits
from zoompick.scenes.fetchplan import DownloadPlan, Fetch
from zoompick.scenes.opening import open_raster
from zoompick.scenes.renewal import renewing
from zoompick.scenes.scene import Key, Scene


@dataclass(frozen=True)
class Ready:
    """A plan of which all is known that the sources tell before the first byte.

    Attributes
    ----------
    limits : Limits
        Files at a time.
    client : Client
        The session that asked, and goes on.
    order_limits : tuple of str
        What sources limit of what has to be ordered, in sentences.
    """

    survey: Survey
    limits: Limits
    client: Client
    order_limits: tuple[str, ...] = ()

    @property
    def plan(self) -> DownloadPlan:
        """What is fetched."""
        return self.survey.plan

    @property
    def saved_bytes(self) -> int:
        """Bytes that windows leave at the source."""
        return self.survey.saved_bytes


def prepare(decided: DownloadPlan, scenes: Sequence[Scene], client: Client, report: Report = ignore) -> Ready:
    """Ask the sources what the items do not tell: sizes, blocks under the area, files at a time.

    Raises
    ------
    DiskError
        The files would not fit.
    """
    surveyed = survey(decided, client, report, renewing(scenes, client))
    for path, why in surveyed.whole.items():
        if why:
            report(Noted(why if path.name in why else f"{path.name}: {why}"))
    unknown = [entry for entry in surveyed.plan.fetch if entry.size is None]
    sizes: dict[Path, int] = {}
    with workers("sizes") as pool:
        for entry, size in zip(unknown, pool.map(lambda entry: _size(entry, client), unknown), strict=True):
            if size is not None:
                sizes[entry.path] = size
    ready = Survey(surveyed.plan.with_sizes(sizes), surveyed.opened, surveyed.whole)
    check_room(ready.plan)
    told = limits.ask(scenes, client)
    at_once = Limits(settings.whole("parallel_downloads"), told.parallel_downloads)
    return Ready(ready, at_once, client, told.orders)


def _size(entry: Fetch, client: Client) -> int | None:
    try:
        return client.on_behalf(entry.key[0]).size(entry.url)
    except SourceError:
        # The download itself meets it again, and tells.
        return None


def fetch(ready: Ready, scenes: Sequence[Scene], folders: Mapping[Key, Path], report: Report = ignore) -> Outcome:
    """Carry out a download plan; the item of each scene is kept beside its files."""
    fetched = {entry.key for entry in (*ready.plan.fetch, *ready.plan.here)}
    for scene in scenes:
        if scene.key in fetched:
            record.write_item(folders[scene.key], scene.item, scene.source)
    tools = Tools(renewing(scenes, ready.client), opens, is_whole)

    def one(entry: Fetch, client: Client, told: Report) -> int:
        opened: Opened | None = ready.survey.opened.get(entry.path)
        if opened is not None:
            return fetch_window(entry, opened, told)
        return fetch_whole(entry, client.on_behalf(entry.key[0]), tools, told)

    return download(ready.plan, ready.client, one, ready.limits, report)


def opens(path: Path, name: str) -> None:
    """Decode the header of a file that has just come; only TIFF files have one that is known here."""
    if name.lower().endswith((".tif", ".tiff")):
        directory.refuse_unreadable(path)


def is_whole(path: Path, name: str) -> bool:
    """Whether the file that has just come proves by itself that it is all: of a raster every block decodes."""
    try:
        raster = open_raster(path)
        if isinstance(raster, GeoTiff):
            raster.decode_all()
            return True
    except ZoomPickError:
        return False
    return kinds.ends_well(path)


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
    if decided.on_order:
        scene, access = decided.on_order[0]
        more = f", and {len(decided.on_order) - 1} more" if len(decided.on_order) > 1 else ""
        why = "sold" if access == "priced" else "given on request"
        return IncompleteError(
            f"{scene} is {why}{more}: it has to be ordered; all else is here.", "Begin with 'zoompick order ask'."
        )
    if decided.lacking:
        scene, band = decided.lacking[0]
        return IncompleteError(
            f"{scene} was published without the band {band}; all else is here.",
            "Pick another scene, or ask for other bands.",
        )
    return None


def failures(outcome: Outcome) -> list[tuple[str, str, str, str]]:
    """Source, collection and id of the scene, and the reason, of each file that did not come, for the journal."""
    return [(*entry.key, f"{entry.band}: {error.what}") for entry, error in outcome.failed]


def saved_words(ready: Ready) -> str:
    """What the windows were cut out of, as a sentence; empty when there were none. What came is told by the count."""
    if not ready.survey.opened:
        return ""
    whole = sum(one.source.size for one in ready.survey.opened.values())
    return f"Only the area's windows were fetched, out of files of {human_bytes(whole)}."
