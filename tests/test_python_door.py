"""What Python users give: names, paths, studies by their folder; what is none of these is an error of ours."""

from __future__ import annotations

from pathlib import Path

import imagecodecs
import numpy as np
import pytest
import shapely

import zoompick as zp
from helpers import foreign_tiff, grid, noise
from zoompick.area.model import Area
from zoompick.study.new import NewStudy, new_study

FEN = shapely.box(-12.08, -38.63, -12.04, -38.60)


@pytest.fixture
def tif(tmp_path) -> Path:
    foreign_tiff(tmp_path / "red.tif", noise((1, 64, 64)), grid(64, 64), nodata="0")
    return tmp_path / "red.tif"


@pytest.mark.parametrize(
    ("call", "said"),
    [
        (lambda: zp.read_area("x.geojson"), "no area file x.geojson"),
        (lambda: zp.read_area(7), "`path` is a path, and int was given"),
        (lambda: zp.state_of("folder"), "no study in"),
        (lambda: zp.run(7), "`study` is a Study or its folder"),
        (lambda: zp.mosaic([]), "`files` are none"),
        (lambda: zp.mosaic(7), "`files` are files, and int was given"),
        (lambda: zp.stack("gone.tif"), "no file gone.tif"),
        (lambda: zp.clip("gone.tif", "Harrow Fen"), "no file gone.tif"),
        (lambda: zp.index(3, "ndvi"), "`raster` is a raster"),
        (lambda: zp.write_area(3, "x.kml"), "`area` is an area"),
        (lambda: zp.mosaic("a.tif", ordr="newest"), "ordr"),
        (lambda: zp.mosaic("a.tif", order="sideways"), "`order` 'sideways' cannot be used"),
        (lambda: zp.blend("a.tif", by="newest", least=2), "`least` has nothing to count"),
        (lambda: zp.Study.need("nowhere"), "no study in"),
        (lambda: zp.MosaicRules(grow_m=-1), "`grow` -1 cannot be used"),
    ],
)
def test_what_is_wrong_is_an_error_of_ours(tmp_path, monkeypatch, call, said):
    monkeypatch.chdir(tmp_path)
    with pytest.raises(zp.ZoomPickError) as told:
        call()
    assert said in told.value.what


def test_text_and_paths_mean_the_same(tif, monkeypatch):
    monkeypatch.chdir(tif.parent)
    raster = zp.open_raster("red.tif")
    assert zp.read_area.__doc__ and zp.read_area.__name__ == "read_area", "help tells the verb"
    whole = Area.from_box(-12.2, -38.8, -12, -38.4)
    cut = zp.clip("red.tif", whole.polygon)
    assert np.array_equal(cut.read(cut.grid.window), zp.clip(raster, whole).read(cut.grid.window))
    one, several = zp.stack("red.tif"), zp.stack([Path("red.tif")])
    assert np.array_equal(np.asarray(one), np.asarray(several))
    findings = zp.verify_files("red.tif")
    assert findings == zp.verify_files([tif])
    assert "<th>outcome</th>" in findings._repr_html_() and "red.tif" in findings._repr_html_()


def test_options_take_texts_too(tmp_path, tif, monkeypatch):
    monkeypatch.chdir(tmp_path)
    study = zp.new_study("fen", zp.NewStudy("Fen", FEN.wkt))
    assert isinstance(study, zp.Study) and study.area().polygon.equals(FEN)
    drawn = zp.compare(zp.Comparison("red.tif", "red.tif", by=0.1), "both.png")
    assert drawn.rows and Path("both.png").exists()
    with pytest.raises(zp.ZoomPickError, match="no file gone"):
        zp.compare(zp.Comparison("red.tif", "gone.tif"), "other.png")


def test_a_raster_shows_itself(tif, tmp_path):
    raster = zp.open_raster(tif)
    assert repr(raster).startswith("<raster of") and "64 x 64 px" in repr(raster)
    shown = imagecodecs.png_decode(raster._repr_png_())
    assert shown.shape == (64, 64, 4) and np.ptp(shown[..., 0]) > 200
    assert np.array_equal(shown[..., 3] > 0, np.asarray(raster)[0] != 0), "what is missing is not drawn"


def test_a_study_elsewhere_has_its_own_recipes(tmp_path, monkeypatch):
    """Whatever folder the interpreter was started in."""
    new_study(tmp_path / "fen", NewStudy("Fen", Area("fen", FEN)))
    (tmp_path / "fen" / "recipes").mkdir()
    (tmp_path / "fen" / "recipes" / "own.toml").write_text('[index.wet-own]\nformula = "nir - red"\ntitle = "Wet"\n')
    brief = tmp_path / "fen" / "study.toml"
    brief.write_text(brief.read_text() + '\n[[blend]]\nby = "highest=wet-own"\n')
    (tmp_path / "other").mkdir()
    monkeypatch.chdir(tmp_path / "other")
    study = zp.Study.need(str(tmp_path / "fen"))
    assert [one.rules.by for one in study.brief().sections if one.kind == "blend"] == ["highest=wet-own"]
    assert study.shortlist() == [] and study.history(last=1)[0]["act"] == "new"
    with pytest.raises(zp.ZoomPickError, match="wet-own"):
        zp.BlendRules(by="highest=wet-own")
    assert Path.cwd() == tmp_path / "other"
