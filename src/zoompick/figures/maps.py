"""Maps of areas and footprints: graticule, scale bar and north, in a plane about the middle of what is shown."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import shapely

from zoompick.area.model import Area
from zoompick.area.places import known
from zoompick.figures import style
from zoompick.figures.labels import Labels
from zoompick.files import human_km2
from zoompick.geo.crs import Floats, LocalPlane
from zoompick.geo.shapes import Shape

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MARGIN = 0.18


@dataclass(frozen=True, slots=True)
class Outline:
    """A footprint to draw, with a label and how dark it is (0 to 1)."""

    polygon: Shape
    label: str
    weight: float = 0.5


_FURNITURE = ((0.02, 0.03, 0.30, 0.13), (0.94, 0.82, 0.99, 0.97))
"""Where scale bar and arrow lie, as shares of the map."""
_POLAR = 80.0
"""Degrees of latitude beyond which north is another way at each place of a map: no arrow tells it."""


class MapView:
    """A plane in metres about the middle of a polygon, joined across the antimeridian."""

    def __init__(self, area: Area, others: Sequence[Shape] = ()) -> None:
        self._shift = area.crosses_antimeridian
        self.middle = area.centre
        self.plane = LocalPlane(*self.middle)
        shapes = [self.flat(area.polygon), *(self.flat(other) for other in others)]
        west, south, east, north = shapely.total_bounds(shapes)
        pad = _MARGIN * max(east - west, north - south) / 2
        self.extent = (west - pad, south - pad, east + pad, north + pad)

    def flat(self, polygon: Shape) -> Shape:
        """A polygon in metres."""
        dense = shapely.segmentize(polygon, 0.05)

        def carry(xy: Floats) -> Floats:
            lons = np.where(self._shift & (xy[:, 0] < 0), xy[:, 0] + 360, xy[:, 0])
            return np.column_stack(self.plane.forward(lons, xy[:, 1]))

        flat = shapely.transform(dense, carry)
        # Parts that met at the antimeridian are drawn as one, without a line between them.
        return (
            shapely.union_all(shapely.get_parts(flat), grid_size=0.01) if len(shapely.get_parts(flat)) > 1 else flat
        )


def area_map(area: Area, path: Path) -> None:
    """Draw an area with the places around it as a PNG of about 1280 x 800 pixels."""
    view = MapView(area)
    drawn, axes = _axes(view, f"{area.name}: {human_km2(area.size_km2)}", area.description)
    _fill(axes, view.flat(area.polygon), style.AREA, 0.22, 1.8)
    _names(Labels(axes, _FURNITURE), axes, view)
    style.save(drawn, path)


def footprint_map(area: Area, outlines: Sequence[Outline], title: str, path: Path) -> None:
    """Draw scene footprints over an area as a PNG of about 1280 x 800 pixels."""
    view = MapView(area, [entry.polygon for entry in outlines])
    drawn, axes = _axes(view, title, "")
    for entry in outlines:
        flat = view.flat(entry.polygon)
        _fill(axes, flat, style.SCENE, min(0.12, 0.8 / len(outlines)) * (0.4 + entry.weight), 0.9)
    _fill(axes, view.flat(area.polygon), style.AREA, 0.20, 1.8)
    labels = Labels(axes, _FURNITURE)
    _numbers(labels, view, outlines)
    _names(labels, axes, view)
    style.save(drawn, path)


def _numbers(labels: Labels, view: MapView, outlines: Sequence[Outline]) -> None:
    """Numbers in the upper left corner of each footprint; those of the same corner share a line."""
    groups: dict[tuple[int, int], tuple[tuple[float, float], list[str]]] = {}
    west, south, east, north = view.extent
    cell = max(east - west, north - south) / 9
    for entry in outlines:
        flat = view.flat(entry.polygon)
        points = shapely.get_coordinates(flat)
        corner = points[np.argmax(points[:, 1] - points[:, 0])]
        x, y = min(max(corner[0], west), east), min(max(corner[1], south), north)
        group = groups.setdefault((round(x / cell), round(y / cell)), ((x, y), []))
        group[1].append(entry.label)
    for spot, numbers in groups.values():
        text = ", ".join(numbers[:8]) + (f" +{len(numbers) - 8}" if len(numbers) > 8 else "")
        labels.below(text, spot, fontsize=8, color=style.SCENE, zorder=7,
                     bbox={"boxstyle": "round,pad=0.15", "fc": style.PAPER, "ec": "none"})  # fmt: skip


def _axes(view: MapView, title: str, subtitle: str) -> tuple[Any, Any]:
    drawn = style.figure(11.64, 7.27)
    axes = drawn.add_axes((0.07, 0.07, 0.88, 0.83))
    west, south, east, north = view.extent
    ratio = (0.88 * 11.64) / (0.83 * 7.27)
    if (east - west) / (north - south) < ratio:
        grow = ((north - south) * ratio - (east - west)) / 2
        west, east = west - grow, east + grow
    else:
        grow = ((east - west) / ratio - (north - south)) / 2
        south, north = south - grow, north + grow
    view.extent = (west, south, east, north)
    axes.set_xlim(west, east)
    axes.set_ylim(south, north)
    axes.set_aspect("equal")
    axes.set_facecolor("white")
    _graticule(axes, view)
    _scale_bar(axes, view)
    drawn.text(0.07, 0.945, title, fontsize=13, fontweight="bold")
    if subtitle:
        drawn.text(0.07, 0.915, subtitle, fontsize=9.5, color=style.SCENE)
    return drawn, axes


def _fill(axes: Axes, flat: Shape, colour: str, alpha: float, width: float) -> None:
    from matplotlib.patches import PathPatch
    from matplotlib.path import Path as Outline_

    for part in shapely.get_parts(flat):
        rings = [shapely.get_coordinates(ring) for ring in (part.exterior, *part.interiors)]
        codes = [code for ring in rings for code in [1] + [2] * (len(ring) - 2) + [79]]
        path = Outline_(np.vstack(rings), codes)
        axes.add_patch(PathPatch(path, fc=colour, ec="none", alpha=alpha, zorder=3))
        axes.add_patch(PathPatch(path, fc="none", ec=colour, lw=width, zorder=4))


def _graticule(axes: Axes, view: MapView) -> None:
    """Meridians and parallels at round degrees, labelled where they leave the map at the left and below."""
    west, south, east, north = view.extent
    edge = np.linspace(0, 1, 60)
    xs = np.concatenate(
        [west + (east - west) * edge, np.full(60, east), west + (east - west) * edge, np.full(60, west)]
    )
    ys = np.concatenate(
        [np.full(60, south), south + (north - south) * edge, np.full(60, north), south + (north - south) * edge]
    )
    lons, lats = view.plane.inverse(xs, ys)
    middle = view.plane.inverse(np.array([(west + east) / 2]), np.array([(south + north) / 2]))[0][0]
    lons = middle + (lons - middle + 180) % 360 - 180
    for values, letters, is_lon in ((lons, "EW", True), (lats, "NS", False)):
        step = style.nice_step(float(values.max() - values.min()), 6)
        for value in np.arange(math.ceil(values.min() / step), math.floor(values.max() / step) + 1) * step:
            along = (
                np.linspace(lats.min() - 1, lats.max() + 1, 200)
                if is_lon
                else np.linspace(lons.min() - 1, lons.max() + 1, 200)
            )
            along = np.clip(along, -90, 90) if is_lon else along
            fixed = np.full(200, value)
            x, y = view.plane.forward(*((fixed, along) if is_lon else (along, fixed)))
            axes.plot(x, y, color=style.FAINT, lw=0.5, zorder=1)
            text = style.degrees_text((value + 180) % 360 - 180 if is_lon else value, letters, step)
            _edge_label(axes, view, x, y, text, is_lon)


def _edge_label(axes: Axes, view: MapView, x: Floats, y: Floats, text: str, below: bool) -> None:
    west, south, east, north = view.extent
    moving, other, at = (y, x, south) if below else (x, y, west)
    order = np.argsort(moving)
    place = float(np.interp(at, moving[order], other[order]))
    low, high = (west, east) if below else (south, north)
    if low + 0.03 * (high - low) < place < high - 0.03 * (high - low):
        spot, offset = ((place, south), (0, -4)) if below else ((west, place), (-4, 0))
        axes.annotate(text, spot, xytext=offset, textcoords="offset points", fontsize=8, annotation_clip=False,
                      ha="center" if below else "right", va="top" if below else "center",
                      rotation=0 if below else 90)  # fmt: skip
    axes.set_xticks([])
    axes.set_yticks([])


def _scale_bar(axes: Axes, view: MapView) -> None:
    west, south, east, north = view.extent
    length = style.nice_step((east - west) / 5, 1)
    length = length if length <= (east - west) / 4 else length / 2
    x, y = west + 0.03 * (east - west), south + 0.05 * (north - south)
    tall = 0.008 * (north - south)
    for part, colour in ((0, style.INK), (1, "white")):
        left, right = x + part * length / 2, x + (part + 1) * length / 2
        corners = [left, right, right, left], [y, y, y + tall, y + tall]
        axes.fill(*corners, fc=colour, ec=style.INK, lw=0.8, zorder=6)
    text = f"{length / 1000:g} km" if length >= 1000 else f"{length:g} m"
    axes.text(x + length, y + 2 * tall, text, ha="right", va="bottom", fontsize=9, zorder=6)
    if abs(view.middle[1]) > _POLAR:
        return
    # North at the middle of the map is straight up: the plane is drawn about it.
    arrow_x, arrow_y = west + 0.965 * (east - west), south + 0.90 * (north - south)
    axes.annotate("N", (arrow_x, arrow_y + 0.045 * (north - south)), (arrow_x, arrow_y - 0.045 * (north - south)),
                  ha="center", va="center", fontsize=10, zorder=6,
                  arrowprops={"arrowstyle": "-|>", "color": style.INK, "lw": 1.4})  # fmt: skip


def _names(labels: Labels, axes: Axes, view: MapView) -> None:
    """Known places on the map, points with a dot, grounds with their name only."""
    west, south, east, north = view.extent
    for place in known():
        if place.gazetteer == "towns" or place.kind in ("region", "district"):
            continue
        x, y = (float(value) for value in view.plane.forward(place.lon, place.lat))
        if not (west < x < east and south < y < north):
            continue
        if place.ground is None:
            axes.plot([x], [y], "o", ms=3.5, color=style.INK, zorder=5)
        labels.beside(
            place.name, (x, y), fontsize=8.5, zorder=5, style="normal" if place.ground is None else "italic"
        )
