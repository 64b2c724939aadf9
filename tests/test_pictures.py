"""What is drawn and counted of scenes: calendars, sheets in their places, half blocks, names of pieces of ground."""

from __future__ import annotations

import imagecodecs
import numpy as np
import pytest
import shapely

from helpers import FEN, UTM
from zoompick.area import sheets
from zoompick.area.model import Area
from zoompick.cli.halfblocks import half_blocks
from zoompick.cli.months import by_day, by_month
from zoompick.discovery import agenda
from zoompick.discovery.look import Picture
from zoompick.discovery.rules import select
from zoompick.figures import maps, style
from zoompick.figures.maps import MapView, Outline, area_map, footprint_map
from zoompick.figures.sheets import Cell, contact_sheet
from zoompick.geo.bounds import Bounds
from zoompick.geo.shapes import polygon_of, project
from zoompick.scenes.pictures import quicklook_of
from zoompick.scenes.scene import Scene
from zoompick.scenes.scenelist import Entry, from_collection, to_collection


def entry(number: int, when: str, cloud: float | None = 5, **assets) -> Entry:
    properties = {
        "datetime": f"{when}T11:00:00Z",
        "platform": "lapwing-a",
        "eo:cloud_cover": cloud,
        "proj:epsg": 32728,
    }
    item = {"id": f"s{number}", "collection": "c", "geometry": FEN, "properties": properties, "assets": assets}
    return Entry(Scene.from_item(item, "x"), 50.0)


DAYS = [
    entry(1, "2024-12-31", 40),
    entry(2, "2025-01-01", 7),
    entry(3, "2025-01-01", 3),
    entry(4, "2025-03-05", None),
]


def test_the_calendar_counts_and_finds_gaps():
    months = agenda.of_months(DAYS)
    rows = by_month(months)
    assert rows == [
        ["year", "jan", "mar", "dec", "all"], ["2024", "·", "·", "1/40", "1"], ["2025", "2/3", "1/?", "·", "3"],
    ]  # fmt: skip
    assert "longest gap: 63 days, 2025-01-01 to 2025-03-05" in months.notes
    rows = by_day(agenda.of_days(DAYS))
    assert rows[2] == ["2025-01", "0" + "·" * 30, "1", "2"]
    assert rows[1][1].endswith("4")
    assert [mark.cloud for mark in agenda.marks(DAYS)] == [40, 3, None]


def test_a_quicklook_lies_where_the_item_says_or_in_the_footprints_box():
    told = {"href": "q.png", "type": "image/png", "roles": ["thumbnail"],
            "proj:shape": [10, 20], "proj:transform": [32, 0, 700000, 0, -32, 5800000]}  # fmt: skip
    exact = quicklook_of(entry(1, "2025-01-01", quicklook=told).scene)
    assert exact.is_exact and exact.bounds == Bounds(700000, 5799680, 700640, 5800000)
    plain = {key: told[key] for key in ("href", "type", "roles")}
    guess = quicklook_of(entry(1, "2025-01-01", quicklook=plain).scene)
    assert not guess.is_exact
    assert guess.bounds == pytest.approx(Bounds(*project(polygon_of(FEN), UTM).bounds).as_list()) or guess.crs == UTM
    assert quicklook_of(entry(1, "2025-01-01").scene) is None
    assert quicklook_of(entry(1, "2025-01-01", data=plain | {"type": "image/tiff"}).scene) is None


def test_the_outline_is_drawn_where_the_picture_has_it(tmp_path):
    side = 200
    bounds = Bounds(700000, 5700000, 710000, 5710000)
    inner = shapely.box(702500, 5702500, 707500, 5707500)
    area = project(inner, Area("x", polygon_of(FEN)).utm.__class__(4326), UTM)
    pixels = np.full((side, side, 4), 255, np.uint8)
    pixels[:, :, :3] = 20
    contact_sheet([Cell(pixels, UTM, bounds, "1", "two", None)], area, "t", tmp_path / "s.png")
    page = imagecodecs.png_decode((tmp_path / "s.png").read_bytes())[:, :, :3].astype(int)
    warm = np.array([int(style.WARM[n : n + 2], 16) for n in (1, 3, 5)])
    rows, cols = np.nonzero(np.abs(page - warm).sum(axis=2) < 60)
    _, dark_cols = np.nonzero((page == 20).all(axis=2))
    left, right = dark_cols.min(), dark_cols.max()
    quarter = (right - left) / 4
    assert cols.min() == pytest.approx(left + quarter, abs=4)
    assert cols.max() == pytest.approx(right - quarter, abs=4)
    assert rows.max() - rows.min() == pytest.approx(2 * quarter, abs=6)


def test_maps_can_be_drawn_across_the_antimeridian_and_at_the_pole(tmp_path):
    for area in (Area.from_box(179.5, -17, -179.5, -16), Area("cap", polygon_of(
        {"type": "Polygon", "coordinates": [[[x, 85] for x in (-180, -90, 0, 90, 180)]]}))):  # fmt: skip
        footprint_map(area, [Outline(area.polygon, "1", None, 100)], "t", tmp_path / "m.png")
        assert imagecodecs.png_decode((tmp_path / "m.png").read_bytes()).shape[1] == 1280


def test_land_and_sea_are_drawn_where_a_gazetteer_has_the_shore(tmp_path):
    sea, land = (211, 227, 234), (243, 240, 228)
    for box, colours in (((-12.13, -38.61, -12.11, -38.6), {sea, land}), ((-12.01, -38.61, -12.0, -38.6), {land}),
                         ((20, 10, 21, 11), set())):  # fmt: skip
        area_map(Area.from_box(*box), tmp_path / "m.png")
        pixels = imagecodecs.png_decode((tmp_path / "m.png").read_bytes())[..., :3]
        seen = {tuple(int(v) for v in colour) for colour in pixels[100:700:5, 120:1200:5].reshape(-1, 3)}
        assert seen & {sea, land} == colours, box


def test_footprints_of_one_cell_share_a_list():
    outlines = [Outline(shapely.box(0, 0, 9, 9), str(n), None if n == 2 else n, 50) for n in range(1, 18)]
    view = MapView(Area.from_box(0, 0, 0.01, 0.01))
    other = Outline(shapely.box(0, 0, 9, 9), "18", 3, 1)
    boxes = [outline.polygon for outline in outlines] + [shapely.box(500, 500, 509, 509)]
    cells = maps._cells([*outlines, other], boxes, view)
    assert [len(rows) for _, rows in cells] == [17, 1]
    lines = maps._listed(cells[0][1]).splitlines()
    assert lines[2].split() == ["2", "?", "50", "%"] and lines[-1] == "and 3 more"


def test_half_blocks_show_two_pixels_a_cell():
    pixels = np.zeros((4, 4, 4), np.uint8)
    pixels[:2, :, 0], pixels[2:, :, 2], pixels[:, :, 3] = 255, 255, 255
    pixels[:, 0, 3] = 0
    lines = half_blocks(Picture(pixels, None, None), 4)
    assert len(lines) == 2
    assert lines[0].startswith("\x1b[0m ") and lines[0].count("▀") == 3
    assert "38;2;255;0;0" in lines[0] and "48;2;0;0;255" in lines[1]


@pytest.mark.parametrize("scheme", sheets.schemes(), ids=lambda scheme: scheme.name)
def test_each_scheme_names_the_ground_it_finds(scheme):
    area = polygon_of(FEN)
    under = scheme.under(area)
    assert under
    for sheet, percent in under[:6]:
        again = scheme.named(sheet.name.upper())
        assert again is not None and again.polygon.equals(sheet.polygon)
        assert 0 < percent <= 100 + 1e-9
    assert scheme.named("zz-top") is None
    assert not scheme.under(shapely.box(40, 40, 41, 41))


def test_lists_keep_marks_and_rules_select():
    marked = Entry(DAYS[1].scene, 60.0, 2.5, ("good",), "calm")
    [back] = from_collection(to_collection([marked]), "x")
    assert (back.cloud_area_percent, back.tags, back.note, back.cover_percent) == (2.5, ("good",), "calm", 60.0)
    entries = [DAYS[0], marked, *DAYS[2:]]
    for word, ids in (
        ("cloud<10", ["s2", "s3"]), ("cloud-area<=2.5", ["s2"]), ("cover>=60", ["s2"]), ("tag=GOOD", ["s2"]),
        ("date=2025-01", ["s2", "s3"]), ("date>=2025-03", ["s4"]), ("platform=lapwing-a", ["s1", "s2", "s3", "s4"]),
        ("2-3", ["s2", "s3"]), ("s4", ["s4"]),
    ):  # fmt: skip
        assert [found.scene.id for found in select(entries, [word], "the list")] == ids
    assert [found.scene.id for found in select(entries, ["2", "2-3", "s2"], "the list")] == ["s2", "s3"]
