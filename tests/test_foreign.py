"""Values of strangers: within bounds on the way in, one sentence each, and escaped on the way out."""

from __future__ import annotations

import csv
import io
import json
import math
import zipfile
from datetime import UTC, datetime

import numpy as np
import pytest
import shapely

from strangers import stranger
from zoompick import foreign, outgoing
from zoompick.errors import AreaError, UsageError
from zoompick.files import json_bytes, parse_json
from zoompick.geo.shapes import polygon_of
from zoompick.geo.simple import is_surely_simple
from zoompick.products.formula import Formula

HUGE = 10**400
WHERE = ("--box", -12.15, -38.65, -12.05, -38.55)


@pytest.mark.parametrize(
    ("found", "number", "whole"),
    [
        (5, 5.0, 5), (5.5, 5.5, None), (True, None, None), (None, None, None), ("5", None, None),
        (math.nan, None, None),
        (math.inf, None, None), (-math.inf, None, None), (HUGE, None, None), (-HUGE, None, None), (1e308, None, None),
        (2**63, float(2**63), None), (-1, -1.0, None), ([5], None, None),
    ],
)  # fmt: skip
def test_numbers_within_bounds(found, number, whole):
    assert foreign.number(found) == number and foreign.whole(found) == whole


@pytest.mark.parametrize(
    ("found", "moment"),
    [
        ("2025-12-20T11:17:21Z", datetime(2025, 12, 20, 11, 17, 21, tzinfo=UTC)),
        ("2025-12-20T11:17:21+02:00", datetime(2025, 12, 20, 9, 17, 21, tzinfo=UTC)),
        ("2025-12-20T11:17:21", datetime(2025, 12, 20, 11, 17, 21, tzinfo=UTC)),
        ("0001-01-01T00:00:00+14:00", None), ("9999-12-31T23:59:59-14:00", None), ("1066-10-14", None),
        ("x" * 5000, None), (5, None), (None, None), ("2025-12-20T25:00:00Z", None),
    ],
)  # fmt: skip
def test_moments_within_bounds(found, moment):
    assert foreign.moment(found) == moment


def test_texts_can_be_written_down():
    assert foreign.text("a\ud800b") == "a\N{REPLACEMENT CHARACTER}b" and len(foreign.text("x" * 20_000)) == 10_000
    assert (foreign.text(5), foreign.text(HUGE), foreign.text(None), foreign.text([1]), foreign.text(True)) == (
        "5", "", "", "", "")  # fmt: skip


@pytest.mark.parametrize("kind", [str, bytes])
def test_json_of_strangers_is_read_without_what_no_type_holds(kind):
    text = (
        '{"a": ' + "9" * 5000 + ', "b": -1' + "0" * 400 + ', "c": "x\\ud800y", "\\udfff": [1, 2.5, "\\ud83d\\ude00"]}'
    )
    found = parse_json(text if kind is str else text.encode())
    assert found["a"] == math.inf and found["b"] == -math.inf
    assert found["c"] == "x\N{REPLACEMENT CHARACTER}y" and found["\N{REPLACEMENT CHARACTER}"] == [
        1,
        2.5,
        "\U0001f600",
    ]
    json_bytes(found)


BAD = {
    "cloud": {"properties": {"eo:cloud_cover": HUGE}}, "gsd": {"properties": {"gsd": HUGE}},
    "moment": {"properties": {"datetime": "0001-01-01T00:00:00+14:00"}},
    "end": {"properties": {"datetime": None, "start_datetime": "2025-12-20T00:00:00Z",
                           "end_datetime": "9999-12-31T23:59:59-14:00"}},
    "created": {"properties": {"created": "0001-01-01T00:00:00+14:00"}},
    "corners": {"geometry": {"type": "Polygon", "coordinates": [[[HUGE, 0], [1, 0], [1, 1], [HUGE, 0]]]}},
    "bbox": {"bbox": [-HUGE, -39, 0, 0]}, "id": {"id": "\ud800"}, "epsg": {"properties": {"proj:epsg": HUGE}},
    "size": {"assets": {"red": {"href": "/x.tif", "file:size": HUGE, "type": "image/tiff", "roles": ["data"]}}},
    "nothing": {"properties": None}, "list": {"assets": [1]}, "no id": {"id": None},
}  # fmt: skip
UNUSABLE = {"moment", "corners", "nothing", "no id"}


@pytest.mark.parametrize("name", BAD)
def test_one_bad_item_is_one_sentence(program, tmp_path, name):
    with stranger() as server:
        bad = server.item("bad")
        for key, value in BAD[name].items():
            bad[key] = bad[key] | value if key == "properties" and value else value
        server.catalogue([server.item("good"), bad])
        server.paths["/search"]["features"][1] = bad
        program("source", "add", "cat", f"{server.url}/", "--kind", "stac-api")
        found = program("search", *WHERE, "--source", "cat", "--json")
        table = program("search", *WHERE, "--source", "cat")
        program("source", "remove", "cat")
    words = " ".join(table.err.split())
    assert found.code == table.code == 0 and "Traceback" not in found.err + table.err
    assert len(found.json["features"]) == (1 if name in UNUSABLE else 2), words
    if name in UNUSABLE:
        assert "1 of 2 scenes cannot be read or placed; the first: " in words


CLASSES = {"classification:classes": [{"value": 1, "name": "cloud"}, {"value": 2, "name": "clear"}]}


@pytest.mark.parametrize(
    ("answer", "why"),
    [
        ((401, {}, {"detail": "no"}), "wants a log-in"), ((200, {}, b"II*\0" + bytes(500)), "is only sent whole"),
        ((500, {}, b""), "answered 500"), ((206, {"Content-Range": "bytes 0-9/10"}, b"not a file"), "is no raster"),
    ],
)  # fmt: skip
def test_a_class_layer_that_cannot_be_read_says_why(program, answer, why):
    with stranger() as server:
        item = server.item("s1")
        item["assets"]["classes"] = {"href": f"{server.url}/c.tif", "type": "image/tiff", "roles": ["data"]} | CLASSES
        server.catalogue([item])
        server.route = lambda seen: answer if seen.path == "/c.tif" else NotImplemented
        own = {"ZOOMPICK_RETRIES": "0"}
        program("source", "add", "cat", f"{server.url}/", "--kind", "stac-api")
        looked = program("search", *WHERE, "--source", "cat", "--inside", env=own)
        limited = program("search", *WHERE, "--source", "cat", "--cloud-area", 20, env=own)
        program("source", "remove", "cat")
    words = " ".join(looked.err.split())
    assert looked.code == 0 and "The class layer of s1 could not be read: " in words
    assert why in words or why == "wants a log-in", words
    assert limited.code == 4 and "could not be read" in limited.err and "tell the cloud" not in limited.err


# On the way out


@pytest.mark.parametrize(
    ("value", "cell"),
    [("=1+1", "'=1+1"), ("@SUM(1)", "'@SUM(1)"), ("-2+3", "'-2+3"), ("+1", "'+1"), ("\tx", " x"),
     ("plain", "plain"), (-5.5, -5.5),
     (None, None), ("a\x1b[31mb\u202e", "a[31mb"), ("a\nb", "a b")],
)  # fmt: skip
def test_cells_are_no_formulas(value, cell):
    assert outgoing.csv_cell(value) == cell
    if isinstance(value, str) and value.isprintable() and value.isascii():
        assert outgoing.csv_text(cell) == value


def test_markdown_shows_what_it_is_given():
    told = outgoing.markdown("<b>*x*</b> [a](javascript:b) `c` | _d_ e_f \x1b[2J\n# g")
    for mark in "<>*[]`|#":
        assert mark not in told.replace(f"\\{mark}", "")
    assert "e_f" in told and "\n" not in told and "\x1b" not in told
    assert outgoing.markdown(outgoing.Code.of("a`b|c_d*")) == "a'b\\|c_d*"


def test_names_of_strangers_do_no_harm_anywhere(program, tmp_path):
    """Markup, formulas and escapes in every name: tables, CSV, report in three forms."""
    evil = "<script>alert(1)</script>\x1b]0;x\x07\u202e"
    with stranger() as server:
        names = ["=1+1", "@SUM(1)", "-2+3", evil, "../../up", "--help", "|x|](javascript:alert(1))"]
        items = [server.item(name, datetime=f"2025-12-{n + 1:02d}T11:00:00Z", platform=evil, license=evil)
                 for n, name in enumerate(names)]  # fmt: skip
        server.catalogue(items)
        server.paths["/collections/c1"] |= {"title": evil + "](x)", "license": evil, "attribution": evil}
        study = tmp_path / "study"
        program("new", study, *WHERE, "--source", "cat", "--collection", "c1", "--dates", "2025-12", "--cloud", 100)
        program("source", "add", "cat", f"{server.url}/", "--kind", "stac-api", "--here", cwd=study)
        shown = program("search", cwd=study)
        assert shown.code == 0 and "\x1b" not in shown.out + shown.err and "2025-12-01" in shown.out
        assert program("search", "--out", "f.csv", cwd=study).code == 0
        rows = list(csv.DictReader(io.StringIO((study / "f.csv").read_text())))
        for row in rows:
            assert not any(value.startswith(("=", "+", "@")) for value in row.values()), row
            assert float(row["cover_percent"]) == 100 and "\x1b" not in str(row)
        assert program("pick", "1-7", cwd=study).code == 0
        assert program("pick", "export", "p.csv", cwd=study).code == 0
        assert program("pick", "import", "p.csv", cwd=study).code == 0
        for name in ("r.md", "r.html", "r.json"):
            assert program("report", "--out", name, cwd=study).code == 0
    text = (study / "r.md").read_text()
    assert "<script>" not in text and "\x1b" not in text and "\\<script\\>" in text
    assert "<script>alert" not in (study / "r.html").read_text()
    json.loads((study / "r.json").read_text())
    assert not (tmp_path / "up").exists() and not (tmp_path.parent / "up").exists()


# Large and odd


@pytest.mark.parametrize("text", ["9" * 400, "red + 1" + "0" * 309, "red*0x" + "f" * 300, "1e999*red"])
def test_formulas_hold_no_number_beyond_all_that_is_meant(text):
    with pytest.raises(UsageError, match=r"beyond all that is meant|cannot be read"):
        Formula.parse(text)


def ring(count: int, wave: float = 0.0) -> np.ndarray:
    """A closed ring about a place, plain or with a wave."""
    turn = 2 * np.pi * np.arange(count + 1) / count
    radius = 0.3 * (1 + wave * np.sin(40 * turn)) * (1 + 0.001 * (np.arange(count + 1) % 2))
    points = np.stack([-12 + radius * np.cos(turn), -38.6 + radius * np.sin(turn)], axis=1)
    points[-1] = points[0]
    return points


@pytest.mark.parametrize("count", [50, 3000, 30_000])
def test_long_rings_are_proved_simple_only_where_they_are(count):
    """Against the library, which takes its time."""
    plain = ring(count)
    comb = np.stack(
        [np.repeat(np.arange(count // 2), 2) * 1e-4, np.tile([0.0, 1e-4, 1e-4, 0.0], count)[: 2 * (count // 2)]],
        axis=1,
    )
    comb = np.concatenate([comb, [[comb[-1, 0], -1.0], [0.0, -1.0], comb[0]]])
    twisted = plain.copy()
    twisted[[count // 3, count // 3 + 5]] = twisted[[count // 3 + 5, count // 3]]
    touching = plain.copy()
    touching[count // 2] = touching[0]
    for corners in (plain, comb, twisted, touching, np.roll(plain[:-1], 7, axis=0)):
        closed = np.concatenate([corners, corners[:1]]) if (corners[0] != corners[-1]).any() else corners
        assert not is_surely_simple(closed) or shapely.Polygon(closed).is_valid
    assert is_surely_simple(plain)


def test_equal_parts_are_told_at_once():
    square = [[[-12, -38], [-11.9, -38], [-11.9, -37.9], [-12, -37.9], [-12, -38]]]
    with pytest.raises(AreaError, match="holds 30000 parts that are the same"):
        polygon_of({"type": "MultiPolygon", "coordinates": [square] * 30_000})


def test_a_long_outline_is_read_as_a_short_one_would_be(tmp_path, program):
    corners = ring(120_000, 0.1)
    corners = np.concatenate([corners, np.zeros((len(corners), 1))], axis=1)
    feature = {"type": "Feature", "properties": {"name": "bay", "mark": "\x02ring 0"}, "geometry": {
        "type": "Polygon", "coordinates": [corners.tolist()]}}  # fmt: skip
    path = tmp_path / "bay.geojson"
    path.write_text(json.dumps({"type": "FeatureCollection", "features": [feature]}))
    assert path.stat().st_size > 4 << 20
    from zoompick.area.read import read_area

    area = read_area(path)
    assert area.name == "bay" and area.polygon.equals(shapely.Polygon(corners[:, :2]))


def test_an_archive_that_no_disk_can_hold_says_so(tmp_path, program):
    with zipfile.ZipFile(tmp_path / "ab.zip", "w") as archive:
        archive.writestr("a", "x")
        archive.writestr("a/b", "y")
    told = program("unpack", "ab.zip", "--to", "out")
    assert told.code == 1 and "holds the file a and the file a/b in a folder of that name" in " ".join(
        told.err.split()
    )
    assert not (tmp_path / "out" / "a").exists()
    assert program("unpack", "ab.zip", "--to", "out", "--files", "a/b").code == 0
