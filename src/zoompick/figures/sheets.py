"""Contact sheets: a page of small pictures, each with its number, date, cloud and cover, outlines in their places."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from zoompick.arrays import Pixels
from zoompick.figures import style
from zoompick.figures.canvas import Box, Canvas
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape, project
from zoompick.later import np, shapely

_CELL_PX, _GAP_PX, _LABEL_PX, _HEAD_PX = 232, 14, 34, 46
_ACROSS_PX = 1280


@dataclass(frozen=True)
class Cell:
    """One picture of a sheet: pixels (rows, cols, 4), where they lie, and two lines of words."""

    pixels: Pixels
    crs: Crs | None
    bounds: Bounds | None
    first: str
    second: str
    footprint: Shape | None


def contact_sheet(cells: Sequence[Cell], area: Shape | None, title: str, path: Path) -> None:
    """Draw the pictures in rows on a page 1280 pixels wide."""
    columns = min(len(cells), (_ACROSS_PX - _GAP_PX) // (_CELL_PX + _GAP_PX)) or 1
    rows = math.ceil(len(cells) / columns)
    width = max(560, columns * (_CELL_PX + _GAP_PX) + _GAP_PX)
    page = Canvas(width, _HEAD_PX + rows * (_CELL_PX + _LABEL_PX + _GAP_PX), style.TABLE)
    page.text(_GAP_PX, 28, title, 17.5, style.INK, bold=True)
    flat = cache(lambda crs: project(area, crs) if area is not None else None)
    for number, cell in enumerate(cells):
        left = _GAP_PX + number % columns * (_CELL_PX + _GAP_PX)
        top = _HEAD_PX + number // columns * (_CELL_PX + _LABEL_PX + _GAP_PX)
        page.fill(Box(left, top, _CELL_PX, _CELL_PX), "#a3abae")
        frame = _fit(cell, left, top)
        page.paste(cell.pixels, frame)
        page.text(left, top + _CELL_PX + 13, cell.first, 12.5, style.INK, bold=True)
        page.text(left, top + _CELL_PX + 27, cell.second, 11.9, style.INK)
        if cell.crs is not None and cell.bounds is not None:
            if cell.footprint is not None:
                # Dark under light: to be seen over water and over cloud.
                ground = project(cell.footprint, cell.crs)
                _outline(page, ground, cell.bounds, frame, style.INK, 3)
                _outline(page, ground, cell.bounds, frame, "#f4f1e6", 1)
            if (around := flat(cell.crs)) is not None:
                _outline(page, around, cell.bounds, frame, style.WARM, 2)
    page.save(path)


def _fit(cell: Cell, left: int, top: int) -> Box:
    """The picture's place inside its square cell."""
    rows, cols = cell.pixels.shape[:2]
    factor = _CELL_PX / max(rows, cols)
    wide, tall = max(1, round(cols * factor)), max(1, round(rows * factor))
    return Box(left + (_CELL_PX - wide) // 2, top + (_CELL_PX - tall) // 2, wide, tall)


def _outline(page: Canvas, shape: Shape, bounds: Bounds, frame: Box, colour: str, width_px: int) -> None:
    """Rings of a polygon in the picture's CRS, drawn where they lie in the picture."""
    for part in shapely.get_parts(shape):
        for ring in (part.exterior, *part.interiors):
            xy = shapely.get_coordinates(ring)
            col = frame.left + (xy[:, 0] - bounds.west) / bounds.width * frame.width
            row = frame.top + (bounds.north - xy[:, 1]) / bounds.height * frame.height
            page.line(np.column_stack([col, row]), colour, width_px, frame)
