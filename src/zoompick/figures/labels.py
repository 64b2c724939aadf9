"""Labels on a map that neither overlap, nor are cut by its frame, nor lie under the scale bar or the arrow."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from zoompick.figures import style
from zoompick.jsontypes import JsonObject

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_BESIDE = (
    (5, 3, "left", "bottom"), (-5, 3, "right", "bottom"), (5, -3, "left", "top"), (-5, -3, "right", "top"),
    (0, 8, "center", "bottom"), (0, -8, "center", "top"),
)  # fmt: skip
"""Offsets from the spot in points, and alignments, in the order in which they are tried."""
_CORNERS = ((0, 1, "left", "top"), (1, 1, "right", "top"), (0, 0, "left", "bottom"), (1, 0, "right", "bottom"))
"""Corners of a frame as shares of its width and height, and the alignments of what lies inside them."""
_OUTSIDE = ((1, 1, "left", "top"), (0, 1, "right", "top"), (1, 0, "left", "bottom"), (0, 0, "right", "bottom"))

Frame = tuple[float, float, float, float]
"""West, south, east and north of something on a map, in the map's own units."""


class Labels:
    """What is written on one map so far.

    Parameters
    ----------
    kept_free : sequence of (west, south, east, north)
        Parts of the map that carry other things, as shares of its width and height.
    """

    def __init__(self, axes: Axes, kept_free: Sequence[tuple[float, float, float, float]] = ()) -> None:
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.transforms import Bbox

        figure: Any = axes.figure
        self._axes = axes
        self._renderer = FigureCanvasAgg(figure).get_renderer()
        self._frame = axes.get_window_extent(self._renderer)
        self._taken = [Bbox.from_extents(*part).transformed(axes.transAxes) for part in kept_free]

    def beside(self, text: str, spot: tuple[float, float], **look: Any) -> None:
        """Write a name on one side of its spot; on none where there is no room on any."""
        self._first_free(text, spot, _BESIDE, look)

    def inside(self, text: str, cell: Frame, avoided: Frame, **look: Any) -> None:
        """Write lines in a corner of a cell, clear of what is avoided if they can be; beside it where it is full."""
        from matplotlib.transforms import Bbox

        keep_off = Bbox.from_extents(*avoided).transformed(self._axes.transData)
        west, south, east, north = cell
        for corners, kept in ((_CORNERS, [keep_off]), (_OUTSIDE, [keep_off]), (_CORNERS, []), (_OUTSIDE, [])):
            for across, up, ha, va in corners:
                spot = west + across * (east - west), south + up * (north - south)
                side = (5 if ha == "left" else -5, 5 if va == "bottom" else -5, ha, va)
                if self._first_free(text, spot, (side,), look, kept):
                    return

    def _first_free(
        self, text: str, spot: tuple[float, float], sides: Any, look: JsonObject, kept: Sequence[Any] = ()
    ) -> bool:
        for right, up, ha, va in sides:
            note: Any = self._axes.annotate(
                style.plain(text), spot, xytext=(right, up), textcoords="offset points", ha=ha, va=va, **look
            )
            box = note.get_window_extent(self._renderer)
            is_inside = self._frame.x0 <= box.x0 and box.x1 <= self._frame.x1
            is_inside = is_inside and self._frame.y0 <= box.y0 and box.y1 <= self._frame.y1
            if is_inside and not any(box.overlaps(other) for other in (*self._taken, *kept)):
                self._taken.append(box)
                return True
            note.remove()
        return False
