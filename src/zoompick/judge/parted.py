"""Whether a part of a picture is shifted and the rest is not: two groups of tiles, each of one mind and piece."""

from __future__ import annotations

from dataclasses import dataclass

from zoompick.arrays import Floats, Mask
from zoompick.judge.shifts import Shifts
from zoompick.later import np

LEAST_PX = 0.2
"""Groups nearer than that are one: a tile's own shift is known to some hundredths of a pixel where it has texture."""
_FEW, _ALIKE_PX, _TOLD, _JOINED = 3, 0.1, 0.75, 0.75


@dataclass(frozen=True)
class Part:
    """A part that lies elsewhere than the rest.

    Attributes
    ----------
    cols, rows : float
        By which it lies off the rest, in pixels.
    tiles, of : int
        Tiles in it, and tiles that told a shift.
    middle : (float, float)
        Column and row about which it lies.
    """

    cols: float
    rows: float
    tiles: int
    of: int
    middle: tuple[float, float]

    @property
    def size_px(self) -> float:
        """Length of the shift."""
        return float(np.hypot(self.cols, self.rows))


def parted(shifts: Shifts) -> Part | None:
    """The smaller of two groups of tiles that are shifted against one another; None where all tiles are of one mind.

    Shifts that vary over the picture, as relief and turned frames have them, make no groups.
    """
    places = np.array([(one.col, one.row) for one in shifts.vectors])
    moves = np.array([(one.cols, one.rows) for one in shifts.vectors])
    if len(moves) < 2 * _FEW:
        return None
    first = _densest(moves, np.ones(len(moves), bool))
    second = _densest(moves, ~first)
    if min(first.sum(), second.sum()) < _FEW or (first | second).mean() < _TOLD:
        return None
    gap = np.median(moves[second], axis=0) - np.median(moves[first], axis=0)
    if np.hypot(*gap) < LEAST_PX or not _is_of_pieces(places, first, second):
        return None
    middle = places[second].mean(axis=0)
    return Part(float(gap[0]), float(gap[1]), int(second.sum()), len(moves), (float(middle[0]), float(middle[1])))


def _densest(moves: Floats, among: Mask) -> Mask:
    """Tiles that agree with the one that most agree with; of some."""
    if not among.any():
        return np.zeros(len(moves), bool)
    near = np.hypot(*(moves[:, None] - moves[None]).transpose(2, 0, 1)) < _ALIKE_PX
    near &= among[:, None] & among[None]
    middle = np.median(moves[near[near.sum(axis=1).argmax()]], axis=0)
    return np.asarray(among & (np.hypot(*(moves - middle).T) < _ALIKE_PX))


def _is_of_pieces(places: Floats, one: Mask, other: Mask) -> bool:
    """True where most tiles lie nearest to a tile of their own group: chance would mix them."""
    known = one | other
    far = np.hypot(*(places[:, None] - places[None]).transpose(2, 0, 1))
    np.fill_diagonal(far, np.inf)
    far[:, ~known] = np.inf
    nearest = far.argmin(axis=1)
    return bool((one[nearest] == one)[known].mean() >= _JOINED)
