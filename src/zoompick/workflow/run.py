"""Carry out the brief of a study from search to verification; what is up to date is not done again."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple

from zoompick.area.model import Area
from zoompick.catalog import sources
from zoompick.catalog.criteria import Criteria
from zoompick.catalog.scene import Scene
from zoompick.events import Noted, Report, ignore
from zoompick.geo.shapes import geojson_of
from zoompick.study.brief import Brief
from zoompick.study.folder import Study
from zoompick.study.journal import act
from zoompick.study.scenelist import Entry
from zoompick.study.shortlist import BY_HAND, chosen_by, keep, shortlist
from zoompick.verification.finding import Finding
from zoompick.workflow import needs
from zoompick.workflow.judged import judge_again
from zoompick.workflow.making import make_steps
from zoompick.workflow.plan import plan_study
from zoompick.workflow.step import Made


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
    from zoompick.workflow import find

    # What the brief asks for that cannot be made is told before anybody is asked for scenes.
    plan_study(study, brief, area, [])
    source = sources.named(brief.source, sources.known(study.root))
    criteria = criteria_of(brief, area)
    with act(study.journal_file, "search", source=source.name) as doing:
        found = find.search(source, criteria, report)
        doing.note(found=len(found))
        report(Noted(f"{source.name} has {len(found)} scenes{_cloud_words(criteria)} in the dates asked for"))
        chosen = find.choose_for(found, criteria, needs.study_crs(brief, area), brief.bands, brief.cover, report)
        keep(study, chosen, key)
        doing.note(picked=[entry.scene.id for entry in chosen])
    return chosen, True


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
        files, size = _fetched(study, brief, scenes, report)
        plan = plan_study(study, brief, area, scenes)
        made = make_steps(study, plan.steps, report, version)
        findings, judged = judge_again(study, brief, area, plan, report)
    return StudyRun(tuple(entries), searched, files, size, tuple(made), tuple(findings), judged)


def _fetched(study: Study, brief: Brief, scenes: Sequence[Scene], report: Report) -> tuple[int, int]:
    """Fetch what the brief needs of the scenes; returns files and bytes that came."""
    bands = needs.with_classes(brief.bands, scenes)
    region, area = needs.region_in(study, brief), needs.area_of(study)
    decided = needs.plan_for(scenes, bands, needs.folders_in(study, scenes), region, area)
    if not (decided.fetch or decided.lacking or decided.on_order):
        return 0, 0
    from zoompick.workflow import download, get

    came = download.download(download.DownloadRequest.in_study(study, scenes), report)
    if came.ready is not None and (words := get.saved_words(came.ready)):
        report(Noted(words))
    return len(came.plan.fetch), came.received_bytes
