"""Well-known text, with the system in front as EWKT writes it: ``SRID=32728;POLYGON((…))``.

Source: OGC 06-103r4, section 7 (well-known text of geometry).
"""

from __future__ import annotations

import math
import re

from zoompick.area import guard
from zoompick.area.model import Area, Feature
from zoompick.errors import AreaError, UsageError
from zoompick.geo.crs import LONLAT, Crs, transform
from zoompick.geo.shapes import checked_polygon
from zoompick.later import np, shapely

_MOST_PIECES = 2000
_HEAD = re.compile(
    r"(?is)\s*(?:srid\s*=\s*(\d+)\s*;\s*)?((?:multi)?polygon\b|geometrycollection\b|(?:multi)?point\b|(?:multi)?linestring\b)"
)


def looks_like_wkt(text: str) -> bool:
    """True when a text begins as WKT or EWKT does."""
    return bool(_HEAD.match(text))


def read_wkt(text: str, label: str) -> tuple[list[Feature], list[str]]:
    """The polygon of a text.

    Raises
    ------
    AreaError
        No polygon, damaged, or a system that is not in the register.
    """
    match = _HEAD.match(text)
    srid = int(match[1]) if match and match[1] else LONLAT.epsg
    body = text.partition(";")[2] if match and match[1] else text
    guard.refuse_deep(body, label)
    try:
        with np.errstate(all="ignore"):
            shape = shapely.force_2d(shapely.from_wkt(body.strip()))
        source = Crs.parse(str(srid))
    except shapely.errors.ShapelyError as error:
        raise AreaError(
            f"{label} is not WKT that can be read: {error}.", "Write it as POLYGON((lon lat, …))."
        ) from error
    except UsageError as error:
        raise AreaError(f"{label} names a system that is not known: {srid}.", error.todo) from error
    if shape.geom_type not in ("Polygon", "MultiPolygon"):
        raise AreaError(f"{label} is a {shape.geom_type}, expected a Polygon or MultiPolygon.", "Give a polygon.")
    if source != LONLAT and not source.is_geographic:
        west, south, east, north = shape.bounds
        # Cut by a kilometre, and never into more pieces than any outline needs.
        step = max(1000.0, (east - west) / _MOST_PIECES, (north - south) / _MOST_PIECES)
        if not math.isfinite(step):
            raise AreaError(f"{label} holds a coordinate that is no number.", "Mend the polygon.")
        shape = shapely.transform(
            shapely.segmentize(shape, step),
            lambda xy: np.column_stack(transform(xy[:, 0], xy[:, 1], source, LONLAT)),
        )
    return [Feature("", checked_polygon(shape, label))], []


def wkt_text(area: Area) -> str:
    """The area as EWKT in degrees."""
    return f"SRID={LONLAT.epsg};{shapely.to_wkt(area.polygon, rounding_precision=8)}\n"
