"""Gather what a study holds and have it judged."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from functools import cache, partial
from pathlib import Path

from zoompick.area.model import Area
from zoompick.catalog.scene import CLASS_BAND, Scene
from zoompick.errors import DataError, FormatError, NothingFoundError, ZoomPickError
from zoompick.events import Advanced, Finished, Report, Started, ignore
from zoompick.files import multihash, write_json
from zoompick.geo.shapes import Shape
from zoompick.imagery.items import band_files, scene_of
from zoompick.imagery.sidecar import read_sidecar
from zoompick.sensors.classes import ClassTable
from zoompick.sensors.guide import guide_for_file
from zoompick.study.brief import Brief
from zoompick.study.folder import Study
from zoompick.study.journal import act
from zoompick.study.shortlist import shortlist
from zoompick.transfer import record
from zoompick.transfer.plan import local_names
from zoompick.verification import bands as band_checks
from zoompick.verification import coverage, files
from zoompick.verification.finding import Finding, judged
from zoompick.workflow import checks
from zoompick.workflow.checks import Expected
from zoompick.workflow.fused import FusedStep
from zoompick.workflow.judged import state_of
from zoompick.workflow.needs import band_paths
from zoompick.workflow.opening import open_raster
from zoompick.workflow.plan import StudyPlan, plan_study
from zoompick.workflow.step import RasterStep, Sources, Step, digest_of

TASK = "verify"
Job = Callable[[], list[Finding]]
_UNMADE = "It was not made yet: 'zoompick run' makes it."


def judge_study(study: Study, report: Report = ignore) -> list[Finding]:
    """Judge a study as its brief is now, and keep the findings.

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
        return judge_and_keep(study, brief, area, plan, report)


def judge_and_keep(study: Study, brief: Brief, area: Area, plan: StudyPlan, report: Report = ignore) -> list[Finding]:
    """Judge a study and keep the findings, with the state of its files. The caller holds the study's lock."""
    with act(study.journal_file, "verify") as doing:
        findings = verify_study(study, brief, area, plan, report)
        rows = [finding.to_json() for finding in findings]
        write_json(study.checks_file, {"state": state_of(study, plan), "findings": rows})
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
    executor: Executor | None = None,
) -> list[Finding]:
    """Judge every scene and product of a study against its brief."""
    expected = Expected(plan.grid, brief.bands, area.polygon, brief.valid, executor=executor)
    jobs: list[Job] = []
    digest = cache(digest_of)
    for day, scenes in plan.days.items():
        jobs += [partial(_scene, study, brief, scene, executor) for scene in scenes]
        jobs.append(partial(_clouds, study, brief, area, scenes, day, executor))
    for step in plan.steps:
        label = step.output.relative_to(study.root / "products").as_posix()
        is_raster = isinstance(step, RasterStep)
        jobs.append(partial(_product if is_raster else _picture, step.output, label, executor))
        jobs.append(partial(_as_the_brief_says, step, label, digest))
        jobs += [partial(_opened, step.output, label, expected, step.checks)] if is_raster else []
    for unwritten in plan.unwritten:
        label = unwritten.output.relative_to(study.root / "products").as_posix()
        jobs.append(partial(_computed, unwritten, label, expected))
    return _all(jobs, report)


def verify_files(
    paths: Sequence[str | Path],
    bands: Sequence[str] = (),
    area: Shape | None = None,
    valid: float = 98,
    report: Report = ignore,
    executor: Executor | None = None,
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
    jobs: list[Job] = []
    for path in map(Path, paths):
        expected = Expected(None, bands, area, valid, 100, _class_table(path), executor)
        jobs.append(partial(_product, path, path.name, executor, "There is no such file. Check the path."))
        jobs.append(partial(_opened, path, path.name, expected))
    return _all(jobs, report)


def _all(jobs: Sequence[Job], report: Report) -> list[Finding]:
    report(Started(TASK, len(jobs), "checks"))
    found = []
    for job in jobs:
        try:
            found += job()
        except ZoomPickError as error:
            # One file that cannot be read is a finding; the others are judged all the same.
            subject = str(getattr(job, "keywords", {}).get("label", "")) or "a file"
            found.append(judged("can be judged", subject, False, "no", "yes", f"{error.what} {error.todo}".strip()))
        report(Advanced(TASK, 1))
    report(Finished(TASK))
    return found


def _scene(study: Study, brief: Brief, scene: Scene, executor: Executor | None) -> list[Finding]:
    """Bands published, files here, whole, and with the published digest."""
    wanted = [*brief.bands, CLASS_BAND] if CLASS_BAND in scene.bands else list(brief.bands)
    label = scene.label
    found = [band_checks.bands_published(tuple(scene.bands), brief.bands, label)]
    paths = band_paths(study, scene, wanted)
    present = [path for path in paths if path.is_file()]
    absent = [path.name for path in paths if not path.is_file()]
    note = f"Missing: {', '.join(absent)}. 'zoompick download' says why." if absent else ""
    found.append(judged("files here", label, not absent, f"{len(present)} of {len(paths)}", "all", note))
    if present:
        found.append(
            _joined([files.blocks_decode(path, label, executor) for path in present], "blocks decode", label)
        )
        digests = [finding for path in present for finding in _digests(path, scene)]
        found.append(_joined(digests, "checksums", label))
    return found


def _digests(path: Path, scene: Scene) -> list[Finding]:
    """Against what was recorded at the download, and against the catalogue where it tells."""
    fetched = record.read(path.parent).get(path.name)
    names = local_names(scene)
    published = next((band.sha256 for band in scene.bands.values() if names[band.href] == path.name), None)
    found = []
    if fetched is not None:
        found.append(files.checksum_matches(path, fetched.multihash, scene.id, "download record"))
    if published is not None and not (fetched and fetched.region):
        found.append(files.checksum_matches(path, multihash(published), scene.id, "catalogue entry"))
    if not found:
        note = f"{path.name} was not downloaded by zoompick and the catalogue tells no digest."
        found.append(Finding("checksum", scene.id, "warn", "unknown", "any", note))
    return found


def _joined(findings: Sequence[Finding], check: str, subject: str) -> Finding:
    """Findings of several files of one scene as one line; the first that is not a pass speaks."""
    bad = [finding for finding in findings if finding.outcome != "pass"]
    good = len(findings) - len(bad)
    outcome = "fail" if any(finding.outcome == "fail" for finding in bad) else "warn" if bad else "pass"
    figure = f"{good} of {len(findings)}" + (" files" if check == "blocks decode" else "")
    return Finding(check, subject, outcome, figure, "all", bad[0].note if bad else "", float(good))  # type: ignore[arg-type]


def _clouds(
    study: Study, brief: Brief, area: Area, scenes: Sequence[Scene], day: str, executor: Executor | None
) -> list[Finding]:
    """Cloud inside the area from the class layers of one day."""
    found = [(scene, path) for scene in scenes for path in band_paths(study, scene, [CLASS_BAND]) if path.is_file()]
    if not found:
        return [Finding("cloud in area", day, "warn", "unknown", f"at most {brief.cloud_area_max:g} %",
                        "No class layer is here to tell.")]  # fmt: skip
    try:
        layers = [open_raster(path) for _, path in found]
        table = ClassTable.from_stac(found[0][0].bands[CLASS_BAND].classes)
        return [coverage.cloud_share(layers, table, area.polygon, brief.cloud_area_max, day, executor)]
    except ZoomPickError as error:
        return [judged("cloud in area", day, False, "unknown", f"at most {brief.cloud_area_max:g} %", error.what)]


def _product(path: Path, label: str, executor: Executor | None, absent: str = _UNMADE) -> list[Finding]:
    """A product, or any file: it is there (``absent`` says what to do else), decodes, and is what its records say."""
    if not path.is_file():
        return [judged("file here", label, False, "no", "yes", absent)]
    found = [files.blocks_decode(path, label, executor)]
    recorded, fetched = read_sidecar(path), record.read(path.parent).get(path.name)
    known = next(iter(band_files(path)), None)
    if recorded is not None:
        found.append(files.checksum_matches(path, recorded.multihash, label, "sidecar"))
    if fetched is not None:
        found.append(files.checksum_matches(path, fetched.multihash, label, "download record"))
    if known is not None and known.sha256 and not (fetched and fetched.region):
        found.append(files.checksum_matches(path, multihash(known.sha256), label, "catalogue entry"))
    return found


def _picture(path: Path, label: str, executor: Executor | None) -> list[Finding]:
    """A picture for people: it is there, and what its record says."""
    if not path.is_file():
        return [judged("file here", label, False, "no", "yes", _UNMADE)]
    recorded = read_sidecar(path)
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


def _class_table(path: Path) -> ClassTable | None:
    """Codes of a class layer from the item beside it, else from a band guide; None for other files."""
    known, scene = next(iter(band_files(path)), None), scene_of(path)
    if scene is not None and known is not None:
        return ClassTable.from_stac(known.classes) if known.classes else None
    guide = guide_for_file(path.name)
    return guide.classes if guide and guide.band_of_file(path.name) == guide.class_band else None


def _computed(step: FusedStep, label: str, expected: Expected) -> list[Finding]:
    """Findings on what products are made of and nobody wrote."""
    if not all(path.is_file() for path in step.inputs):
        return []
    return checks.judge(step.build(Sources(expected.executor)), expected, f"{label} (not written)", step.checks)


def _opened(path: Path, label: str, expected: Expected, names: Sequence[str] = ()) -> list[Finding]:
    """Findings that need the pixels; a file that cannot be read has been judged already."""
    if not path.is_file():
        return []
    try:
        return checks.judge(open_raster(path), expected, label, names)
    except FormatError:
        return []
    except DataError as error:
        return [judged("pixels readable", label, False, "no", "yes", error.what)]
