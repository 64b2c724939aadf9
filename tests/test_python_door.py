"""What Python users give: names, paths, studies by their folder; what is none of these is an error of ours."""

from __future__ import annotations

import json
from pathlib import Path

import imagecodecs
import numpy as np
import pytest
import shapely

import zoompick as zp
from helpers import foreign_tiff, grid, noise
from zoompick.area.model import Area
from zoompick.products.kinds.blend import BlendRules
from zoompick.products.kinds.mosaic import MosaicRules
from zoompick.raster.raster import Derived
from zoompick.scenes.sidecar import read_sidecar, sidecar_of
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
        (lambda: zp.Study.need("folder"), "no study in"),
        (lambda: zp.known_sources(7), "`study` is a Study or its folder"),
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
        (lambda: MosaicRules(grow_m=-1), "`grow` -1 cannot be used"),
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
    drawn = zp.compare("red.tif", "red.tif", "both.png", change_min=0.1)
    assert drawn.rows and Path("both.png").exists()
    with pytest.raises(zp.ZoomPickError, match="no file gone"):
        zp.compare("red.tif", "gone.tif", "other.png")


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
        BlendRules(by="highest=wet-own")
    assert Path.cwd() == tmp_path / "other"


def test_what_is_written_has_its_record_as_what_the_commands_make(tif, tmp_path, monkeypatch, program):
    monkeypatch.chdir(tmp_path)
    outline = Area("part", shapely.box(-12.2, -38.8, -12.1, -38.5))
    zp.write_area(outline, Path("part.geojson"))
    assert program("clip", tif, "--area", "part.geojson", "--out", "told.tif").code == 0
    assert program("mosaic", tif, tif, "--out", "laid.tif").code == 0
    clipped = zp.write(zp.clip("red.tif", "part.geojson"), "own.tif")
    laid = zp.write(zp.mosaic([tif, tif]), "joined.tif")
    for made, theirs in ((clipped, "told.tif"), (laid, "laid.tif")):
        ours, other = read_sidecar(made.path), read_sidecar(Path(theirs))
        assert ours and other and ours.fingerprint == other.fingerprint and ours.multihash == other.multihash
    assert zp.write(zp.clip("red.tif", "part.geojson"), "own.tif").was_current
    with pytest.raises(zp.ZoomPickError, match="exists already"):
        zp.write(zp.clip("red.tif", "part.geojson", touch=True, outside=True), "own.tif")


def test_the_record_of_what_was_made_of_what_was_made_tells_every_step(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    for seed, name in enumerate(("red", "nir")):
        foreign_tiff(tmp_path / f"{name}.tif", noise((1, 64, 64), seed=seed), grid(64, 64), nodata="0")
    whole = zp.stack(["red.tif", "nir.tif"], ["nir", "red"])
    made = zp.write(
        zp.index(zp.clip(whole, Area.from_box(-12.2, -38.8, -12.1, -38.5)), formula="(nir - red) / (nir + red)"),
        "i.tif",
    )
    told = json.loads(sidecar_of(made.path).read_text())
    [step] = told["properties"]["zoompick:steps"]
    assert (step["step"], [one["step"] for one in step["options"]["of"]]) == ("index", ["stack", "clip"])
    assert [link["href"] for link in told["links"]] == ["red.tif", "nir.tif"]
    stored = np.asarray(zp.clip(whole, Area.from_box(-12.2, -38.8, -12.1, -38.5))).astype(float)
    values = zp.to_numpy(zp.open_raster("i.tif"))[0]
    there = np.isfinite(values)
    expected = (stored[0] - stored[1]) / np.maximum(stored[0] + stored[1], 1)
    assert there.any() and np.allclose(values[there], expected[there], rtol=1e-6)


def test_of_a_raster_of_others_the_record_tells_no_step(tif, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    zp.write(zp.open_raster("red.tif"), "copy.tif")
    zp.write(Half(zp.open_raster("red.tif")), "half.tif")
    steps = {name: json.loads(Path(f"{name}.tif.stac.json").read_text()) for name in ("copy", "half")}
    assert {name: [one["href"] for one in told["links"]] for name, told in steps.items()} == {
        "copy": ["red.tif"],
        "half": [],
    }
    assert all(told["properties"]["zoompick:steps"][0]["step"] == "computed" for told in steps.values())
    assert {one.outcome for one in zp.verify_files(["copy.tif", "half.tif"])} <= {"pass", "warn"}


class Half(Derived):
    """Of somebody else: half of each value."""

    def read(self, window, bands=None, level=0):
        return self.source.read(window, bands, level) // 2


def test_old_names_work_and_tell_the_new_ones(tmp_path):
    study = new_study(tmp_path / "fen", NewStudy("Fen", Area("fen", FEN)))
    with pytest.warns(DeprecationWarning, match=r"state_of goes with the next version: Study\.state\."):
        state = zp.state_of(study.root)
    assert state.scenes == () and "state_of" not in zp.__all__
    assert len(zp.__all__) < 75
