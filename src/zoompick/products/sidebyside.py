"""Two dates drawn side by side with the same shades, and the ground that changed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from zoompick.area.model import Area
from zoompick.errors import GridError, UsageError
from zoompick.figures.face import Classes, Panel, Paper, Sheet, coloured, draw_sheet
from zoompick.geo.shapes import project
from zoompick.jsontypes import JsonObject
from zoompick.later import np
from zoompick.products import recipes
from zoompick.products.change import COLOURS, GAINED, LOST, Rule, areas_m2
from zoompick.products.composite import Composite
from zoompick.products.curves import Curve, curves_for
from zoompick.products.drawing import Look, credits_of, fitted, scale_for
from zoompick.products.index import Index
from zoompick.products.tone import Tone
from zoompick.raster.grid import Grid
from zoompick.raster.masks import PolygonMask
from zoompick.raster.part import AtLevel
from zoompick.raster.raster import Raster, band_index, valid_mask
from zoompick.raster.warp import resampled_to
from zoompick.scenes.opening import open_raster


@dataclass(frozen=True)
class Comparison:
    """What is compared and how it is shown."""

    before: Path
    after: Path
    index: str = ""
    above: float | None = None
    by: float | None = None
    recipe: str = ""
    colours: str = ""
    limits: tuple[float, float] | None = None
    area: Area | None = None
    title: str = ""
    caption: str = ""


def panels_of(wish: Comparison, face_px: int) -> tuple[list[Panel], Any]:
    """Both faces with the same shades, and a legend where values are shown."""
    rasters = [_coarse(path, face_px) for path in (wish.before, wish.after)]
    first = rasters[0].grid
    heads = [credits_of(path) or path.stem for path in (wish.before, wish.after)]
    kinds = [_kind(raster, wish) for raster in rasters]
    if kinds[0] != kinds[1]:
        raise UsageError(f"{wish.before.name} and {wish.after.name} show different things.", "Compare two of a kind.")
    laid = [rasters[0], _on(rasters[1], first, wish.after.name)]
    if kinds[0] == "picture":
        return [_picture(raster, first, head, face_px) for raster, head in zip(laid, heads, strict=True)], None
    if kinds[0] == "composite":
        recipe = recipes.composite(wish.recipe or "natural")
        bands = [
            [band_index(r, b, p.name) for b in recipe.bands]
            for r, p in zip(laid, (wish.before, wish.after), strict=True)
        ]
        curves = _alike(laid, bands)
        told = [curve.to_json(laid[0].bands[index]) for curve, index in zip(curves, bands[0], strict=True)]
        shown = [
            Composite(
                raster, own, [Curve.from_json(row, raster.bands[i]) for row, i in zip(told, own, strict=True)], Tone()
            )
            for raster, own in zip(laid, bands, strict=True)
        ]
        return [_picture(raster, first, head, face_px) for raster, head in zip(shown, heads, strict=True)], None
    name = wish.index or laid[0].bands[0].name
    if wish.index:
        one = recipes.index(wish.index)
        paths = (wish.before, wish.after)
        laid = [Index(raster, one.name, one.formula, path.name) for raster, path in zip(laid, paths, strict=True)]
    values = [_physical(raster, first) for raster in laid]
    joined = np.concatenate([v[ok] for v, ok in values]) if any(ok.any() for _, ok in values) else np.zeros(1)
    scale = scale_for(joined, name, Look(wish.colours, wish.limits))
    return [
        Panel(fitted(coloured(v, ok, scale), face_px), first, head)
        for (v, ok), head in zip(values, heads, strict=True)
    ], scale


def _alike(rasters: Sequence[Raster], bands: Sequence[Sequence[int]]) -> list[Curve]:
    """Shades for both, in stored values of the first: its darker end and less bright one, for clouds are bright."""
    told = []
    for raster, own in zip(rasters, bands, strict=True):
        curves = curves_for(raster, own, Tone())
        told.append([curve.to_json(raster.bands[place]) for curve, place in zip(curves, own, strict=True)])
    found = []
    for first, second, place in zip(*told, bands[0], strict=True):
        low = min(first["values"][0], second["values"][0])
        high = min(first["values"][-1], second["values"][-1])
        joint = {"values": [low, max(high, low + 1e-9)], "shares": [0.0, 1.0]}
        found.append(Curve.from_json(joint, rasters[0].bands[place]))
    return found


def _kind(raster: Raster, wish: Comparison) -> str:
    if wish.index or len(raster.bands) == 1:
        return "values"
    if wish.recipe or raster.dtype != np.uint8 or len(raster.bands) != 3:
        return "composite"
    return "picture"


def _coarse(path: Path, face_px: int) -> Raster:
    raster = open_raster(path)
    level = max((n for n, grid in enumerate(raster.levels) if grid.width >= face_px), default=0)
    return AtLevel(raster, level) if level else raster


def _on(raster: Raster, grid: Grid, name: str) -> Raster:
    if raster.grid.shares_lattice(grid) and raster.grid.window == grid.window:
        return raster
    try:
        return resampled_to(raster, grid)
    except GridError as error:
        raise GridError(f"{name} cannot be laid on the other: {error.what}", error.todo) from error


def _picture(raster: Raster, grid: Grid, head: str, face_px: int) -> Panel:
    pixels = raster.read(grid.window, (0, 1, 2))
    there = (pixels != 0).any(axis=0)
    return Panel(fitted(np.dstack([*pixels, np.where(there, 255, 0).astype(np.uint8)]), face_px), grid, head)


def _physical(raster: Raster, grid: Grid) -> tuple[Any, Any]:
    stored = raster.read(grid.window, (0,))[0]
    band = raster.bands[0]
    return stored * band.scale + band.offset, valid_mask(stored, raster.nodata)


def draw_change(wish: Comparison, change: Path, target: Path, paper: Paper | None = None) -> tuple[int, int]:
    """Draw two dates side by side and a change layer that is there; the picture's size in pixels."""
    paper = paper or Paper()
    face_px = max(200, round(paper.width_px * 0.42))
    panels, _ = panels_of(replace(wish, index=""), face_px)
    _, sentences, panel, classes = change_shown(wish, change, face_px)
    outline = wish.area.polygon if wish.area else None
    sheet = Sheet((*panels, panel), wish.title, " ".join(sentences), classes, None, outline, where=False)
    return draw_sheet(sheet, target, paper)


def change_shown(wish: Comparison, change: Path, face_px: int) -> tuple[list[Any], tuple[str], Panel, Classes]:
    """The ground of each class, a sentence on it, and the face that shows it."""
    rule = Rule(wish.above, wish.by)
    areas = ground_of(change, wish.area)
    index = wish.index or open_raster(wish.after).bands[0].name
    total = sum(areas.values()) or 1.0
    names = rule.names(index)
    rows = [_row(code, name, areas.get(code, 0.0), total) for code, name in names.items()]
    gained, lost = areas.get(GAINED, 0) / 1e4, areas.get(LOST, 0) / 1e4
    where = f" inside {wish.area.name}" if wish.area is not None else ""
    what = f"above {rule.above:g}" if rule.above is not None else f"changed by {rule.by:g} or more"
    sentence = f"{index}{where}: {gained:.1f} ha gained, {lost:.1f} ha lost, {gained - lost:+.1f} ha in all ({what})."
    coarse = _coarse(change, face_px)
    codes = coarse.read(coarse.grid.window)[0]
    colours = np.zeros((*codes.shape, 4), np.uint8)
    for code, colour in COLOURS.items():
        colours[codes == code] = [*(int(colour[at : at + 2], 16) for at in (1, 3, 5)), 255]
    classes = Classes(tuple((COLOURS[row["value"]], row["name"], row["percent"]) for row in rows))
    panel = Panel(fitted(colours, face_px), coarse.grid, f"change of {index}")
    return rows, (sentence,), panel, classes


def ground_of(change: Path, area: Area | None = None) -> dict[int, float]:
    """Square metres of each class of a change layer, inside an area where one is given."""
    raster = open_raster(change)
    mask = None if area is None else PolygonMask(project(area.polygon, raster.grid.crs), raster.grid)
    return areas_m2(raster, mask)


def _row(code: int, name: str, area_m2: float, total_m2: float) -> JsonObject:
    return {"value": code, "name": name, "ha": round(area_m2 / 1e4, 3), "km2": round(area_m2 / 1e6, 5),
            "percent": round(100 * area_m2 / total_m2, 3)}  # fmt: skip
