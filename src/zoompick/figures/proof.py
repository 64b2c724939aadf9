"""Pictures of what a verification measured: shifts as vectors, values against a reference, a seam."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from zoompick.figures.style import figure, plain, save
from zoompick.jsontypes import JsonMap
from zoompick.later import np


def draw_shifts(shifts: JsonMap, against: str, size: tuple[int, int], title: str, path: Path) -> None:
    """One map a band: an arrow at each tile, from where it is to where it should be, a hundred times as long.

    Parameters
    ----------
    shifts : mapping
        Band to its ``vectors`` (column, row, columns off, rows off), median and spread, in pixels.
    size : pair of int
        Columns and rows of the raster.
    """
    names = [name for name in shifts if shifts[name]["vectors"]] or list(shifts)
    across = min(3, len(names))
    down = -(-len(names) // across)
    page = figure(4.2 * across, 3.4 * down + 0.6)
    fastest = max((np.hypot(v[2], v[3]) for name in names for v in shifts[name]["vectors"]), default=1.0)
    stretch = 0.12 * max(size) / max(fastest, 0.05)
    for place, name in enumerate(names):
        axes = page.add_subplot(down, across, place + 1)
        rows = np.array(shifts[name]["vectors"], float).reshape(-1, 4)
        axes.plot(rows[:, 0], rows[:, 1], ".", color="#5b6770", markersize=4)
        arrows = rows[:, 0], rows[:, 1], -stretch * rows[:, 2], -stretch * rows[:, 3]
        axes.quiver(*arrows, angles="xy", scale_units="xy", scale=1, color="#0b5fa5", width=0.008)
        axes.set(xlim=(0, size[0]), ylim=(size[1], 0), aspect="equal")
        axes.tick_params(labelsize=7)
        told = shifts[name]
        spread = "" if told["spread_px"] is None else f", spread {told['spread_px']:.2f}"
        sure = "" if told["sure"] else " (too little evidence)"
        axes.set_title(
            plain(f"{name}: {told['cols']:+.2f} columns, {told['rows']:+.2f} rows{spread}{sure}"), fontsize=9
        )
    page.suptitle(
        plain(f"{title}: shifts against {against}; an arrow of this map's tenth is {fastest:.2f} px"), fontsize=10
    )
    page.tight_layout()
    save(page, path)


def draw_scatter(bands: JsonMap, reference: str, title: str, path: Path) -> None:
    """Values of each band against those of a reference, with the line on which both are the same."""
    names = list(bands)[:6]
    across = min(3, len(names))
    down = -(-len(names) // across)
    page = figure(4.0 * across, 3.8 * down + 0.5)
    for place, name in enumerate(names):
        axes = page.add_subplot(down, across, place + 1)
        xs, ys = (np.array(row) for row in bands[name]["points"])
        low, high = _ends([xs, ys])
        axes.plot([low, high], [low, high], color="#5b6770", linewidth=1)
        axes.plot(xs, ys, ".", color="#0b5fa5", markersize=2, alpha=0.4)
        axes.set(xlim=(low, high), ylim=(low, high), aspect="equal", xlabel=plain(reference), ylabel=plain(title))
        row = bands[name]
        axes.set_title(plain(f"{name}: bias {row['bias_percent']:+.1f} %, RMSE {row['rmse']:.3g}, "
                             f"r {row['correlation']:.3f}"), fontsize=9)  # fmt: skip
        axes.tick_params(labelsize=7)
    page.tight_layout()
    save(page, path)


def draw_seam(bright: Any, scenes: Any, title: str, corner: tuple[int, int], path: Path) -> None:
    """The ground about a seam: as it is, and with the line along which the scenes meet.

    Parameters
    ----------
    bright : array of float, (rows, columns)
        Mean of all bands, NaN for no-data.
    scenes : array of int, (rows, columns)
        Number of each pixel's scene; 0 for none.
    corner : pair of int
        Column and row of its first pixel.
    """
    page = figure(10.5, 5.8)
    rows, cols = bright.shape
    extent = (corner[0], corner[0] + cols, corner[1] + rows, corner[1])
    low, high = _ends([bright[np.isfinite(bright)]])
    for place, words in enumerate(("as it is", "with the seam")):
        axes = page.add_subplot(1, 2, place + 1)
        axes.imshow(bright, cmap="gray", vmin=low, vmax=high, extent=extent, interpolation="nearest")
        axes.set_title(words, fontsize=9)
        axes.tick_params(labelsize=7)
    left, right, above, below = scenes[:, :-1], scenes[:, 1:], scenes[:-1], scenes[1:]
    across = np.nonzero((left != right) & (left > 0) & (right > 0))
    down = np.nonzero((above != below) & (above > 0) & (below > 0))
    x, y = corner
    axes.vlines(x + across[1] + 1, y + across[0], y + across[0] + 1, color="#d7301f", linewidth=1.2)
    axes.hlines(y + down[0] + 1, x + down[1], x + down[1] + 1, color="#d7301f", linewidth=1.2)
    page.suptitle(plain(title), fontsize=9, wrap=True)
    page.tight_layout()
    save(page, path)


def _ends(values: Sequence[Any]) -> tuple[float, float]:
    every = np.concatenate(values)
    low, high = np.percentile(every, [0.5, 99.5]) if every.size else (0.0, 1.0)
    margin = 0.05 * (high - low) or 1.0
    return float(low - margin), float(high + margin)
