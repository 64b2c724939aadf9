"""What is judged of the scenes of a study: bands, files, digests, class layers, cloud over the area."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zoompick.errors import ClusterError, DataError, ZoomPickError
from zoompick.files import multihash
from zoompick.judge.checks import bands as band_checks
from zoompick.judge.checks import files
from zoompick.judge.checks.classes import TITLE as CLASSES_TITLE
from zoompick.judge.checks.classes import VISIBLE, classes_fit
from zoompick.judge.checks.cloud import cloud_share
from zoompick.judge.subjects import Expected
from zoompick.judge.sweep import sweep
from zoompick.scenes import fetched as record
from zoompick.scenes.bands import BandFile
from zoompick.scenes.deliveries import open_layers
from zoompick.scenes.fetchplan import local_names
from zoompick.scenes.finding import NOT_JUDGED, Finding, judged, not_judged
from zoompick.scenes.opening import open_raster
from zoompick.scenes.scene import CLASS_BAND, Scene
from zoompick.sensors.classes import ClassTable
from zoompick.study.brief import Brief
from zoompick.study.folder import Study
from zoompick.study.needs import band_paths
from zoompick.study.plan import StudyPlan


def bands_of_others(plan: StudyPlan, scene: Scene) -> frozenset[str]:
    """Bands of all other scenes of a scene's collection."""
    every = (one for scenes in plan.days.values() for one in scenes)
    alike = (one for one in every if one.key[:2] == scene.key[:2] and one.key != scene.key)
    return frozenset(name for one in alike for name in one.bands)


def scene_checked(
    study: Study, brief: Brief, scene: Scene, expected: Expected, others: frozenset[str]
) -> list[Finding]:
    """Bands published, files here, whole, and with the published digest."""
    wanted = [*brief.bands, CLASS_BAND] if CLASS_BAND in scene.bands else list(brief.bands)
    label = scene.label
    found = [band_checks.published(tuple(scene.bands), brief.bands, label, others)]
    paths = band_paths(study, scene, wanted)
    present = [path for path in paths if path.is_file()]
    absent = [path.name for path in paths if not path.is_file()]
    note = f"Missing: {', '.join(absent)}. 'zoompick download' says why." if absent else ""
    found.append(judged("files here", label, not absent, f"{len(present)} of {len(paths)}", "all", note))
    if present and expected.wants("blocks"):
        decoded = [_decoded(path, label) for path in present]
        found.append(_joined(decoded, "blocks decode", label))
    if expected.wants("classes") or expected.wants("shadows"):
        found += _classes(study, scene)
    if present and expected.wants("checksum"):
        digests = [finding for path in present for finding in _digests(path, scene)]
        found.append(_joined(digests, "checksums", label))
    return found


def _classes(study: Study, scene: Scene) -> list[Finding]:
    """Whether the class layer of a scene fits its bands, those that are here."""
    names = [name for name in (*VISIBLE, "nir", CLASS_BAND) if name in scene.bands]
    here = {name: path for name in names for path in band_paths(study, scene, [name]) if path.is_file()}
    layer = here.pop(CLASS_BAND, None)
    if layer is None or not here:
        return []
    try:
        bands = {name: own.raster for name, path in here.items() for own in open_layers([path]) if own.name == name}
        table = ClassTable.from_stac(scene.bands[CLASS_BAND].classes)
        return classes_fit(bands, open_raster(layer), table, scene.label, scene.sun_azimuth_deg)
    except ClusterError:
        raise
    except ZoomPickError as error:
        return [not_judged(CLASSES_TITLE, scene.label, error.what, "")]


def _decoded(path: Path, label: str) -> Finding:
    """Whether every block of a file decodes."""
    try:
        raster = open_raster(path)
    except DataError as error:
        return judged("blocks decode", label, False, "not readable", "all", error.what)
    return files.decoded(sweep(raster, {}), label)


def _digests(path: Path, scene: Scene) -> list[Finding]:
    """Against what was recorded at the download, and against the catalogue where it tells."""
    fetched = record.read(path.parent).get(path.name)
    names = local_names(scene)
    published = next((band for band in scene.bands.values() if names[band.href] == path.name), None)
    found = []
    if fetched is not None:
        found.append(files.checksum_matches(path, fetched.multihash, scene.id, "download record"))
    if published is not None and not (fetched and fetched.region):
        found += against_catalogue(path, published, scene.id, fetched is not None)
    if not found:
        note = f"{path.name} was not downloaded by zoompick and the catalogue tells no digest."
        found.append(Finding("checksum", scene.id, "warn", "unknown", "any", note))
    return found


def against_catalogue(path: Path, published: BandFile, subject: str, has_record: bool) -> list[Finding]:
    """Against the digest of the catalogue, where it tells one; what may be a window of that file is not judged so."""
    if published.sha256 is None:
        return []
    found = files.checksum_matches(path, multihash(published.sha256), subject, "catalogue entry")
    is_less = published.size is not None and path.is_file() and path.stat().st_size < published.size
    if found.outcome == "fail" and not has_record and is_less and _opens(path):
        reason = (f"{path.name} is smaller than the catalogue's file, opens, and no record tells how it came: it may "
                  "be a window of that file.")  # fmt: skip
        return [not_judged(found.check, subject, reason, found.limit)]
    return [found]


def _opens(path: Path) -> bool:
    try:
        return open_raster(path).grid.width > 0
    except ZoomPickError:
        return False


def _joined(findings: Sequence[Finding], check: str, subject: str) -> Finding:
    """Findings of several files of one scene as one line; the first of the worst speaks."""
    good = sum(finding.outcome == "pass" for finding in findings)
    outcome = next((one for one in ("fail", "warn", NOT_JUDGED) if any(f.outcome == one for f in findings)), "pass")
    bad = [finding for finding in findings if finding.outcome == outcome != "pass"]
    figure = f"{good} of {len(findings)}" + (" files" if check == "blocks decode" else "")
    return Finding(check, subject, outcome, figure, "all", bad[0].note if bad else "", float(good))  # type: ignore[arg-type]


def clouds_checked(study: Study, expected: Expected, scenes: Sequence[Scene], day: str) -> list[Finding]:
    """Cloud inside the area from the class layers of one day."""
    limit = f"at most {expected.limits.cloud:g} %"
    if not expected.wants("cloud"):
        return []
    found = [(scene, path) for scene in scenes for path in band_paths(study, scene, [CLASS_BAND]) if path.is_file()]
    if not found:
        return [not_judged("cloud in area", day, "No class layer is here to tell.", limit)]
    told = [scene.cloud_percent for scene in scenes if scene.cloud_percent is not None]
    try:
        assert expected.area is not None
        layers = [(open_raster(path), ClassTable.from_stac(scene.bands[CLASS_BAND].classes)) for scene, path in found]
        mean = sum(told) / len(told) if told else None
        return cloud_share(layers, expected.area, expected.limits, day, mean)
    except ClusterError:
        raise
    except ZoomPickError as error:
        return [judged("cloud in area", day, False, "unknown", limit, error.what)]
