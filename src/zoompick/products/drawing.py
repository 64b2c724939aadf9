"""Pictures for people: what a raster is decides how it is shown, and an overview is read where it will do."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from zoompick.arrays import Pixels
from zoompick.errors import DataError, UnknownNameError, UsageError
from zoompick.figures.colours import COLOURS
from zoompick.figures.face import Classes, Panel, Paper, Scale, Sheet, coloured, draw_sheet
from zoompick.files import read_json
from zoompick.geo.shapes import Shape
from zoompick.later import np
from zoompick.products import recipes
from zoompick.products.change import CHANGE, DIFFERENCE
from zoompick.products.change import COLOURS as OF_CHANGE
from zoompick.products.composite import Composite
from zoompick.products.curves import Curve, curves_for
from zoompick.products.tone import Tone
from zoompick.raster import kernels
from zoompick.raster.grid import Grid
from zoompick.raster.part import AtLevel
from zoompick.raster.raster import Raster, band_index, valid_mask
from zoompick.scenes.opening import open_raster
from zoompick.scenes.sidecar import scenes_of, sidecar_of

_CLASS_COLOURS = ("#0072b2", "#e69f00", "#009e73", "#cc79a7", "#56b4e9", "#d55e00", "#f0e442", "#999999", "#332288",
                  "#882255")  # fmt: skip
"""Source: M. Okabe and K. Ito, Color universal design (2008), and two more after P. Tol (2021)."""
_MOST_CLASSES = 24


@dataclass(frozen=True)
class Look:
    """How values become colours; empty means as fits.

    Attributes
    ----------
    colours : str
        One of COLOURS.
    limits : (float, float) or None
        Values at both ends of the scale; the 1st and 99th percentile by default.
    recipe : str
        Of a composite, where the raster has many bands.
    """

    colours: str = ""
    limits: tuple[float, float] | None = None
    recipe: str = ""


@dataclass(frozen=True)
class Shown:
    """A raster as colours, what they mean, at which pixel size it was read, and what a person should know of it."""

    panel: Panel
    legend: Scale | Classes | None
    read: Grid
    note: str = ""


def shown(path: Path, width_px: int, look: Look | None = None, like: Sequence[Curve] | None = None) -> Shown:
    """Read as many pixels of a raster as a picture of some width needs, and colour them.

    Raises
    ------
    UnknownNameError
        No such colours, recipe or band.
    """
    look = look or Look()
    _refuse_unknown(look)
    raster = open_raster(path)
    level = max((n for n, grid in enumerate(raster.levels) if grid.width >= width_px), default=0)
    coarse = AtLevel(raster, level) if level else raster
    is_colour = has_colours(raster)
    if len(raster.bands) >= 3 and (look.recipe or (is_colour and not _is_picture(raster))):
        coarse = _composed(coarse, look.recipe or "natural", path.name, like)
    if len(coarse.bands) >= 3 and (look.recipe or is_colour):
        pixels = coarse.read(coarse.grid.window, (0, 1, 2))
        there = (pixels != 0).any(axis=0)
        colours, legend = np.dstack([*pixels, np.where(there, 255, 0).astype(np.uint8)]), None
        return Shown(Panel(fitted(colours, width_px), coarse.grid), legend, coarse.grid)
    values = coarse.read(coarse.grid.window, (0,))[0]
    valid = valid_mask(values, raster.nodata)
    if raster.bands[0].is_class or _told_classes(path):
        colours, classes = _classes(
            values, valid, _told_classes(path), OF_CHANGE if raster.bands[0].name == CHANGE else {}
        )
        return Shown(Panel(fitted(colours, width_px), coarse.grid), classes, coarse.grid)
    band = raster.bands[0]
    physical = values * band.scale + band.offset
    words = f"{band.name}, {band.unit}" if band.unit else band.name
    scale = scale_for(physical[valid], words, look, is_signed=band.name == DIFFERENCE)
    note = f"{path.name} holds {len(raster.bands)} bands that make no colour: {band.name} is shown." if (
        len(raster.bands) > 1
    ) else ""  # fmt: skip
    return Shown(Panel(fitted(coloured(physical, valid, scale), width_px), coarse.grid), scale, coarse.grid, note)


def has_colours(raster: Raster) -> bool:
    """True for a picture, and for bands out of which a natural one can be made."""
    names = {band.name for band in raster.bands}
    return _is_picture(raster) or names.issuperset(recipes.composite("natural").bands)


@dataclass(frozen=True)
class Wording:
    """What stands about a picture.

    Attributes
    ----------
    outline : polygon or None
        Longitude/latitude.
    """

    title: str = ""
    caption: str = ""
    outline: Shape | None = None


def draw(file: Path, target: Path, words: Wording, look: Look, paper: Paper) -> tuple[Shown, tuple[int, int]]:
    """Draw a raster as a picture for a report; what was read, and the picture's size in pixels.

    Raises
    ------
    UnknownNameError, UsageError
    """
    made = shown(file, paper.width_px, look)
    lines = tuple(filter(None, (credits_of(file),)))
    title = words.title or file.stem
    sheet = Sheet((made.panel,), title, words.caption, made.legend, outline=words.outline, lines=lines)
    return made, draw_sheet(sheet, target, paper)


def _is_picture(raster: Raster) -> bool:
    return raster.dtype == np.uint8 and len(raster.bands) in (3, 4)


def _composed(raster: Raster, name: str, where: str, like: Sequence[Curve] | None) -> Raster:
    bands = [band_index(raster, band, where) for band in recipes.composite(name).bands]
    tone = Tone()
    return Composite(raster, bands, like or curves_for(raster, bands, tone), tone)


def fitted(colours: Pixels, width_px: int) -> Pixels:
    """Colours, shape (rows, cols, 4), no wider than that."""
    rows, cols = colours.shape[:2]
    if cols <= width_px:
        return np.ascontiguousarray(colours)
    return kernels.resized(colours, max(1, round(rows * width_px / cols)), width_px)


def scale_for(values: Pixels, name: str, look: Look, is_signed: bool = False) -> Scale:
    """A scale of colours for values that are there; it spans their 1st to 99th percentile unless limits are given.

    Parameters
    ----------
    is_signed : bool
        Values below and above zero are two things, loss and gain: zero is the middle of the scale, and has no colour.

    Raises
    ------
    UnknownNameError
        No such colours.
    """
    _refuse_unknown(look)
    colours = COLOURS[look.colours or ("red-blue" if is_signed else "viridis")]
    if not values.size:
        return Scale(colours, *(look.limits or (0.0, 1.0)), name)
    low, high = look.limits or tuple(float(v) for v in np.percentile(values, [1, 99]))
    if is_signed and not look.limits:
        low, high = -max(abs(low), abs(high)), max(abs(low), abs(high))
    return Scale(colours, low, high, name) if low < high else Scale(colours, low - 0.5, low + 0.5, name)


def _refuse_unknown(look: Look) -> None:
    if look.colours and look.colours not in COLOURS:
        raise UnknownNameError.of("scale of colours", look.colours, COLOURS)


def _told_classes(path: Path) -> dict[int, str]:
    """Names of classes by code, from the record beside a product."""
    try:
        rows = read_json(sidecar_of(path))["properties"].get("classification:classes", [])
        return {int(row["value"]): str(row.get("title") or row["name"]) for row in rows}
    except (DataError, AttributeError, KeyError, TypeError, ValueError):
        return {}


def _classes(
    values: Pixels, valid: Pixels, names: Mapping[int, str], own: Mapping[int, str]
) -> tuple[Pixels, Classes]:
    codes, counts = np.unique(values[valid], return_counts=True)
    if len(codes) > _MOST_CLASSES:
        raise UsageError(f"{len(codes)} classes are too many for a legend.", f"{_MOST_CLASSES} are the most.")
    colours = np.zeros((*values.shape, 4), np.uint8)
    rows = []
    total = max(1, int(counts.sum()))
    for place, (code, count) in enumerate(zip(codes.tolist(), counts.tolist(), strict=True)):
        colour = own.get(int(code), _CLASS_COLOURS[place % len(_CLASS_COLOURS)])
        rgb = [int(colour[at : at + 2], 16) for at in (1, 3, 5)]
        colours[valid & (values == code)] = [*rgb, 255]
        rows.append((colour, names.get(int(code), str(code)), 100 * count / total))
    return colours, Classes(tuple(rows))


def credits_of(path: Path) -> str:
    """Days and collections that a product shows, from its record; empty without one."""
    rows = scenes_of(path)
    days = sorted({row.get("datetime", "")[:10] for row in rows} - {""})
    kinds = sorted({row.get("collection", "") for row in rows} - {""})
    span = days[0] if len(days) == 1 else f"{days[0]} to {days[-1]}, {len(days)} days" if days else ""
    return ", ".join(filter(None, (span, " and ".join(kinds), f"{len(rows)} scenes" if len(rows) > 1 else "")))
