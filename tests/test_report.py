"""The report of a study: in a browser without network, in print, in words, and for those who do not see it."""

from __future__ import annotations

import json
import shutil
from html.parser import HTMLParser
from pathlib import Path

import numpy as np
import pytest
import shapely

from conftest import copied
from zoompick.figures.face import Scale, coloured
from zoompick.figures.layout import Room, laid_out
from zoompick.products.drawing import shown
from zoompick.raster.opening import open_raster
from zoompick.study.folder import Study
from zoompick.study.reporting import report_of

BROWSER = shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")


@pytest.fixture
def study(clean_study, tmp_path) -> Path:
    return copied(clean_study, tmp_path / "s")


class Page(HTMLParser):
    """What the page asks for, and the names that links within it need."""

    def __init__(self) -> None:
        super().__init__()
        self.asked: list[str] = []
        self.images: list[dict[str, str | None]] = []
        self.ids: set[str] = set()
        self.inner: set[str] = set()

    def handle_starttag(self, tag, attrs):
        told = dict(attrs)
        self.ids |= {told["id"]} if "id" in told else set()
        if tag == "img":
            self.images.append(told)
        for key in ("src", "href"):
            if told.get(key, "#").startswith("#"):
                self.inner |= {told[key][1:]} if key in told else set()
            elif not told[key].startswith("data:"):
                self.asked.append(told[key])


def test_a_report_holds_all_that_it_shows(study, program):
    made = program("report", cwd=study)
    assert made.code == 0 and "checks passed" in made.err, made.err
    text = (study / "report.html").read_text()
    page = Page()
    page.feed(text)
    assert not page.asked and page.inner <= page.ids and len(text) < 5_000_000
    assert len(page.images) > 12 and all(told["alt"] and told["width"] for told in page.images)
    for name in (
        "natural.tif",
        "ndwi.tif",
        "mask",
        "CC0-1.0",
        "Lapwing surface reflectance",
        "study.toml",
        "checksum",
        "<dt>command</dt><dd><code>zoompick run --only composite</code>",
    ):
        assert name in text, name
    assert str(study) not in text and "http://" not in text.replace("o, http://127.0.0.1:", "")
    again = program("report", cwd=study)
    assert again.code == 2 and "exists already" in again.err
    assert program("report", "--out", "r.pdf", cwd=study).code == 2
    assert program("report", "--out", "r.md", cwd=study).code == 0
    assert "| 2025-12-15/stack.tif | stack |" in (study / "r.md").read_text()
    assert program("report", "--out", "r.json", cwd=study).code == 0
    told = json.loads((study / "r.json").read_text())
    assert told["shape"] == 2 and len(told["products"]) == len(list(study.glob("products/*/*.stac.json")))
    assert {row["outcome"] for row in told["findings"]} == {"pass"} and told["outcome"] == "pass"


def test_what_is_wrong_with_a_product_stands_on_it(study, program):
    """One that is not there, one that a check failed, and one that the brief would make otherwise now."""
    (study / "products/2025-12-15/ndwi.tif").unlink()
    with (study / "journal.jsonl").open("a") as journal:
        row = {"act": "index", "product": "2025-12-15/ndwi.tif", "outcome": "failed", "reason": "The disk was full."}
        journal.write(json.dumps(row) + "\n")
    listed = json.loads((study / "shortlist.json").read_text())
    listed["features"][0]["zoompick:pick"]["cloud_inside"] = 2.4
    (study / "shortlist.json").unlink()
    (study / "shortlist.json").write_text(json.dumps(listed))
    told = json.loads((study / "checks.json").read_text())
    row = next(row for row in told["findings"] if row["subject"] == "2025-12-15/natural.tif")
    row["outcome"] = "fail"
    (study / "checks.json").unlink()
    (study / "checks.json").write_text(json.dumps(told))
    before = sorted((path, path.stat().st_mtime_ns) for path in study.rglob("*"))
    assert program("report", "--out", study.parent / "r.json", cwd=study).code == 0
    assert sorted((path, path.stat().st_mtime_ns) for path in study.rglob("*")) == before
    found = {row["name"]: row for row in json.loads((study.parent / "r.json").read_text())["products"]}
    assert found["2025-12-15/ndwi.tif"]["mark"] == {"outcome": "fail", "words": "Not made. The disk was full."}
    assert found["2025-12-15/natural.tif"]["mark"]["words"].endswith(f"Fail: {row['check']}.")
    made = program("report", cwd=study)
    text = (study / "report.html").read_text()
    assert f"{len(found) - 1} of {len(found)} products" in made.err and "The disk was full." in text
    names = [text.index(f"<h3>2025-12-15/{name}") for name in ("natural.tif", "ndvi.tif", "ndwi.tif")]
    assert names == sorted(names) and "A check failed" in text
    scenes = text[text.index('id="scenes"') : text.index('id="findings"')]
    assert "cloud in area" in scenes and '<td class="n">2 %</td>' in scenes and "not counted" in scenes


def test_dates_of_one_thing_have_one_scale_and_a_difference_its_zero(study, program, tmp_path):
    target = tmp_path / "c.png"
    days = [study / f"products/{day}/clip.tif" for day in ("2024-12-20", "2025-12-15")]
    assert program("compare", *days, "--index", "ndwi", "--change-min", "0.2", "--out", target, cwd=study).code == 0
    made = shown(tmp_path / "c-difference.tif", 300)
    assert isinstance(made.legend, Scale) and made.legend.low == -made.legend.high < 0
    middle = coloured(np.zeros((1, 1)), np.ones((1, 1), bool), made.legend)[0, 0, :3]
    assert middle.min() > 240
    for place, code in ((0.6, (0, 114, 178)), (-0.6, (213, 94, 0))):
        values = open_raster(tmp_path / "c-difference.tif").read(made.read.window)[0]
        where = np.argwhere((values > place if place > 0 else values < place) & np.isfinite(values))
        change = shown(tmp_path / "c-change.tif", 2000).panel.pixels
        assert len(where) and (change[tuple(where[0])][:3] == code).all()
    report = report_of(Study(study))
    ends = {product.name: (product.legend.low, product.legend.high) for product in report.products
            if product.legend and product.legend.steps}  # fmt: skip
    twins = [(ends[f"2024-12-20/{name}"], ends[f"2025-12-15/{name}"]) for name in ("ndvi.tif", "ndwi.tif")]
    assert all(one == other for one, other in twins)
    alone = [shown(study / f"products/{day}/ndwi.tif", 560).legend for day in ("2024-12-20", "2025-12-15")]
    assert float(twins[1][0][0]) == pytest.approx(min(one.low for one in alone), rel=0.01)
    assert float(twins[1][0][1]) == pytest.approx(max(one.high for one in alone), rel=0.01)


def test_nothing_of_a_sheet_lies_over_another():
    for aspect in (0.3, 0.75, 1.2, 2.0):
        for faces in (1, 2, 3):
            for legends in (0, 1, 2):
                made = laid_out(Room(aspect, faces, legends, 0.1, 0.08))
                spots = [*made.faces, *made.legends, *([made.inset] if made.inset and legends else [])]
                boxes = [shapely.box(s.left, s.bottom, s.left + s.width, s.bottom + s.height) for s in spots]
                assert len(made.legends) == legends and len(made.faces) == faces
                for number, one in enumerate(boxes):
                    assert shapely.box(0, 0, 1, made.height).covers(one), (aspect, faces, legends)
                    assert all(one.intersection(other).area < 1e-9 for other in boxes[number + 1 :])
    wide = laid_out(Room(0.75, 3, 2, 0.1, 0.08))
    assert sum(s.width * s.height for s in wide.faces) > 0.45 * wide.height


def test_text_from_outside_stays_text(study, program):
    item = next(iter(sorted(study.glob("scenes/*/*/*/item.json"))))
    listed = json.loads((study / "shortlist.json").read_text())
    listed["features"][0]["properties"]["platform"] = '<script>alert(1)</script>"&'
    (study / "shortlist.json").unlink()
    (study / "shortlist.json").write_text(json.dumps(listed))
    assert item.exists() and program("report", cwd=study).code == 0
    text = (study / "report.html").read_text()
    assert "<script>alert" not in text and "&lt;script&gt;alert(1)" in text


def test_a_study_without_scenes_has_nothing_to_report(tmp_path, program):
    assert program("new", "s", "--area", "Harrow Fen", cwd=tmp_path).code == 0
    assert program("report", cwd=tmp_path / "s").code == 3
    assert program("report", cwd=tmp_path).code != 0


@pytest.mark.skipif(BROWSER is None, reason="there is no Chromium here")
@pytest.mark.parametrize("scheme", ["light", "dark"])
@pytest.mark.slow
def test_the_page_in_a_browser(study, program, tmp_path, scheme):
    """No missing picture, nothing on the console, no rule of accessibility broken, the slider moves by keys."""
    from axe_playwright_python.sync_playwright import Axe
    from playwright.sync_api import sync_playwright

    assert program("report", cwd=study).code == 0
    said: list[str] = []
    with sync_playwright() as engine:
        browser = engine.chromium.launch(
            executable_path=BROWSER,
            args=["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-sync",
                  "--disable-background-networking", "--disable-component-update"],
        )  # fmt: skip
        page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme=scheme)
        page.on("console", lambda message: said.append(message.text))
        page.on("pageerror", lambda error: said.append(str(error)))
        page.on(
            "request",
            lambda request: None if request.url.startswith(("file:", "data:")) else said.append(request.url),
        )
        page.goto((study / "report.html").as_uri())
        missing = page.evaluate("[...document.images].filter(i => !i.complete || !i.naturalWidth).map(i => i.alt)")
        assert missing == [] and said == []
        found = Axe().run(page).response["violations"]
        assert found == [], [(row["id"], row["nodes"][0]["html"][:200]) for row in found]
        if page.locator("input[type=range]").count():
            page.locator("input[type=range]").first.focus()
            page.keyboard.press("End")
            assert page.locator("[data-pair]").first.evaluate("e => e.style.getPropertyValue('--cut')") == "100%"
        page.emulate_media(media="print")
        assert not page.locator("nav").is_visible()
        assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")
        browser.close()
