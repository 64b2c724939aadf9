"""Carry out the brief of a study from search to verification; what is up to date is not done again."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass

from zoompick.area.model import Area
from zoompick.catalog import sources
from zoompick.catalog.criteria import Criteria, cloud_limit
from zoompick.events import Noted, Report, ignore
from zoompick.geo.shapes import Shape, geojson_of
from zoompick.study.brief import Brief
from zoompick.study.folder import Study
from zoompick.study.journal import act
from zoompick.study.scenelist import Entry
from zoompick.study.shortlist import BY_HAND, chosen_by, keep, shortlist
from zoompick.verification.finding import Finding
from zoompick.workflow import find, get, verify
from zoompick.workflow.making import make_steps
from zoompick.workflow.plan import plan_study, study_crs, study_grid
from zoompick.workflow.step import Made
from zoompick.workflow.windows import region_of


@dataclass(frozen=True)
class StudyRun:
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
    return Criteria(area.polygon, brief.collections, brief.periods, cloud_limit(brief.cloud), **brief.filters)


def _search_key(brief: Brief, area: Area) -> str:
    """Changes when anything does that decides which scenes are chosen."""
    facts = [
        brief.source, brief.collections, [period.interval for period in brief.periods], brief.cloud, brief.cover,
        brief.bands, {key: str(value) for key, value in brief.filters.items()}, str(study_crs(brief, area)),
        geojson_of(area.polygon),
    ]  # fmt: skip
    return hashlib.sha256(json.dumps(facts, sort_keys=True).encode()).hexdigest()[:32]


def select_scenes(study: Study, brief: Brief, area: Area, report: Report = ignore) -> tuple[list[Entry], bool]:
    """The shortlist: as picked by hand, as chosen before for the same brief, or newly searched and chosen."""
    by, key = chosen_by(study), _search_key(brief, area)
    if by in (BY_HAND, key):
        return shortlist(study), False
    source = sources.named(brief.source, sources.known(study.root))
    criteria = criteria_of(brief, area)
    with act(study.journal_file, "search", source=source.name) as doing:
        found = find.search(source, criteria, report)
        doing.note(found=len(found))
        report(
            Noted(
                f"{source.name} has {len(found)} scenes with at most {brief.cloud:g} % cloud in the dates asked for"
            )
        )
        chosen = find.choose_for(found, criteria, study_crs(brief, area), brief.bands, brief.cover, report)
        keep(study, chosen, key)
        doing.note(picked=[entry.scene.id for entry in chosen])
    return chosen, True


def region_in(brief: Brief, area: Area, window: bool | None = None) -> Shape | None:
    """The part of every scene that a study fetches, longitude/latitude; None for whole files.

    ``window`` takes the place of what the brief says.
    """
    return region_of(study_grid(brief, area)) if (brief.window if window is None else window) else None


def download_study(
    study: Study, brief: Brief, area: Area, entries: Sequence[Entry], report: Report = ignore
) -> tuple[int, int]:
    """Fetch what the brief needs of the shortlist; returns files and bytes fetched.

    Raises
    ------
    IncompleteError
        Something did not come.
    """
    scenes = [entry.scene for entry in entries]
    folders = get.folders_in(study, scenes)
    decided = get.plan_for(
        scenes, get.with_classes(brief.bands, scenes), folders, region_in(brief, area), area.polygon
    )
    if not decided.fetch:
        problem = get.incomplete(decided, get.Outcome((), (), 0))
        if problem:
            raise problem
        return 0, 0
    with act(study.journal_file, "download", source=brief.source, files=len(decided.fetch)) as doing:
        ready = get.prepare(decided, scenes, report)
        outcome = get.fetch(ready, scenes, folders, report)
        doing.note(bytes=outcome.received_bytes, saved=ready.saved_bytes, failures=get.failures(outcome))
        if words := get.saved_words(ready):
            report(Noted(words))
        problem = get.incomplete(decided, outcome)
        if problem:
            raise problem
    return len(outcome.done), outcome.received_bytes


def run(study: Study, report: Report = ignore, version: str = "") -> StudyRun:
    """Carry out the brief. The caller holds the study's lock.

    Raises
    ------
    ZoomPickError
        The first step that cannot be done; what was done before it stays.
    """
    brief, area = study.brief(), study.area()
    plan_study(study, brief, area, [])
    entries, searched = select_scenes(study, brief, area, report)
    fetched_files, fetched_bytes = download_study(study, brief, area, entries, report)
    plan = plan_study(study, brief, area, [entry.scene for entry in entries])
    made = make_steps(study, plan.steps, report, version)
    findings, judged = verify.judge_again(study, brief, area, plan, report)
    return StudyRun(tuple(entries), searched, fetched_files, fetched_bytes, tuple(made), tuple(findings), judged)
