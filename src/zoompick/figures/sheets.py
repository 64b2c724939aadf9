"""Contact sheets: a page of small pictures, each with its number, date, cloud and cover, outlines in their places."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zoompick.figures import style
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape, project

_CELL_PX, _GAP_PX, _LABEL_PX, _HEAD_PX = 232, 14, 34, 46
_ACROSS_PX = 1280


@dataclass(frozen=True)
class Cell:
    """One picture of a sheet: pixels (rows, cols, 4), where they lie, and two lines of words."""

    pixels: Any
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
    height = _HEAD_PX + rows * (_CELL_PX + _LABEL_PX + _GAP_PX)
    page = np.empty((height, width, 3), np.uint8)
    page[...] = _rgb(style.PAPER)
    drawn = style.figure(width / style.DPI, height / style.DPI)
    for number, cell in enumerate(cells):
        left = _GAP_PX + number % columns * (_CELL_PX + _GAP_PX)
        top = _HEAD_PX + number // columns * (_CELL_PX + _LABEL_PX + _GAP_PX)
        _place(page, cell, left, top)
        _words(drawn, cell, left, top + _CELL_PX, height)
        _outlines(drawn, cell, area, left, top, width, height)
    drawn.figimage(page, origin="upper", zorder=-1)
    drawn.text(_GAP_PX / width, 1 - 28 / height, title, fontsize=11.5, fontweight="bold")
    style.save(drawn, path)


def _rgb(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)


def _fit(cell: Cell) -> tuple[int, int, int, int]:
    """Offset and size of the picture inside its square cell: left, top, columns, rows."""
    rows, cols = cell.pixels.shape[:2]
    factor = _CELL_PX / max(rows, cols)
    wide, tall = max(1, round(cols * factor)), max(1, round(rows * factor))
    return (_CELL_PX - wide) // 2, (_CELL_PX - tall) // 2, wide, tall


def _place(page: Any, cell: Cell, left: int, top: int) -> None:
    """Scale a picture into its cell: averaged when it shrinks, repeated when it grows."""
    dx, dy, wide, tall = _fit(cell)
    pixels = cell.pixels
    step = max(1, pixels.shape[0] // tall)
    if step > 1:
        rows, cols = pixels.shape[0] // step * step, pixels.shape[1] // step * step
        cut = pixels[:rows, :cols].reshape(rows // step, step, cols // step, step, 4)
        pixels = cut.mean(axis=(1, 3)).astype(np.uint8)
    row = ((np.arange(tall) + 0.5) * pixels.shape[0] / tall).astype(int)
    col = ((np.arange(wide) + 0.5) * pixels.shape[1] / wide).astype(int)
    small = pixels[row[:, None], col[None, :]].astype(np.float32)
    page[top : top + _CELL_PX, left : left + _CELL_PX] = _rgb("#e9e7e0")
    target = page[top + dy : top + dy + tall, left + dx : left + dx + wide]
    alpha = small[:, :, 3:] / 255
    target[...] = (small[:, :, :3] * alpha + target * (1 - alpha)).astype(np.uint8)


def _words(drawn: Any, cell: Cell, left: int, below: int, height: int) -> None:
    width = drawn.get_figwidth() * style.DPI
    drawn.text(left / width, 1 - (below + 13) / height, cell.first, fontsize=8.2, fontweight="bold")
    drawn.text(left / width, 1 - (below + 27) / height, cell.second, fontsize=7.8, color=style.SCENE)


def _outlines(drawn: Any, cell: Cell, area: Shape | None, left: int, top: int, width: int, height: int) -> None:
    """Footprint and area over the picture, where its place is known."""
    from matplotlib.lines import Line2D
    from matplotlib.patches import Rectangle

    if cell.crs is None or cell.bounds is None:
        return
    dx, dy, wide, tall = _fit(cell)
    frame = Rectangle(((left + dx) / width, 1 - (top + dy + tall) / height), wide / width, tall / height,
                      transform=drawn.transFigure, fc="none", ec="none")  # fmt: skip
    drawn.add_artist(frame)
    for shape, colour, line in ((cell.footprint, "#f4f1e6", 0.9), (area, style.WARM, 1.4)):
        if shape is None:
            continue
        for part in shapely.get_parts(project(shape, cell.crs)):
            for ring in (part.exterior, *part.interiors):
                xy = shapely.get_coordinates(ring)
                x = left + dx + (xy[:, 0] - cell.bounds.west) / cell.bounds.width * wide
                y = top + dy + (cell.bounds.north - xy[:, 1]) / cell.bounds.height * tall
                artist = Line2D(x / width, 1 - y / height, color=colour, lw=line, transform=drawn.transFigure)
                drawn.add_artist(artist)
                artist.set_clip_path(frame)
