"""A picture of a raster for a report: its face with graticule, scale bar, north, legend, words, and where it is."""

from __future__ import annotations

import io
import math
import textwrap
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from zoompick.area.model import Area
from zoompick.area.places import known
from zoompick.arrays import Floats, Pixels
from zoompick.errors import UsageError
from zoompick.figures import style
from zoompick.figures.layout import Room, Spot, laid_out
from zoompick.figures.maps import MapView
from zoompick.files import writing
from zoompick.geo.crs import LONLAT, transform
from zoompick.geo.shapes import Shape, outline_of, project
from zoompick.jsontypes import JsonObject
from zoompick.later import np, shapely
from zoompick.raster.grid import Grid
from zoompick.raster.pixelsize import middle_sizes_m

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

FORMATS = (".png", ".jpg", ".jpeg", ".pdf", ".svg")
_MOST_PX = 120_000_000
_DPI = 150
_LONGEST = 24


@dataclass(frozen=True)
class Scale:
    """Legend of continuous values: colours by name, and the values at both ends."""

    colours: str
    low: float
    high: float
    label: str


@dataclass(frozen=True)
class Classes:
    """Legend of classes: colour, name and share in percent of each."""

    rows: tuple[tuple[str, str, float], ...]


@dataclass(frozen=True)
class Panel:
    """One face: pixels (rows, cols, 4), where they lie, and a heading."""

    pixels: Pixels
    grid: Grid
    heading: str = ""


@dataclass(frozen=True)
class Sheet:
    """All that a picture shows.

    Attributes
    ----------
    panels : tuple of Panel
        Side by side.
    legend : Scale, Classes or None
    second : Scale or None
        Below the first, where some panels show values and one shows classes.
    outline : Shape or None
        In longitude/latitude.
    where : bool
        An inset of where it is, where a gazetteer knows the land about.
    """

    panels: tuple[Panel, ...]
    title: str = ""
    caption: str = ""
    legend: Scale | Classes | None = None
    second: Scale | None = None
    outline: Shape | None = None
    where: bool = True
    lines: tuple[str, ...] = field(default=())


@dataclass(frozen=True)
class Paper:
    """Width of a picture: in pixels, or in millimetres with dots an inch."""

    width_px: int = 1280
    dpi: int = _DPI

    @classmethod
    def of(cls, width_px: int | None, width_mm: float | None, dpi: int | None) -> Paper:
        """Read what a person gives.

        Raises
        ------
        UsageError
            Both widths, or sizes that cannot be.
        """
        if width_px is not None and width_mm is not None:
            raise UsageError("A width in pixels and one in millimetres were given.", "Give one.")
        dots = dpi or (300 if width_mm is not None else _DPI)
        if not 30 <= dots <= 2400:
            raise UsageError(f"{dots} dots an inch cannot be used.", "From 30 to 2400.")
        width = width_px if width_mm is None else round(width_mm / 25.4 * dots)
        width = 1280 if width is None else width
        if not 200 <= width <= 60_000:
            raise UsageError(f"A picture {width} px wide cannot be made.", "From 200 to 60000.")
        return cls(width, dots)


def draw_sheet(sheet: Sheet, path: Path, paper: Paper) -> tuple[int, int]:
    """Draw a sheet in the format of the path's ending; returns its size in pixels.

    Raises
    ------
    UsageError
        Too large: the message tells the largest width that fits.
    """
    first, count = sheet.panels[0].grid, len(sheet.panels)
    aspect = (first.height * first.pixel_y) / (first.width * first.pixel_x)
    legends = [one for one in (sheet.legend, sheet.second) if one is not None]
    head = 0.055 + 0.02 * bool(sheet.lines) + 0.025 * any(panel.heading for panel in sheet.panels)
    foot = 0.06 + 0.022 * len(_wrapped(sheet.caption))
    plan = laid_out(Room(aspect, count, len(legends), head, foot))
    refuse_large(paper.width_px, plan.height)
    inches = paper.width_px / paper.dpi
    drawn = style.figure(inches, inches * plan.height)
    drawn.set_dpi(paper.dpi)
    size = 10 * inches / 8.5
    wide = plan.faces[0].width
    # All headings as small as the longest asks for.
    longest = max(20, *(len(panel.heading) for panel in sheet.panels))
    in_heading = size * min(1.0, 62 * wide / longest)
    for number, (panel, spot) in enumerate(zip(sheet.panels, plan.faces, strict=True)):
        axes = drawn.add_axes(spot.on_page(plan.height))
        _face(axes, panel, sheet, size * min(1.0, 0.55 + wide), number == 0, number in plan.labelled)
        if panel.heading:
            drawn.text(spot.left, (spot.bottom + spot.height + 0.008) / plan.height, style.plain(panel.heading),
                       fontweight="bold", fontsize=in_heading)  # fmt: skip
    _words(drawn, sheet, plan.height, foot, size)
    for legend, spot in zip(legends, plan.legends, strict=True):
        _legend(drawn, legend, spot, plan.height, size)
    if sheet.where and plan.inset is not None:
        _inset(drawn, first, plan.inset.on_page(plan.height))
    _save(drawn, path, paper.dpi)
    return paper.width_px, round(paper.width_px * plan.height)


def _words(drawn: Figure, sheet: Sheet, height: float, foot: float, size: float) -> None:
    """Title and a line above the faces, the caption below them."""
    if sheet.title:
        large = min(1.35, 80 / max(1, len(sheet.title)))
        drawn.text(0.075, 1 - 0.036 / height, style.plain(sheet.title), fontsize=large * size, fontweight="bold")
    for line in sheet.lines[:1]:
        drawn.text(0.075, 1 - 0.058 / height, style.plain(line), fontsize=0.8 * size, color=style.SCENE)
    if any((panel.pixels[..., 3:] == 0).any() for panel in sheet.panels):
        drawn.text(0.975, (foot - 0.052) / height, "grey: no data", fontsize=0.75 * size, ha="right")
    for row, text in enumerate(_wrapped(sheet.caption)):
        place = (foot - 0.052 - 0.022 * row) / height
        drawn.text(0.075, place, style.plain(text), fontsize=0.8 * size, color=style.INK)


def refuse_large(width_px: int, height: float) -> None:
    """UsageError for a picture that would not fit in memory; ``height`` as a share of the width."""
    if width_px * width_px * height > _MOST_PX:
        most = int(math.sqrt(_MOST_PX / height))
        raise UsageError(
            f"A picture of {width_px} x {round(width_px * height)} px is too large to draw.",
            f"The largest that fits is {most} px wide; for all pixels take the GeoTIFF.",
        )


def _wrapped(text: str) -> list[str]:
    return textwrap.wrap(text, 118) if text else []


def _face(axes: Axes, panel: Panel, sheet: Sheet, size: float, has_furniture: bool, has_latitudes: bool) -> None:
    grid, bounds = panel.grid, panel.grid.bounds
    axes.imshow(
        panel.pixels,
        extent=(bounds.west, bounds.east, bounds.south, bounds.north),
        interpolation="antialiased",
        zorder=1,
    )
    axes.set_xlim(bounds.west, bounds.east)
    axes.set_ylim(bounds.south, bounds.north)
    axes.set_aspect("auto")
    axes.set_facecolor(style.NOTHING)
    axes.set_xticks([])
    axes.set_yticks([])
    _graticule(axes, grid, size, has_latitudes)
    if sheet.outline is not None:
        flat = project(sheet.outline, grid.crs)
        for part in shapely.get_parts(flat):
            for ring in (part.exterior, *part.interiors):
                xy = shapely.get_coordinates(ring)
                axes.plot(xy[:, 0], xy[:, 1], color="white", lw=2.6, zorder=5)
                axes.plot(xy[:, 0], xy[:, 1], color=style.AREA, lw=1.3, zorder=5)
    if has_furniture:
        _scale_bar(axes, grid, size)
        _north(axes, grid, size)


def _lines_of(grid: Grid) -> tuple[Floats, Floats]:
    """Longitudes and latitudes along the edges of a grid."""
    b, share = grid.bounds, np.linspace(0, 1, 40)
    xs = np.concatenate(
        [b.west + b.width * share, np.full(40, b.east), b.west + b.width * share, np.full(40, b.west)]
    )
    ys = np.concatenate([np.full(40, b.south), b.south + b.height * share, np.full(40, b.north),
                         b.south + b.height * share])  # fmt: skip
    lons, lats = transform(xs, ys, grid.crs, LONLAT)
    kept = np.isfinite(lons) & np.isfinite(lats)
    return lons[kept], lats[kept]


def _graticule(axes: Axes, grid: Grid, size: float, has_labels: bool) -> None:
    lons, lats = _lines_of(grid)
    if not lons.size or np.ptp(lons) > 180:
        return
    b = grid.bounds
    for values, letters, is_lon in ((lons, "EW", True), (lats, "NS", False)):
        step = style.nice_step(float(np.ptp(values)) or 1e-6, 4)
        for value in np.arange(math.ceil(values.min() / step), math.floor(values.max() / step) + 1) * step:
            along = np.linspace(*((lats.min(), lats.max()) if is_lon else (lons.min(), lons.max())), 100)
            fixed = np.full(100, value)
            points = (fixed, along) if is_lon else (along, fixed)
            x, y = transform(points[0], points[1], LONLAT, grid.crs)
            # Light beside dark: it is seen on forest and on cloud alike.
            axes.plot(x, y, color="white", lw=1.1, alpha=0.5, zorder=3)
            axes.plot(x, y, color=style.INK, lw=0.35, alpha=0.7, zorder=3)
            moving, other = (y, x) if is_lon else (x, y)
            order = np.argsort(moving)
            place = float(np.interp(b.south if is_lon else b.west, moving[order], other[order]))
            low, high = (b.west, b.east) if is_lon else (b.south, b.north)
            if (has_labels or is_lon) and low + 0.04 * (high - low) < place < high - 0.04 * (high - low):
                spot, offset = ((place, b.south), (0, -3)) if is_lon else ((b.west, place), (-3, 0))
                axes.annotate(style.degrees_text(value, letters, step), spot, xytext=offset,
                              textcoords="offset points", fontsize=0.7 * size, annotation_clip=False,
                              ha="center" if is_lon else "right", va="top" if is_lon else "center",
                              rotation=0 if is_lon else 90)  # fmt: skip


def _metres_a_unit(grid: Grid) -> float:
    """Metres on the ground that one unit of x is long in the middle of a grid."""
    return middle_sizes_m(grid, grid.window)[0] / grid.pixel_x


def _scale_bar(axes: Axes, grid: Grid, size: float) -> None:
    b, unit = grid.bounds, _metres_a_unit(grid)
    length = style.nice_step(b.width * unit / 5, 1)
    length = length if length <= b.width * unit / 4 else length / 2
    wide, tall = length / unit, 0.010 * b.height
    x, y = b.west + 0.03 * b.width, b.south + 0.035 * b.height
    pad = 0.012 * b.width
    axes.fill([x - pad, x + wide + pad, x + wide + pad, x - pad], [y - pad, y - pad, y + 6 * tall, y + 6 * tall],
              fc=style.PAPER, ec="none", alpha=0.82, zorder=6)  # fmt: skip
    for part, colour in ((0, style.INK), (1, "white")):
        left, right = x + part * wide / 2, x + (part + 1) * wide / 2
        axes.fill([left, right, right, left], [y, y, y + tall, y + tall], fc=colour, ec=style.INK, lw=0.7, zorder=7)
    text = f"{length / 1000:g} km" if length >= 1000 else f"{length:g} m"
    axes.text(x + wide / 2, y + 1.8 * tall, text, ha="center", va="bottom", fontsize=0.75 * size, zorder=7)


def _north(axes: Axes, grid: Grid, size: float) -> None:
    """An arrow to true north as it is in the middle of the face; none near a pole, where it turns."""
    b = grid.bounds
    x, y = (b.west + b.east) / 2, (b.south + b.north) / 2
    lon, lat = (float(v) for v in transform(x, y, grid.crs, LONLAT))
    if not (math.isfinite(lat) and abs(lat) < 80):
        return
    north_x, north_y = (float(v) for v in transform(lon, lat + 0.01, LONLAT, grid.crs))
    length = math.hypot(north_x - x, north_y - y)
    east, up = (north_x - x) / length, (north_y - y) / length
    foot_x, foot_y, long = b.east - 0.045 * b.width, b.north - 0.115 * b.height, 0.075 * b.height
    from matplotlib.patheffects import withStroke

    halo = [withStroke(linewidth=3.2, foreground=style.PAPER)]
    axes.annotate("", (foot_x + east * long, foot_y + up * long), (foot_x, foot_y), zorder=7,
                  arrowprops={"arrowstyle": "-|>", "color": style.INK, "lw": 1.3, "shrinkA": 0,
                          "shrinkB": 0, "path_effects": halo})  # fmt: skip
    axes.text(foot_x, foot_y - 0.008 * b.height, "N", ha="center", va="top", fontsize=0.8 * size, zorder=7,
              bbox={"boxstyle": "round,pad=0.12", "fc": style.PAPER, "ec": "none", "alpha": 0.8})  # fmt: skip


def _legend(drawn: Figure, legend: Scale | Classes, spot: Spot, height: float, size: float) -> None:
    left, low, wide, tall = spot.on_page(height)
    line = 1.75 * size / 72 / float(drawn.get_size_inches()[1])
    if isinstance(legend, Scale):
        bar = drawn.add_axes((left, low + 0.3 * line, 0.018, tall - 1.8 * line))
        ramp = np.linspace(0, 1, 256)[:, None]
        bar.imshow(ramp, extent=(0, 1, legend.low, legend.high), origin="lower", aspect="auto", cmap=legend.colours)
        bar.set_xticks([])
        bar.yaxis.tick_right()
        bar.ticklabel_format(axis="y", useOffset=False)
        bar.tick_params(labelsize=0.75 * size, length=2)
        drawn.text(left, low + tall - line, style.plain(legend.label), fontsize=0.85 * size, fontweight="bold")
        return
    from matplotlib.patches import Rectangle

    texts = [f"{share:.1f} %  {style.plain(_short(name))}" for _, name, share in legend.rows]
    # A letter is a hundred and sixtieth of the width at full size.
    points = 0.62 * size * min(1.35, 145 * wide / max(map(len, texts), default=1))
    step = max(1.75 * points * line / 1.75 / size, min(1.5 * line, tall * 0.95 / max(1, len(texts))))
    for number, ((colour, _, _), text) in enumerate(zip(legend.rows, texts, strict=True)):
        y = low + tall - step * (number + 1)
        box = (left, y), 0.016, 0.6 * step
        drawn.add_artist(Rectangle(*box, transform=drawn.transFigure, fc=colour, ec=style.INK, lw=0.4))
        drawn.text(left + 0.022, y + 0.1 * step, text, fontsize=points)


def _short(name: str) -> str:
    """A name that fits into a legend: what is too long loses its middle."""
    return name if len(name) <= _LONGEST else f"{name[: _LONGEST // 2]}…{name[-_LONGEST // 2 + 1 :]}"


def _inset(drawn: Figure, grid: Grid, place: tuple[float, float, float, float]) -> None:
    """The land about, and where the face lies on it; nothing where no gazetteer knows land there."""
    ground = outline_of(grid.bounds, grid.crs, max(grid.bounds.width, grid.bounds.height) / 16)
    land = [one.ground for one in known() if one.kind == "land" and one.ground is not None]
    land = [one for one in land if one.distance(ground) < 1]
    if not land:
        return
    axes = drawn.add_axes(place)
    view = MapView(Area("", ground), land)
    west, south, east, north = view.extent
    axes.set_xlim(west, east)
    axes.set_ylim(south, north)
    axes.set_aspect("equal")
    axes.set_facecolor(style.WATER)
    axes.set_xticks([])
    axes.set_yticks([])
    for one in land:
        for part in shapely.get_parts(view.flat(one)):
            xy = shapely.get_coordinates(part.exterior)
            axes.fill(xy[:, 0], xy[:, 1], fc=style.LAND, ec=style.SHORE, lw=0.4)
    xy = shapely.get_coordinates(view.flat(ground))
    axes.fill(xy[:, 0], xy[:, 1], fc="none", ec=style.AREA, lw=1.2)


def _save(drawn: Figure, path: Path, dpi: int) -> None:
    kind = {".jpg": "jpeg", ".jpeg": "jpeg"}.get(path.suffix.lower(), path.suffix.lower()[1:])
    buffer = io.BytesIO()
    more: JsonObject = {"pil_kwargs": {"quality": 92}} if kind == "jpeg" else {}
    if kind in ("pdf", "svg"):
        more["metadata"] = {"CreationDate": None} if kind == "pdf" else {"Date": None}
    drawn.savefig(buffer, format=kind, dpi=dpi, facecolor=drawn.get_facecolor(), **more)
    with writing(path) as out:
        out.write(buffer.getvalue())


def coloured(values: Pixels, valid: Pixels, scale: Scale) -> Pixels:
    """Values, shape (rows, cols), in the colours of a scale, shape (rows, cols, 4); transparent where not valid."""
    from matplotlib import colormaps

    share = np.clip((np.where(valid, values, scale.low) - scale.low) / ((scale.high - scale.low) or 1), 0, 1)
    picture = (colormaps[scale.colours](share) * 255).astype(np.uint8)
    picture[..., 3] = np.where(valid, 255, 0)
    return np.asarray(picture)
