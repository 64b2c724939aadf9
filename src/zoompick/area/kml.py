"""KML and KMZ: polygons of placemarks, in folders, in MultiGeometry, with holes. Network links are not followed.

Source: OGC KML 2.3 (12-007r2): kml:Placemark (9.14), kml:Polygon (10.8), kml:coordinates (16.10); KMZ is a zip whose
first .kml file counts (annex C).
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zoompick.area import guard
from zoompick.area.model import Area, Feature
from zoompick.errors import AreaError
from zoompick.geo.shapes import Shape, checked_polygon, lonlat_box, polygon_of
from zoompick.later import affinity, saxutils, shapely

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element


def read_kml(data: bytes, label: str) -> tuple[list[Feature], list[str]]:
    """Polygons of a KML text, and notes on what was left out.

    Raises
    ------
    AreaError
    """
    root = guard.xml_root(data, label)
    features = [feature for mark in _all(root, "Placemark") if (feature := _feature(mark, label))]
    features += [
        _overlay(entry, label) for entry in _all(root, "GroundOverlay") if _child(entry, "LatLonBox") is not None
    ]
    links = sum(1 for _ in _all(root, "NetworkLink"))
    notes = [f"{label} links to other places ({links}); they were not followed."] if links else []
    if not features:
        lines = any(True for _ in _all(root, "LineString")) or any(True for _ in _all(root, "Point"))
        hint = (
            "It holds lines or points: draw the outline as a polygon, or say how far `around` them."
            if lines
            else "Draw one, and export it again."
        )
        raise AreaError(f"{label} holds no polygon.", " ".join([*notes, hint]))
    return features, notes


def read_kmz(path: Path) -> tuple[list[Feature], list[str]]:
    """Polygons of the KML files in a KMZ archive; those of the first need no name of their own."""
    found = guard.members(path)
    names = [name for name in found if name.lower().endswith(".kml")]
    if not names:
        raise AreaError(f"{path.name} holds no KML file.", "Export it again as KMZ or KML.")
    features, notes = read_kml(found[names[0]], path.name)
    for name in names[1:]:
        try:
            more, told = read_kml(found[name], f"{name} in {path.name}")
        except AreaError:
            continue
        stem = name.rpartition("/")[2].rpartition(".")[0]
        features += [
            replace(entry, name=entry.name or stem, attributes=dict(entry.attributes) | {"member": stem})
            for entry in more
        ]
        notes += told
    return features, notes


def document_of(path: Path) -> bytes:
    """The first KML document of a KMZ archive.

    Raises
    ------
    AreaError
    """
    found = guard.members(path)
    name = next((name for name in found if name.lower().endswith(".kml")), None)
    if name is None:
        raise AreaError(f"{path.name} holds no KML file.", "Export it again as KMZ or KML.")
    return found[name]


def _local(element: Element) -> str:
    return str(element.tag).rpartition("}")[2] if isinstance(element.tag, str) else ""


def _all(root: Element, name: str) -> Iterator[Element]:
    return (element for element in root.iter() if _local(element) == name)


def _child(element: Element, name: str) -> Element | None:
    return next((child for child in element if _local(child) == name), None)


def _text(element: Element, name: str) -> str:
    child = _child(element, name)
    return (child.text or "").strip() if child is not None else ""


def _feature(mark: Element, label: str) -> Feature | None:
    name = _text(mark, "name")
    polygons = [
        _polygon(element, f"The polygon {name or 'without a name'} in {label}") for element in _all(mark, "Polygon")
    ]
    if not polygons:
        # A line that ends where it began is how some programs draw an outline.
        rings = [_corners(element, label) for kind in ("LineString", "LinearRing") for element in _all(mark, kind)]
        closed = [ring for ring in rings if len(ring) >= 4 and ring[0] == ring[-1]]
        polygons = [polygon_of({"type": "Polygon", "coordinates": [ring]}, f"The line {name} in {label}")
                    for ring in closed]  # fmt: skip
    if not polygons:
        return None
    attributes = {element.get("name", ""): _text(element, "value") for element in _all(mark, "Data")}
    attributes |= {element.get("name", ""): (element.text or "").strip() for element in _all(mark, "SimpleData")}
    return Feature(name, shapely.union_all(polygons), attributes)


def _polygon(element: Element, label: str) -> Shape:
    outer = _child(element, "outerBoundaryIs")
    if outer is None:
        raise AreaError(f"{label} has no outer boundary.", "Draw it again.")
    rings = [_ring(outer, label)]
    rings += [_ring(hole, label) for hole in element if _local(hole) == "innerBoundaryIs"]
    return polygon_of({"type": "Polygon", "coordinates": rings}, label)


def _ring(boundary: Element, label: str) -> list[list[float]]:
    return _corners(boundary, label)


def _overlay(entry: Element, label: str) -> Feature:
    """The box of a picture laid on the ground; a turned one is taken with its turn (OGC KML 2.3, 11.5)."""
    box = _child(entry, "LatLonBox")
    assert box is not None
    name = _text(entry, "name")
    try:
        north, south, east, west = (float(_text(box, edge)) for edge in ("north", "south", "east", "west"))
        turn = float(_text(box, "rotation") or 0)
    except ValueError as error:
        raise AreaError(
            f"The overlay {name} in {label} has edges that cannot be read.", "Export it again."
        ) from error
    shape = lonlat_box(west, south, east, north)
    if turn:
        shape = affinity.rotate(shape, turn, "center")
    return Feature(name, checked_polygon(shape, f"The overlay {name} in {label}"))


def _corners(boundary: Element, label: str) -> list[list[float]]:
    text = next((element.text or "" for element in _all(boundary, "coordinates")), "")
    # Some programs put blanks after the commas.
    text = re.sub(r"[ \t]*,[ \t]*", ",", text)
    try:
        return [[float(value) for value in corner.split(",")[:2]] for corner in text.split()]
    except ValueError as error:
        raise AreaError(f"{label} has coordinates that cannot be read: {error}.", "Export it again.") from error


def kml_text(area: Area) -> str:
    """The area as a KML document of one placemark."""

    def ring(kind: str, corners: list[list[float]]) -> str:
        points = " ".join(f"{lon:.8f},{lat:.8f}" for lon, lat in corners)
        return f"<{kind}><LinearRing><coordinates>{points}</coordinates></LinearRing></{kind}>"

    polygons = "".join(
        "<Polygon>"
        + ring("outerBoundaryIs", part.exterior.coords)
        + "".join(ring("innerBoundaryIs", hole.coords) for hole in part.interiors)
        + "</Polygon>"
        for part in shapely.get_parts(shapely.orient_polygons(area.polygon))
    )
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n<kml xmlns="http://www.opengis.net/kml/2.2"><Document><Placemark>'
        f"<name>{saxutils.escape(area.name)}</name><description>{saxutils.escape(area.description)}</description>"
        f"<MultiGeometry>{polygons}</MultiGeometry></Placemark></Document></kml>\n"
    )
