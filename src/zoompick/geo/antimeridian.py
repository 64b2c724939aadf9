"""Rings that run over the 180th meridian or around a pole, cut into parts that stay within -180 to 180 degrees.

Source: RFC 7946, sections 3.1.9 (cutting at the antimeridian) and 5.3 (the poles).
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from zoompick.arrays import Floats
from zoompick.later import np, shapely

if TYPE_CHECKING:
    from shapely.geometry.base import BaseGeometry

_STRIPS = (-720, -360, 0, 360, 720)


def crosses(ring: Any) -> bool:
    """True when two neighbouring corners lie more than half the globe apart: the short way is over 180 degrees."""
    longitudes = [point[0] for point in ring]
    if max(longitudes) - min(longitudes) <= 180:
        return False
    return bool((np.abs(np.diff(_closed(ring)[:, 0])) > 180).any())


def _closed(ring: Any) -> Floats:
    """A copy of the corners, the last equal to the first."""
    points = np.asarray(ring, float)[:, :2].copy()
    return points if (points[0] == points[-1]).all() else np.vstack([points, points[:1]])


def unwrapped(ring: Any) -> Floats:
    """The ring with longitudes that go on beyond 180 degrees, so that no step is longer than half the globe.

    A ring around a pole is closed along that pole.
    """
    points = _closed(ring)
    steps = np.diff(points[:, 0])
    points[1:, 0] -= 360 * np.cumsum(np.round(steps / 360))
    turn = round((points[-1, 0] - points[0, 0]) / 360)
    if turn:
        pole = 90.0 if points[:, 1].mean() >= 0 else -90.0
        points = np.vstack([points, [points[-1, 0], pole], [points[0, 0], pole], points[0]])
    return points


def cut(exterior: Any, holes: Iterable[Any] = ()) -> BaseGeometry:
    """Polygon or MultiPolygon of a ring that may cross the antimeridian, all of it within -180 to 180 degrees."""
    whole: BaseGeometry = shapely.Polygon(unwrapped(exterior))
    for hole in holes:
        whole = _without(whole, shapely.Polygon(unwrapped(hole)))
    parts = []
    for shift in _STRIPS:
        inside = shapely.intersection(whole, shapely.box(shift - 180, -90, shift + 180, 90))
        if inside.area > 0:
            # A ring that only touches the cut leaves a line there.
            grounds = [part for part in shapely.get_parts(inside) if part.geom_type == "Polygon"]
            parts.append(_moved(shapely.union_all(grounds), -shift))
    return shapely.union_all(parts) if len(parts) != 1 else parts[0]


def _moved(shape: BaseGeometry, degrees: float) -> BaseGeometry:
    """A shape so many degrees to the east."""
    return shapely.transform(shape, lambda xy: np.add(xy, (degrees, 0)))


def _without(whole: BaseGeometry, hole: BaseGeometry) -> BaseGeometry:
    """Cut a hole out, in whichever turn of longitude it was written."""
    for shift in _STRIPS:
        moved = _moved(hole, shift)
        if whole.intersects(moved):
            return shapely.difference(whole, moved)
    return whole
