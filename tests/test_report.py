"""The report of a study: in a browser without network, in print, in words, and for those who do not see it."""

from __future__ import annotations

import json
import shutil
from html.parser import HTMLParser
from pathlib import Path

import pytest

from conftest import copied

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
    assert str(study) not in text and "http://127" not in text
    again = program("report", cwd=study)
    assert again.code == 2 and "exists already" in again.err
    assert program("report", "--out", "r.pdf", cwd=study).code == 2
    assert program("report", "--out", "r.md", cwd=study).code == 0
    assert "| 2025-12-15/stack.tif | stack |" in (study / "r.md").read_text()
    assert program("report", "--out", "r.json", cwd=study).code == 0
    told = json.loads((study / "r.json").read_text())
    assert told["shape"] == 1 and len(told["products"]) == len(list(study.glob("products/*/*.stac.json")))
    assert {row["outcome"] for row in told["findings"]} == {"pass"} and told["outcome"] == "pass"


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
