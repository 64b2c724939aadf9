"""Maps of areas and footprints: graticule, scale bar and north, in a plane about the middle of what is shown."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zoompick.area.model import Area
from zoompick.area.places import known
from zoompick.arrays import Floats
from zoompick.figures import style
from zoompick.figures.labels import Frame, Labels
from zoompick.files import human_km2
from zoompick.geo.crs import LocalPlane
from zoompick.geo.shapes import Shape
from zoompick.later import np, shapely

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MARGIN = 0.18


@dataclass(frozen=True, slots=True)
class Outline:
    """A footprint to draw: its number, and percent of cloud (None where none is told) and of the area covered."""

    polygon: Shape
    number: str
    cloud: float | None
    cover: float


_FURNITURE = ((0.02, 0.03, 0.30, 0.13), (0.94, 0.82, 0.99, 0.97))
"""Where scale bar and arrow lie, as shares of the map."""
_POLAR = 80.0
"""Degrees of latitude beyond which north is another way at each place of a map: no arrow tells it."""
_SHORE = 1.0
"""How far from land, in square roots of its size, the sea is known to be sea."""
_LINES = 14
"""Footprints that the list of one cell tells; how many more there are stands below."""
_SAME_CELL = 0.7
"""Share of a footprint that lies in another from which on both share a cell."""


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

    @property
    def window(self) -> Shape:
        """What the map shows, in metres."""
        return shapely.box(*self.extent)

    def shown(self, polygon: Shape) -> Shape | None:
        """The part of a polygon that lies on the map, in metres; None where none does."""
        west, south, east, north = self.extent
        lats = self.plane.inverse([west, east, west, east, 0, 0], [south, south, north, north, south, north])[1]
        _, low, _, high = polygon.bounds
        if high < min(lats) - 1 or low > max(lats) + 1:
            return None
        flat = self.flat(polygon)
        if not np.isfinite(shapely.get_coordinates(flat)).all():
            return None
        part = shapely.intersection(shapely.make_valid(flat), self.window)
        return part if part.area > 0 else None


def area_map(area: Area, path: Path) -> None:
    """Draw an area with the places around it as a PNG of about 1280 x 800 pixels."""
    view = MapView(area)
    drawn, axes = _axes(view, f"{area.name}: {human_km2(area.size_km2)}", area.description)
    _fill(axes, view.flat(area.polygon), style.AREA, 0.22, 1.8)
    _names(Labels(axes, _FURNITURE), axes, view)
    style.save(drawn, path)


def footprint_map(area: Area, outlines: Sequence[Outline], title: str, path: Path) -> None:
    """Draw scene footprints over an area as a PNG of about 1280 x 800 pixels.

    Footprints that lie over each other, as those of one tile do, share a list of their numbers, cloud and cover.
    """
    view = MapView(area, [entry.polygon for entry in outlines])
    drawn, axes = _axes(view, title, "Numbers as in the search, with cloud over the scene and cover of the area.")
    shapes = [view.flat(entry.polygon) for entry in outlines]
    for entry, shape in zip(outlines, shapes, strict=True):
        _fill(axes, shape, style.SCENE, min(0.12, 0.8 / len(outlines)) * (0.4 + entry.cover / 100), 0.9)
    ground = view.flat(area.polygon)
    _fill(axes, ground, style.AREA, 0.20, 1.8)
    labels = Labels(axes, _FURNITURE)
    for cell, rows in _cells(outlines, shapes, view):
        labels.inside(_listed(rows), cell, ground.bounds, fontsize=7.5, color=style.SCENE, zorder=7,
                      family="DejaVu Sans Mono", linespacing=1.15,
                      bbox={"boxstyle": "round,pad=0.3", "fc": style.PAPER, "ec": style.SCENE, "lw": 0.5,
                            "alpha": 0.92})  # fmt: skip
    _names(labels, axes, view)
    style.save(drawn, path)


def _cells(outlines: Sequence[Outline], shapes: Sequence[Shape], view: MapView) -> list[tuple[Frame, list[Outline]]]:
    """Footprints by the place where they lie: those mostly inside a larger one share its frame."""
    window = view.window
    groups: list[tuple[Shape, list[int]]] = []
    for place in sorted(range(len(shapes)), key=lambda place: -shapes[place].area):
        shape = shapes[place]
        for larger, members in groups:
            if shapely.intersection(larger, shape).area > _SAME_CELL * max(shape.area, 0.2 * larger.area):
                members.append(place)
                break
        else:
            groups.append((shape, [place]))
    return [
        (shapely.intersection(larger, window).bounds, [outlines[place] for place in sorted(members)])
        for larger, members in groups
        if larger.intersects(window)
    ]


def _listed(rows: Sequence[Outline]) -> str:
    """Number, cloud and cover of each, in columns."""
    wide = max(2, *(len(row.number) for row in rows)) if rows else 2
    lines = [f"{'':{wide}} cloud cover"]
    for row in rows[:_LINES]:
        cloud = "  ?  " if row.cloud is None else f"{row.cloud:3.0f} %"
        lines.append(f"{row.number:>{wide}} {cloud} {row.cover:3.0f} %")
    return "\n".join([*lines, *([f"and {len(rows) - _LINES} more"] if len(rows) > _LINES else [])])


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
    _land(axes, view)
    _graticule(axes, view)
    _scale_bar(axes, view)
    drawn.text(0.07, 0.945, style.plain(title), fontsize=13, fontweight="bold")
    if subtitle:
        drawn.text(0.07, 0.915, style.plain(subtitle), fontsize=9.5, color=style.SCENE)
    return drawn, axes


def _land(axes: Axes, view: MapView) -> None:
    """Land and lakes where a gazetteer has their outlines; a blank face where none does.

    What is not land is called sea only near the land of the gazetteer, for it need not know other shores.
    """
    axes.set_facecolor("white")
    known_land = [place.ground for place in known() if place.kind == "land" and place.ground is not None]
    for ground in known_land:
        land = view.shown(ground)
        if land is None:
            continue
        whole = view.flat(ground)
        if whole.buffer(_SHORE * math.sqrt(whole.area)).envelope.contains(view.window):
            axes.set_facecolor(style.WATER)
        _fill(axes, land, style.LAND, 1.0, 0.6, style.SHORE)
        for place in known():
            if place.kind == "lake" and place.ground is not None and (lake := view.shown(place.ground)) is not None:
                _fill(axes, lake, style.WATER, 1.0, 0.6, style.SHORE)


def _fill(axes: Axes, flat: Shape, colour: str, alpha: float, width: float, edge: str = "") -> None:
    from matplotlib.patches import PathPatch
    from matplotlib.path import Path as Outline_

    order = 3 if not edge else 0.5
    for part in shapely.get_parts(flat):
        if part.geom_type != "Polygon":
            continue
        rings = [shapely.get_coordinates(ring) for ring in (part.exterior, *part.interiors)]
        codes = [code for ring in rings for code in [1] + [2] * (len(ring) - 2) + [79]]
        path = Outline_(np.vstack(rings), codes)
        axes.add_patch(PathPatch(path, fc=colour, ec="none", alpha=alpha, zorder=order))
        axes.add_patch(PathPatch(path, fc="none", ec=edge or colour, lw=width, zorder=order + (0 if edge else 1)))


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
        if place.gazetteer == "towns" or place.kind in ("region", "district", "land"):
            continue
        x, y = (float(value) for value in view.plane.forward(place.lon, place.lat))
        if not (west < x < east and south < y < north):
            continue
        if place.ground is None:
            axes.plot([x], [y], "o", ms=3.5, color=style.INK, zorder=5)
        labels.beside(
            place.name, (x, y), fontsize=8.5, zorder=5, style="normal" if place.ground is None else "italic"
        )
