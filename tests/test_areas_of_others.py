"""Areas and dates as people have them: other systems, lines, tables, addresses, lists, written dates."""

from __future__ import annotations

import functools
import http.server
import json
import sqlite3
import threading
from datetime import UTC, datetime

import numpy as np
import pyproj
import pytest
import shapefile
import shapely

from zoompick.area import coordinates, places, sheets
from zoompick.area.geojson import read_geojson
from zoompick.area.marks import marks_of
from zoompick.area.read import around_file, read_area
from zoompick.errors import AreaError, UsageError
from zoompick.geo.bounds import Bounds
from zoompick.geo.sizes import area_km2
from zoompick.scenes.period import Period
from zoompick.study.areas import AreaRequest, resolve

HERE = [Bounds(-12.4, -38.8, -11.8, -38.5)]
METRES = [[752000, 5710000], [760000, 5710000], [760000, 5720000], [752000, 5720000], [752000, 5710000]]
TO_DEGREES = pyproj.Transformer.from_crs(32728, 4326, always_xy=True)


def corner_degrees() -> np.ndarray:
    return np.column_stack(TO_DEGREES.transform(*np.array(METRES, float).T))


@pytest.mark.parametrize("name", ["EPSG:32728", "urn:ogc:def:crs:EPSG::32728", "urn:ogc:def:crs:EPSG:9.9:32728",
                                  "http://www.opengis.net/def/crs/EPSG/0/32728"])  # fmt: skip
@pytest.mark.parametrize("as_features", [False, True])
def test_geojson_of_another_system_is_carried_to_degrees(name, as_features):
    polygon = {"type": "Polygon", "coordinates": [METRES]}
    told = {"type": "name", "properties": {"name": name}}
    value = {**polygon, "crs": told}
    if as_features:
        row = {"type": "Feature", "properties": {"name": "a"}, "geometry": polygon}
        value = {"type": "FeatureCollection", "crs": told, "features": [row, row]}
    features, _ = read_geojson(json.dumps(value).encode(), "x")
    assert len(features) == 1 + as_features
    wanted = shapely.Polygon(corner_degrees())
    for feature in features:
        assert feature.polygon.symmetric_difference(wanted).area < 1e-5
        assert all(feature.polygon.distance(shapely.Point(corner)) < 1e-9 for corner in wanted.exterior.coords)
        assert area_km2(feature.polygon) == pytest.approx(79.93, abs=0.02)


@pytest.mark.parametrize("name", ["urn:ogc:def:crs:OGC:1.3:CRS84", "EPSG:4326", "urn:ogc:def:crs:EPSG::4326", "CRS84",
                                  "http://www.opengis.net/def/crs/OGC/1.3/CRS84"])  # fmt: skip
def test_degrees_by_another_name_stay_as_they_are(name):
    ring = [[-12.1, -38.7], [-12, -38.7], [-12, -38.6], [-12.1, -38.7]]
    value = {"type": "Polygon", "coordinates": [ring], "crs": {"type": "name", "properties": {"name": name}}}
    [feature], _ = read_geojson(json.dumps(value).encode(), "x")
    assert feature.polygon.bounds == (-12.1, -38.7, -12, -38.6)


@pytest.mark.parametrize("told", [{"type": "link", "properties": {"href": "http://x/y"}}, "EPSG:32728", {},
                                  {"type": "name", "properties": {"name": "EPSG:99999"}},
                                  {"type": "name", "properties": {"name": "mine"}}])  # fmt: skip
def test_a_system_that_cannot_be_known_is_no_guess(told):
    value = {"type": "Polygon", "coordinates": [METRES], "crs": told}
    with pytest.raises(AreaError, match="system"):
        read_geojson(json.dumps(value).encode(), "x")


LINE = [(-12.1, -38.65), (-12.0, -38.65)]


def line_files(folder) -> dict[str, object]:
    """The same line in every format that holds lines."""
    found = {name: folder / name for name in ("l.geojson", "l.gpx", "l.kml", "l.wkt", "l.shp", "l.gpkg", "l.csv")}
    found["l.geojson"].write_text(json.dumps({"type": "LineString", "coordinates": LINE}))
    points = "".join(f'<trkpt lat="{lat}" lon="{lon}"/>' for lon, lat in LINE)
    found["l.gpx"].write_text(
        f'<gpx version="1.1" creator="t" xmlns="http://www.topografix.com/GPX/1/1"><trk><trkseg>{points}</trkseg>'
        "</trk></gpx>"
    )
    text = " ".join(f"{lon},{lat},0" for lon, lat in LINE)
    found["l.kml"].write_text(f"<kml><Document><Placemark><LineString><coordinates>{text}</coordinates></LineString>"
                              "</Placemark></Document></kml>")  # fmt: skip
    line = shapely.LineString(LINE)
    found["l.wkt"].write_text(line.wkt)
    found["l.csv"].write_text(f'name;wkt\nroad;"{line.wkt}"\n')
    with shapefile.Writer(str(found["l.shp"]), shapeType=shapefile.POLYLINE) as writer:
        writer.field("name", "C")
        writer.line([list(map(list, LINE))])
        writer.record("road")
    with sqlite3.connect(found["l.gpkg"]) as database:
        database.executescript(
            "CREATE TABLE gpkg_geometry_columns (table_name, column_name, geometry_type_name, srs_id, z, m);"
            "CREATE TABLE gpkg_spatial_ref_sys (srs_id, definition); CREATE TABLE roads (fid, geom, name);"
            "INSERT INTO gpkg_geometry_columns VALUES ('roads', 'geom', 'LINESTRING', 4326, 0, 0);"
        )
        blob = b"GP\x00\x01" + (4326).to_bytes(4, "little") + shapely.to_wkb(line, byte_order=1)
        many = b"GP\x00\x01" + (4326).to_bytes(4, "little") + shapely.to_wkb(shapely.MultiLineString([line]))
        database.execute("INSERT INTO roads VALUES (1, ?, 'road'), (2, ?, 'road')", (blob, many))
    return found


def test_a_strip_about_a_line_of_any_format(tmp_path):
    """Length times width, and the two half circles at its ends."""
    length = pyproj.Geod(ellps="WGS84").line_length(*zip(*LINE, strict=True))
    wanted = (length * 1000 + np.pi * 500**2) / 1e6
    for name, path in line_files(tmp_path).items():
        area = around_file(path, "500m")
        assert area.size_km2 == pytest.approx(wanted, rel=0.01), name
        assert "line" in area.notes[0] and name in area.notes[0]
        with pytest.raises(AreaError, match=r"size|polygon|area") as refused:
            read_area(path)
        assert "`around`" in str(refused.value.todo), (name, refused.value.todo)


def test_a_track_of_several_by_its_name(tmp_path):
    def track(name: str, lat: float) -> str:
        points = "".join(f'<trkpt lat="{lat}" lon="{lon}"/>' for lon in (-12.1, -12.0))
        return f"<trk><name>{name}</name><trkseg>{points}</trkseg></trk>"

    route = '<rte><name>sea</name><rtept lat="-38.5" lon="-12.1"/><rtept lat="-38.5" lon="-12.0"/></rte>'
    path = tmp_path / "t.gpx"
    path.write_text('<gpx version="1.1" creator="t" xmlns="http://www.topografix.com/GPX/1/1">'
                    f"{track('high', -38.6)}{track('low', -38.7)}{route}</gpx>")  # fmt: skip
    assert [mark.name for mark in marks_of(path)] == ["high", "low", "sea"]
    assert around_file(path, "500m", "low").centre[1] == pytest.approx(-38.7, abs=1e-3)
    assert "3 lines" in around_file(path, "500m").notes[0]


def test_points_of_tables_however_their_columns_are_called(tmp_path):
    for number, text in enumerate((
        "name,lat,lon\nA,-38.61,-12.05\nB,-38.65,-12.02\n",
        "\ufeffID;Longitude;Latitude\nA;-12,05;-38,61\nB;-12,02;-38,65\n",
        "y\tx\tsite\n-38.61\t-12.05\tA\n\n-38.65\t-12.02\tB\n",
        "code,lat,lng\nA,38.61S,12.05W\nB,38°39'S,12 1 12 W\n",
    )):  # fmt: skip
        path = tmp_path / f"{number}.csv"
        path.write_text(text)
        found = marks_of(path)
        assert [mark.name for mark in found] == ["A", "B"], text
        assert np.allclose([mark.shape.coords[0] for mark in found], [(-12.05, -38.61), (-12.02, -38.65)]), text
        assert around_file(path, "1km", "B").centre == pytest.approx((-12.02, -38.65), abs=1e-4)
    path.write_text("name,lat,lon\nA,here,there\n")
    with pytest.raises(AreaError, match="line 2 holds no coordinates"):
        marks_of(path)
    path.write_text("name,lat,lon\nA,98,12\n")
    with pytest.raises(AreaError, match="not on the globe"):
        around_file(path, "1km")


def test_polygons_of_a_table_keep_their_names(tmp_path):
    path = tmp_path / "fields.csv"
    path.write_text('field,crop,wkt\n1,oats,"POLYGON((-12.1 -38.7,-12 -38.7,-12 -38.6,-12.1 -38.7))"\n'
                    '2,rye,"POLYGON((-12.3 -38.7,-12.2 -38.7,-12.2 -38.6,-12.3 -38.7))"\n')  # fmt: skip
    assert read_area(path, "crop=rye").polygon.bounds[0] == -12.3
    assert len(shapely.get_parts(read_area(path).polygon)) == 2


def test_collections_of_well_known_text(tmp_path):
    path = tmp_path / "c.wkt"
    path.write_text("GEOMETRYCOLLECTION(POINT(1 1),POLYGON((-12.1 -38.7,-12 -38.7,-12 -38.6,-12.1 -38.7)),"
                    "POLYGON((-12.3 -38.7,-12.2 -38.7,-12.2 -38.6,-12.3 -38.7)))")  # fmt: skip
    area = read_area(path)
    assert len(shapely.get_parts(area.polygon)) == 2 and any("1 points or lines" in note for note in area.notes)


@pytest.mark.parametrize("text", ["S38 36.6 W012 03.6", "S38 36 36 W012 03 36", "S 38:36.6, W 12:03.6",
                                  "S38° 36.6' W12° 3.6'", "EPSG:32728 755996.5 5722400.2"])  # fmt: skip
def test_points_with_letters_in_front_and_in_metres(text):
    point = coordinates.parse_point(text)
    assert (point.lon, point.lat) == pytest.approx((-12.06, -38.61), abs=1e-4)
    assert coordinates.looks_like_coordinates(text)


@pytest.mark.parametrize(
    ("text", "note"),
    [
        ("-12.1 -38.7, -12.0 -38.7, -12.0 -38.6", "the other way round it would lie far"),
        ("-12.1,-38.7\n-12.0,-38.7\n-12.0,-38.6", "the other way round it would lie far"),
        ("-38.7 -12.1; -38.7 -12.0; -38.6 -12.0", ""),
        ("38.7S 12.1W; 38.7S 12W; 38.6S 12W", ""),
        ("EPSG:4326 -12.1 -38.7; -12.0 -38.7; -12.0 -38.6", ""),
    ],
)
def test_lists_of_corners_in_either_order_are_the_same_ground(text, note):
    points = coordinates.parse_corners(text, HERE)
    assert np.allclose([(p.lon, p.lat) for p in points], [(-12.1, -38.7), (-12.0, -38.7), (-12.0, -38.6)])
    assert all(note in point.note and bool(point.note) is bool(note) for point in points)


def test_a_list_that_cannot_be_latitudes_is_read_one_way_whole():
    points = coordinates.parse_corners("170.1 -38.7; 80 -38.7; 80 -30")
    assert [(p.lon, p.lat) for p in points] == [(170.1, -38.7), (80, -38.7), (80, -30)]


@pytest.mark.parametrize("text", ["EPSG:32728 5722655 756061", "EPSG:99999 1 2", "EPSG:32728 5"])
def test_metres_that_lie_nowhere_are_refused(text):
    with pytest.raises(AreaError):
        coordinates.parse_point(text)


def test_sides_of_an_address_in_any_order():
    box = coordinates.parse_box("https://maps.example/v?north=-38.5&south=-38.7&x=1&east=-12&west=-12.2#top")
    assert box == (-12.2, -38.7, -12, -38.5)
    assert coordinates.parse_box("https://maps.example/v?north=-38.5&south=-38.7") is None


def test_turned_boxes_and_files_are_questioned_and_not_turned(tmp_path, program):
    ring = [[-38.7, -12.1], [-38.7, -12.0], [-38.6, -12.0], [-38.6, -12.1], [-38.7, -12.1]]
    (tmp_path / "t.geojson").write_text(json.dumps({"type": "Polygon", "coordinates": [ring]}))
    for words in (("--box", "-38.7,-12.1,-38.6,-12.0"), ("t.geojson",)):
        shown = program("area", "show", *words)
        told = " ".join(shown.err.split())
        assert shown.code == 0 and "far from all you work with; with both turned around it would lie near" in told
        assert "-38.65000, -12.05000" in shown.out


@pytest.mark.parametrize("words", [("--box", "-12.1,-38.7,-12,-38.6"), ("--box=-12.1,-38.7,-12,-38.6",),
                                   ("--box", "-12.1 -38.7 -12 -38.6"),
                                   ("--box", -12.1, -38.7, -12, -38.6)])  # fmt: skip
def test_a_box_in_one_word_or_four(program, words):
    shown = program("area", "show", *words)
    assert shown.code == 0 and "96.63 km2" in shown.out


def test_a_box_of_three_is_told(program):
    assert "4 values" in program("area", "show", "--box", "-12.1,-38.7,-12").err


def test_the_bounds_of_a_raster_are_an_area(demo, program):
    stack = next((demo[0] / "products").glob("*/stack.tif"))
    shown = program("area", "show", stack)
    assert shown.code == 0 and "The bounds of stack.tif." in shown.err
    assert program("area", "show", stack, "--around", "1km").code == 2


def test_a_file_at_a_web_address(tmp_path, program):
    (tmp_path / "far").mkdir()
    (tmp_path / "far" / "fen.geojson").write_text(json.dumps(
        {"type": "Polygon", "coordinates": [[[-12.1, -38.7], [-12, -38.7], [-12, -38.6], [-12.1, -38.7]]]}
    ))  # fmt: skip
    handler = functools.partial(http.server.SimpleHTTPRequestHandler, directory=tmp_path / "far")
    handler.log_message = lambda *told: None  # type: ignore[attr-defined]
    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        root = f"http://127.0.0.1:{server.server_port}"
        shown = program("area", "show", f"{root}/fen.geojson?v=2")
        assert shown.code == 0 and "fen" in shown.out and "48.3" in shown.out, shown.err
        gone = program("area", "show", f"{root}/none.geojson", env={"ZOOMPICK_RETRIES": "0"})
        assert gone.code != 0 and "404" in gone.err
        server.shutdown()


def test_a_kept_name_that_shadows_a_sheet_is_told(tmp_path, program):
    sheet = sheets.named("t117-f284")
    env = {"ZOOMPICK_CONFIG": str(tmp_path / "config")}
    assert program("area", "keep", sheet.name, "--box", "-12.1,-38.7,-12,-38.6", env=env).code == 0
    shown = program("area", "show", sheet.name, env=env)
    assert f"{sheet.name} is an area that you kept; the {sheet.scheme} of this name is not meant." in " ".join(
        shown.err.split()
    )


def test_an_area_is_given_one_way():
    with pytest.raises(AreaError, match="more than one way"):
        resolve(AreaRequest("x", box=(0, 0, 1, 1)))


def day(year: int, month: int, number: int) -> datetime:
    return datetime(year, month, number, tzinfo=UTC)


@pytest.mark.parametrize(
    ("text", "start", "end"),
    [
        ("2025-Q4", (2025, 10, 1), (2026, 1, 1)), ("Q1 2025", (2025, 1, 1), (2025, 4, 1)),
        ("2025q2", (2025, 4, 1), (2025, 7, 1)), ("Dec 2025", (2025, 12, 1), (2026, 1, 1)),
        ("december 2025", (2025, 12, 1), (2026, 1, 1)), ("15.12.2025", (2025, 12, 15), (2025, 12, 16)),
        ("5. 1. 2025", (2025, 1, 5), (2025, 1, 6)), ("15 Dec 2025", (2025, 12, 15), (2025, 12, 16)),
        ("1. March 2024", (2024, 3, 1), (2024, 3, 2)), ("Sept 2024", (2024, 9, 1), (2024, 10, 1)),
        ("15.12.2025/20.12.2025", (2025, 12, 15), (2025, 12, 21)), ("Nov 2025/Feb 2026", (2025, 11, 1), (2026, 3, 1)),
        ("2024-Q3/2025-Q1", (2024, 7, 1), (2025, 4, 1)),
    ],
)  # fmt: skip
def test_dates_as_people_write_them(text, start, end):
    period = Period.parse(text)
    assert period.start == day(*start)
    assert 0 < (day(*end) - period.end).total_seconds() < 1e-3


@pytest.mark.parametrize("text", ["2025-Q5", "Smarch 2025", "32.12.2025", "15.13.2025", "31 Feb 2025", "12/15/2025",
                                  "15.12.25"])  # fmt: skip
def test_dates_that_are_none_or_could_be_two_are_refused(text):
    with pytest.raises(UsageError):
        Period.parse(text)


def test_a_name_that_another_gazetteer_has_too_is_told(monkeypatch):
    town = places.Place("Harrow Fen", "town", 5.5, 60.25, "XX", None, "towns")
    monkeypatch.setattr(places, "_towns", lambda: (town,))
    area = resolve(AreaRequest("Harrow Fen", around="2km"))
    assert area.notes[-1] == "Harrow Fen, XX (town, 60.2500N 5.5000E) of this name is not meant."
