"""Where things stand on a sheet: faces in one row, or two above one with the legends beside it."""

from __future__ import annotations

from dataclasses import dataclass

_LEFT, _RIGHT, _GAP, _SIDE = 0.075, 0.025, 0.03, 0.19
_BETWEEN = 0.075
"""Between two rows of faces: degrees of the upper, heading of the lower."""
_LEGEND, _INSET, _TALLEST = 0.11, 0.13, 1.6


@dataclass(frozen=True)
class Spot:
    """A part of a sheet; all in shares of the sheet's width, from its lower left corner."""

    left: float
    bottom: float
    width: float
    height: float

    def on_page(self, height: float) -> tuple[float, float, float, float]:
        """As the drawing library counts it: shares of width and of height, on a sheet of some height."""
        return self.left, self.bottom / height, self.width, self.height / height


@dataclass(frozen=True)
class Layout:
    """A sheet's parts.

    Attributes
    ----------
    height : float
        Of the sheet.
    faces : tuple of Spot
    labelled : tuple of int
        Faces at the left, where degrees of latitude are written.
    legends : tuple of Spot
        As many as there are.
    inset : Spot or None
        For a map of where it is; None where there is no room.
    """

    height: float
    faces: tuple[Spot, ...]
    labelled: tuple[int, ...]
    legends: tuple[Spot, ...]
    inset: Spot | None


@dataclass(frozen=True)
class Room:
    """What a sheet has to hold: height over width of a face, how many, legends, and what stands above and below."""

    aspect: float
    faces: int
    legends: int
    head: float
    foot: float


def laid_out(room: Room) -> Layout:
    """Three faces that are no taller than broad stand two above one, so that they are large; all else in a row."""
    return _in_two_rows(room) if room.faces == 3 and room.aspect <= 1.25 else _in_a_row(room)


def _in_a_row(room: Room) -> Layout:
    side = _SIDE if room.legends else 0.0
    wide = (1 - _LEFT - _RIGHT - side - _GAP * (room.faces - 1)) / room.faces
    tall = min(wide * room.aspect, _TALLEST)
    # A face that is very flat leaves its legends too little room: then it hangs from the top.
    whole = max(tall, _LEGEND * room.legends)
    faces = tuple(Spot(_LEFT + n * (wide + _GAP), room.foot + whole - tall, wide, tall) for n in range(room.faces))
    # Below the legends stands the inset, where both have room.
    lowest = _INSET + 0.02 if whole >= _LEGEND * room.legends + _INSET + 0.02 else 0.0
    beside = Spot(1 - side + 0.015, room.foot + lowest, side - 0.02, whole - lowest)
    inset = None
    if room.legends and lowest:
        inset = Spot(1 - side + 0.005, room.foot, side - 0.02, _INSET)
    elif not room.legends and room.faces == 1:
        inset = Spot(1 - _RIGHT - 0.17, room.foot + 0.006, 0.165, 0.12)
    return Layout(room.head + whole + room.foot, faces, (0,), _stacked(beside, room.legends), inset)


def _in_two_rows(room: Room) -> Layout:
    wide = (1 - _LEFT - _RIGHT - _GAP) / 2
    tall = wide * room.aspect
    second, upper = _LEFT + wide + _GAP, room.foot + tall + _BETWEEN
    faces = (Spot(_LEFT, upper, wide, tall), Spot(second, upper, wide, tall), Spot(_LEFT, room.foot, wide, tall))
    beside = Spot(second + 0.01, room.foot, wide - 0.02, tall)
    return Layout(upper + tall + room.head, faces, (0, 2), _stacked(beside, room.legends), None)


def _stacked(place: Spot, count: int) -> tuple[Spot, ...]:
    """Parts of a place, one below the other from its upper edge."""
    each = place.height / max(count, 1)
    return tuple(
        Spot(place.left, place.bottom + place.height - (n + 1) * each, place.width, each * 0.94) for n in range(count)
    )
