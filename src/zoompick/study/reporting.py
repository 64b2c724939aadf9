"""Gather what a study holds for its report: nothing is fetched, nothing is made anew."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from zoompick.area.model import Area
from zoompick.arrays import Pixels
from zoompick.errors import DataError, NothingFoundError, UsageError, ZoomPickError
from zoompick.figures import canvas
from zoompick.figures.calendar import Mark, calendar_picture
from zoompick.figures.face import Classes, Scale, coloured
from zoompick.figures.maps import Outline, footprint_map
from zoompick.figures.report import Image, Legend, Pair, ProductTold, SceneTold, StudyReport
from zoompick.files import human_bytes, human_km2, read_json
from zoompick.journal import acts
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import np
from zoompick.products.drawing import shown
from zoompick.products.sidebyside import ground_of
from zoompick.products.step import RasterStep, Step
from zoompick.raster.raster import valid_mask
from zoompick.scenes.finding import Finding, worst
from zoompick.scenes.opening import open_raster
from zoompick.scenes.scene import Scene
from zoompick.scenes.scenelist import Entry
from zoompick.scenes.sidecar import sidecar_of
from zoompick.study.brief import Brief
from zoompick.study.folder import Study, at_home
from zoompick.study.needs import band_paths
from zoompick.study.plan import StudyPlan, plan_study
from zoompick.study.shortlist import shortlist
from zoompick.study.terms import told_terms
from zoompick.versions import version_here

_FACE_PX, _PAIR_PX, _QUICKLOOK_PX, _MAP_PX, _QUALITY = 560, 960, 110, 900, 80


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
    made = [step for step in plan.steps if step.output.is_file()]
    products = tuple(_product(study, step, area, plan.kinds.get(step.output, "")) for step in made)
    return StudyReport(
        name=brief.name or area.name,
        made=datetime.now(UTC).strftime("%Y-%m-%d %H:%M UTC"),
        version=version_here(),
        summary=_summary(entries, products, findings),
        outcome=worst(findings) if findings else "",
        asked=tuple(_asked(brief, area, plan)),
        map=_map(area, entries),
        calendar=_calendar(scenes),
        scenes=tuple(_scene(study, scene) for scene in scenes),
        products=products,
        pairs=tuple(_pairs(plan)),
        changes=tuple(_sentences(plan, area)),
        findings=tuple(
            finding.to_json() | {"saw": finding.seen.text if finding.seen else ""} for finding in findings
        ),
        credits=tuple(_credits(study, scenes)),
        acts=tuple(_acts(study)),
        brief=study.brief_file.read_text(encoding="utf-8-sig"),
    )


def _findings(study: Study) -> list[Finding]:
    try:
        return [Finding.from_json(row) for row in read_json(study.checks_file)["findings"]]
    except (DataError, KeyError, TypeError):
        return []


def _summary(entries: Sequence[Entry], products: Sequence[ProductTold], findings: Sequence[Finding]) -> str:
    passed = sum(finding.outcome == "pass" for finding in findings)
    told = f"{passed} of {len(findings)} checks passed." if findings else "Nothing was verified yet."
    return f"{len(entries)} scenes, {len(products)} products. {told}"


def _asked(brief: Brief, area: Area, plan: StudyPlan) -> Iterator[tuple[str, str]]:
    yield "area", f"{area.name}, {human_km2(area.size_km2)}"
    yield "source", brief.source
    yield "collections", ", ".join(brief.search.collections) or "all"
    yield "dates", ", ".join(str(period) for period in brief.search.periods)
    limits = [told for told in brief.search.in_force() if not told.startswith(("dates", "collection", "inside"))]
    if limits:
        yield "limits", "; ".join(limits)
    yield "days chosen", ", ".join(plan.days)
    yield "grid", f"{plan.grid.width} x {plan.grid.height} px of {plan.grid.pixel_text} in {plan.grid.crs}"
    yield "bands", ", ".join(brief.bands)


def _map(area: Area, entries: Sequence[Entry]) -> Image | None:
    outlines = [Outline(entry.scene.footprint, str(number), entry.scene.cloud_percent, entry.cover_percent)
                for number, entry in enumerate(entries, 1) if entry.scene.has_footprint()]  # fmt: skip
    alt = f"Map of {area.name} with the footprints of {len(outlines)} scenes over it"
    with TemporaryDirectory() as folder:
        path = Path(folder) / "map.png"
        footprint_map(area, outlines, area.name, path)
        return _from_png(path, _MAP_PX, alt)


def _calendar(scenes: Sequence[Scene]) -> Image | None:
    best: dict[tuple[Any, str], float | None] = {}
    for scene in scenes:
        key, cloud = (scene.when.date(), scene.platform or scene.collection), scene.cloud_percent
        before = best.get(key)
        best[key] = cloud if before is None else min(before, cloud if cloud is not None else before)
    marks = [Mark(day, cloud, platform) for (day, platform), cloud in sorted(best.items(), key=lambda row: row[0])]
    days = ", ".join(sorted({f"{mark.day:%Y-%m-%d}" for mark in marks}))
    with TemporaryDirectory() as folder:
        path = Path(folder) / "calendar.png"
        calendar_picture(marks, "Days of the scenes", path)
        return _from_png(path, 1280, f"Calendar of the scenes' days: {days}")


def _from_png(path: Path, widest_px: int, alt: str) -> Image:
    data, width, height = canvas.smaller_png(path, widest_px)
    return Image("image/png", data, width, height, alt)


def _image(pixels: Pixels, alt: str, is_flat: bool = False) -> Image:
    """Pixels, shape (rows, cols, 4) or (rows, cols, 3), on white: JPEG, or PNG for few colours."""
    colours = pixels[..., :3].astype(np.uint8)
    if pixels.shape[2] > colours.shape[2]:
        colours = np.where(pixels[..., 3:] > 0, colours, 255).astype(np.uint8)
    data = canvas.few_colours(colours) if is_flat else canvas.jpeg(colours, _QUALITY)
    return Image("image/png" if is_flat else "image/jpeg", data, colours.shape[1], colours.shape[0], alt)


def _scene(study: Study, scene: Scene) -> SceneTold:
    def told(value: float | None, unit: str) -> str:
        return "not told" if value is None else f"{value:.0f}{unit}"

    return SceneTold(
        scene.id, scene.when.strftime("%Y-%m-%d %H:%M UTC"), scene.platform, scene.collection,
        told(scene.cloud_percent, " %"), told(scene.sun_elevation_deg, "°"), told(scene.off_nadir_deg, "°"),
        _quicklook(study, scene),
    )  # fmt: skip


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
    return _image(colours, f"Quicklook of {scene.id}")


def _product(study: Study, step: Step, area: Area, kind: str) -> ProductTold:
    name = step.output.relative_to(study.root / "products").as_posix()
    record = _record(step.output)
    properties = record.get("properties", {})
    data = record.get("assets", {}).get("data", {})
    bands = data.get("bands", [])
    made_by: JsonObject = next(iter(properties.get("zoompick:steps", [])), {})
    image, legend = _shown(step, name)
    changes = tuple(_changes(step, area))
    if changes and legend:
        # The legend's shares are of the picture; the ground of each class is exact.
        named = {told: f"{hectares}, {share}" for told, hectares, share, _ in changes}
        legend = replace(legend, rows=tuple((colour, told, named.get(told, "")) for colour, told, _ in legend.rows))
    shares = [band.get("statistics", {}).get("valid_percent") for band in bands]
    known = [share for share in shares if share is not None]
    valid = f"{min(known):.1f} %" if known else ""
    return ProductTold(
        name=name,
        step=step.name,
        what=_what(bands, properties),
        size=human_bytes(step.output.stat().st_size),
        valid=valid,
        made=str(properties.get("created", "")),
        version=str(properties.get("processing:software", {}).get("zoompick", "")),
        checksum=str(data.get("file:checksum", "")),
        inputs=tuple(Path(str(link.get("href", ""))).name for link in record.get("links", [])),
        options=json.dumps(made_by.get("options", {}), ensure_ascii=False)[:2000],
        image=image,
        legend=legend,
        words=step.words,
        command=f"zoompick run --only {kind}" if kind else "zoompick run",
    )


def _what(bands: Sequence[JsonMap], properties: JsonMap) -> str:
    names = [str(band.get("name")) for band in bands]
    several = f"{len(names)} bands: {', '.join(names[:8])}" if names else "a picture"
    told = names[0] if len(names) == 1 else several
    shape = properties.get("proj:shape")
    return f"{told}, {shape[1]} x {shape[0]} px" if shape else told


def _record(path: Path) -> JsonObject:
    try:
        told = read_json(sidecar_of(path))
    except DataError:
        return {}
    return told if isinstance(told, dict) else {}


def _shown(step: Step, name: str) -> tuple[Image | None, Legend | None]:
    if step.traits.is_between:
        return None, None
    if step.output.suffix.lower() == ".png":
        return _from_png(step.output, _PAIR_PX, f"{step.name} {name}"), None
    if step.output.suffix.lower() not in (".tif", ".tiff"):
        return None, None
    try:
        made = shown(step.output, _FACE_PX)
    except (UsageError, DataError):
        return None, None
    is_flat = isinstance(made.legend, Classes)
    return _image(made.panel.pixels, f"{step.name} {name}", is_flat), _legend(made.legend)


def _legend(legend: Scale | Classes | None) -> Legend | None:
    if isinstance(legend, Classes):
        return Legend(rows=tuple((colour, name, f"{share:.1f} %") for colour, name, share in legend.rows))
    if isinstance(legend, Scale):
        values = np.linspace(legend.low, legend.high, 9)[None, :]
        colours = coloured(values, np.ones(values.shape, bool), legend)[0, :, :3]
        steps = tuple(f"#{r:02x}{g:02x}{b:02x}" for r, g, b in colours.tolist())
        return Legend(legend.label, steps, f"{legend.low:.3g}", f"{legend.high:.3g}")
    return None


def _changes(step: Step, area: Area) -> Iterator[tuple[str, str, str, int]]:
    """Ground of each class of a change, inside the area: name, hectares, share of what was seen both times, code."""
    if step.traits.holds != "change":
        return
    names = {int(row["value"]): str(row["name"]) for row in
             _record(step.output).get("properties", {}).get("classification:classes", [])}  # fmt: skip
    ground = ground_of(step.output, area)
    total = sum(ground.values()) or 1.0
    for code, name in names.items():
        share = ground.get(code, 0.0)
        yield name, f"{share / 1e4:.1f} ha", f"{100 * share / total:.1f} %", code


def _sentences(plan: StudyPlan, area: Area) -> Iterator[str]:
    for step in plan.steps:
        if step.traits.holds == "change" and step.output.is_file():
            recipe = step.options().get("recipe")
            of = f" ({recipe[0]})" if isinstance(recipe, list) else ""
            rows = sorted(_changes(step, area), key=lambda row: _FIRST.index(row[3]) if row[3] in _FIRST else 99)
            told = ", ".join(f"{hectares} {name}" for name, hectares, _, _ in rows)
            unseen = max(0.0, 100 - 100 * sum(ground_of(step.output, area).values()) / (area.size_km2 * 1e6))
            hidden = f"{unseen:.1f} % of the area could not be seen both times"
            yield f"{step.output.stem}{of}, inside {area.name}: {told}; {hidden}."


_FIRST = (3, 1, 4, 2)
"""Codes of change by what people ask for first: what was gained, what was lost."""


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
            yield Pair(name, _image(one, f"{name} on {labels[0]}"), _image(two, f"{name} on {labels[1]}"), labels)
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
