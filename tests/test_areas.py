"""Areas in every form: formats both ways, pasted coordinates, names, the antimeridian, the poles, hostile files."""

from __future__ import annotations

import json
import math
import sqlite3
import zipfile

import numpy as np
import pytest
import shapely
from pyproj import Geod, Transformer

from helpers import FEN, foreign_tiff, grid, noise
from zoompick.area import coordinates, places, sheets
from zoompick.area.model import Area
from zoompick.area.read import read_area, read_text
from zoompick.area.write import write_area
from zoompick.errors import AreaError, UnknownNameError, UsageError, ZoomPickError
from zoompick.geo import geodesy
from zoompick.geo.bounds import Bounds
from zoompick.geo.shapes import polygon_of
from zoompick.geo.sizes import area_km2
from zoompick.study.areas import AreaRequest, changed, resolve, where

HOLED = shapely.Polygon(
    [(-12.1, -38.65), (-12.0, -38.65), (-12.0, -38.58), (-12.1, -38.58)],
    [[(-12.06, -38.62), (-12.04, -38.62), (-12.04, -38.60), (-12.06, -38.60)]],
)
TWO = shapely.union(HOLED, shapely.box(-11.95, -38.65, -11.9, -38.6))


@pytest.mark.parametrize("ending", [".geojson", ".kml", ".kmz", ".wkt", ".zip", ".gpkg"])
def test_every_format_holds_holes_and_parts_both_ways(tmp_path, ending):
    path = tmp_path / f"a{ending}"
    write_area(Area("Fen & mere", TWO, "wet"), path)
    again = read_area(path)
    assert shapely.equals_exact(again.polygon.normalize(), TWO.normalize(), 1e-7)
    assert again.name == ("a" if ending == ".wkt" else "Fen & mere")
    with pytest.raises(UsageError, match="exists already"):
        write_area(again, path)


def test_gpx_is_a_closed_track_or_the_hull_of_waypoints(tmp_path):
    path = tmp_path / "a.gpx"
    write_area(Area("walk", shapely.Polygon(HOLED.exterior)), path)
    assert read_area(path).notes == ("a.gpx: 1 closed track taken as the outline.",)
    with pytest.raises(AreaError, match="holes"):
        write_area(Area("walk", HOLED), tmp_path / "b.gpx")
    marks = "".join(f'<wpt lat="{y}" lon="{x}"/>' for x, y in [(1, 1), (2, 1), (1.5, 1.2), (1.5, 2)])
    path.write_text(f'<gpx version="1.1" creator="x" xmlns="http://www.topografix.com/GPX/1/1">{marks}</gpx>')
    area = read_area(path)
    assert "hull of 4 waypoints" in area.notes[0]
    assert area.polygon.equals(shapely.Polygon([(1, 1), (2, 1), (1.5, 2)]))


def test_geopackage_and_shapefile_in_metres_are_carried_to_degrees(tmp_path):
    write_area(Area("a", HOLED), tmp_path / "a.gpkg")
    to_metres = Transformer.from_crs(4326, 32728, always_xy=True)
    flat = shapely.transform(HOLED, lambda xy: np.column_stack(to_metres.transform(xy[:, 0], xy[:, 1])))
    database = sqlite3.connect(tmp_path / "a.gpkg")
    blob = b"GP" + bytes([0, 1]) + (32728).to_bytes(4, "little") + shapely.to_wkb(flat)
    database.execute("UPDATE areas SET geom = ?", (blob,))
    database.execute("UPDATE gpkg_geometry_columns SET srs_id = 32728")
    wkt = to_metres.target_crs.to_wkt("WKT1_GDAL")
    database.execute("INSERT INTO gpkg_spatial_ref_sys VALUES ('u', 32728, 'EPSG', 32728, ?, '')", (wkt,))
    database.commit()
    assert shapely.equals_exact(read_area(tmp_path / "a.gpkg").polygon.normalize(), HOLED.normalize(), 1e-8)

    write_area(Area("a", HOLED), tmp_path / "a.zip")
    with zipfile.ZipFile(tmp_path / "a.zip") as archive:
        archive.extractall(tmp_path / "parts")
    (tmp_path / "parts" / "a.prj").unlink()
    assert "no .prj" in read_area(tmp_path / "parts" / "a.shp").notes[0]
    assert read_area(tmp_path / "parts" / "a.shp").polygon.equals(HOLED)


POINTS = [
    ("38.61S 12.02W", -12.02, -38.61),
    ("12.02W 38.61S", -12.02, -38.61),
    ("-38.61, -12.02", -12.02, -38.61),
    ("−38.61 −12.02", -12.02, -38.61),
    ("-38.61/-12.02", -12.02, -38.61),
    ("https://map.test/@-38.61,-12.02,14.5z", -12.02, -38.61),
    ("https://map.test/?lat=-38.61&lon=-12.02&z=9", -12.02, -38.61),
    ("38°36'36\"S 12°01'12\"W", -12.02, -38.61),
    ("38 36 36 S, 12 01 12 W", -12.02, -38.61),
    ("S38°36.6' W12°1.2'", -12.02, -38.61),
    ("38d36m36s S 12d1m12s W", -12.02, -38.61),
    ("0, 179.9", 179.9, 0),
    ("95, 12", 95, 12),
]


@pytest.mark.parametrize(("text", "lon", "lat"), POINTS)
def test_points_as_people_paste_them(text, lon, lat):
    point = coordinates.parse_point(text)
    assert (point.lon, point.lat) == pytest.approx((lon, lat), abs=1e-9)
    assert ("longitude, latitude" in point.note) == (text == "95, 12")
    assert coordinates.looks_like_coordinates(text)


@pytest.mark.parametrize("text", ["28S 760000 5724000", "UTM 28 S 760000mE 5724000mN", "28H 760000 5724000"])
def test_utm_positions(text):
    lon, lat = Transformer.from_crs(32728, 4326, always_xy=True).transform(760000, 5724000)
    point = coordinates.parse_point(text)
    assert (point.lon, point.lat) == pytest.approx((lon, lat), abs=1e-9)


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("38.61S", "is not a point"), ("38.61S 12.02S", "same axis"), ("95 190", "not on the globe"),
        ("61S 760000 5724000", "no UTM zone 61"), ("28S 5724000 760000", "easting comes first"),
        ("38°61'S 12W", "60 or more"), ("91N 3E", "not on the globe"), ("three four", "no coordinate"),
    ],
)  # fmt: skip
def test_points_that_cannot_be(text, told):
    with pytest.raises(AreaError) as caught:
        coordinates.parse_point(text)
    assert told in str(caught.value)


def test_an_unlikely_order_is_questioned():
    near = [Bounds(-13, -39, -11, -38)]
    assert coordinates.parse_point("-12.02, -38.61", near).note.startswith("'-12.02, -38.61' was read as latitude")
    assert coordinates.parse_point("-38.61, -12.02", near).note == ""
    assert coordinates.parse_point("12.02S 38.61W", near).note == ""


def test_names_give_grounds_and_points_ask_for_a_size():
    fen = resolve(AreaRequest("harrow fen"))
    assert fen.size_km2 == pytest.approx(17.5, abs=0.1)
    tile = resolve(AreaRequest("28s9844"))
    side = 8.192
    assert tile.size_km2 == pytest.approx(side * side, rel=2e-3)
    with pytest.raises(AreaError, match="known as a point"):
        resolve(AreaRequest("Oddermere, Westfen"))
    around = resolve(AreaRequest("oddermere", around="2km"))
    assert around.size_km2 == pytest.approx(4 * math.pi, rel=3e-3)
    assert "gave its point" in around.notes[0]
    with pytest.raises(AreaError, match="nothing to choose from"):
        resolve(AreaRequest("harrow fen", only="x"))
    with pytest.raises(AreaError, match="Did you mean oddermere"):
        resolve(AreaRequest("odermere"))


def test_where_answers_the_other_way_round():
    found = {(entry.kind, entry.name): entry.percent for entry in where(resolve(AreaRequest("28s9844")))}
    assert found["lapwing tile", "28s9844"] == pytest.approx(100, abs=0.01)
    assert found["region", "Ostrell"] > 90
    assert sum(share for (kind, _), share in found.items() if kind == "map sheet") == pytest.approx(100, abs=0.1)
    assert sheets.named("t117-f284").scheme == "siskin frame"


def test_gazetteers_of_ones_own(tmp_path, monkeypatch):
    monkeypatch.setenv("ZOOMPICK_CONFIG", str(tmp_path / "config"))
    table = tmp_path / "mine.csv"
    table.write_text(
        "Name,Lon,Lat,Kind,Within\nOld Mill,-12.05,-38.6,mill,Westfen\nOld Mill,-12.1,-38.6,mill,Skerries\n"
    )
    assert places.add(table) == 2
    assert places.named("old mill, skerries").lon == -12.1
    with pytest.raises(UsageError, match="2 places"):
        places.named("Old Mill")
    table.write_text("Name,Lon\nx,1\n")
    with pytest.raises(AreaError, match="no column lat"):
        places.add(table)
    with pytest.raises(UnknownNameError):
        places.named("nowhere")


def test_a_box_and_a_ring_across_the_antimeridian_are_the_same_ground():
    box = Area.from_box(179, -17, -178, -16)
    ring = polygon_of(
        {"type": "Polygon", "coordinates": [[[179, -17], [-178, -17], [-178, -16], [179, -16], [179, -17]]]}
    )
    assert box.polygon.equals(ring)
    assert box.size_km2 == pytest.approx(area_km2(shapely.box(10, -17, 13, -16)), rel=2e-4)
    assert box.crosses_antimeridian
    assert [crs.epsg for crs in box.utm_zones] == [32701, 32760]
    assert geodesy.perimeter_km(box.polygon) == pytest.approx(
        geodesy.perimeter_km(shapely.box(10, -17, 13, -16)), rel=1e-4
    )
    grown = geodesy.buffered(box.polygon, 10_000)
    assert grown.bounds[:3:2] == (-180, 180)
    plain = geodesy.buffered(shapely.box(10, -17, 13, -16), 10_000)
    assert area_km2(grown) == pytest.approx(area_km2(plain), rel=2e-4)
    world = polygon_of(
        {"type": "Polygon", "coordinates": [[[-180, -80], [180, -80], [180, 80], [-180, 80], [-180, -80]]]}
    )
    assert world.bounds == (-180, -80, 180, 80)


def test_circles_are_round_everywhere():
    radius = 300_000
    expected = math.pi * (radius / 1000) ** 2
    for lon, lat in ((-12, -38.6), (179.5, 10), (30, 89), (-100, -90)):
        polygon = geodesy.circle(lon, lat, radius)
        assert area_km2(polygon) == pytest.approx(expected, rel=4e-3)
        assert shapely.intersects_xy(polygon, lon, lat)
        corners = shapely.get_coordinates(polygon)
        edge = corners[(np.abs(corners[:, 0]) < 180) & (np.abs(corners[:, 1]) < 90)]
        reach = Geod(ellps="WGS84").inv(np.full(len(edge), lon), np.full(len(edge), lat), edge[:, 0], edge[:, 1])[2]
        assert reach.max() == pytest.approx(radius, rel=1e-6)
    assert Area("cap", geodesy.circle(10, 89.9, radius)).utm.epsg == 32661


def test_areas_are_joined_cut_grown_and_simplified():
    left, right = Area.from_box(0, 0, 0.1, 0.1), Area.from_box(0.05, 0, 0.2, 0.1)
    joined = changed(left, "", "", [right], [])
    assert joined.size_km2 == pytest.approx(2 * left.size_km2, rel=1e-3)
    assert changed(joined, "", "", [], [right]).size_km2 == pytest.approx(left.size_km2 / 2, rel=1e-3)
    grown = changed(left, "1km", "", [], [])
    side = 11.1
    assert grown.size_km2 == pytest.approx(side * side + 4 * side + math.pi, rel=0.01)
    assert changed(grown, "", "50m", [], []).size_km2 == pytest.approx(grown.size_km2, rel=0.01)
    for action in (("", "", [], [left]), ("-20km", "", [], [])):
        with pytest.raises(AreaError, match="Nothing is left"):
            changed(left, *action)


def test_one_of_several_polygons_by_name_or_attribute(tmp_path):
    def feature(name, kind, x):
        square = shapely.geometry.mapping(shapely.box(x, 0, x + 1, 1))
        return {"type": "Feature", "properties": {"name": name, "kind": kind}, "geometry": square}

    path = tmp_path / "many.geojson"
    path.write_text(
        json.dumps({"type": "FeatureCollection", "features": [feature("a", "wet", 0), feature("b", "dry", 3)]})
    )
    assert "holds 2 polygons" in read_area(path).notes[0]
    assert read_area(path, "B").polygon.bounds == (3, 0, 4, 1)
    assert read_area(path, "kind=wet").name == "a"
    for wanted, told in (
        ("c", "There is a, b"),
        ("kind=hot", "kind is dry, wet"),
        ("sort=wet", "attributes are kind, name"),
    ):
        with pytest.raises(AreaError) as caught:
            read_area(path, wanted)
        assert told in str(caught.value)


LOOP = '<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "lol"><!ENTITY b "&a;&a;">]><kml><name>&b;</name></kml>'
LINKED = (
    '<kml xmlns="http://www.opengis.net/kml/2.2"><Folder><NetworkLink><Link><href>http://x.test/</href></Link>'
    "</NetworkLink></Folder></kml>"
)
HOSTILE = {
    "entities.kml": (LOOP.encode(), "XML entities"),
    "linked.kml": (LINKED.encode(), "not followed"),
    "cut.kml": (b"<kml><Placemark>", "not XML"),
    "nan.geojson": (b'{"type":"Polygon","coordinates":[[[0,0],[NaN,0],[1,1],[0,0]]]}', "no number"),
    "empty.gpkg": (None, "no table with a geometry"),
    "junk.gpkg": (b"SQLite format 3\0" + b"\1" * 2000, "not a GeoPackage"),
    "junk.zip": (b"PK\3\4" + b"\0" * 60, "no zip archive"),
    "junk.shp": (b"\0\0\x27\x0a" + b"\7" * 90, "shapefile"),
    "line.wkt": (b"LINESTRING(0 0, 1 1)", "is a LineString"),
    "unknown.wkt": (b"SRID=999999;POLYGON((0 0,1 0,1 1,0 0))", "not known"),
    "words.txt": (b"somewhere by the lake", "not GeoJSON, nor"),
}


@pytest.mark.parametrize("name", HOSTILE)
def test_hostile_and_broken_files_are_told_in_a_sentence(tmp_path, name):
    data, told = HOSTILE[name]
    path = tmp_path / name
    if data is None:
        database = sqlite3.connect(path)
        database.execute("CREATE TABLE gpkg_geometry_columns (table_name, column_name, srs_id)")
        database.commit()
    else:
        path.write_bytes(data)
    with pytest.raises(ZoomPickError) as caught:
        read_area(path)
    assert told in str(caught.value)


def test_bombs_and_huge_outlines(tmp_path):
    with zipfile.ZipFile(tmp_path / "bomb.kmz", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("doc.kml", b"\0" * (80 << 20))
    with pytest.raises(AreaError, match="would unpack"):
        read_area(tmp_path / "bomb.kmz")
    angles = np.linspace(0, 2 * np.pi, 200_001)
    ring = np.column_stack([np.cos(angles), np.sin(angles)])
    ring[-1] = ring[0]
    big = tmp_path / "big.geojson"
    big.write_text(json.dumps({"type": "Polygon", "coordinates": [ring.tolist()]}))
    assert shapely.get_num_coordinates(read_area(big).polygon) == 200_001


def test_text_rasters_and_pipes(tmp_path, program):
    assert read_text("POLYGON((0 0,1 0,1 1,0 0))").polygon.bounds == (0, 0, 1, 1)
    assert read_text(json.dumps(FEN)).size_km2 == pytest.approx(8.313, abs=0.005)
    foreign_tiff(tmp_path / "red.tif", noise((1, 100, 50)), grid(50, 100))
    like = program("area", "--like", "red.tif", "--json").json
    assert like["properties"]["size_km2"] == pytest.approx(0.32, rel=2e-3)
    piped = program("area", "-", "--json", stdin="0 0\n0 1\n1 1\n")
    assert piped.json["bbox"] == [0, 0, 1, 1]
    assert program("area", "-38.61, -12.02", "--around", "2km").out.startswith("area       2km around -38.61, -12.02")


def test_areas_are_kept_by_name_changed_and_drawn(study, program):
    before = program("area", "--json", cwd=study).json["properties"]["size_km2"]
    assert program("area", "keep", "wet-ground", cwd=study).code == 0
    assert program("area", "keep", "wet-ground", cwd=study).code == 2
    changed_size = program("area", "change", "--grow", "300m", cwd=study)
    assert changed_size.code == 0 and f"It had {before:.2f} km2" in " ".join(changed_size.err.split())
    assert program("area", "wet-ground", "--out", "map.png", cwd=study).code == 0
    assert program("area", "--json", cwd=study).json["properties"]["size_km2"] == pytest.approx(before)
    assert (study / "map.png").read_bytes().startswith(b"\x89PNG")
    assert program("area", "forget", "wet-ground", cwd=study).code == 0
