"""Well-known text, with the system in front as EWKT writes it: ``SRID=32728;POLYGON((…))``.

Source: OGC 06-103r4, section 7 (well-known text of geometry).
"""

from __future__ import annotations

import re
from functools import partial

from zoompick.area import guard, systems
from zoompick.area.model import Area, Feature
from zoompick.errors import AreaError
from zoompick.geo.crs import LONLAT
from zoompick.geo.shapes import Shape, checked_polygon
from zoompick.later import np, shapely

_HEAD = re.compile(
    r"(?is)\s*(?:srid\s*=\s*(\d+)\s*;\s*)?((?:multi)?polygon\b|geometrycollection\b|(?:multi)?point\b|(?:multi)?linestring\b)"
)


def looks_like_wkt(text: str) -> bool:
    """True when a text begins as WKT or EWKT does."""
    return bool(_HEAD.match(text))


def read_wkt(text: str, label: str) -> tuple[list[Feature], list[str]]:
    """The polygons of a text; those of a collection one by one.

    Raises
    ------
    AreaError
        No polygon, damaged, or a system that is not in the register.
    """
    parts = parts_of(text, label)
    shapes = [part for part in parts if part.geom_type in ("Polygon", "MultiPolygon")]
    if not shapes:
        kind = parts[0].geom_type if parts else "collection of nothing"
        raise AreaError(
            f"{label} is a {kind}, expected a Polygon or MultiPolygon.",
            "Give a polygon; of points and lines in a file `around` makes one.",
        )
    left = len(parts) - len(shapes)
    notes = [f"{label}: {left} points or lines were left out."] if left else []
    return [Feature.made_by("", partial(checked_polygon, shape, label)) for shape in shapes], notes


def parts_of(text: str, label: str) -> list[Shape]:
    """The shape of a text in degrees; of a collection its members.

    Raises
    ------
    AreaError
        Damaged, or a system that is not in the register.
    """
    match = _HEAD.match(text)
    body = text.partition(";")[2] if match and match[1] else text
    guard.refuse_deep(body, label)
    try:
        with np.errstate(all="ignore"):
            shape = shapely.force_2d(shapely.from_wkt(body.strip()))
    except shapely.errors.ShapelyError as error:
        raise AreaError(
            f"{label} is not WKT that can be read: {error}.", "Write it as POLYGON((lon lat, …))."
        ) from error
    source = systems.named(match[1], label) if match and match[1] else LONLAT
    members = list(shapely.get_parts(shape)) if shape.geom_type == "GeometryCollection" else [shape]
    return [systems.carried(member, source, label) for member in members if not member.is_empty]


def wkt_text(area: Area) -> str:
    """The area as EWKT in degrees."""
    return f"SRID={LONLAT.epsg};{shapely.to_wkt(area.polygon, rounding_precision=8)}\n"
