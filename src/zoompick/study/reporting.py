"""Gather what a study holds for its report: nothing is fetched, nothing is made anew."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import UTC, date, datetime
from pathlib import Path
from tempfile import TemporaryDirectory

from zoompick.addresses import public, redacted
from zoompick.area.model import Area
from zoompick.arrays import Pixels
from zoompick.errors import DataError, NothingFoundError, StudyError, ZoomPickError
from zoompick.figures.calendar import Mark, calendar_picture
from zoompick.figures.maps import Outline, footprint_map
from zoompick.figures.report import Image, Pair, ProductTold, SceneTold, StudyReport
from zoompick.files import human_km2, human_names, read_json
from zoompick.journal import acts
from zoompick.later import np
from zoompick.products.drawing import shown
from zoompick.products.step import RasterStep
from zoompick.raster.raster import valid_mask
from zoompick.scenes import sources
from zoompick.scenes.finding import Finding, worst
from zoompick.scenes.opening import open_raster
from zoompick.scenes.scene import Scene
from zoompick.scenes.scenelist import Entry
from zoompick.scenes.source import Source
from zoompick.study.brief import Brief
from zoompick.study.folder import Study, at_home
from zoompick.study.lock import NAME as LOCK
from zoompick.study.lock import brief_table, read_lock
from zoompick.study.locking import changed_products
from zoompick.study.needs import band_paths
from zoompick.study.plan import StudyPlan, plan_study
from zoompick.study.reported import changes_of, products_of
from zoompick.study.shortlist import shortlist
from zoompick.study.terms import told_terms
from zoompick.versions import version_here, versions

_PAIR_PX, _QUICKLOOK_PX, _MAP_PX = 960, 110, 900


@at_home
def report_of(study: Study) -> StudyReport:
    """All that a study's report tells.

    Raises
    ------
    NothingFoundError
        No scene is picked.
    """
    brief, area, entries = study.brief(), study.area(), shortlist(study)
    scenes = [entry.scene for entry in entries]
    if not scenes:
        raise NothingFoundError(
            "No scene is picked, so there is nothing to report.", "'zoompick run' makes the study."
        )
    plan = plan_study(study, brief, area, scenes)
    findings = _findings(study)
    products = tuple(products_of(study, brief, area, plan, findings))
    return StudyReport(
        name=brief.name or area.name,
        made=datetime.now(UTC).strftime("%Y-%m-%d %H:%M UTC"),
        version=version_here(),
        summary=_summary(entries, products, findings),
        outcome=worst(findings) if findings else "",
        asked=tuple(_asked(study, brief, area, plan)),
        map=_map(area, entries),
        calendar=_calendar(scenes),
        scenes=tuple(_scene(study, entry) for entry in entries),
        products=products,
        pairs=tuple(_pairs(plan)),
        changes=tuple(changes_of(plan.steps, area)),
        findings=tuple(
            finding.to_json() | {"saw": finding.seen.text if finding.seen else ""} for finding in findings
        ),
        credits=tuple(_credits(study, scenes)),
        acts=tuple(_acts(study)),
        brief=redacted(study.brief_file.read_text(encoding="utf-8-sig")),
        area=study.area_file.read_text(encoding="utf-8-sig"),
        versions=versions(),
        lock=_lock(study, scenes),
    )


def _findings(study: Study) -> list[Finding]:
    try:
        return [Finding.from_json(row) for row in read_json(study.checks_file)["findings"]]
    except (DataError, KeyError, TypeError):
        return []


def _lock(study: Study, scenes: Sequence[Scene]) -> str:
    """Whether the same can be made again, as far as what is here tells."""
    try:
        lock = read_lock(study)
    except StudyError:
        return (
            "This study is not locked: a later run, or one elsewhere, takes what its source has then, which may be "
            "other scenes. 'zoompick lock' writes down which were taken."
        )
    except DataError as error:
        return f"{error.what} {error.todo}"
    others = [] if brief_table(study) == lock.brief else [f"{study.brief_file.name} is another"]
    if {entry.scene.key for entry in lock.entries} != {scene.key for scene in scenes}:
        others.append("the scenes that are picked are others")
    others += [f"{one.name} {one.words}" for one in changed_products(study, lock, keeps=False)]
    told = f"Locked in {LOCK}: {len(lock.entries)} scenes, {len(lock.files)} files, {len(lock.products)} products."
    if others:
        return f"{told} What is here now is not that: {human_names(others, 4)}."
    return (
        f"{told} What is here is what was locked. 'zoompick run --locked' makes the same pixels of the same files, "
        "with the versions below the same bytes; it tells every file that is another."
    )


def _summary(entries: Sequence[Entry], products: Sequence[ProductTold], findings: Sequence[Finding]) -> str:
    absent = sum(not product.size for product in products)
    passed = sum(finding.outcome == "pass" for finding in findings)
    told = f"{passed} of {len(findings)} checks passed." if findings else "Nothing was verified yet."
    there = f"{len(products)} products" if not absent else f"{len(products) - absent} of {len(products)} products"
    return f"{len(entries)} scenes, {there}. {told}"


def _asked(study: Study, brief: Brief, area: Area, plan: StudyPlan) -> Iterator[tuple[str, str]]:
    yield "area", f"{area.name}, {human_km2(area.size_km2)}"
    known = sources.known(study.root)
    for name in dict.fromkeys([brief.source, *(scene.source for scenes in plan.days.values() for scene in scenes)]):
        if name:
            yield "source", f"{name}, {_address(known[name])}" if name in known else f"{name}, not known here"
    yield "collections", ", ".join(brief.search.collections) or "all"
    yield "dates", ", ".join(str(period) for period in brief.search.periods)
    limits = [told for told in brief.search.in_force() if not told.startswith(("dates", "collection", "inside"))]
    if limits:
        yield "limits", "; ".join(limits)
    yield "days chosen", ", ".join(plan.days)
    yield "grid", f"{plan.grid.width} x {plan.grid.height} px of {plan.grid.pixel_text} in {plan.grid.crs}"
    yield "bands", ", ".join(brief.bands)


def _address(source: Source) -> str:
    """Where a source is, without what is secret or of this machine alone."""
    return public(source.url) if source.is_web else f"the file {Path(source.url).name}"


def _map(area: Area, entries: Sequence[Entry]) -> Image | None:
    outlines = [Outline(entry.scene.footprint, str(number), entry.scene.cloud_percent, entry.cover_percent)
                for number, entry in enumerate(entries, 1) if entry.scene.has_footprint()]  # fmt: skip
    alt = f"Map of {area.name} with the footprints of {len(outlines)} scenes over it"
    with TemporaryDirectory() as folder:
        path = Path(folder) / "map.png"
        footprint_map(area, outlines, area.name, path)
        return Image.from_png(path, _MAP_PX, alt)


def _calendar(scenes: Sequence[Scene]) -> Image | None:
    best: dict[tuple[date, str], float | None] = {}
    for scene in scenes:
        key, cloud = (scene.when.date(), scene.platform or scene.collection), scene.cloud_percent
        before = best.get(key)
        best[key] = cloud if before is None else min(before, cloud if cloud is not None else before)
    marks = [Mark(day, cloud, platform) for (day, platform), cloud in sorted(best.items(), key=lambda row: row[0])]
    days = ", ".join(sorted({f"{mark.day:%Y-%m-%d}" for mark in marks}))
    with TemporaryDirectory() as folder:
        path = Path(folder) / "calendar.png"
        calendar_picture(marks, "Days of the scenes", path)
        return Image.from_png(path, 1280, f"Calendar of the scenes' days: {days}")


def _scene(study: Study, entry: Entry) -> SceneTold:
    scene = entry.scene

    def told(value: float | None, unit: str) -> str:
        return "not told" if value is None else f"{value:.0f}{unit}"

    inside = entry.cloud_area_percent
    return SceneTold(
        id=scene.id,
        day=scene.when.strftime("%Y-%m-%d %H:%M UTC"),
        platform=scene.platform,
        collection=scene.collection,
        cloud=told(scene.cloud_percent, " %"),
        cloud_area="not counted" if inside is None else f"{inside:.0f} %",
        sun=told(scene.sun_elevation_deg, "°"),
        view=told(scene.off_nadir_deg, "°"),
        image=_quicklook(study, scene),
    )


def _quicklook(study: Study, scene: Scene) -> Image | None:
    """Of the files that are here: natural colour where the bands are, else the first band in grey."""
    names = [name for name in ("red", "green", "blue") if name in scene.bands]
    wanted = names if len(names) == 3 else list(scene.bands)[:1]
    planes = list[Pixels]()
    there: Pixels = np.ones((), bool)
    try:
        for path in band_paths(study, scene, wanted):
            raster = open_raster(path)
            level = max((n for n, grid in enumerate(raster.levels) if grid.width >= _QUICKLOOK_PX), default=0)
            stored = raster.read(raster.levels[level].window, (0,), level)[0]
            planes.append(stored.astype(float))
            there = there & valid_mask(stored, raster.nodata)
    except (ZoomPickError, OSError, ValueError):
        return None
    if not planes or not np.any(there):
        return None
    # One stretch for all three: colours keep their balance.
    low, high = np.percentile(np.stack(planes)[:, there], [1, 99])
    shares = [
        np.where(there, 255 * np.clip((plane - low) / max(high - low, 1e-9), 0, 1) ** 0.7, 255) for plane in planes
    ]
    step = max(1, round(max(planes[0].shape) / _QUICKLOOK_PX))
    colours = np.dstack(shares if len(shares) == 3 else shares[:1] * 3)[::step, ::step]
    return Image.from_pixels(colours, f"Quicklook of {scene.id}")


def _pairs(plan: StudyPlan) -> Iterator[Pair]:
    """The first and the last day of each composite that several days have."""
    days = list(plan.days)
    found: dict[str, list[Path]] = {}
    for step in plan.steps:
        if isinstance(step, RasterStep) and step.traits.holds == "picture" and step.output.is_file():
            found.setdefault(step.output.stem, []).append(step.output)
    for name, paths in found.items():
        if len(paths) < 2:
            continue
        one, two = (shown(path, _PAIR_PX).panel.pixels for path in (paths[0], paths[-1]))
        if one.shape == two.shape:
            labels = days[0], days[-1]
            yield Pair(
                name,
                Image.from_pixels(one, f"{name} on {labels[0]}"),
                Image.from_pixels(two, f"{name} on {labels[1]}"),
                labels,
            )
            return


def _credits(study: Study, scenes: Sequence[Scene]) -> Iterator[dict[str, str]]:
    known = told_terms(study)
    for source, collection in dict.fromkeys((scene.source, scene.collection) for scene in scenes):
        told = known.get(f"{source}/{collection}", {})
        yield {
            "title": told.get("title") or collection, "source": source,
            "licence": told.get("licence") or "not told by the source",
            "credit": told.get("credit") or "nobody is told",
        }  # fmt: skip


def _acts(study: Study) -> Iterator[dict[str, str]]:
    for row in acts(study.journal_file):
        seconds = row.get("seconds")
        yield {
            "when": str(row.get("time", "")), "act": str(row.get("act", "")), "on": str(row.get("product", "")),
            "outcome": str(row.get("outcome", "")),
            "took": f"{seconds:.1f} s" if isinstance(seconds, int | float) else "",
        }  # fmt: skip
