"""GPX: a closed track becomes its outline, waypoints their hull; both are said.

Source: GPX 1.1 schema (wpt, trk, rte).
"""

from __future__ import annotations

import itertools
from typing import Any

from zoompick.area import guard
from zoompick.area.model import Area, Feature
from zoompick.arrays import Floats
from zoompick.errors import AreaError
from zoompick.geo.geodesy import distance_m
from zoompick.geo.shapes import Shape, checked_polygon
from zoompick.later import gpxpy, np, shapely

_CLOSED_SHARE = 0.1
"""A track counts as closed when its ends lie nearer than this share of its length."""


def read_gpx(data: bytes, label: str) -> tuple[list[Feature], list[str]]:
    """Areas of a GPX text: each closed track or route, else the hull of all waypoints.

    Raises
    ------
    AreaError
        No closed track, and fewer than three waypoints.
    """
    guard.xml_root(data, label)
    try:
        content = gpxpy.parse(data.decode("utf-8-sig", "replace"))
    except (gpxpy.gpx.GPXException, ValueError) as error:
        raise AreaError(f"{label} is not GPX that can be read: {error}.", "Export it again.") from error
    lines: list[tuple[str | None, list[Any]]] = [
        (track.name, [p for segment in track.segments for p in segment.points]) for track in content.tracks
    ]
    lines += [(route.name, list(route.points)) for route in content.routes]
    features, notes = [], []
    for name, points in lines:
        corners = np.array([(point.longitude, point.latitude) for point in points])
        if len(corners) >= 4 and _is_closed(corners):
            features.append(Feature(name or "", _outline(corners, f"The track {name or 'without a name'}")))
    if features:
        notes.append(f"{label}: {len(features)} closed track{'s' if len(features) > 1 else ''} taken as the outline.")
        return features, notes
    corners = np.array([(point.longitude, point.latitude) for point in content.waypoints])
    if len(corners) < 3:
        hint = "Its tracks do not end where they begin." if lines else "It holds neither tracks nor three waypoints."
        raise AreaError(
            f"{label} has no area.",
            f"{hint} Walk the outline to its start, mark three points or more, or say how far `around` it.",
        )
    hull = shapely.convex_hull(shapely.MultiPoint(corners))
    notes.append(f"{label}: the hull of {len(corners)} waypoints was taken.")
    return [Feature("", checked_polygon(hull, f"The hull of the waypoints in {label}"))], notes


def _is_closed(corners: Floats) -> bool:
    steps = [distance_m(*a, *b) for a, b in itertools.pairwise(corners)]
    return distance_m(*corners[0], *corners[-1]) <= _CLOSED_SHARE * sum(steps)


def _outline(corners: Floats, label: str) -> Shape:
    """Polygon of a walked line; where it crosses itself a little, the largest piece."""
    polygon = shapely.Polygon(corners)
    if not polygon.is_valid:
        pieces = [p for p in shapely.get_parts(shapely.make_valid(polygon)) if p.geom_type == "Polygon"]
        polygon = max(pieces, key=lambda piece: piece.area, default=polygon)
    return checked_polygon(polygon, label)


def gpx_text(area: Area) -> str:
    """The area as GPX: a closed track for each part.

    Raises
    ------
    AreaError
        A part has a hole, which GPX cannot hold.
    """
    content = gpxpy.gpx.GPX()
    content.creator = "zoompick"
    for part in shapely.get_parts(area.polygon):
        if len(part.interiors):
            raise AreaError("GPX cannot hold an area with holes.", "Write it as GeoJSON, KML, WKT or a shapefile.")
        track = gpxpy.gpx.GPXTrack(name=area.name, description=area.description or None)
        points = [gpxpy.gpx.GPXTrackPoint(lat, lon) for lon, lat in part.exterior.coords]
        track.segments.append(gpxpy.gpx.GPXTrackSegment(points))
        content.tracks.append(track)
    return str(content.to_xml())
