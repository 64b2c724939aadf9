"""Steps of brightness along the seams of a product of several scenes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from zoompick.arrays import Counts, Floats
from zoompick.jsontypes import JsonObject
from zoompick.judge.subject import Check, Subject
from zoompick.later import np
from zoompick.raster.grid import Window
from zoompick.raster.raster import valid_mask
from zoompick.scenes.finding import Finding, judged, not_judged

_ACROSS, _LEAST_PX, _SIDE_PX, _CELL_PX, _LEAST_CELL_PX = 3, 60, 1024, 64, 20


def seams(subject: Subject) -> list[Finding]:
    """Each pair of scenes that meet: the step across their seam, in steps between neighbours beside it."""
    assert subject.scene_layer is not None
    steps = _steps(subject)
    rows = {pair: _judged_pair(found) for pair, found in steps.items() if found.across.size >= _LEAST_PX}
    limit = subject.limits.seam
    if not rows:
        return [not_judged("seams", subject.label, "No seam is long enough to tell.", f"at most {limit:g}")]
    names = [scene.id for scene in subject.scenes]
    worst = max(rows, key=lambda pair: rows[pair]["ratio"])
    ratio, step = rows[worst]["ratio"], rows[worst]["step"]
    between = " and ".join(names[number - 1] if number <= len(names) else f"scene {number}" for number in worst)
    note = (f"Between {between} brightness steps by {step:.4f}, {ratio:.1f} times what neighbours differ by "
            "beside the seam: 'zoompick mosaic --match' evens it out, '--feather' softens it.")  # fmt: skip
    data: JsonObject = {
        "seams": [{"scenes": list(pair)} | {k: round(v, 5) for k, v in row.items()} for pair, row in rows.items()]
    }
    if subject.path is not None:
        col, row = _worst_place(steps[worst].places)
        data |= {"file": str(subject.path), "worst": {"scenes": list(worst), "between": between, "at": [col, row]}}
    return [judged("seams", subject.label, ratio <= limit, f"{ratio:.1f} times its surroundings",
                   f"at most {limit:g}", note, ratio, bad="warn", data=data)]  # fmt: skip


class _Seam(NamedTuple):
    """Differences across a seam, those between neighbours beside it, and where (column, row, difference)."""

    across: Floats
    beside: Floats
    places: Floats


def _worst_place(places: Floats) -> tuple[int, int]:
    """Column and row about which the seam steps most: the middle of the cell with the largest median."""
    cells: dict[tuple[int, int], list[float]] = {}
    for col, row, step in places.tolist():
        cells.setdefault((int(col) // _CELL_PX, int(row) // _CELL_PX), []).append(step)
    long = {cell: steps for cell, steps in cells.items() if len(steps) >= _LEAST_CELL_PX} or cells
    col, row = max(long, key=lambda cell: (abs(float(np.median(long[cell]))), cell))
    return col * _CELL_PX + _CELL_PX // 2, row * _CELL_PX + _CELL_PX // 2


def _steps(subject: Subject) -> dict[tuple[int, int], _Seam]:
    """What each pair of scenes that meet differs by."""
    assert subject.scene_layer is not None
    raster, layer = subject.raster, subject.scene_layer
    found: dict[tuple[int, int], tuple[list[Floats], list[Floats], list[Floats]]] = {}
    for window in layer.grid.tiles(_SIDE_PX):
        wide = Window(
            window.col - _ACROSS, window.row - _ACROSS, window.width + 2 * _ACROSS, window.height + 2 * _ACROSS
        )
        numbers = layer.read(wide)[0].astype(np.int64)
        if len(np.unique(numbers[numbers > 0])) < 2:
            continue
        stored = raster.read(wide)
        values = np.where(valid_mask(stored, raster.nodata), stored.astype(np.float64), np.nan)
        scales = np.array([band.scale for band in raster.bands])[:, None, None]
        bright = np.mean(values * scales, axis=0)
        for turned, image, codes in ((False, bright, numbers), (True, bright.T, numbers.T)):
            for pair, across, beside, places in _along(image, codes):
                corner = np.array([wide.col, wide.row, 0.0])
                kept = found.setdefault(pair, ([], [], []))
                kept[0].append(across)
                kept[1].append(beside)
                kept[2].append(corner + (places[:, [1, 0, 2]] if turned else places))
    return {pair: _Seam(*map(np.concatenate, kept)) for pair, kept in found.items()}


def _along(image: Floats, codes: Counts) -> Iterator[tuple[tuple[int, int], Floats, Floats, Floats]]:
    """Seams between columns: differences of the pixels on both sides, those wholly on one side, and where."""
    width = codes.shape[1]
    middle = slice(_ACROSS - 1, width - _ACROSS)
    left, right = codes[:, middle], codes[:, _ACROSS : width - _ACROSS + 1]
    rows, cols = np.nonzero((left != right) & (left > 0) & (right > 0))
    if not rows.size:
        return
    at = cols + _ACROSS
    sides = np.arange(_ACROSS)
    # A seam whose sides are all of one scene each, and three pixels more on both sides for comparison.
    one, two = codes[rows[:, None], at[:, None] - 1 - sides], codes[rows[:, None], at[:, None] + sides]
    clean = (one == one[:, :1]).all(axis=1) & (two == two[:, :1]).all(axis=1)
    rows, at = rows[clean], at[clean]
    before, after = image[rows, at - 1], image[rows, at]
    inner = np.stack([image[rows, at - 2] - image[rows, at - 1], image[rows, at + 1] - image[rows, at]])
    pairs = np.sort(np.stack([one[clean, 0], two[clean, 0]], axis=1), axis=1)
    swapped = one[clean, 0] > two[clean, 0]
    difference = np.where(swapped, before - after, after - before)
    for pair in {tuple(row) for row in pairs.tolist()}:
        own = (pairs == pair).all(axis=1)
        known = own & np.isfinite(difference)
        places = np.stack([at[known], rows[known], difference[known]], axis=1).astype(float)
        yield pair, difference[known], inner[:, own][np.isfinite(inner[:, own])], places


def _judged_pair(seam: _Seam) -> dict[str, float]:
    """The seam's median step, against what neighbours beside it differ by."""
    step = abs(float(np.median(seam.across)))
    noise = 1.4826 * float(np.median(np.abs(seam.beside))) if seam.beside.size else 0.0
    return {"step": step, "noise": noise, "pixels": float(seam.across.size), "ratio": step / max(noise, _LEAST_NOISE)}


_LEAST_NOISE = 0.001
"""A tenth of a percent reflected: no eye sees less."""


def _has_seams(subject: Subject) -> bool:
    layer = subject.scene_layer
    return layer is not None and bool(subject.seen) and layer.grid.bounds == subject.raster.grid.bounds


CHECKS: Sequence[Check] = (
    Check("seams", "seams", "seams", "A mosaic with its scene layer.",
          "Where the scene layer changes: the median difference of the pixels on both sides, in all bands' mean, "
          "over the robust deviation of neighbours wholly on one side.", _has_seams, seams, limit="seam"),
)  # fmt: skip
