"""Products as a report tells them: how they look, what they are made of, what checks say; absent ones, too."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

from zoompick.area.model import Area
from zoompick.errors import DataError, UsageError
from zoompick.figures.face import Classes, Scale, coloured
from zoompick.figures.report import Change, Image, Legend, Mark, ProductTold
from zoompick.files import human_bytes, human_names, read_json
from zoompick.journal import acts
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import np
from zoompick.products.drawing import Look, Shown, shown
from zoompick.products.sidebyside import ground_of
from zoompick.products.step import Step
from zoompick.scenes.finding import Finding, worst
from zoompick.scenes.sidecar import sidecar_of
from zoompick.study.brief import Brief
from zoompick.study.folder import Study
from zoompick.study.outdated import CURRENT, product_states
from zoompick.study.plan import StudyPlan

_FACE_PX, _PAIR_PX = 560, 960
_FIRST = (3, 1, 4, 2)
"""Codes of change by what people ask for first: what was gained, what was lost."""


def products_of(
    study: Study, brief: Brief, area: Area, plan: StudyPlan, findings: Sequence[Finding]
) -> Iterator[ProductTold]:
    """All products of the brief, in the order of making; one that is not there has a mark that says so."""
    states, reasons = product_states(study, brief), _reasons(study)
    looks = _Faces(plan.steps)
    for step in plan.steps:
        name = step.output.relative_to(study.root / "products").as_posix()
        mark = _mark(states.get(step.output.relative_to(study.root).as_posix(), CURRENT),
                     [finding for finding in findings if finding.subject == name])  # fmt: skip
        if step.output.is_file():
            yield replace(_product(name, step, area, looks), mark=mark, command=_command(plan, step))
        else:
            words = reasons.get(name) or reasons.get(step.output.name) or "Nothing tells why."
            yield ProductTold(name, step.name, mark=Mark("fail", f"Not made. {words}"), command=_command(plan, step))


def _command(plan: StudyPlan, step: Step) -> str:
    kind = plan.kinds.get(step.output, "")
    return f"zoompick run --only {kind}" if kind else "zoompick run"


def _reasons(study: Study) -> dict[str, str]:
    """Why products were not made, by the name that the journal has of them; the last word counts."""
    found: dict[str, str] = {}
    for row in acts(study.journal_file):
        if row.get("product"):
            found[str(row["product"])] = str(row.get("reason", "")) if row.get("outcome") != "done" else ""
    return found


def _mark(state: str, findings: Sequence[Finding]) -> Mark | None:
    """What a person has to know who looks at a product; None where all is well."""
    told = [] if state == CURRENT else [f"{state[:1].upper()}{state[1:]}."]
    for outcome in ("fail", "warn", "not judged"):
        names = [finding.check for finding in findings if finding.outcome == outcome]
        if names:
            told.append(f"{outcome[:1].upper()}{outcome[1:]}: {human_names(names, 4)}.")
    if not told:
        return None
    outcome = worst(findings) if findings else "warn"
    return Mark("warn" if outcome == "pass" else outcome, " ".join(told))


class _Faces:
    """Faces of products, those of several days of one thing in one range of values."""

    def __init__(self, steps: Sequence[Step]) -> None:
        self._read: dict[Path, Shown | None] = {}
        self._alike: dict[str, list[Path]] = {}
        for step in steps:
            if step.output.suffix.lower() in (".tif", ".tiff") and step.output.is_file():
                self._alike.setdefault(step.output.name, []).append(step.output)

    def of(self, path: Path) -> Shown | None:
        """How it is shown; None where it cannot be."""
        made = self._plain(path)
        scales = [one.legend for other in self._alike.get(path.name, ()) if (one := self._plain(other)) is not None]
        spans = [(one.low, one.high) for one in scales if isinstance(one, Scale)]
        if made is None or len(spans) < 2 or len(set(spans)) == 1:
            return made
        return shown(path, _FACE_PX, Look(limits=(min(low for low, _ in spans), max(high for _, high in spans))))

    def _plain(self, path: Path) -> Shown | None:
        if path not in self._read:
            try:
                self._read[path] = shown(path, _FACE_PX)
            except (UsageError, DataError):
                self._read[path] = None
        return self._read[path]


def _product(name: str, step: Step, area: Area, faces: _Faces) -> ProductTold:
    record = _record(step.output)
    properties = record.get("properties", {})
    data = record.get("assets", {}).get("data", {})
    bands = data.get("bands", [])
    made_by: JsonObject = next(iter(properties.get("zoompick:steps", [])), {})
    image, legend = _shown(step, name, faces)
    if legend and (rows := list(_ground(step, area))):
        # The legend's shares are of the picture; the ground of each class is exact.
        named = {told: f"{hectares}, {share}" for told, hectares, share, _ in rows}
        legend = replace(legend, rows=tuple((colour, told, named.get(told, "")) for colour, told, _ in legend.rows))
    shares = [band.get("statistics", {}).get("valid_percent") for band in bands]
    known = [share for share in shares if share is not None]
    return ProductTold(
        name=name,
        step=step.name,
        what=_what(bands, properties),
        size=human_bytes(step.output.stat().st_size),
        valid=f"{min(known):.1f} %" if known else "",
        made=str(properties.get("created", "")),
        version=str(properties.get("processing:software", {}).get("zoompick", "")),
        checksum=str(data.get("file:checksum", "")),
        inputs=tuple(Path(str(link.get("href", ""))).name for link in record.get("links", [])),
        options=json.dumps(made_by.get("options", {}), ensure_ascii=False)[:2000],
        image=image,
        legend=legend,
        words=step.words,
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


def _shown(step: Step, name: str, faces: _Faces) -> tuple[Image | None, Legend | None]:
    if step.traits.is_between:
        return None, None
    if step.output.suffix.lower() == ".png":
        return Image.from_png(step.output, _PAIR_PX, f"{step.name} {name}"), None
    made = faces.of(step.output) if step.output.suffix.lower() in (".tif", ".tiff") else None
    if made is None:
        return None, None
    is_flat = isinstance(made.legend, Classes)
    return Image.from_pixels(made.panel.pixels, f"{step.name} {name}", is_flat), _legend(made.legend)


def _legend(legend: Scale | Classes | None) -> Legend | None:
    if isinstance(legend, Classes):
        return Legend(rows=tuple((colour, name, f"{share:.1f} %") for colour, name, share in legend.rows))
    if isinstance(legend, Scale):
        values = np.linspace(legend.low, legend.high, 9)[None, :]
        colours = coloured(values, np.ones(values.shape, bool), legend)[0, :, :3]
        steps = tuple(f"#{r:02x}{g:02x}{b:02x}" for r, g, b in colours.tolist())
        label = f"{legend.label}, 0 in the middle" if legend.low == -legend.high else legend.label
        return Legend(label, steps, f"{legend.low:.3g}", f"{legend.high:.3g}")
    return None


def _ground(step: Step, area: Area) -> Iterator[tuple[str, str, str, int]]:
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


def changes_of(steps: Sequence[Step], area: Area) -> Iterator[Change]:
    """What changed, in hectares, of which index, and how much of the area could not be seen both times."""
    for step in steps:
        if step.traits.holds != "change" or not step.output.is_file():
            continue
        recipe = step.options().get("recipe")
        of = str(recipe[0]) if isinstance(recipe, list) else ""
        rows = sorted(_ground(step, area), key=lambda row: _FIRST.index(row[3]) if row[3] in _FIRST else len(_FIRST))
        unseen = max(0.0, 100 - 100 * sum(ground_of(step.output, area).values()) / (area.size_km2 * 1e6))
        yield Change(step.output.stem, of, area.name, tuple((told, ha) for told, ha, _, _ in rows), f"{unseen:.1f} %")
