"""Shapes of files and texts that name a reference system, carried to degrees on WGS 84."""

from __future__ import annotations

import math

from zoompick.errors import AreaError, UsageError
from zoompick.geo.crs import LONLAT, Crs, lonlat_from_wkt, transform
from zoompick.geo.shapes import Shape
from zoompick.later import np, shapely

_MOST_PIECES, _LEAST_STEP_M = 2000, 1000.0


def named(name: str, label: str) -> Crs:
    """The system that a name means: an EPSG code, as a word, a URN or an address; CRS84 is WGS 84.

    Raises
    ------
    AreaError
    """
    try:
        return Crs.parse(name)
    except UsageError as error:
        raise AreaError(f"{label} names a system that is not known: {name[:80]}.", error.todo) from error


def carried(shape: Shape, source: Crs, label: str) -> Shape:
    """A shape of a system in degrees; long edges of metres are cut first, since they bend.

    Raises
    ------
    AreaError
        A coordinate is no number.
    """
    if source == LONLAT:
        return shape
    if not source.is_geographic and not shape.is_empty:
        west, south, east, north = shape.bounds
        # Cut by a kilometre, and never into more pieces than any outline needs.
        step = max(_LEAST_STEP_M, (east - west) / _MOST_PIECES, (north - south) / _MOST_PIECES)
        if not math.isfinite(step):
            raise AreaError(f"{label} holds a coordinate that is no number.", "Mend the polygon.")
        shape = shapely.segmentize(shape, step)
    return shapely.transform(shape, lambda xy: np.column_stack(transform(xy[:, 0], xy[:, 1], source, LONLAT)))


def carried_from_wkt(shape: Shape, wkt: str, label: str) -> Shape:
    """A shape of a system that well-known text describes, in degrees.

    Raises
    ------
    AreaError
        The text cannot be read.
    """
    try:
        return shapely.transform(shape, lambda xy: np.column_stack(lonlat_from_wkt(xy[:, 0], xy[:, 1], wkt)))
    except UsageError as error:
        raise AreaError(f"{label} names a reference system that cannot be read.", "Export it as WGS 84.") from error


def of_geojson(value: object, label: str) -> Crs:
    """The system that a GeoJSON text of before RFC 7946 names in ``crs``; WGS 84 where it names none.

    Source: The GeoJSON Format Specification (2008), section 3: coordinates are easting, northing in any system.

    Raises
    ------
    AreaError
        It links to one, or names one that is not known.
    """
    told = value.get("crs") if isinstance(value, dict) else None
    if told is None:
        return LONLAT
    properties = told.get("properties") if isinstance(told, dict) else None
    name = properties.get("name") if isinstance(properties, dict) else None
    if not isinstance(name, str):
        raise AreaError(f"{label} tells its reference system by a link, or not at all.", "Export it as WGS 84.")
    return named(name, label)
