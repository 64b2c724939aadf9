"""Gather what a study holds and have it judged."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from zoompick.area.model import Area
from zoompick.catalog.scene import CLASS_BAND, Scene
from zoompick.errors import DataError, FormatError, ZoomPickError
from zoompick.events import Advanced, Finished, Report, Started, ignore
from zoompick.files import multihash
from zoompick.geo.shapes import Shape
from zoompick.imagery.deliveries import band_files, scene_of
from zoompick.imagery.sidecar import read_sidecar
from zoompick.raster.geotiff import GeoTiff
from zoompick.raster.grid import Grid
from zoompick.raster.opening import open_raster
from zoompick.sensors.classes import ClassTable
from zoompick.sensors.guide import guide_for_file
from zoompick.study.brief import Brief
from zoompick.study.folder import Study
from zoompick.transfer import record
from zoompick.transfer.plan import local_names
from zoompick.verification import bands as band_checks
from zoompick.verification import coverage, files
from zoompick.verification.finding import Finding, judged
from zoompick.workflow.plan import StudyPlan, band_paths

TASK = "verify"
Check = Callable[[], list[Finding]]


def verify_study(study: Study, brief: Brief, area: Area, plan: StudyPlan, report: Report = ignore) -> list[Finding]:
    """Judge every scene and product of a study against its brief."""
    checks: list[Check] = []
    for day, scenes in plan.days.items():
        checks += [partial(_scene, study, brief, scene) for scene in scenes]
        checks.append(partial(_clouds, study, brief, area, scenes, day))
    for step in plan.steps:
        checks.append(partial(_product, step.output, _label(study, step.output)))
        checks.append(partial(_on_study_grid, step.output, _label(study, step.output), plan.grid))
        if step.name == "stack":
            checks.append(partial(_stack, step.output, _label(study, step.output), brief, area))
    return _all(checks, report)


def verify_files(
    paths: Sequence[Path], bands: Sequence[str], area: Shape | None, valid: float, report: Report = ignore
) -> list[Finding]:
    """Judge plain files: do they decode, do digests match, are bands right, how much of an area is valid."""
    checks: list[Check] = []
    for path in paths:
        checks.append(partial(_product, path, path.name))
        checks.append(partial(_plain, path, bands, area, valid))
    return _all(checks, report)


def _all(checks: Sequence[Check], report: Report) -> list[Finding]:
    report(Started(TASK, len(checks), "checks"))
    found = []
    for check in checks:
        found += check()
        report(Advanced(TASK, 1))
    report(Finished(TASK))
    return found


def _label(study: Study, path: Path) -> str:
    return path.relative_to(study.root / "products").as_posix()


def _scene(study: Study, brief: Brief, scene: Scene) -> list[Finding]:
    """Bands published, files here, whole, and with the published digest."""
    wanted = [*brief.bands, CLASS_BAND] if CLASS_BAND in scene.bands else list(brief.bands)
    label = f"{scene.day} {scene.tile}".strip() if scene.tile else scene.id
    found = [band_checks.bands_published(tuple(scene.bands), brief.bands, label)]
    paths = band_paths(study, scene, wanted)
    present = [path for path in paths if path.is_file()]
    absent = [path.name for path in paths if not path.is_file()]
    note = f"Missing: {', '.join(absent)}. 'zoompick download' says why." if absent else ""
    found.append(judged("files here", label, not absent, f"{len(present)} of {len(paths)}", "all", note))
    if present:
        found.append(_joined([files.blocks_decode(path, label) for path in present], "blocks decode", label))
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


def _clouds(study: Study, brief: Brief, area: Area, scenes: Sequence[Scene], day: str) -> list[Finding]:
    """Cloud inside the area from the class layers of one day."""
    found = [(scene, path) for scene in scenes for path in band_paths(study, scene, [CLASS_BAND]) if path.is_file()]
    if not found:
        return [Finding("cloud in area", day, "warn", "unknown", f"at most {brief.cloud_inside:g} %",
                        "No class layer is here to tell.")]  # fmt: skip
    try:
        layers = [open_raster(path) for _, path in found]
        table = ClassTable.from_stac(found[0][0].bands[CLASS_BAND].classes)
        return [coverage.cloud_share(layers, table, area.polygon, brief.cloud_inside, day)]
    except ZoomPickError as error:
        return [judged("cloud in area", day, False, "unknown", f"at most {brief.cloud_inside:g} %", error.what)]


def _product(path: Path, label: str) -> list[Finding]:
    """A product, or any file: it is there, decodes, and is what its sidecar or download record says."""
    if not path.is_file():
        return [judged("file here", label, False, "no", "yes", "It was not made yet: 'zoompick run' makes it.")]
    found = [files.blocks_decode(path, label)]
    recorded, fetched = read_sidecar(path), record.read(path.parent).get(path.name)
    known = next(iter(band_files(path)), None)
    if recorded is not None:
        found.append(files.checksum_matches(path, recorded.multihash, label, "sidecar"))
    if fetched is not None:
        found.append(files.checksum_matches(path, fetched.multihash, label, "download record"))
    if known is not None and known.sha256 and not (fetched and fetched.region):
        found.append(files.checksum_matches(path, multihash(known.sha256), label, "catalogue entry"))
    return found


def _on_study_grid(path: Path, label: str, grid: Grid) -> list[Finding]:
    return _opened(path, label, lambda raster: [band_checks.on_grid(raster, grid, label)])


def _stack(path: Path, label: str, brief: Brief, area: Area) -> list[Finding]:
    return _opened(
        path,
        label,
        lambda stack: [
            band_checks.bands_in_order(stack, brief.bands, label),
            band_checks.bands_distinct(stack, label),
            coverage.valid_share(stack, area.polygon, brief.valid, label),
        ],
    )


def _plain(path: Path, bands: Sequence[str], area: Shape | None, valid: float) -> list[Finding]:
    def judge(raster: GeoTiff) -> list[Finding]:
        found = []
        if bands:
            found.append(band_checks.bands_in_order(raster, bands, path.name))
        if len(raster.bands) > 1:
            found.append(band_checks.bands_distinct(raster, path.name))
        if area is not None:
            found.append(coverage.valid_share(raster, area, valid, path.name))
        table = _class_table(path)
        if area is not None and table is not None:
            found.append(coverage.cloud_share([raster], table, area, 100, path.name))
        return found

    return _opened(path, path.name, judge)


def _class_table(path: Path) -> ClassTable | None:
    """Codes of a class layer from the item beside it, else from a band guide; None for other files."""
    known, scene = next(iter(band_files(path)), None), scene_of(path)
    if scene is not None and known is not None:
        return ClassTable.from_stac(known.classes) if known.classes else None
    guide = guide_for_file(path.name)
    return guide.classes if guide and guide.band_of_file(path.name) == guide.class_band else None


def _opened(path: Path, label: str, judge: Callable[[GeoTiff], list[Finding]]) -> list[Finding]:
    """Findings that need the pixels; a file that cannot be read has been judged already."""
    if not path.is_file():
        return []
    try:
        return judge(open_raster(path))
    except FormatError:
        return []
    except DataError as error:
        return [judged("pixels readable", label, False, "no", "yes", error.what)]
