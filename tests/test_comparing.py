"""Change between dates against brute force, shifts that are found and taken out, and pictures of all kinds."""

from __future__ import annotations

import json
from pathlib import Path

import imagecodecs
import numpy as np
import pytest
import scipy.ndimage
import shapely
import tifffile
from PIL import Image

from helpers import Memory, foreign_tiff, geo_tags, grid, noise
from zoompick.errors import GridError, UsageError
from zoompick.figures.face import Paper, refuse_large
from zoompick.products.change import Change, Difference, Rule, areas_m2
from zoompick.products.kinds.align import AlignStep
from zoompick.products.kinds.compare import DifferenceStep
from zoompick.products.maker import make
from zoompick.products.shift import shift_between
from zoompick.raster.masks import PolygonMask
from zoompick.raster.opening import open_raster
from zoompick.raster.pixelsize import pixel_sizes
from zoompick.raster.raster import Band
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.standin import lapwing
from zoompick.standin.passes import scenes

PLACE = grid(300, 260)


def dates():
    before, after = (noise((1, 260, 300), "float32", -1, 1, seed) for seed in (1, 2))
    before[0, :20], after[0, :, :15] = np.nan, np.nan
    band = (Band("ndwi"),)
    return [Memory(pixels, PLACE, float("nan"), band) for pixels in (before, after)]


def test_classes_of_change_and_their_ground():
    before, after = dates()
    difference = Difference(before, after)
    old, new = before.pixels[0].astype(float), after.pixels[0].astype(float)
    np.testing.assert_allclose(difference.read(PLACE.window)[0], (new - old).astype(np.float32))
    there = ~np.isnan(old) & ~np.isnan(new)
    above = Change(difference, Rule(above=0.1), "ndwi").read(PLACE.window)[0]
    wanted = np.select(
        [(old > 0.1) & (new <= 0.1), (old <= 0.1) & (new > 0.1), (old > 0.1) & (new > 0.1)], [1, 3, 4], 2
    )
    np.testing.assert_array_equal(above, np.where(there, wanted, 0))
    by = Change(difference, Rule(by=0.5), "ndwi")
    codes = by.read(PLACE.window)[0]
    np.testing.assert_array_equal(
        codes, np.where(there, np.select([new - old <= -0.5, new - old >= 0.5], [1, 3], 2), 0)
    )
    inside = PolygonMask(shapely.Point(752900, 5719200).buffer(700), PLACE)
    found, keep = areas_m2(by, inside), inside.read(PLACE.window)
    one = pixel_sizes(PLACE, PLACE.window).area_m2.mean()
    assert found == pytest.approx({code: one * (keep & (codes == code)).sum() for code in (1, 2, 3)}, rel=1e-5)
    for wrong in (Rule, lambda: Rule(above=1, by=1), lambda: Rule(by=-1)):
        with pytest.raises(UsageError):
            wrong()
    with pytest.raises(GridError, match="one grid"):
        Difference(before, Memory(after.pixels, grid(300, 260, west=752003), None))


@pytest.mark.parametrize("moved", [(0.0, 0.0), (1.5, 1.5), (-0.4, 0.7), (7.3, -5.2)])
def test_a_shift_is_found_to_a_twentieth_of_a_pixel(moved):
    rng = np.random.default_rng(3)
    base = scipy.ndimage.gaussian_filter(rng.normal(size=(600, 600)), 1.6) * 3000 + 4000
    other = scipy.ndimage.shift(base, moved[::-1], order=3, mode="nearest") * 1.2 + rng.normal(size=base.shape) * 40
    first, second = (Memory(p[np.newaxis].astype(np.float32), grid(600, 600), None) for p in (base, other))
    shift = shift_between(first, second)
    assert shift.is_sure and (shift.cols, shift.rows) == pytest.approx((-moved[0], -moved[1]), abs=0.05)
    unlike = Memory(noise((1, 600, 600), "float32"), grid(600, 600), None)
    assert not shift_between(first, unlike).is_sure


def test_the_archives_planted_shift_is_mended(tmp_path, shared_cache):
    scene = next(one for one in scenes() if one.fault.shifted)
    lapwing.make(scene, tmp_path, shared_cache)
    bad = tmp_path / f"{scene.id}-{scene.fault.shifted}.tif"
    good = tmp_path / f"{scene.id}-{'green' if scene.fault.shifted != 'green' else 'red'}.tif"
    made = make(AlignStep((bad, good), tmp_path / "a.tif"))
    told = json.loads((tmp_path / "a.tif.stac.json").read_text())["properties"]
    (row,) = told["zoompick:aligned"]
    px = 1.5 * open_raster(bad).grid.pixel_x / open_raster(bad).grid.pixel_x
    assert abs(row["cols"] + px) < 0.15 and abs(row["rows"] + px) < 0.15 and row["moved"]
    assert told["zoompick:shift_left_px"] < 0.1 and made.facts["valid_percent"] > 10


def test_weak_evidence_is_refused_and_small_shifts_are_left_alone(tmp_path):
    for name, seed in (("a", 1), ("b", 2)):
        foreign_tiff(tmp_path / f"{name}.tif", noise((1, 300, 300), seed=seed), grid(300, 300), "0")
    with pytest.raises(UsageError, match="cannot be told"):
        make(AlignStep((tmp_path / "a.tif", tmp_path / "b.tif"), tmp_path / "c.tif"))
    make(AlignStep((tmp_path / "a.tif", tmp_path / "a.tif"), tmp_path / "d.tif"))
    place = grid(300, 300)
    np.testing.assert_array_equal(
        open_raster(tmp_path / "d.tif").read(place.window), open_raster(tmp_path / "a.tif").read(place.window)
    )


def test_two_dates_beside_each_other_are_not_compared(tmp_path):
    rng = np.random.default_rng(3)
    base = scipy.ndimage.gaussian_filter(rng.normal(size=(1, 300, 300)), (0, 2, 2))
    for name, pixels in (("a", base), ("b", np.roll(base, 3, axis=2))):
        foreign_tiff(tmp_path / f"{name}.tif", pixels.astype(np.float32), grid(300, 300), "nan")
    step = DifferenceStep((tmp_path / "a.tif", tmp_path / "b.tif"), tmp_path / "c.tif")
    with pytest.raises(GridError, match=r"3\.0 px beside"):
        make(step)


def products(folder: Path) -> list[str]:
    """A composite, an index, classes, and bands."""
    place = grid(400, 300)
    picture = noise((3, 300, 400), "uint8", 1, 255)
    write_geotiff(Memory(picture, place, 0), folder / "rgb.tif", WriteOptions(is_rgb=True))
    write_geotiff(Memory(noise((1, 300, 400), "float32", -1, 1), place, float("nan")), folder / "index.tif")
    codes = (noise((1, 300, 400), "uint16", 1, 4) % 4).astype(np.uint8)
    write_geotiff(Memory(codes, place, 0, (Band("classes", is_class=True),)), folder / "classes.tif")
    tifffile.imwrite(folder / "bands.tif", noise((4, 300, 400)), planarconfig="separate", metadata=None,
                     photometric="minisblack", extratags=geo_tags(place))  # fmt: skip
    return ["rgb.tif", "index.tif", "classes.tif"]


def test_pictures_of_all_kinds(tmp_path, program):
    for name in products(tmp_path):
        for ending in (".png", ".jpg", ".pdf", ".svg"):
            out = f"{Path(name).stem}{ending}"
            done = program("picture", name, "--out", out, "--width", "700", "--title", "A $title$", cwd=tmp_path)
            assert done.code == 0, done.err
            head = (tmp_path / out).read_bytes()[:5]
            assert head.startswith(
                {".png": b"\x89PNG", ".jpg": b"\xff\xd8", ".pdf": b"%PDF", ".svg": b"<?xml"}[ending]
            )
        assert imagecodecs.png_decode((tmp_path / f"{Path(name).stem}.png").read_bytes()).shape[1] == 700
    again = program("picture", "rgb.tif", "--out", "rgb.png", cwd=tmp_path)
    assert again.code == 2 and "exists already" in again.err
    face = program("picture", "rgb.tif", "--face", "--width", "200", "--out", "face.png", cwd=tmp_path)
    assert face.code == 0 and imagecodecs.png_decode((tmp_path / "face.png").read_bytes()).shape == (150, 200, 4)
    assert [float(v) for v in (tmp_path / "face.pgw").read_text().split()] == [16, 0, 0, -16, 752008, 5719992]
    assert "UTM" in (tmp_path / "face.prj").read_text()
    for words, told in (
        (["rgb.tif", "--out", "a.bmp"], "pictures are .png"), (["index.tif", "--colours", "jet"], "must be viridis"),
        (["index.tif", "--range", "2,1"], "first must be below the second"),
        (["classes.tif", "--colours", "jet", "--out", "j.png"], "must be viridis"),
        (["index.tif", "--width", "60000"], "largest that fits"),
        (["index.tif", "--width", "500", "--width-mm", "90"], "Give one"),
    ):  # fmt: skip
        wrong = program("picture", *words, cwd=tmp_path)
        assert wrong.code == 2 and told in " ".join(wrong.err.split()), words
    plain = program("picture", "bands.tif", cwd=tmp_path)
    assert plain.code == 0 and "4 bands that make no colour: band1 is shown" in plain.err


def test_paper_sizes():
    assert Paper.of(None, 160, None) == Paper(round(160 / 25.4 * 300), 300)
    with pytest.raises(UsageError, match="largest that fits is"):
        refuse_large(30_000, 1.0)


def test_dates_are_compared_through_the_program(tmp_path, program):
    before, after = dates()
    for name, raster in (("before", before), ("after", after)):
        write_geotiff(raster, tmp_path / f"{name}.tif")
    done = program("compare", "before.tif", "after.tif", "--above", "0.1", "--blink", "--json", cwd=tmp_path)
    assert done.code == 0, done.err
    told = json.loads(done.out)
    codes = open_raster(tmp_path / "compare-change.tif").read(PLACE.window)[0]
    one = pixel_sizes(PLACE, PLACE.window).area_m2.mean()
    assert {row["value"]: row["ha"] for row in told["classes"]} == pytest.approx(
        {code: one * (codes == code).sum() / 1e4 for code in (1, 2, 3, 4)}, abs=0.001
    )
    assert Image.open(tmp_path / "compare-blink.png").n_frames == 2
    products(tmp_path)
    unlike = program("compare", "before.tif", "rgb.tif", "--out", "x.png", cwd=tmp_path)
    assert unlike.code == 2 and "different things" in unlike.err
    text = program("compare", "before.tif", "after.tif", "--change-min", "0.5", "--out", "y", cwd=tmp_path)
    assert "ha gained" in text.out and (tmp_path / "y.png").is_file()
