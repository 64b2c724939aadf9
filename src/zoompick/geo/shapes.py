"""Polygons: reading, checking, projecting and measuring them (shapely behind plain functions)."""

from __future__ import annotations

import contextlib
from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, TypeAlias

from zoompick.arrays import Floats
from zoompick.errors import AreaError
from zoompick.geo import antimeridian
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import LONLAT, Crs, transform
from zoompick.geo.simple import LONG, is_surely_simple
from zoompick.jsontypes import JsonObject
from zoompick.later import np, shapely

if TYPE_CHECKING:
    from shapely.geometry.base import BaseGeometry

Shape: TypeAlias = "BaseGeometry"
"""A polygon of one or several parts; shapely types what it computes no closer."""

_MAX_SEGMENT_DEG = 0.01
"""Edges are cut to about a kilometre before they are projected, so that they stay where the degrees say."""


def polygon_of(geometry: object, label: str = "The area") -> Shape:
    """Make a checked polygon out of a GeoJSON geometry in longitude/latitude.

    Raises
    ------
    AreaError
        Not a polygon, empty, out of range, or crossing itself.
    """
    if not isinstance(geometry, dict) or geometry.get("type") not in ("Polygon", "MultiPolygon"):
        kind = geometry.get("type") if isinstance(geometry, dict) else type(geometry).__name__
        raise AreaError(f"{label} is a {kind}, expected a Polygon or MultiPolygon.",
                        "Give a polygon; about points and lines in a file `around` draws one.")  # fmt: skip
    try:
        with np.errstate(invalid="ignore"):
            polygon = _over_the_antimeridian(geometry) or shapely.geometry.shape(geometry)
    except (
        ValueError,
        TypeError,
        KeyError,
        AttributeError,
        IndexError,
        OverflowError,
        shapely.errors.ShapelyError,
    ) as error:
        raise AreaError(
            f"{label} is a {geometry['type']} whose coordinates cannot be read: {error}.",
            "A ring is a list of [longitude, latitude] pairs, at least four of them, the last equal to the first.",
        ) from error
    return checked_polygon(shapely.force_2d(polygon), label)


def polygons_of(geometries: Sequence[object]) -> list[Shape | None]:
    """Checked polygons out of many GeoJSON geometries; None for each that :func:`polygon_of` would refuse.

    Polygons of one ring, which nearly all footprints are, are made and checked together.
    """
    found: list[Shape | None] = [None] * len(geometries)
    by_length: dict[int, list[int]] = {}
    for number, geometry in enumerate(geometries):
        by_length.setdefault(_corners_of_one_ring(geometry), []).append(number)
    for corners, numbers in by_length.items():
        if corners >= 4:
            made = _of_one_ring([geometries[number] for number in numbers])
            for number, polygon in zip(numbers, made, strict=True):
                found[number] = polygon
    for number, geometry in enumerate(geometries):
        if found[number] is None:
            with contextlib.suppress(AreaError):
                found[number] = polygon_of(geometry)
    return found


def _corners_of_one_ring(geometry: object) -> int:
    """Number of corners of a polygon that has one ring; 0 for all else."""
    if not isinstance(geometry, dict) or geometry.get("type") != "Polygon":
        return 0
    rings = geometry.get("coordinates")
    if not isinstance(rings, list | tuple) or len(rings) != 1 or not isinstance(rings[0], list | tuple | np.ndarray):
        return 0
    return len(rings[0])


def _of_one_ring(geometries: Sequence[Any]) -> list[Shape | None]:
    """Polygons of equally many corners; None for each that needs a closer look."""
    try:
        places = np.array([geometry["coordinates"][0] for geometry in geometries])
    except (ValueError, OverflowError):
        return [None] * len(geometries)
    if places.dtype.kind not in "if" or places.ndim != 3 or places.shape[2] != 2:
        return [None] * len(geometries)
    low, high = places.min(axis=1), places.max(axis=1)
    plain = ((low >= (-180, -90)) & (high <= (180, 90))).all(axis=1) & (high[:, 0] - low[:, 0] <= 180)
    plain &= (places[:, 0] == places[:, -1]).all(axis=1)
    made = shapely.polygons(places[plain])
    good = (
        np.array([_is_valid(polygon) for polygon in made], bool) if places.shape[1] > LONG else shapely.is_valid(made)
    )
    good &= shapely.area(made) > 0
    found: list[Shape | None] = [None] * len(geometries)
    for number, polygon, is_good in zip(np.flatnonzero(plain), made, good, strict=True):
        found[number] = polygon if is_good else None
    return found


def _over_the_antimeridian(geometry: JsonObject) -> Shape | None:
    """The polygon cut at 180 degrees when a ring runs over it; None for all others."""
    coordinates = geometry["coordinates"]
    polygons = [coordinates] if geometry["type"] == "Polygon" else coordinates
    if not any(rings and len(rings[0]) >= 4 and _leaves(rings[0]) for rings in polygons):
        return None
    cut = shapely.union_all([antimeridian.cut(rings[0], rings[1:]) for rings in polygons])
    # A box around the whole globe steps from -180 to 180 and back: nothing is left of it when it is unwound.
    return None if cut.is_empty else cut


def _leaves(ring: Any) -> bool:
    """True for a ring that runs over the antimeridian, also one whose longitudes go on beyond 180 degrees."""
    if isinstance(ring, np.ndarray):
        return bool(np.abs(ring[:, 0]).max() > 180 or np.abs(np.diff(ring[:, 0])).max() > 180) and _leaves(
            ring.tolist()
        )
    lons = [point[0] for point in ring]
    beyond = min(lons) < -180 or max(lons) > 180
    return (beyond and min(lons) >= -540 and max(lons) <= 540 and all(abs(point[1]) <= 90 for point in ring)) or (
        antimeridian.crosses(ring)
    )


def _is_valid(polygon: Shape) -> bool:
    """Whether a polygon crosses itself nowhere; long rings are proved simple by quicker means where they can be."""
    if _equal_parts(polygon) > 1:
        return False
    is_long = shapely.get_num_coordinates(polygon) > LONG
    is_ring = polygon.geom_type == "Polygon" and not shapely.get_num_interior_rings(polygon)
    if is_long and is_ring and is_surely_simple(shapely.get_coordinates(polygon)):
        return True
    return bool(polygon.is_valid)


def _equal_parts(polygon: Shape) -> int:
    """How often the part occurs that does most often."""
    parts = shapely.get_parts(polygon)
    return max(Counter(shapely.to_wkb(parts)).values()) if len(parts) > 1 else 1


def checked_polygon(polygon: Shape, label: str = "The area") -> Shape:
    """Return ``polygon`` when it is valid longitude/latitude ground, else raise :class:`AreaError`."""
    if polygon.is_empty:
        raise AreaError(f"{label} is empty.", "Give a polygon with at least three corners that are not on one line.")
    west, south, east, north = polygon.bounds
    if not np.isfinite(shapely.get_coordinates(polygon)).all():
        raise AreaError(f"{label} holds a coordinate that is no number.", "Mend the polygon.")
    if south < -90 or north > 90 or west < -180 or east > 180:
        worst = south if south < -90 else north if north > 90 else west if west < -180 else east
        swapped = (south < -90 or north > 90) and max(abs(west), abs(east)) <= 90
        metres = max(abs(south), abs(north), abs(west), abs(east)) > 400
        hint = (
            "It looks as if latitude was given first; GeoJSON wants longitude, latitude."
            if swapped and not metres
            else "GeoJSON holds degrees (longitude, latitude); project metres back to WGS 84 first."
        )
        raise AreaError(f"{label} has the coordinate {worst:g}, which is not on the globe.", hint)
    if not _is_valid(polygon):
        if (count := _equal_parts(polygon)) > 1:
            raise AreaError(
                f"{label} holds {count} parts that are the same, one upon the other.", "Take each of them once."
            )
        reason = shapely.is_valid_reason(polygon)
        raise AreaError(f"{label} crosses itself or overlaps: {reason}.", "Mend the polygon at that place.")
    if polygon.area == 0:
        raise AreaError(f"{label} has no ground in it.", "Its corners lie on one line: give more of them.")
    return polygon


def box_polygon(bounds: Bounds) -> Shape:
    """The rectangle as a polygon."""
    return shapely.box(bounds.west, bounds.south, bounds.east, bounds.north)


def lonlat_box(west: float, south: float, east: float, north: float) -> Shape:
    """A box in degrees as a person gives it; west above east runs across the antimeridian (RFC 7946, section 5.2).

    Raises
    ------
    AreaError
        A value is out of range, or the box is empty or turned around.
    """
    if -180 <= east < west <= 180 and 360 - (west - east) <= 180:
        parts = [box_polygon(Bounds.from_lonlat(west, south, 180, north))] if west < 180 else []
        parts += [box_polygon(Bounds.from_lonlat(-180, south, east, north))] if east > -180 else []
        return shapely.union_all(parts)
    return box_polygon(Bounds.from_lonlat(west, south, east, north))


def geojson_of(polygon: Shape) -> JsonObject:
    """GeoJSON geometry (RFC 7946, section 3.1: exterior rings counter-clockwise)."""
    return dict(shapely.geometry.mapping(shapely.orient_polygons(polygon)))


def bounds_of(polygon: Shape) -> Bounds:
    """Smallest rectangle around the polygon."""
    return Bounds(*map(float, polygon.bounds))


def outline_of(bounds: Bounds, crs: Crs, step: float) -> Shape:
    """A rectangle of a reference system in longitude/latitude, its edges cut to ``step`` before they are bent."""
    ring = shapely.get_coordinates(shapely.segmentize(box_polygon(bounds), step))
    lons, lats = transform(ring[:, 0], ring[:, 1], crs, LONLAT)
    if not (np.isfinite(lons).all() and np.isfinite(lats).all()):
        raise AreaError(f"A corner of the rectangle in {crs} has no place on the globe.", "Look at its edges.")
    points = np.column_stack([lons, np.clip(lats, -90, 90)])
    is_plain = lons.min() >= -180 and lons.max() <= 180 and not antimeridian.crosses(points)
    return shapely.Polygon(points) if is_plain else antimeridian.cut(points)


def bbox_of(polygon: Shape) -> list[float]:
    """West, south, east, north in degrees; of ground on both sides of the antimeridian west is above east.

    Source: RFC 7946, section 5.2.
    """
    west, south, east, north = map(float, polygon.bounds)
    if west > -180 + _AT_EDGE or east < 180 - _AT_EDGE:
        return [west, south, east, north]
    start, stop = _widest_gap(polygon)
    return [stop, south, start, north] if stop > start else [west, south, east, north]


_AT_EDGE = 1e-9


def _widest_gap(polygon: Shape) -> tuple[float, float]:
    """Where the widest stretch of longitude without ground begins and ends; equal when there is none."""
    spans = sorted((float(part.bounds[0]), float(part.bounds[2])) for part in shapely.get_parts(polygon))
    reach, best = spans[0][1], (spans[0][1], spans[0][1])
    for west, east in spans[1:]:
        if west - reach > best[1] - best[0]:
            best = reach, west
        reach = max(reach, east)
    return best


def turned(polygon: Shape, bounds: Bounds) -> Shape:
    """A polygon in degrees, its parts in the turn of the globe in which a raster lies.

    Ground on both sides of the antimeridian becomes one piece. It may still reach over the raster's edge.
    """
    parts = shapely.get_parts(polygon)
    start, stop = _widest_gap(polygon)
    whole = polygon.bounds
    is_split = whole[0] <= -180 + _AT_EDGE and whole[2] >= 180 - _AT_EDGE and stop > start
    middle = (start + stop) / 2
    moved = [_shifted(part, 360.0 if is_split and part.bounds[2] <= middle else 0.0) for part in parts]
    one = shapely.union_all(moved) if len(moved) > 1 else moved[0]
    box = one.bounds
    shared = {s: min(box[2] + s, bounds.east) - max(box[0] + s, bounds.west) for s in (0.0, 360.0, -360.0)}
    best = max(shared, key=lambda shift: shared[shift])
    return _shifted(one, best if shared[best] > shared[0.0] + _AT_EDGE else 0.0)


def in_one_turn(polygon: Shape) -> Shape:
    """A polygon in degrees as one piece, where it is cut at 180 degrees: its western part goes on beyond it."""
    whole = polygon.bounds
    is_cut = whole[0] <= -180 + _AT_EDGE and whole[2] >= 180 - _AT_EDGE
    return turned(polygon, Bounds(0.0, -90.0, 360.0, 90.0)) if is_cut else polygon


def _shifted(polygon: Shape, degrees: float) -> Shape:
    return shapely.transform(polygon, lambda xy: np.add(xy, (degrees, 0.0))) if degrees else polygon


def project(polygon: Shape, target: Crs, source: Crs = LONLAT) -> Shape:
    """Carry a polygon into another CRS; long edges are cut first when the source is in degrees.

    Raises
    ------
    AreaError
        A corner lies outside the target's domain.
    """
    if source == target:
        return polygon
    if source.is_geographic:
        polygon = shapely.segmentize(polygon, _MAX_SEGMENT_DEG)
    coordinates = shapely.get_coordinates(polygon)
    west, _, east, _ = polygon.bounds
    xs, ys = transform(coordinates[:, 0], coordinates[:, 1], source, target)
    if not (np.isfinite(xs).all() and np.isfinite(ys).all()):
        raise AreaError(f"A corner of the polygon has no place in {target}.", "Choose another CRS for the grid.")
    carried = shapely.set_coordinates(polygon, np.column_stack([xs, ys]))
    meets_itself = source.is_geographic and west <= -180 + _AT_EDGE and east >= 180 - _AT_EDGE
    return _without_seam(carried) if meets_itself and not target.is_geographic else carried


def _without_seam(polygon: Shape) -> Shape:
    """What met at the antimeridian is one again where the target goes on there."""
    whole = polygon if polygon.is_valid else shapely.make_valid(polygon)
    wide = shapely.buffer(whole, _SEAM, join_style="mitre")
    return shapely.buffer(wide, -_SEAM, join_style="mitre")


_SEAM = 1e-3
"""Corners closer than so many metres are one where parts are joined."""


def intersection(first: Shape, second: Shape) -> Shape:
    """Ground that both share; empty when there is none."""
    return shapely.intersection(first, second)


def joined(polygons: Sequence[Shape]) -> Shape:
    """All ground of some polygons, as one; empty for none."""
    return shapely.union_all(list(polygons))


def as_text(polygon: Shape) -> str:
    """Well-known text, rounded to seven decimals of a degree: about a centimetre."""
    return str(shapely.to_wkt(polygon, rounding_precision=7))


def from_text(text: str) -> Shape:
    """Read what :func:`as_text` wrote."""
    return shapely.from_wkt(text)


def rings_of(polygon: Shape) -> list[Floats]:
    """All rings, holes included, as arrays of shape (n, 2), each closed."""
    rings: list[Floats] = []
    for part in shapely.get_parts(polygon):
        rings += [shapely.get_coordinates(ring) for ring in (part.exterior, *part.interiors)]
    return rings
