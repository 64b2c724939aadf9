"""Gather what a study holds and have it judged."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from contextvars import copy_context
from dataclasses import dataclass, replace
from functools import cache, partial
from pathlib import Path

from zoompick.addresses import is_remote
from zoompick.area.model import Area
from zoompick.errors import (
    ClusterError,
    DataError,
    FactsError,
    FormatError,
    NothingFoundError,
    PlacelessError,
    UnreadKindError,
    ZoomPickError,
)
from zoompick.events import Advanced, Finished, Report, Started, ignore
from zoompick.files import json_bytes, write_json
from zoompick.geo.shapes import Shape
from zoompick.journal import act, acts
from zoompick.judge import registry
from zoompick.judge.checks import files
from zoompick.judge.limits import Limits
from zoompick.judge.proof import draw_findings
from zoompick.judge.roots import rooted
from zoompick.judge.subject import Subject
from zoompick.judge.subjects import Expected, computed, inputs_of, subject_of
from zoompick.products.current import digest_of
from zoompick.products.fused import FusedStep
from zoompick.products.kinds.table import traits_of
from zoompick.products.sources import Sources
from zoompick.products.step import RasterStep, Step
from zoompick.raster import engine
from zoompick.raster.geotiff import Placeless
from zoompick.raster.source import LocalFile
from zoompick.scenes import fetched as record
from zoompick.scenes.finding import Finding, judged, not_judged
from zoompick.scenes.items import band_files
from zoompick.scenes.sidecar import read_sidecar
from zoompick.study import sourced
from zoompick.study.brief import Brief
from zoompick.study.checkstate import state_of
from zoompick.study.folder import JUDGED, Study, at_home
from zoompick.study.plan import StudyPlan, plan_study
from zoompick.study.scenechecks import against_catalogue, bands_of_others, clouds_checked, scene_checked
from zoompick.study.shortlist import shortlist


@dataclass(frozen=True)
class CheckOptions:
    """What a verification is asked for.

    Attributes
    ----------
    only, skip : tuple of str
        Names of checks, or of their groups.
    limits : tuple of str
        In place of the brief's: ``shift_px=0.3``.
    reference : Path or None
        A file that the user trusts.
    is_online : bool
        Sources are asked whether their files have changed.
    is_thorough : bool
        Products are made again as a whole, not on a sample.
    """

    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    limits: tuple[str, ...] = ()
    reference: Path | None = None
    is_online: bool = False
    is_thorough: bool = False

    def wanted(self) -> frozenset[str] | None:
        """Names of checks; None for all.

        Raises
        ------
        UnknownNameError
        """
        if not (self.only or self.skip):
            return None
        every = {check.name for check in (*registry.FILE_CHECKS, *registry.CHECKS)}
        return frozenset((registry.named(self.only) if self.only else every) - registry.named(self.skip))

    def named(self) -> frozenset[str]:
        """Checks that were named themselves, not by their group."""
        every = {check.name for check in (*registry.FILE_CHECKS, *registry.CHECKS)}
        groups = {check.group for check in (*registry.FILE_CHECKS, *registry.CHECKS)}
        return frozenset(name for name in self.only if name in every and name not in groups)

    def checked(self) -> None:
        """Before anything is read: names and limits that there are not.

        Raises
        ------
        UnknownNameError, UsageError
        """
        self.wanted()
        Limits().given(self.limits)


def limits_of(brief: Brief) -> Limits:
    """The brief's limits."""
    return Limits(brief.valid, brief.cloud_area_max).given(brief.limits)


TASK = "verify"
Job = Callable[[], list[Finding]]
_UNMADE = "It was not made yet: 'zoompick run' makes it."


@at_home
def judge_study(study: Study, report: Report = ignore, options: CheckOptions | None = None) -> list[Finding]:
    """Judge a study as its brief is now, and keep the findings; those of some checks only are not kept.

    Raises
    ------
    NothingFoundError
        No scene is picked.
    """
    brief, area = study.brief(), study.area()
    plan = plan_study(study, brief, area, [entry.scene for entry in shortlist(study)])
    if not plan.days:
        raise NothingFoundError(
            "No scene is picked, so there is nothing to verify.", "'zoompick run' begins with a search."
        )
    with study.locked():
        if options is not None and options != CheckOptions():
            found = verify_study(study, brief, area, plan, report, options=options)
            titles = {check.name: (check.title, check.needs) for check in registry.explained("all")}
            untold = sorted(options.named() - {finding.key for finding in found})
            for name in untold:
                title, needs = titles[name]
                reason = f"No file here has what it needs. {needs}"
                found.append(replace(not_judged(title, study.root.name, reason, ""), key=name))
            return found
        return judge_and_keep(study, brief, area, plan, report)


def judge_and_keep(study: Study, brief: Brief, area: Area, plan: StudyPlan, report: Report = ignore) -> list[Finding]:
    """Judge a study and keep the findings, with the state of its files. The caller holds the study's lock."""
    with act(study.journal_file, "verify") as doing:
        findings = verify_study(study, brief, area, plan, report)
        told = {"findings": [finding.to_json() for finding in findings]}
        if study.checks_file.exists() and study.checks_file.read_bytes() == json_bytes(told, 2) + b"\n":
            # Another copy of the study was judged, and is as this one.
            doing.nothing_done()
        else:
            write_json(study.checks_file, told)
        write_json(study.local(JUDGED), {"state": state_of(study, plan)})
        bad = sum(finding.outcome == "fail" for finding in findings)
        doing.note(findings=len(findings), failed=bad)
        if bad:
            doing.failed()
    return findings


def verify_study(
    study: Study,
    brief: Brief,
    area: Area,
    plan: StudyPlan,
    report: Report = ignore,
    options: CheckOptions | None = None,
) -> list[Finding]:
    """Judge every scene and product of a study against its brief."""
    options = options or CheckOptions(skip=brief.skip_checks)
    limits = limits_of(brief).given(options.limits)
    expected = Expected(plan.grid, brief.bands, area.polygon, limits, options.wanted(), options.reference,
                        traits_of=traits_of, is_thorough=options.is_thorough)  # fmt: skip
    jobs: list[Job] = []
    for day, scenes in plan.days.items():
        jobs += [
            partial(scene_checked, study, brief, scene, expected, bands_of_others(plan, scene)) for scene in scenes
        ]
        jobs.append(partial(clouds_checked, study, expected, scenes, day))
        if options.is_online and expected.wants("online"):
            jobs += [partial(sourced.online, study, scene, report) for scene in scenes]
    if expected.wants("licence"):
        jobs.append(partial(sourced.licences, study, [scene for scenes in plan.days.values() for scene in scenes]))
    found = _keyed(_all([*jobs, *_of_products(study, plan, expected)], report), expected)
    return [_in_folder(one, study.root) for one in rooted(found, _made_of(study, plan))]


def _in_folder(finding: Finding, root: Path) -> Finding:
    """A finding whose file is told from the study's folder: it holds in a copy elsewhere too."""
    file = Path(str(finding.data.get("file", "")))
    if not file.is_relative_to(root):
        return finding
    return replace(finding, data={**finding.data, "file": file.relative_to(root).as_posix()})


def pictures_of(findings: Sequence[Finding], folder: Path, root: Path) -> list[Path]:
    """What can be drawn of findings; their files are told from ``root``.

    Returns
    -------
    list of Path
        The pictures.
    """
    known = Expected(traits_of=traits_of)
    return draw_findings(findings, folder, lambda file: subject_of(root / file, file, known))


def _made_of(study: Study, plan: StudyPlan) -> dict[str, set[str]]:
    """For each product, as findings call it, what it was made of, and the day that its stack is laid on."""

    def name(path: Path) -> str:
        return path.relative_to(study.root / "products").as_posix()

    every = [scene for scenes in plan.days.values() for scene in scenes]
    labels = {study.scene_folder(scene.key): scene.label for scene in every}
    before, found = _earlier(plan.steps), dict[str, set[str]]()
    for step in plan.steps:
        paths = [*step.inputs, *inputs_of(step.output), *([before[step.output]] if step.output in before else [])]
        own = {labels[path.parent] for path in paths if path.parent in labels}
        found[name(step.output)] = own | {
            name(path) for path in paths if path.is_relative_to(study.root / "products")
        }
    return found


def _of_products(study: Study, plan: StudyPlan, expected: Expected) -> Iterator[Job]:
    """What is judged of each product, and of what was computed on the way."""
    digest, made, before = cache(digest_of), _products_told(study), _earlier(plan.steps)
    moved = {step.inputs[0] for step in plan.steps if step.traits.is_moved}
    for step in plan.steps:
        label = step.output.relative_to(study.root / "products").as_posix()
        is_raster = isinstance(step, RasterStep)
        yield partial(_product if is_raster else _picture, step.output, label, expected)
        if expected.wants("brief"):
            yield partial(_as_the_brief_says, step, label, digest)
        if expected.wants("journal"):
            yield partial(_in_the_journal, study, step.output, label, made)
        if is_raster:
            own = replace(expected, is_moved=step.output in moved)
            judge = partial(_fused, step) if isinstance(step, FusedStep) else _opened
            yield partial(judge, step.output, label, own, step.checks, before.get(step.output))
    for unwritten in plan.unwritten:
        label = unwritten.output.relative_to(study.root / "products").as_posix()
        own = replace(expected, is_moved=unwritten.output in moved)
        yield partial(_computed, unwritten, label, own)


def _earlier(steps: Sequence[Step]) -> dict[Path, Path]:
    """For the stack of each day that of the first; for one that was laid on another, that."""
    stacks = [step.output for step in steps if step.traits.judged == "scenes"]
    aligned = {step.output: step.inputs[1] for step in steps if step.traits.is_moved and len(step.inputs) > 1}
    return aligned or {path: first for first in stacks[:1] for path in stacks[1:]}


def verify_files(
    paths: Sequence[str | Path],
    bands: Sequence[str] = (),
    area: Shape | None = None,
    valid: float = 98,
    report: Report = ignore,
    options: CheckOptions | None = None,
) -> list[Finding]:
    """Judge plain files: do they decode, do digests match, are bands right, how much of an area is valid.

    Parameters
    ----------
    bands : sequence of str
        Names in the order in which they should be; not judged when empty.
    area : polygon, optional
        Longitude/latitude.
    valid : float
        Percent of the area with valid pixels, at least.
    """
    options = options or CheckOptions()
    limits = Limits(valid=valid, cloud=100).given(options.limits)
    expected = Expected(None, bands, area, limits, options.wanted(), options.reference,
                        traits_of=traits_of, named=options.named(), is_thorough=options.is_thorough)  # fmt: skip
    jobs: list[Job] = []
    for path in map(Path, paths):
        if is_remote(path):
            jobs.append(partial(_opened, path, path.name, expected))
            continue
        jobs.append(partial(_product, path, path.name, expected, "There is no such file. Check the path."))
        jobs.append(partial(_opened, path, path.name, expected))
    return rooted(_keyed(_all(jobs, report), expected), {})


def _keyed(findings: Sequence[Finding], expected: Expected) -> list[Finding]:
    """Findings with the names of their checks; those of checks that were not asked for are left out."""
    named = [one if one.key else replace(one, key=registry.of_title(one.check)) for one in findings]
    named = [registry.with_what(one) for one in named]
    return [one for one in named if expected.wants(one.key) or (one.outcome != "pass" and one.key == "here")]


def _all(jobs: Sequence[Job], report: Report) -> list[Finding]:
    report(Started(TASK, len(jobs), "checks"))
    found = []
    for findings in _in_turn(jobs):
        found += findings
        report(Advanced(TASK, 1))
    report(Finished(TASK))
    return found


def _in_turn(jobs: Sequence[Job]) -> Iterator[list[Finding]]:
    """What jobs find, in order; where blocks are read on other machines a few are under way at once.

    One file keeps the cores of one machine busy; those of many wait while a small file comes to its end.
    """
    if engine.elsewhere() is None:
        yield from map(_judged, jobs)
        return
    with ThreadPoolExecutor(_AT_ONCE, thread_name_prefix="zoompick-judge") as pool:
        flying: deque[Future[list[Finding]]] = deque()
        try:
            for job in jobs:
                flying.append(pool.submit(copy_context().run, _judged, job))
                if len(flying) == 2 * _AT_ONCE:
                    yield flying.popleft().result()
            while flying:
                yield flying.popleft().result()
        finally:
            for one in flying:
                one.cancel()


_AT_ONCE = 4


def _judged(job: Job) -> list[Finding]:
    try:
        return job()
    except (ClusterError, FactsError):
        # Neither workers that are gone nor what the user's own tables tell wrong is the fault of a file.
        raise
    except ZoomPickError as error:
        # One file that cannot be read is a finding; the others are judged all the same.
        subject = next((word for word in getattr(job, "args", ()) if isinstance(word, str)), "a file")
        return [judged("can be judged", subject, False, "no", "yes", f"{error.what} {error.todo}".strip())]


def _products_told(study: Study) -> set[tuple[str, ...]]:
    """Products that the journal tells of: folder and name."""
    told = (str(row.get("product", "")) for row in acts(study.journal_file))
    return {Path(text).parts[-2:] for text in told if text}


def _in_the_journal(study: Study, path: Path, label: str, made: set[tuple[str, ...]]) -> list[Finding]:
    """The journal tells when it was made."""
    if not path.is_file():
        return []
    is_told = path.parts[-2:] in made
    note = "The journal does not tell when it was made: it came from elsewhere, or the journal was cut."
    return [judged("in the journal", label, is_told, "yes" if is_told else "no", "yes", note, bad="warn")]


def _product(path: Path, label: str, expected: Expected, absent: str = _UNMADE) -> list[Finding]:
    """A product, or any file: it is there (``absent`` says what to do else), and is what its records say."""
    if not path.is_file():
        return [judged("file here", label, False, "no", "yes", absent)]
    found: list[Finding] = []
    if not expected.wants("checksum"):
        return found
    recorded, fetched = read_sidecar(path), record.read(path.parent).get(path.name)
    known = next(iter(band_files(path)), None)
    if recorded is not None:
        found.append(files.checksum_matches(path, recorded.multihash, label, "sidecar"))
    if fetched is not None:
        found.append(files.checksum_matches(path, fetched.multihash, label, "download record"))
    if known is not None and not (fetched and fetched.region):
        found += against_catalogue(path, known, label, fetched is not None)
    return found


def _picture(path: Path, label: str, expected: Expected) -> list[Finding]:
    """A picture for people: it is there, and what its record says."""
    if not path.is_file():
        return [judged("file here", label, False, "no", "yes", _UNMADE)]
    recorded = read_sidecar(path) if expected.wants("checksum") else None
    return [files.checksum_matches(path, recorded.multihash, label, "sidecar")] if recorded else []


def _as_the_brief_says(step: Step, label: str, digest: Callable[[Path], str]) -> list[Finding]:
    """Made of what the brief asks for now: area, bands, stretch, recipe, dates; and what belongs to it is there."""
    if not step.output.is_file():
        return []
    recorded, check = read_sidecar(step.output), "as the brief says"
    if recorded is None:
        note = (
            "It has no sidecar that can be read, so nobody knows what it was made of: 'zoompick run' makes it anew."
        )
        return [judged(check, label, False, "no record", "yes", note)]
    absent = [path.name for path in step.inputs if not path.is_file()]
    if absent:
        note = f"{absent[0]} is not here, so nobody can tell."
        return [Finding(check, label, "warn", "unknown", "yes", note)]
    is_so = step.origin(digest).fingerprint == recorded.fingerprint
    note = "Brief, area, scenes or inputs have changed since it was made: 'zoompick run' makes it anew."
    found = [judged(check, label, is_so, "yes" if is_so else "no", "yes", "" if is_so else note)]
    for path in step.companions:
        expected, name = recorded.companions.get(path.name), path.name
        if not path.is_file() or expected is None:
            what = "missing" if not path.is_file() else "not recorded"
            found.append(judged("belongings", label, False, f"{name} {what}", "all", "'zoompick run' makes it anew."))
        else:
            found.append(files.checksum_matches(path, expected, f"{step.output.parent.name}/{name}", "sidecar"))
    return found


def _computed(step: FusedStep, label: str, expected: Expected) -> list[Finding]:
    """Findings on what products are made of and nobody wrote."""
    if not all(path.is_file() for path in step.inputs):
        return []
    raster = step.build(Sources())
    subject = computed(raster, f"{label} (not written)", expected, step.traits, step.checks)
    return registry.judge(subject, expected.wanted)


def _fused(
    step: FusedStep, path: Path, label: str, expected: Expected, names: Sequence[str], earlier: Path | None
) -> list[Finding]:
    """Findings that need the pixels, and those of what it was made of, which nobody wrote."""
    if path.is_file() and all(one.is_file() for one in step.inputs):
        # Where a file below cannot be opened, the product is judged by itself; the file has findings of its own.
        with suppress(DataError, FormatError):
            expected = replace(expected, underlying=step.underlying(Sources()))
    return _opened(path, label, expected, names, earlier)


def _opened(
    path: Path, label: str, expected: Expected, names: Sequence[str] = (), earlier: Path | None = None
) -> list[Finding]:
    """Findings that need the pixels."""
    if not path.is_file() and not is_remote(path):
        return []
    try:
        return registry.judge(subject_of(path, label, expected, names, earlier), expected.wanted, expected.named)
    except FormatError as error:
        return _not_opened(error, path, label, expected)
    except DataError as error:
        return [judged("pixels readable", label, False, "no", "yes", error.what)]


def _not_opened(error: FormatError, path: Path, label: str, expected: Expected) -> list[Finding]:
    """What is said of a file that is no raster as it should be; of one without a place all that needs none."""
    if isinstance(error, PlacelessError):
        try:
            return _placeless(path, label, expected)
        except FormatError as other:
            error = other
    if isinstance(error, UnreadKindError):
        return [not_judged("blocks decode", label, f"{error.what} {error.todo}", "all")]
    return [judged("blocks decode", label, False, "not readable", "all", error.what)]


def _placeless(path: Path, label: str, expected: Expected) -> list[Finding]:
    """Findings on pixels of a file that does not tell where they lie."""
    reason = f"{path.name} does not tell where it lies: what needs a place is not judged."
    found = [not_judged("on the globe", label, reason, "a place")]
    if path.suffix.lower() not in (".tif", ".tiff"):
        return found
    bands = replace(expected, grid=None, area=None).shared()
    subject = Subject(label, Placeless(LocalFile(path)), path, **bands)
    return found + registry.judge(subject, expected.wanted, expected.named)
