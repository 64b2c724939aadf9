"""Ways in: coordinates as people paste them, areas as programs write them, catalogues as others lay them out."""

from __future__ import annotations

import http.server
import json
import threading
import zipfile
from functools import partial

import pytest
import shapely

from helpers import FEN
from zoompick.area import coordinates, places
from zoompick.area.read import around_file, read_area
from zoompick.errors import AreaError, UsageError
from zoompick.geo.shapes import polygon_of
from zoompick.study.areas import AreaRequest, resolve

RING = "-12.08,-38.63 -12.04,-38.63 -12.04,-38.6 -12.08,-38.6 -12.08,-38.63"
SQUARE = shapely.box(-12.08, -38.63, -12.04, -38.6)


@pytest.mark.parametrize(
    "text",
    [
        "lon=-12.02&lat=-38.61", "https://map.example/?lat=-38.61&lng=-12.02&z=9", "geo:-38.61,-12.02;u=35",
        "38 36.6 S 12 1.2 W", "38°36.6'S 12°1.2'W", "38,61S 12,02W", "-38,61 -12,02", "-38,61; -12,02",
        "latitude: -38.61, longitude: -12.02", "x=-12.02 y=-38.61", "38:36.6S 12:01.2W",
    ],
)  # fmt: skip
def test_points_as_people_paste_them(text):
    assert coordinates.looks_like_coordinates(text)
    point = coordinates.parse_point(text)
    assert (point.lon, point.lat) == pytest.approx((-12.02, -38.61))


@pytest.mark.parametrize(
    "text", ["bbox=-12.1,-38.7,-12,-38.6", "https://a.example/items?bbox=-12.1,-38.7,-12.0,-38.6&limit=3"]
)
def test_boxes_out_of_addresses(text):
    assert resolve(AreaRequest(text)).bounds.as_list() == pytest.approx([-12.1, -38.7, -12, -38.6])


def test_four_numbers_are_answered_with_what_to_type():
    with pytest.raises(AreaError, match="four numbers") as caught:
        resolve(AreaRequest("-12.1, -38.7, -12, -38.6"))
    assert "`box` -12.1 -38.7 -12 -38.6" in caught.value.todo


def test_places_of_one_name_are_both_listed(tmp_path, monkeypatch):
    monkeypatch.setenv("ZOOMPICK_CONFIG", str(tmp_path))
    ours = next(place for place in places.known() if place.ground is not None)
    (tmp_path / "places").mkdir()
    (tmp_path / "places" / "mine.csv").write_text(f"name,lon,lat\n{ours.name},10,20\nOnly Mine,1,2\n")
    with pytest.raises(UsageError, match="2 places are called") as caught:
        places.named(ours.name)
    assert "mine" in caught.value.what
    assert places.named(f"{ours.name}, mine").lon == 10
    assert places.named("Only Mine").lat == 2


def test_a_kept_area_is_what_its_name_says(tmp_path, monkeypatch):
    from zoompick.area import kept, sheets
    from zoompick.area.model import Area

    monkeypatch.setenv("ZOOMPICK_CONFIG", str(tmp_path))
    name = next(sheet.name.lower() for scheme in sheets.schemes() for sheet, _ in scheme.under(SQUARE))
    assert sheets.named(name) is not None
    kept.keep(Area(name, SQUARE), name)
    assert resolve(AreaRequest(name)).polygon.equals(SQUARE)


def kml(inner):
    return f'<?xml version="1.0"?><kml xmlns="http://www.opengis.net/kml/2.2"><Document>{inner}</Document></kml>'


def mark(shape):
    return kml(f"<Placemark><name>fen</name>{shape}</Placemark>")


POLYGON = (
    "<Polygon><outerBoundaryIs><LinearRing><coordinates>{}</coordinates></LinearRing></outerBoundaryIs></Polygon>"
)
GPX = '<gpx version="1.1" creator="x" xmlns="http://www.topografix.com/GPX/1/1">'
FORMS = {
    "closed line.kml": mark(f"<LineString><coordinates>{RING}</coordinates></LineString>"),
    "blanks.kml": mark(POLYGON.format(RING.replace(",", ", "))),
    "heights.kml": mark(POLYGON.format(" ".join(f"{corner},0" for corner in RING.split()))),
    "overlay.kml": kml(
        "<GroundOverlay><name>p</name><LatLonBox><north>-38.6</north><south>-38.63</south><east>-12.04</east>"
        "<west>-12.08</west></LatLonBox></GroundOverlay>"
    ),
    "route.gpx": f"{GPX}<rte><name>r</name>"
    + "".join(f'<rtept lat="{c.split(",")[1]}" lon="{c.split(",")[0]}"/>' for c in RING.split()) + "</rte></gpx>",
    "collection.geojson": json.dumps({
        "type": "Feature", "properties": {"name": "x"}, "geometry": {"type": "GeometryCollection", "geometries": [
            {"type": "Point", "coordinates": [0, 0]}, shapely.geometry.mapping(SQUARE)]},
    }),
}  # fmt: skip


@pytest.mark.parametrize("name", FORMS)
@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-be"])
def test_areas_as_programs_write_them(tmp_path, name, encoding):
    text = FORMS[name]
    data = text.encode(encoding)
    (tmp_path / name).write_bytes(b"\xfe\xff" + data if encoding == "utf-16-be" else data)
    found = read_area(tmp_path / name)
    assert found.polygon.symmetric_difference(SQUARE).area < 1e-9


def test_an_outline_with_its_encoding_told(tmp_path):
    text = FORMS["closed line.kml"].replace('version="1.0"', 'version="1.0" encoding="UTF-16"')
    (tmp_path / "x.kml").write_bytes(text.encode("utf-16"))
    assert read_area(tmp_path / "x.kml").polygon.area > 0


@pytest.mark.parametrize(
    ("ring", "width"),
    [
        ([[170, 0], [190, 0], [190, 5], [170, 5], [170, 0]], 20),
        ([[-190, 0], [-175, 0], [-175, 5], [-190, 5], [-190, 0]], 15),
        ([[181, 0], [185, 0], [185, 5], [181, 5], [181, 0]], 4),
    ],
)  # fmt: skip
def test_longitudes_beyond_180_are_wrapped(ring, width):
    found = polygon_of({"type": "Polygon", "coordinates": [ring]})
    assert found.area == pytest.approx(5 * width)
    assert found.bounds[0] >= -180 and found.bounds[2] <= 180


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("p.geojson", json.dumps({"type": "Feature", "properties": {"name": "hut"},
                                  "geometry": {"type": "Point", "coordinates": [-12.02, -38.61]}})),
        ("p.kml", mark("<Point><coordinates>-12.02,-38.61,7</coordinates></Point>")),
        ("p.gpx", f'{GPX}<wpt lat="-38.61" lon="-12.02"><name>hut</name></wpt></gpx>'),
        ("p.wkt", "SRID=4326;POINT (-12.02 -38.61)"),
    ],
)  # fmt: skip
def test_a_circle_about_a_point_in_a_file(tmp_path, name, text, program):
    (tmp_path / name).write_text(text)
    found = around_file(tmp_path / name, "2km")
    assert found.centre == pytest.approx((-12.02, -38.61), abs=1e-5) and found.size_km2 == pytest.approx(
        12.57, rel=0.01
    )
    assert program("area", "show", name, "--around", "2km").code == 0
    (tmp_path / "two.geojson").write_text(json.dumps({"type": "MultiPoint", "coordinates": [[0, 0], [1, 1]]}))
    both = around_file(tmp_path / "two.geojson", "2km")
    assert both.size_km2 == pytest.approx(25.13, rel=0.01) and "2 points" in both.notes[0]


def test_a_box_around_the_whole_world(program):
    shown = program("area", "show", "--box", -180, -90, 180, 90)
    assert shown.code == 0 and "510" in shown.out


def test_layers_and_members_by_name(tmp_path):
    from zoompick.area.model import Area
    from zoompick.area.write import write_area

    other = shapely.box(-12.2, -38.8, -12.1, -38.7)
    for name, shape in (("fen", SQUARE), ("bay", other)):
        write_area(Area(name, shape), tmp_path / f"{name}.zip")
    with zipfile.ZipFile(tmp_path / "both.zip", "w") as both:
        for name in ("fen", "bay"):
            with zipfile.ZipFile(tmp_path / f"{name}.zip") as one:
                for member in one.namelist():
                    both.writestr(member, one.read(member))
    with zipfile.ZipFile(tmp_path / "both.kmz", "w") as both:
        for name, shape in (("doc", SQUARE), ("bay", other)):
            ring = " ".join(f"{x},{y}" for x, y in shape.exterior.coords)
            both.writestr(f"{name}.kml", kml(f"<Placemark>{POLYGON.format(ring)}</Placemark>"))
    for name in ("both.zip", "both.kmz"):
        assert read_area(tmp_path / name, "bay").polygon.symmetric_difference(other).area < 1e-9
        assert read_area(tmp_path / name).polygon.area == pytest.approx(SQUARE.area + other.area)


# Sources


@pytest.fixture
def shelf(tmp_path):
    """A folder served over HTTP."""

    class Quiet(http.server.SimpleHTTPRequestHandler):
        def log_message(self, *args):
            pass

    folder = tmp_path / "shelf"
    folder.mkdir()
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), partial(Quiet, directory=folder))
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    yield folder, f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


def item(number, **more):
    return {"type": "Feature", "stac_version": "1.0.0", "id": f"s{number}", "collection": "c", "geometry": FEN,
            "properties": {"datetime": f"2025-06-0{number}T10:00:00Z"}, "links": [],
            "assets": {"red": {"href": f"./files/red{number}.tif", "type": "image/tiff; application=geotiff",
                               "roles": ["data"]}}} | more  # fmt: skip


def test_static_catalogs_without_addresses_of_their_own_download(shelf, program):
    folder, url = shelf
    (folder / "deep" / "files").mkdir(parents=True)
    (folder / "deep" / "files" / "red1.tif").write_bytes(b"II*\0" + bytes(100))
    (folder / "catalog.json").write_text(json.dumps({"type": "Catalog", "id": "k", "links": [
        {"rel": "item", "href": "deep/one.json"}]}))  # fmt: skip
    (folder / "deep" / "one.json").write_text(json.dumps(item(1)))
    added = program("source", "add", "k", f"{url}/catalog.json")
    assert added.code == 0 and "stac-catalog" in added.err
    words = ("search", "--source", "k", "--box", -12.07, -38.62, -12.05, -38.61, "--json")
    found = program(*words)
    assert found.json["features"][0]["links"][0] == {"rel": "self", "href": f"{url}/deep/one.json"}
    got = program("download", "-", "--to", "here", "--bands", "red", stdin=found.out)
    assert f"{url}/deep/files/red1.tif" in got.err or got.code in (0, 5)
    assert "404" not in got.err


def test_an_item_collection_behind_an_address_is_a_source(shelf, program):
    folder, url = shelf
    (folder / "items").write_text(json.dumps({"type": "FeatureCollection", "features": [item(1), item(2)]}))
    added = program("source", "add", "pile", f"{url}/items")
    assert added.code == 0 and "Collections: c." in added.err and "stac-catalog" in added.err
    box = ("--box", -12.07, -38.62, -12.05, -38.61)
    assert len(program("search", "--source", "pile", *box, "--json").json["features"]) == 2
    checked = program("source", "check", "pile")
    assert "files of c" in checked.out and "keeps to dates" in checked.out
    assert program("source", "remove", "pile").code == 0
    gone = program("source", "remove", "pile")
    assert gone.code == 2 and "There is no source" in gone.err


def test_spans_are_judged_by_overlap_and_footprint_files_are_checked(shelf, tmp_path, program):
    folder, url = shelf
    span = {"datetime": None, "start_datetime": "2025-05-28T00:00:00Z", "end_datetime": "2025-06-04T00:00:00Z"}
    whole = {"type": "FeatureCollection", "features": [item(1, properties=span), item(3)]}
    (folder / "spans.json").write_text(json.dumps(whole))
    program("source", "add", "spans", f"{url}/spans.json")
    assert "keeps to dates" in program("source", "check", "spans").out
    rows = [
        {"type": "Feature", "properties": {"id": f"t{n}", "date": f"2025-12-1{n}"}, "geometry": FEN} for n in range(3)
    ]
    (tmp_path / "tiles.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": rows}))
    assert program("source", "add", "tiles", "tiles.geojson").code == 0
    checked = program("source", "check", "tiles")
    assert checked.code == 0 and "3 of 3 items usable" in checked.out
    for name in ("spans", "tiles"):
        program("source", "remove", name)


def test_a_bbox_with_heights_counts():
    from zoompick.scenes.fields import edges_of

    assert edges_of([1, 2, -50, 3, 4, 900]) == (1, 2, 3, 4) == edges_of([1, 2, 3, 4])
    assert edges_of([1, 2, 3]) == edges_of("x") == edges_of([1, 2, 3, None]) == ()
