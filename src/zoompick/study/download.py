"""The download as a verb: what was asked for, in a study or a plain folder, one pass or passes until all is here."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from zoompick.area.model import Area
from zoompick.errors import IncompleteError, SourceError, UsageError
from zoompick.events import Noted, Report, ignore
from zoompick.files import exclusive, human_time
from zoompick.geo.region import Region
from zoompick.journal import act
from zoompick.net.pace import Pace
from zoompick.scenes.fetchplan import DownloadPlan, file_of, local_names
from zoompick.scenes.scene import Key, Scene
from zoompick.study import needs
from zoompick.study.folder import Study
from zoompick.study.session import session_of
from zoompick.study.terms import keep_terms

if TYPE_CHECKING:
    from zoompick.fetch import get
    from zoompick.fetch.outlook import Outlook


@dataclass(frozen=True)
class DownloadRequest:
    """What is to be here.

    Attributes
    ----------
    study : Study or None
        None: files go below ``root``, a folder a scene.
    bands : tuple of str
        Common names, or keys of assets; all when empty.
    region : Region or None
        The part of each raster that is fetched; None for whole files.
    area : Region or None
        For which scenes are ordered that are not open.
    """

    study: Study | None
    scenes: tuple[Scene, ...]
    bands: tuple[str, ...]
    region: Region | None
    area: Region | None
    root: Path

    @classmethod
    def in_study(
        cls,
        study: Study,
        scenes: Sequence[Scene],
        bands: Sequence[str] = (),
        window: bool | None = None,
        area: Area | None = None,
    ) -> DownloadRequest:
        """Scenes of a study; what is not told here its brief says.

        Parameters
        ----------
        window : bool, optional
            Only the area's part of each raster, or whole files.
        area : Area, optional
            In place of the study's.

        Raises
        ------
        StudyError
            A part is wanted and the study has no area.
        """
        brief = study.brief()
        if window and area is None:
            study.area()
        named = tuple(bands) or tuple(needs.with_classes(brief.bands, scenes))
        if area is not None:
            own = Region.of(area.polygon)
            return cls(study, tuple(scenes), named, own if window else None, own, study.root)
        own_area = needs.area_of(study)
        region = needs.region_in(study, brief, window) if own_area is not None else None
        return cls(study, tuple(scenes), named, region, own_area, study.root)

    @classmethod
    def in_folder(
        cls,
        root: Path,
        scenes: Sequence[Scene],
        bands: Sequence[str] = (),
        window: bool = False,
        area: Area | None = None,
    ) -> DownloadRequest:
        """Scenes without a study.

        Raises
        ------
        UsageError
            A part is wanted and no area is told.
        """
        if window and area is None:
            raise UsageError("A window needs an area, and none is told.", "Give one: `area` AREA, or `box` W S E N.")
        own = Region.of(area.polygon) if area is not None else None
        return cls(None, tuple(scenes), tuple(bands), own if window else None, own, root)

    @property
    def folders(self) -> dict[Key, Path]:
        """Where the files of each scene go."""
        if self.study is not None:
            return needs.folders_in(self.study, self.scenes)
        return needs.folders_under(self.root, self.scenes)

    @property
    def journal(self) -> Path | None:
        """Where acts are written down."""
        return self.study.journal_file if self.study else None

    def plan(self) -> DownloadPlan:
        """What is still to be fetched."""
        return needs.plan_for(self.scenes, self.bands, self.folders, self.region, self.area)

    def files(self) -> tuple[Path, ...]:
        """All files that are wanted and here, in the order of scenes and bands."""
        plan = self.plan()
        here = {entry.path for entry in plan.here}
        folders = self.folders
        named = [
            folders[scene.key] / names[file.href]
            for scene in self.scenes
            for names in [local_names(scene)]
            for band in (self.bands or tuple(scene.bands))
            if (file := file_of(scene, band)) is not None
        ]
        return tuple(path for path in dict.fromkeys(named) if path in here)

    def outlook(self, ready: get.Ready) -> Outlook:
        """What it will take."""
        from zoompick.fetch.outlook import outlook

        return outlook(ready, self.scenes, self.area.shape if self.area else None, self.journal)

    @contextmanager
    def alone(self) -> Iterator[None]:
        """No other run works in the same folder meanwhile."""
        if self.study:
            with self.study.locked():
                yield
            return
        self.root.mkdir(parents=True, exist_ok=True)
        with exclusive(self.root):
            yield


@dataclass(frozen=True)
class Downloaded:
    """What came.

    Attributes
    ----------
    ready : Ready or None
        What was fetched and of what size; None when nothing was.
    """

    plan: DownloadPlan
    received_bytes: int = 0
    ready: get.Ready | None = None


def look_ahead(request: DownloadRequest, report: Report = ignore, pace: Pace | None = None) -> get.Ready:
    """All that the sources tell before the first byte; nothing is fetched."""
    from zoompick.fetch import get

    return get.prepare(request.plan(), request.scenes, session_of(request.study, report, pace), report)


def download(request: DownloadRequest, report: Report = ignore, pace: Pace | None = None) -> Downloaded:
    """Fetch what is missing. The caller keeps others away (:meth:`DownloadRequest.alone`).

    Raises
    ------
    IncompleteError
        Something did not come; what came stays.
    """
    from zoompick.fetch import get

    decided = request.plan()
    if request.study is not None:
        keep_terms(request.study, request.scenes, report)
    if not decided.fetch:
        if problem := get.incomplete(decided, get.Outcome((), (), 0)):
            raise problem
        return Downloaded(decided)
    source = ",".join(sorted({scene.source for scene in request.scenes}))
    with act(request.journal, "download", source=source, files=len(decided.fetch)) as doing:
        ready = get.prepare(decided, request.scenes, session_of(request.study, report, pace), report)
        report(Noted(request.outlook(ready).words()))
        outcome = get.fetch(ready, request.scenes, request.folders, report)
        doing.note(bytes=outcome.received_bytes, saved=ready.saved_bytes, failures=get.failures(outcome))
        for entry, error in outcome.failed:
            report(Noted(f"failed: {entry.scene}, {entry.band}: {error.what}"))
        if problem := get.incomplete(ready.plan, outcome):
            raise problem
    return Downloaded(ready.plan, outcome.received_bytes, ready)


def download_until_here(
    request: DownloadRequest, every_s: float, report: Report = ignore, pace: Pace | None = None
) -> Downloaded:
    """Passes on a schedule until nothing is missing that may still come.

    Parameters
    ----------
    every_s : float
        Between the end of a pass and the next.
    """
    while True:
        try:
            return download(request, report, pace)
        except (IncompleteError, SourceError) as error:
            left = request.plan()
            if not (left.fetch or left.on_order):
                # What a scene was published without never comes.
                raise
            report(Noted(f"{error.what} Trying again in {human_time(every_s)}; Ctrl-C ends it."))
            time.sleep(every_s)
