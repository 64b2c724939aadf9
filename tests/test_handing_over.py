"""What is handed over, piece by piece: the page and its words, licences, catalogs on disk, stages, systems."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from pyproj import CRS

from helpers import Memory, grid
from zoompick import to_numpy
from zoompick.discovery.footprints import items_of
from zoompick.errors import FormatError, UnknownNameError, UsageError
from zoompick.figures.report import (
    Change,
    Image,
    Legend,
    Mark,
    ProductTold,
    SceneTold,
    StudyReport,
    as_html,
    as_markdown,
)
from zoompick.files import tree_bytes
from zoompick.geo.crs import Crs
from zoompick.judge import tell
from zoompick.raster.statistics import BandStatistics, Histogram
from zoompick.scenes.finding import judged
from zoompick.study.doctor import _fits
from zoompick.study.stages import ORDER, Stages
from zoompick.study.terms import _terms

HOSTILE = '<img src=x onerror="alert(1)">|&\'"'
DOT = Image("image/png", b"\x89PNG", 2, 3, HOSTILE)


def report(**told) -> StudyReport:
    """A report in which every text is hostile."""
    scene = SceneTold(HOSTILE, "2025-12-15", HOSTILE, HOSTILE, "3 %", "2 %", "60°", "4°", DOT)
    product = ProductTold(
        HOSTILE, "index", HOSTILE, "2 MB", "99 %", "now", "0", "1e20", (HOSTILE,), HOSTILE, DOT,
        Legend("ndvi", ("#000000", "#ffffff"), "0", "1", (("#123456", HOSTILE, "3 %"),)), HOSTILE,
        "zoompick run", Mark("warn", HOSTILE),
    )  # fmt: skip
    change = Change(HOSTILE, HOSTILE, HOSTILE, ((HOSTILE, "3.0 ha"),), "2.0 %")
    finding = judged("seams", HOSTILE, False, "3", "2", HOSTILE, bad="warn").to_json() | {"saw": HOSTILE}
    base = StudyReport(
        HOSTILE, "now", "0", HOSTILE, "warn", (("area", HOSTILE),), DOT, None, (scene,),
        (product, replace(product, image=None)), (), (change,), (finding,),
        ({"title": HOSTILE, "source": "o", "licence": HOSTILE, "credit": HOSTILE},),
        ({"when": "now", "act": HOSTILE, "on": "", "outcome": "done", "took": "1 s"},), HOSTILE,
        HOSTILE, {"zoompick": HOSTILE}, HOSTILE,
    )  # fmt: skip
    return replace(base, **told)


# The page


def test_no_text_becomes_a_tag_and_no_bar_a_column():
    page = as_html(report())
    assert "<img src=x" not in page and page.count("&lt;img src=x") >= 12 and page.count("data:image/png") == 3
    assert page.index('id="result"') < page.index('id="asked"') and "What changed" in page
    lines = as_markdown(report()).splitlines()
    assert lines.index("## What changed") < lines.index("## What was asked")
    for start in ("| \\<img", "| file", "| scene"):
        rows = [line.replace("\\|", "") for line in lines if line.startswith(start)]
        assert rows and all(row.count("|") == rows[0].count("|") or start == "| \\<img" for row in rows)
    told = json.dumps(report().to_json())
    assert "PNG" not in told and '"width": 2' in told


@pytest.mark.parametrize(
    ("outcome", "findings", "said"),
    [("pass", None, "All checks passed"), ("warn", None, "with warnings"), ("fail", None, "A check failed"),
     ("", (), "Not verified yet")],
)  # fmt: skip
def test_the_verdict_is_that_of_the_findings(outcome, findings, said):
    told = report(outcome=outcome) if findings is None else report(outcome=outcome, findings=findings)
    page = as_html(told)
    assert said in page and ("Nothing was verified yet" in page) is (outcome == "")


def test_a_page_without_pairs_leads_nowhere():
    page = as_html(report(pairs=(), changes=()))
    assert 'href="#pairs"' not in page and 'id="pairs"' not in page and "http" not in page.replace("http-equiv", "")


# Licences


@pytest.mark.parametrize(
    ("collection", "credit", "licence"),
    [
        ({"id": "a"}, "", ""),
        ({"id": "a", "license": "CC-BY-4.0", "providers": [{"name": "Ostrell Survey", "roles": ["licensor"]}]},
         "Ostrell Survey", "CC-BY-4.0"),
        ({"id": "a", "providers": [{"name": "H", "roles": ["host"]}, {"name": "P", "roles": ["producer"]}]}, "P", ""),
        ({"id": "a", "license": None, "providers": "odd"}, "", ""),
        ({"id": "a", "providers": [3, {"name": "N"}, {"name": "M", "roles": None}]}, "", ""),
    ],
)  # fmt: skip
def test_whom_to_name_is_who_licenses_or_produces(collection, credit, licence):
    told = _terms(collection)
    assert (told["credit"], told["licence"], told["title"]) == (credit, licence, "a")


# Catalogs on disk


def item(name: str) -> dict:
    return {
        "type": "Feature",
        "id": name,
        "bbox": [-12, -39, -11, -38],
        "links": [],
        "geometry": {"type": "Polygon", "coordinates": [[[-12, -39], [-11, -39], [-11, -38], [-12, -39]]]},
        "properties": {"datetime": "2025-12-15T00:00:00Z"},
        "assets": {"data": {"href": f"./{name}.tif"}},
    }


def test_a_catalog_on_disk_is_walked_within_its_folder(tmp_path):
    (tmp_path / "in" / "below").mkdir(parents=True)
    (tmp_path / "outside.json").write_text(json.dumps(item("outside")))
    (tmp_path / "in" / "one.json").write_text(json.dumps(item("one")))
    (tmp_path / "in" / "broken.json").write_text("{")
    (tmp_path / "in" / "list.json").write_text("[1]")
    (tmp_path / "in" / "below" / "two.json").write_text(json.dumps(item("two")))

    def catalog(*links: tuple[str, str]) -> str:
        rows = [{"rel": rel, "href": href} for rel, href in links]
        return json.dumps(
            {"type": "Catalog", "id": "c", "stac_version": "1.1.0", "links": [*rows, 3, {"rel": "item"}]}
        )

    (tmp_path / "in" / "below" / "catalog.json").write_text(
        catalog(("item", "two.json"), ("child", "../catalog.json"), ("item", "../one.json"))
    )
    (tmp_path / "in" / "catalog.json").write_text(
        catalog(
            ("root", "./catalog.json"),
            ("item", "one.json"),
            ("item", "one.json"),
            ("item", "../outside.json"),
            ("item", str(tmp_path / "outside.json")),
            ("item", "http://127.0.0.1:9/x.json"),
            ("item", "broken.json"),
            ("item", "list.json"),
            ("item", "none.json"),
            ("item", "a\0b"),
            ("child", "below/catalog.json"),
        )
    )
    found = list(items_of(tmp_path / "in" / "catalog.json", "own"))
    assert [one["id"] for one in found] == ["one", "two"] and {one["collection"] for one in found} == {"own"}
    assert Path(found[1]["assets"]["data"]["href"]) == (tmp_path / "in" / "below" / "two.tif").resolve()
    (tmp_path / "odd.json").write_text('{"type": "Thing"}')
    with pytest.raises(FormatError):
        list(items_of(tmp_path / "odd.json", "own"))


# Small things that others lean on


@pytest.mark.parametrize(
    ("given", "names"),
    [
        ({}, set(ORDER)),
        ({"first": "index"}, {"index", "mosaic", "blend", "compare", "picture", "verify"}),
        ({"last": "stack"}, {"search", "download", "stack"}),
        ({"first": "clip", "last": "clip"}, {"clip"}),
        ({"only": ("index", "verify")}, {"index", "verify"}),
    ],
)
def test_stages_are_a_span_or_some_alone(given, names):
    stages = Stages.of(**given)
    assert stages.names == names and stages.is_whole is (not given)


@pytest.mark.parametrize(
    ("given", "error"),
    [({"first": "ndvi"}, UnknownNameError), ({"only": ("x",)}, UnknownNameError),
     ({"first": "verify", "last": "search"}, UsageError), ({"first": "clip", "only": ("clip",)}, UsageError)],
)  # fmt: skip
def test_stages_that_cannot_be_are_refused(given, error):
    with pytest.raises(error):
        Stages.of(**given)


@pytest.mark.parametrize(
    ("version", "wanted", "fits"),
    [("2.4.6", "<3,>=2.0", True), ("3.0", "<3,>=2.0", False), ("1.9", "<3,>=2.0", False),
     ("2026.3.6", ">=2025.3.30", True),     ("5.0.0.93", "<6,>=5", True), ("1.0", "any", True)],
)  # fmt: skip
def test_versions_are_held_against_bounds(version, wanted, fits):
    assert _fits(version, wanted) is fits


def test_findings_of_odd_letters_are_still_xml():
    rows = [judged("c", "a\x00\ud800b", False, "\x1b[31m", "1", "why\x0b")]
    tree = ElementTree.fromstring(tell.junit_xml(rows).encode())
    assert tree[0].get("name") == "ab" and "\x1b" not in tree[0][0][0].get("message")


def test_systems_keep_their_text_and_know_their_like():
    for code in (32728, 4326, 3857):
        crs = Crs(code)
        assert Crs.parse(crs.wkt2) == crs == Crs.parse(crs.code) and CRS.from_wkt(crs.wkt2).to_epsg() == code
    own = Crs.parse(CRS.from_user_input("+proj=laea +lat_0=-38 +lon_0=-12").to_wkt())
    other = Crs.parse(CRS.from_user_input("+proj=laea +lat_0=-38 +lon_0=-11").to_wkt())
    assert own != other and own.projection.parameters["Longitude of natural origin"] == -12 and not own.is_geographic
    heights = CRS.from_user_input("EPSG:32728+5773").to_wkt()
    for text in (heights, "PROJCRS[oh no", 'LOCAL_CS["x"]'):
        with pytest.raises(UsageError):
            Crs.parse(text)


def test_histograms_of_odd_bands():
    def of(values, dtype="uint16"):
        band = np.array([values], dtype)
        return Histogram.of(band.ravel(), BandStatistics.of(band, None))

    assert of([7, 7, 7]).counts == (3,) and (of([7, 7]).minimum, of([7, 7]).maximum) == (6.5, 7.5)
    assert of([0, 1, 1, 3]).counts == (1, 2, 0, 1)
    assert len(of([0, 40_000]).counts) == 64 and sum(of([0.25, 0.5, 0.75], "float32").counts) == 3
    assert Histogram.of(np.array([], "uint16"), BandStatistics()) is None


def test_sizes_and_arrays_that_are_too_large(tmp_path):
    (tmp_path / "a").write_bytes(bytes(10))
    assert (tree_bytes(tmp_path), tree_bytes(tmp_path / "a"), tree_bytes(tmp_path / "none")) == (10, 10, 0)
    large = Memory(np.zeros((1, 1, 1), "uint8"), grid(200_000, 200_000))
    with pytest.raises(UsageError, match="GiB"):
        to_numpy(large, scaled=True)
