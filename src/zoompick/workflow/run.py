"""Carry out the brief of a study from search to verification; what is up to date is not done again."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, NamedTuple

from zoompick.area.model import Area
from zoompick.catalog import sources
from zoompick.catalog.criteria import Criteria
from zoompick.catalog.scene import Scene
from zoompick.errors import UsageError
from zoompick.events import Noted, Report, ignore
from zoompick.geo.shapes import geojson_of
from zoompick.study.brief import Brief
from zoompick.study.folder import Study
from zoompick.study.journal import act
from zoompick.study.scenelist import Entry
from zoompick.study.shortlist import BY_HAND, chosen_by, keep, shortlist
from zoompick.study.vouched import Vouched
from zoompick.transfer.plan import DownloadPlan
from zoompick.verification.finding import Finding
from zoompick.workflow import needs
from zoompick.workflow.judged import judge_again
from zoompick.workflow.lineage import Node, trees
from zoompick.workflow.making import make_steps
from zoompick.workflow.outdated import MISSING, WAITS, note_made, states_of
from zoompick.workflow.plan import plan_study
from zoompick.workflow.step import Made
from zoompick.workflow.terms import keep_terms

if TYPE_CHECKING:
    from zoompick.raster.grid import Grid
    from zoompick.workflow.outlook import Outlook


class StudyRun(NamedTuple):
    """What a run came to.

    Attributes
    ----------
    searched : bool
        False when the shortlist was up to date.
    fetched_files, fetched_bytes : int
    made : tuple of Made
    findings : tuple of Finding
    judged : bool
        False when nothing changed since they were found.
    """

    entries: tuple[Entry, ...]
    searched: bool
    fetched_files: int
    fetched_bytes: int
    made: tuple[Made, ...]
    findings: tuple[Finding, ...]
    judged: bool = True


def criteria_of(brief: Brief, area: Area) -> Criteria:
    """The brief's search."""
    return replace(brief.search, area=area.polygon)


def _cloud_words(criteria: Criteria) -> str:
    return "" if criteria.cloud_max is None else f" with at most {criteria.cloud_max:g} % cloud"


def _search_key(brief: Brief, area: Area) -> str:
    """Changes when anything does that decides which scenes are chosen."""
    facts = [
        brief.source, str(brief.search), brief.cover, brief.bands, str(needs.study_crs(brief, area)),
        geojson_of(area.polygon),
    ]  # fmt: skip
    return hashlib.sha256(json.dumps(facts, sort_keys=True).encode()).hexdigest()[:32]


def select_scenes(study: Study, brief: Brief, area: Area, report: Report = ignore) -> tuple[list[Entry], bool]:
    """The shortlist: as picked by hand, as chosen before for the same brief, or newly searched and chosen."""
    by, key = chosen_by(study), _search_key(brief, area)
    if by in (BY_HAND, key):
        return shortlist(study), False
    with act(study.journal_file, "search", source=brief.source) as doing:
        count, chosen = _searched(study, brief, area, report, keeps_terms=True)
        keep(study, chosen, key)
        doing.note(found=count, picked=[entry.scene.id for entry in chosen])
    return chosen, True


def _searched(
    study: Study, brief: Brief, area: Area, report: Report, keeps_terms: bool = False
) -> tuple[int, list[Entry]]:
    """How many scenes a search finds now, and those that the brief chooses of them."""
    from zoompick.workflow import find

    # What the brief asks for that cannot be made is told before anybody is asked for scenes.
    plan_study(study, brief, area, [])
    source = sources.named(brief.source, sources.known(study.root))
    criteria = criteria_of(brief, area)
    found = find.search(source, criteria, report)
    report(Noted(f"{source.name} has {len(found)} scenes{_cloud_words(criteria)} in the dates asked for"))
    wish = find.Choosing(needs.study_crs(brief, area), brief.bands, brief.cover, brief.cloud_area_max, brief.pixel_m)
    chosen = find.choose_for(found, criteria, wish, report)
    if keeps_terms:
        keep_terms(study, source, [entry.scene for entry in chosen], report)
    return len(found), chosen


def run(study: Study, report: Report = ignore, version: str = "") -> StudyRun:
    """Carry out the brief; no other run works in the study meanwhile.

    Raises
    ------
    ZoomPickError
        The first step that cannot be done; what was done before it stays.
    """
    with study.locked():
        brief, area = study.brief(), study.area()
        entries, searched = select_scenes(study, brief, area, report)
        scenes = [entry.scene for entry in entries]
        plan = plan_study(study, brief, area, scenes)
        refuse_unmakeable(brief, scenes)
        files, size = _fetched(study, brief, scenes, report)
        made = make_steps(study, plan.steps, report, version)
        note_made(study, brief, plan.steps)
        findings, judged = judge_again(study, brief, area, plan, report)
    return StudyRun(tuple(entries), searched, files, size, tuple(made), tuple(findings), judged)


def refuse_unmakeable(brief: Brief, scenes: Sequence[Scene]) -> None:
    """Before the first byte: bands that a scene lacks.

    Raises
    ------
    UsageError
    """
    for scene in scenes:
        for name in brief.bands:
            if name not in scene.bands:
                raise UsageError(
                    f"{scene.id} has no band {name}: it has {', '.join(scene.bands) or 'none that is known here'}.",
                    "Change [stack] bands in study.toml, or pick other scenes.",
                )


class Preview(NamedTuple):
    """What a run would do.

    Attributes
    ----------
    entries : tuple of Entry
        Scenes that are picked, or would be.
    searched : bool
        They would be: the run would search first.
    download : DownloadPlan
    outlook : Outlook or None
        What the download takes: bytes, time, room, money; None where nothing is fetched or bought.
    products : mapping
        Product to its state.
    trees : list of Node
        What is made of what.
    """

    grid: Grid
    entries: tuple[Entry, ...]
    searched: bool
    download: DownloadPlan
    outlook: Outlook | None
    products: dict[str, str]
    trees: list[Node]


def preview(study: Study, report: Report = ignore) -> Preview:
    """What :func:`run` would do, with every error that it would meet before the first byte; nothing is changed.

    Raises
    ------
    ZoomPickError
    """
    brief, area = study.brief(), study.area()
    entries, searched = _selected(study, brief, area, report)
    scenes = [entry.scene for entry in entries]
    plan = plan_study(study, brief, area, scenes)
    refuse_unmakeable(brief, scenes)
    decided, ahead = _download_plan(study, brief, scenes), None
    if decided.fetch or decided.on_order:
        from zoompick.workflow import download

        request = download.DownloadRequest.in_study(study, scenes)
        ready = download.look_ahead(request, report)
        decided, ahead = ready.plan, request.outlook(ready)
    with Vouched(study.vouched_file, keeps=False) as vouched:
        states = states_of(study, plan.steps, vouched)
    # What is only waiting for files that the run fetches or makes would be made.
    states = {name: MISSING if state == WAITS else state for name, state in states.items()}
    return Preview(
        plan.grid, tuple(entries), searched, decided, ahead, states, trees(plan.steps, study.root / "products")
    )


def _selected(study: Study, brief: Brief, area: Area, report: Report) -> tuple[list[Entry], bool]:
    """The shortlist, or what a search would choose now."""
    if chosen_by(study) in (BY_HAND, _search_key(brief, area)):
        return shortlist(study), False
    return _searched(study, brief, area, report)[1], True


def _download_plan(study: Study, brief: Brief, scenes: Sequence[Scene]) -> DownloadPlan:
    bands = needs.with_classes(brief.bands, scenes)
    region, area = needs.region_in(study, brief), needs.area_of(study)
    return needs.plan_for(scenes, bands, needs.folders_in(study, scenes), region, area)


def _fetched(study: Study, brief: Brief, scenes: Sequence[Scene], report: Report) -> tuple[int, int]:
    """Fetch what the brief needs of the scenes; returns files and bytes that came."""
    decided = _download_plan(study, brief, scenes)
    if not (decided.fetch or decided.lacking or decided.on_order):
        return 0, 0
    from zoompick.workflow import download, get

    came = download.download(download.DownloadRequest.in_study(study, scenes), report)
    if came.ready is not None and (words := get.saved_words(came.ready)):
        report(Noted(words))
    return len(came.plan.fetch), came.received_bytes
