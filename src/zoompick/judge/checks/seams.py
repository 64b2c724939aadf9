"""Steps of brightness where the parts of a product meet."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from zoompick.arrays import Counts, Floats
from zoompick.jsontypes import JsonObject
from zoompick.judge.borders import Borders, ByTiles, borders_of
from zoompick.judge.subject import Check, Subject
from zoompick.later import np
from zoompick.raster.grid import Window
from zoompick.raster.raster import valid_mask
from zoompick.scenes.finding import Finding, Seen, judged, not_judged

_REACH, _LEAST_PX, _SIDE_PX, _CELL_PX, _LEAST_CELL_PX = 16, 60, 1024, 64, 20
_MOST_KEPT = 8192
_LEAST_BESIDE = 4
_LEAST_NOISE, _LEAST_SHARE = 0.001, 0.005
"""A tenth of a percent reflected, and half a percent of the brightness: no eye sees less."""
_FAR = 1.5
"""The largest step beside a seam counts as so many deviations."""


def seams(subject: Subject) -> list[Finding]:
    """Each pair of parts that meet: the mean step across their seam, in deviations of those on lines beside it."""
    limit, borders = subject.limits.seam, borders_of(subject)
    if borders is None:
        reason = "Nothing that is here tells where its scenes meet."
        return [not_judged("seams", subject.label, reason, f"at most {limit:g}")]
    profiles = _profiles(subject, borders)
    least = _LEAST_NOISE if subject.reflecting else 0.0
    rows = {pair: row for pair, kept in profiles.items() if (row := _judged_pair(kept, borders.slack_px, least))}
    if isinstance(borders, ByTiles):
        rows = _calmed(rows)
    seen = Seen("seams", len(rows), len(profiles))
    if not rows:
        reason = f"By {borders.by}: no seam is long enough to tell."
        return [not_judged("seams", subject.label, reason, f"at most {limit:g}", seen)]
    worst = max(rows, key=lambda pair: rows[pair].ratio)
    row = rows[worst]
    between = " and ".join(map(borders.name, worst))
    note = (f"Between {between} brightness steps by {row.step:.4g} ({100 * row.share:.1f} %), {row.ratio:.1f} times "
            f"what it does on lines beside the seam. {_CURE.get(borders.by, _MATCH)}")  # fmt: skip
    data: JsonObject = {
        "seams": [{"scenes": list(pair)} | {k: round(v, 5) for k, v in one._asdict().items()}
                  for pair, one in rows.items()]
    }  # fmt: skip
    if subject.path is not None:
        at = list(_worst_place(profiles[worst]))
        data |= {"file": str(subject.path), "worst": {"scenes": list(worst), "between": between, "at": at}}
    return [judged("seams", subject.label, row.ratio <= limit, f"{row.ratio:.1f} times its surroundings",
                   f"at most {limit:g}", note, row.ratio, bad="warn", data=data, seen=seen)]  # fmt: skip


_MATCH = "'zoompick mosaic --match' evens it out, '--feather' softens it."
_CURE = {
    "the lines of its tiles": "Tiles that are not alike come from the service: fetch them again, or another level."
}


def _calmed(rows: dict[tuple[int, int], _Row]) -> dict[tuple[int, int], _Row]:
    """Of many short seams none by the calm that chance left beside it: at least the usual deviation counts."""
    usual = float(np.median([row.noise for row in rows.values()])) if rows else 0.0
    return {pair: row._replace(noise=max(row.noise, usual), ratio=row.step / max(row.noise, usual, 1e-12))
            for pair, row in rows.items()}  # fmt: skip


class _Row(NamedTuple):
    """A seam: its step, that by the brightness about it, what is steps on lines beside it, pixels along it."""

    step: float
    share: float
    noise: float
    pixels: float
    ratio: float


def _worst_place(kept: Floats) -> tuple[int, int]:
    """Column and row about which the seam steps most: the middle of the cell with the largest median."""
    cells: dict[tuple[int, int], list[float]] = {}
    for col, row, step in np.column_stack([kept[:, :2], kept[:, 2 + _REACH] - kept[:, 1 + _REACH]]).tolist():
        if step == step:
            cells.setdefault((int(col) // _CELL_PX, int(row) // _CELL_PX), []).append(step)
    long = {cell: steps for cell, steps in cells.items() if len(steps) >= _LEAST_CELL_PX} or cells
    col, row = max(long, key=lambda cell: (abs(float(np.median(long[cell]))), cell))
    return col * _CELL_PX + _CELL_PX // 2, row * _CELL_PX + _CELL_PX // 2


def _profiles(subject: Subject, borders: Borders) -> dict[tuple[int, int], Floats]:
    """For each pair of parts that meet the pixels along their seam, shape (pixels, 2 + 2 reach).

    Column and row, then brightness across the seam from the part with the lower number to that with the higher, NaN
    where something else lies. Of long seams every second pixel is kept, or every fourth, and so on.
    """
    raster = subject.raster
    found: dict[tuple[int, int], Floats] = {}
    scales = np.array([band.scale for band in raster.bands])[:, None, None]
    for window in raster.grid.tiles(_SIDE_PX):
        wide = Window(window.col - _REACH, window.row - _REACH, window.width + 2 * _REACH, window.height + 2 * _REACH)
        numbers = borders.read(wide)
        if len(np.unique(numbers[numbers > 0])) < 2:
            continue
        stored = raster.read(wide)
        values = np.where(valid_mask(stored, raster.nodata), stored.astype(np.float64), np.nan)
        bright = np.mean(values * scales, axis=0)
        for turned, image, codes in ((False, bright, numbers), (True, bright.T, numbers.T)):
            for pair, profiles in _along(image, codes):
                if turned:
                    profiles[:, :2] = profiles[:, 1::-1]
                profiles[:, :2] += wide.col, wide.row
                kept = np.concatenate([found[pair], profiles]) if pair in found else profiles
                found[pair] = kept[:: -(-len(kept) // _MOST_KEPT)]
    return found


def _along(image: Floats, codes: Counts) -> Iterator[tuple[tuple[int, int], Floats]]:
    """Seams between columns, pair by pair: column, row, and brightness across."""
    width, height = codes.shape[1], codes.shape[0]
    inner = slice(_REACH, height - _REACH)
    left, right = codes[inner, _REACH - 1 : width - _REACH], codes[inner, _REACH : width - _REACH + 1]
    rows, cols = np.nonzero((left != right) & (left > 0) & (right > 0))
    if not rows.size:
        return
    rows, at = rows + _REACH, cols + _REACH
    ends = np.sort(np.stack([codes[rows, at - 1], codes[rows, at]], axis=1), axis=1)
    order = np.lexsort((rows, at, ends[:, 1], ends[:, 0]))
    rows, at, ends = rows[order], at[order], ends[order]
    starts = np.flatnonzero(np.r_[True, (ends[1:] != ends[:-1]).any(axis=1)])
    for start, stop in zip(starts, [*starts[1:], len(ends)], strict=True):
        every = -(-(stop - start) // _MOST_KEPT)
        own = slice(start, stop, every)
        yield (int(ends[start, 0]), int(ends[start, 1])), _across(image, codes, rows[own], at[own])


def _across(image: Floats, codes: Counts, rows: Counts, at: Counts) -> Floats:
    places = at[:, None] + np.arange(-_REACH, _REACH)
    near, values = codes[rows[:, None], places], image[rows[:, None], places]
    sides = np.where(np.arange(2 * _REACH) < _REACH, codes[rows, at - 1][:, None], codes[rows, at][:, None])
    values = np.where(near == sides, values, np.nan)
    is_turned = codes[rows, at - 1] > codes[rows, at]
    values[is_turned] = values[is_turned, ::-1]
    return np.column_stack([at, rows, values]).astype(np.float64)


def _judged_pair(kept: Floats, slack: int, least: float) -> _Row | None:
    """The step across a seam; None where it is too short.

    Single lines see best through smooth ground, means of three through rough ground: what stands out more counts.
    """
    values = kept[:, 2:]
    if not np.isfinite(values).any():
        return None
    bright = float(np.nanmedian(np.abs(values)))
    least = max(least, _LEAST_SHARE * bright)
    found = [row for wide in (1, 3) if (row := _across_lines(values, wide, slack, least, bright))]
    return max(found, key=lambda row: row.ratio, default=None)


def _across_lines(values: Floats, wide: int, slack: int, least: float, bright: float) -> _Row | None:
    """The step between means of some lines on both sides of a seam against those between lines beside it.

    Where the seam may lie some pixels aside, lines so far apart are compared that it lies between.
    """
    lag, middle = 2 * slack + wide, _REACH - wide - slack
    lines = np.mean([values[:, place : values.shape[1] - wide + 1 + place] for place in range(wide)], axis=0)
    steps = lines[:, lag:] - lines[:, :-lag]
    means = np.array([_middle_mean(column) for column in steps.T])
    beside = np.abs(np.r_[means[: max(0, middle - lag + 1)], means[middle + lag :]])
    beside = beside[np.isfinite(beside)]
    if beside.size < _LEAST_BESIDE or not np.isfinite(means[middle]):
        return None
    noise = max(1.4826 * float(np.median(beside)), float(beside.max()) / _FAR, least)
    step, pixels = abs(float(means[middle])), float(np.isfinite(steps[:, middle]).sum())
    return _Row(step, step / bright if bright else 0.0, noise, pixels, step / noise if noise else 0.0)


def _middle_mean(column: Floats) -> float:
    """Mean of the middle half, NaN of few: what stands out does not count, and whole numbers do not make it jump."""
    known = np.sort(column[np.isfinite(column)])
    quarter = known.size // 4
    return float(known[quarter : known.size - quarter].mean()) if known.size >= _LEAST_PX else float("nan")


def _has_seams(subject: Subject) -> bool:
    """A product of several parts, and not of codes."""
    if "tiles_px" in subject.options:
        return True
    several = len(subject.scenes) > 1 and subject.traits.judged in ("scenes", "mosaic")
    return bool(subject.seen) and (several or subject.scene_layer is not None)


CHECKS: Sequence[Check] = (
    Check("seams", "seams", "seams", "A mosaic, a stack of several scenes, or a picture joined of tiles.",
          "Where its scene layer changes, else its scenes' files or footprints end (by three pixels), or tiles meet: "
          "the mean step between the lines on both sides of the seam, in all bands' mean, against the deviation of "
          "such steps on 16 lines beside it; at least half a percent of the brightness counts as deviation.",
          _has_seams, seams, limit="seam"),
)  # fmt: skip
