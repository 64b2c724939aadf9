"""Whether long rings cross themselves: quick proofs that they do not, for rings on which the library takes a minute.

A ring that winds once around a point, always onward, crosses itself nowhere (it is star-shaped: Preparata and Shamos,
Computational Geometry, 1985, section 2.2). Others are cut into cells, and only edges that share one are held against
each other.
"""

from __future__ import annotations

from zoompick.arrays import Floats
from zoompick.later import np

LONG = 20_000
"""Corners from which a proof is quicker than the library."""
_MOST_A_CELL, _MOST_CELLS = 40, 6
_EPS = 1e-15


def is_surely_simple(ring: Floats) -> bool:
    """True when a closed ring crosses and touches itself nowhere; False where that is not proved.

    Parameters
    ----------
    ring : ndarray, shape (n, 2)
        The last corner is the first.
    """
    corners = np.asarray(ring, float)
    if not np.isfinite(corners).all() or not (np.abs(np.diff(corners, axis=0)).max(axis=1) > 0).all():
        return False
    return _is_star(corners) or _has_no_crossing(corners)


def _is_star(corners: Floats) -> bool:
    """True when the ring winds once around its middle, each edge onward."""
    seen = corners - corners[:-1].mean(axis=0)
    turns = seen[:-1, 0] * seen[1:, 1] - seen[:-1, 1] * seen[1:, 0]
    if not ((turns > _EPS).all() or (turns < -_EPS).all()):
        return False
    angles = np.arctan2(turns, (seen[:-1] * seen[1:]).sum(axis=1))
    return bool(abs(abs(angles.sum()) - 2 * np.pi) < 1e-6)


def _has_no_crossing(corners: Floats) -> bool:
    """True when no two edges that do not follow one another share a cell in which they come near each other."""
    count = len(corners) - 1
    low, high = np.minimum(corners[:-1], corners[1:]), np.maximum(corners[:-1], corners[1:])
    side = 2 * float(np.median((high - low).max(axis=1)))
    if side <= 0:
        return False
    first, last = (np.floor((edge - low.min(axis=0)) / side).astype(np.int64) for edge in (low, high))
    spans = last - first + 1
    cells = spans[:, 0] * spans[:, 1]
    if int(cells.sum()) > _MOST_CELLS * count:
        return False
    edge = np.repeat(np.arange(count), cells)
    place = np.arange(len(edge)) - np.repeat(np.cumsum(cells) - cells, cells)
    across = spans[edge, 0]
    key = (first[edge, 1] + place // across) * (int(last[:, 0].max()) + 1) + first[edge, 0] + place % across
    order = np.argsort(key, kind="stable")
    key, edge = key[order], edge[order]
    for step in range(1, _MOST_A_CELL + 1):
        same = key[:-step] == key[step:]
        if not same.any():
            return True
        one, other = edge[:-step][same], edge[step:][same]
        apart = np.abs(one - other)
        far = (apart > 1) & (apart < count - 1)
        if _come_near(corners, one[far], other[far]):
            return False
    return False


def _come_near(corners: Floats, one: Floats, other: Floats) -> bool:
    """True when any two of these edges cross or touch, or might by rounding."""
    a, b, c, d = corners[one], corners[one + 1], corners[other], corners[other + 1]

    def side(p: Floats, q: Floats, r: Floats) -> Floats:
        turn = (q[:, 0] - p[:, 0]) * (r[:, 1] - p[:, 1]) - (q[:, 1] - p[:, 1]) * (r[:, 0] - p[:, 0])
        return np.where(np.abs(turn) < _EPS, 0.0, np.sign(turn))

    apart = (side(a, b, c) * side(a, b, d) > 0) | (side(c, d, a) * side(c, d, b) > 0)
    boxes = (np.minimum(a, b) > np.maximum(c, d)).any(axis=1) | (np.minimum(c, d) > np.maximum(a, b)).any(axis=1)
    return not bool((apart | boxes).all())
