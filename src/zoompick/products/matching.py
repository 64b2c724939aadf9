"""Brightness of scenes matched over their overlaps: one gain and offset a scene and band, all solved for at once.

Least squares over all pairs that overlap, anchored at one scene. Clouds, shadows and what changed meanwhile have no
weight: a line through medians and spreads, which they hardly move, tells them at first, the joint solution then.
Source of the weights: A. E. Beaton and J. W. Tukey, The fitting of power series, meaning polynomials, illustrated on
band-spectroscopic data, Technometrics 16 (1974).
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

from zoompick.arrays import Floats
from zoompick.errors import UsageError
from zoompick.jsontypes import JsonObject
from zoompick.later import np
from zoompick.products.mosaic import Gain, Matched
from zoompick.products.observations import Observation

_LEAST_SAMPLES, _MOST_SAMPLES = 200, 2000
_LEAST_CORRELATION = 0.7
_ROUNDS, _TUNING = 20, 4.685
_HELD = 1e3
"""How firmly the mean of all gains is held at 1 while they are solved for."""
_SEED = 20260101


@dataclass(frozen=True)
class Overlap:
    """Values of two scenes at the same places: physical, shape (bands, samples)."""

    first: int
    second: int
    x: Floats
    y: Floats


def overlaps(found: Sequence[Observation]) -> list[Overlap]:
    """Values where two scenes both show the ground; on the grid that the observations have, so give a coarse one."""
    window = found[0].raster.grid.window
    masks = [one.usable(window) for one in found]
    values = [_physical(one) for one in found]
    rng = np.random.default_rng(_SEED)
    pairs = []
    for first, second in itertools.combinations(range(len(found)), 2):
        places = np.flatnonzero(masks[first] & masks[second])
        if places.size > _MOST_SAMPLES:
            places = rng.choice(places, _MOST_SAMPLES, replace=False)
        if places.size:
            x, y = (values[number].reshape(len(values[number]), -1)[:, places] for number in (first, second))
            pairs.append(Overlap(first, second, x, y))
    return pairs


def _physical(one: Observation) -> Floats:
    stored = one.raster.read(one.raster.grid.window).astype(np.float64)
    return np.stack([band * about.scale + about.offset for band, about in zip(stored, one.raster.bands, strict=True)])


def match(pairs: Sequence[Overlap], names: Sequence[str], bands: Sequence[str], anchor: int = 0) -> Matched:
    """Gains and offsets that bring all scenes to the anchor's brightness.

    Parameters
    ----------
    names, bands : sequence of str
        Of the scenes and of their bands.
    anchor : int
        The scene that stays as it is.

    Raises
    ------
    UsageError
        An overlap is too small or too unlike to tell, or a scene overlaps with none that leads to the anchor.
    """
    large = [pair for pair in pairs if pair.x.shape[1] >= _LEAST_SAMPLES]
    good = [pair for pair in large if not _unlike(pair, bands)]
    _refuse_apart(good, large, names, bands, anchor)
    solved = [
        _solved([(p.first, p.second, p.x[b], p.y[b]) for p in good], len(names), anchor) for b in range(len(bands))
    ]
    gains = tuple(
        Gain(tuple(float(band[0][n]) for band in solved), tuple(float(band[1][n]) for band in solved))
        for n in range(len(names))
    )
    return Matched(gains, tuple(_row(n, names, bands, gains, good) for n in range(len(names))))


def _refuse_apart(
    good: Sequence[Overlap], large: Sequence[Overlap], names: Sequence[str], bands: Sequence[str], anchor: int
) -> None:
    reached = {anchor}
    while True:
        more = {n for p in good for n in (p.first, p.second) if {p.first, p.second} & reached} - reached
        if not more:
            break
        reached |= more
    apart = next((number for number in range(len(names)) if number not in reached), None)
    if apart is None:
        return
    own = [_unlike(pair, bands) for pair in large if apart in (pair.first, pair.second)]
    why = f"where it overlaps others they are too unlike ({own[0]})" if own else (
        f"it shares fewer than {_LEAST_SAMPLES} clear pixels with each of the others"
    )  # fmt: skip
    raise UsageError(
        f"The brightness of {names[apart]} cannot be brought to that of {names[anchor]}: {why}.",
        "Leave out `match`, or that scene; scenes between the two may help.",
    )


def _unlike(pair: Overlap, bands: Sequence[str]) -> str:
    """Why two scenes cannot tell each other's brightness; empty when they can."""
    for band, x, y in zip(bands, pair.x, pair.y, strict=True):
        if min(x.std(), y.std()) == 0:
            return f"{band} is even there"
        # Of ranks, so that a few clouds do not decide.
        alike = float(np.corrcoef(_ranks(x), _ranks(y))[0, 1])
        if alike < _LEAST_CORRELATION:
            return f"correlation of ranks {alike:.2f} in {band}, at least {_LEAST_CORRELATION:g} is asked"
    return ""


def _ranks(values: Floats) -> Floats:
    return np.argsort(np.argsort(values)).astype(float)


def _solved(pairs: Sequence[tuple[int, int, Floats, Floats]], count: int, anchor: int) -> tuple[Floats, Floats]:
    """Gains and offsets of one band."""
    centre = float(np.mean([x.mean() for _, _, x, _ in pairs]))
    spread = float(np.mean([x.std() for _, _, x, _ in pairs])) or 1.0
    scaled = [(i, j, (x - centre) / spread, (y - centre) / spread) for i, j, x, y in pairs]
    weights = [_weights([_from_line(x, y)])[0] for _, _, x, y in scaled]
    gains, offsets = np.ones(count), np.zeros(count)
    for _ in range(_ROUNDS):
        gains, offsets = _least_squares(scaled, weights, count, anchor)
        weights = _weights([gains[i] * x + offsets[i] - gains[j] * y - offsets[j] for i, j, x, y in scaled])
    # Back from the scaled values: g (v - c) / s + o, times s, plus c.
    return gains, offsets * spread + centre * (1 - gains)


def _from_line(x: Floats, y: Floats) -> Floats:
    """Distances from the line through the medians whose slope is that of the spreads."""
    slope = _spread(x) / max(_spread(y), 1e-12)
    found: Floats = x - np.median(x) - slope * (y - np.median(y))
    return found


def _spread(values: Floats) -> float:
    """Median distance from the median, as wide as a standard deviation where values are normal."""
    return 1.4826 * float(np.median(np.abs(values - np.median(values))))


def _weights(residuals: Sequence[Floats]) -> list[Floats]:
    """From 1 for what fits to 0 for what lies far off."""
    scale = max(_spread(np.concatenate(residuals)), 1e-9)
    return [np.clip(1 - (r / (_TUNING * scale)) ** 2, 0, None) ** 2 for r in residuals]


def _least_squares(
    pairs: Sequence[tuple[int, int, Floats, Floats]], weights: Sequence[Floats], count: int, anchor: int
) -> tuple[Floats, Floats]:
    normal, right = np.zeros((2 * count, 2 * count)), np.zeros(2 * count)
    for (i, j, x, y), w in zip(pairs, weights, strict=True):
        rows = np.stack([x, np.ones_like(x), -y, -np.ones_like(y)])
        places = [2 * i, 2 * i + 1, 2 * j, 2 * j + 1]
        normal[np.ix_(places, places)] += (rows * w) @ rows.T / max(w.sum(), 1)
    # Held by their mean: were one scene fixed, all others would come out the closer the smaller they are made.
    held = _HELD * np.ones((count, count)) / count
    normal[0::2, 0::2] += held
    normal[1::2, 1::2] += held
    right[0::2] += _HELD
    normal[np.arange(2 * count), np.arange(2 * count)] += 1e-9
    right[0::2] += 1e-9
    found: Floats = np.linalg.solve(normal, right).astype(np.float64)
    gains, offsets = found[0::2], found[1::2]
    return gains / gains[anchor], (offsets - offsets[anchor]) / gains[anchor]


def _row(
    number: int, names: Sequence[str], bands: Sequence[str], gains: Sequence[Gain], pairs: Sequence[Overlap]
) -> JsonObject:
    own = [pair for pair in pairs if number in (pair.first, pair.second)]
    per_band: dict[str, object] = {}
    for place, band in enumerate(bands):
        before = np.concatenate([pair.x[place] - pair.y[place] for pair in own])
        after = np.concatenate([
            gains[p.first].gains[place] * p.x[place] + gains[p.first].offsets[place]
            - gains[p.second].gains[place] * p.y[place] - gains[p.second].offsets[place]
            for p in own
        ])  # fmt: skip
        per_band[band] = {
            "gain": round(gains[number].gains[place], 5),
            "offset": round(gains[number].offsets[place], 6),
            "difference_before": round(float(np.median(np.abs(before))), 6),
            "difference_after": round(float(np.median(np.abs(after))), 6),
        }
    return {"scene": names[number], "samples": sum(pair.x.shape[1] for pair in own), "bands": per_band}
