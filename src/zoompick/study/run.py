"""Carry out the brief of a study from search to verification; what is up to date is not done again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, NamedTuple

from zoompick.area.model import Area
from zoompick.discovery.criteria import Criteria
from zoompick.errors import IncompleteError, UsageError
from zoompick.events import Noted, Report, ignore
from zoompick.journal import act
from zoompick.products.step import Made
from zoompick.scenes import sources
from zoompick.scenes.finding import Finding
from zoompick.scenes.scene import Scene
from zoompick.scenes.scenelist import Entry
from zoompick.study import needs, searchkey
from zoompick.study.brief import Brief
from zoompick.study.folder import Study, at_home
from zoompick.study.judged import judge_again
from zoompick.study.lineage import Node, trees
from zoompick.study.lock import Lock, read_lock, refuse_changed
from zoompick.study.locking import Differing, changed_products
from zoompick.study.making import Failed, make_steps
from zoompick.study.outdated import MISSING, WAITS, note_made, states_of
from zoompick.study.plan import StudyPlan, plan_study
from zoompick.study.session import session_of
from zoompick.study.shelf import write_shelf
from zoompick.study.shortlist import keep, shortlist
from zoompick.study.since import newer_versions, not_as_locked, refuse_other_files
from zoompick.study.stages import DOWNLOAD, SEARCH, VERIFY, Stages
from zoompick.study.terms import keep_terms
from zoompick.versions import differing
from zoompick.vouched import Vouched

if TYPE_CHECKING:
    from zoompick.fetch.outlook import Outlook
    from zoompick.raster.grid import Grid
    from zoompick.scenes.fetchplan import DownloadPlan


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
    failed : tuple of Failed
        What could not be fetched or made.
    differing : tuple of Differing
        Of a run by the lock: products that are not as they were locked.
    """

    entries: tuple[Entry, ...]
    searched: bool
    fetched_files: int
    fetched_bytes: int
    made: tuple[Made, ...]
    findings: tuple[Finding, ...]
    judged: bool = True
    failed: tuple[Failed, ...] = ()
    differing: tuple[Differing, ...] = ()


def criteria_of(brief: Brief, area: Area) -> Criteria:
    """The brief's search."""
    return replace(brief.search, area=area.polygon)


def _cloud_words(criteria: Criteria) -> str:
    return "" if criteria.cloud_max is None else f" with at most {criteria.cloud_max:g} % cloud"


def select_scenes(study: Study, brief: Brief, area: Area, report: Report = ignore) -> tuple[list[Entry], bool]:
    """The shortlist: as picked by hand, as chosen before for the same brief, or newly searched and chosen."""
    if searchkey.holds(study, brief, area):
        if searchkey.bring_up_to_date(study, brief, area):
            report(Noted("Brought up to date: the scenes that an earlier version chose are kept under a new key."))
        return shortlist(study), False
    with act(study.journal_file, "search", source=brief.source) as doing:
        count, chosen = _searched(study, brief, area, report, keeps_terms=True)
        keep(study, chosen, searchkey.search_key(brief, area))
        doing.note(found=count, picked=[entry.scene.id for entry in chosen])
    return chosen, True


def _searched(
    study: Study, brief: Brief, area: Area, report: Report, keeps_terms: bool = False
) -> tuple[int, list[Entry]]:
    """How many scenes a search finds now, and those that the brief chooses of them."""
    from zoompick.discovery import find

    # What the brief asks for that cannot be made is told before anybody is asked for scenes.
    plan_study(study, brief, area, [])
    source = sources.named(brief.source, sources.known(study.root))
    criteria = criteria_of(brief, area)
    found = find.search(source, criteria, report)
    report(Noted(f"{source.name} has {len(found)} scenes{_cloud_words(criteria)} in the dates asked for"))
    limits = brief.cover, brief.cloud_area_max, brief.pixel_m
    wanted = find.Choosing(needs.study_crs(brief, area), brief.bands, *limits)
    chosen = find.choose_for(found, criteria, wanted, report, session_of(study, report))
    if keeps_terms:
        keep_terms(study, [entry.scene for entry in chosen], report, anew=True)
    return len(found), chosen


@dataclass(frozen=True)
class RunOptions:
    """How a run is carried out.

    Attributes
    ----------
    is_thorough : bool
        All files are hashed and judged again; else what size and time stamp vouch for is left alone.
    is_locked : bool
        Exactly the scenes and files of the study's lock, or an error that names what the source has changed.
    """

    stages: Stages = field(default_factory=Stages)
    is_thorough: bool = False
    is_locked: bool = False


@at_home
def run(study: Study, report: Report = ignore, options: RunOptions | None = None) -> StudyRun:
    """Carry out the brief; no other run works in the study meanwhile.

    A scene that cannot be fetched, or a product that cannot be made, does not keep others from being done, unless the
    brief says so; it is told in ``failed``.

    Raises
    ------
    ZoomPickError
        Nothing can be begun, or the brief wants a run to stop at the first failure; what was done before it stays.
    """
    options = options or RunOptions()
    stages, failed = options.stages, list[Failed]()
    with study.locked():
        brief, area = study.brief(), study.area()
        lock = _lock_of(study, report) if options.is_locked else None
        strict = brief.stop_at_failure or options.is_locked
        entries, searched = _entries(study, brief, area, options, lock, report)
        scenes = [entry.scene for entry in entries]
        plan = plan_study(study, brief, area, scenes)
        files = size = 0
        if stages.has(DOWNLOAD):
            refuse_unmakeable(brief, scenes)
            fetching = _fetched_as_locked if lock else _fetched_as_far
            files, size = fetching(study, brief, scenes, report, failed, strict)
        if lock:
            refuse_other_files(study, brief, lock, scenes, report)
        steps = [step for step in plan.steps if stages.has(plan.kinds.get(step.output, ""))]
        tolerated = None if strict else failed
        codecs = {study.root / name: row.codec for name, row in lock.products.items()} if lock else {}
        made = make_steps(study, steps, report, tolerated, options.is_thorough, codecs)
        write_shelf(study, brief.name or area.name, [step.output for step in plan.steps])
        if len(steps) == len(plan.steps) and not failed:
            note_made(study, brief, plan.steps)
        others = changed_products(study, lock) if lock and stages.is_whole else []
        findings, judged = _judged(study, brief, area, plan, report, options, bool(made))
    told = tuple(made), tuple(findings), judged, tuple(failed), tuple(others)
    return StudyRun(tuple(entries), searched, files, size, *told)


def _entries(
    study: Study, brief: Brief, area: Area, options: RunOptions, lock: Lock | None, report: Report
) -> tuple[list[Entry], bool]:
    """The scenes of a run, and whether a search chose them."""
    if lock:
        keep(study, lock.entries, searchkey.search_key(brief, area))
        return list(lock.entries), False
    if not options.stages.has(SEARCH):
        return shortlist(study), False
    return select_scenes(study, brief, area, report)


def _lock_of(study: Study, report: Report) -> Lock:
    lock = read_lock(study)
    refuse_changed(study, lock)
    if others := differing(lock.versions):
        report(Noted(f"Locked with other versions, so products may have other bytes: {', '.join(others)}"))
    return lock


def _fetched_as_locked(
    study: Study, brief: Brief, scenes: Sequence[Scene], report: Report, failed: list[Failed], must_be_whole: bool
) -> tuple[int, int]:
    """Fetch what was locked; where it does not come the source is asked what it has changed, else for newer versions.

    Raises
    ------
    ChecksumError
        It has changed scenes or files since.
    IncompleteError
        It tells of no change.
    """
    lacking = {entry.key for entry in needs.wanted_files(study, brief, scenes).fetch}
    try:
        fetched = _fetched_as_far(study, brief, scenes, report, failed, must_be_whole)
        for sentence in newer_versions(study, [scene for scene in scenes if scene.key in lacking], report):
            report(Noted(sentence))
        return fetched
    except IncompleteError:
        if problem := not_as_locked(study, brief, scenes, report):
            raise problem from None
        raise


def _fetched_as_far(
    study: Study, brief: Brief, scenes: Sequence[Scene], report: Report, failed: list[Failed], must_be_whole: bool
) -> tuple[int, int]:
    """Fetch what comes; what does not is told, and ends the run only where that is wanted."""
    wanted = len(needs.wanted_files(study, brief, scenes).fetch)
    try:
        return _fetched(study, brief, scenes, report)
    except IncompleteError as error:
        if must_be_whole:
            raise
        failed.append(Failed(study.root / "scenes", error))
        return wanted - len(needs.wanted_files(study, brief, scenes).fetch), 0


def _judged(
    study: Study, brief: Brief, area: Area, plan: StudyPlan, report: Report, options: RunOptions, has_made: bool
) -> tuple[list[Finding], bool]:
    """Findings, if they are wanted and anything is there to judge."""
    if not options.stages.has(VERIFY) or not plan.days:
        return [], False
    if options.is_thorough:
        from zoompick.study.verify import judge_and_keep

        return judge_and_keep(study, brief, area, plan, report), True
    if options.stages.is_whole and not has_made:
        return [], False
    return judge_again(study, brief, area, plan, report)


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
    from zoompick.study import download

    brief, area = study.brief(), study.area()
    entries, searched = _selected(study, brief, area, report)
    scenes = [entry.scene for entry in entries]
    plan = plan_study(study, brief, area, scenes)
    refuse_unmakeable(brief, scenes)
    decided, ahead = needs.wanted_files(study, brief, scenes), None
    if decided.fetch or decided.on_order:
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
    if searchkey.holds(study, brief, area):
        return shortlist(study), False
    return _searched(study, brief, area, report)[1], True


def _fetched(study: Study, brief: Brief, scenes: Sequence[Scene], report: Report) -> tuple[int, int]:
    """Fetch what the brief needs of the scenes; returns files and bytes that came."""
    decided = needs.wanted_files(study, brief, scenes)
    if not (decided.fetch or decided.lacking or decided.on_order):
        return 0, 0

    from zoompick.fetch import get
    from zoompick.study import download

    came = download.download(download.DownloadRequest.in_study(study, scenes), report)
    if came.ready is not None and (words := get.saved_words(came.ready)):
        report(Noted(words))
    return len(came.plan.fetch), came.received_bytes
