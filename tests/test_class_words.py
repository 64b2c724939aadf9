"""What words in names of classes mean, and what becomes of pixels whose words no table knows."""

from __future__ import annotations

import json

import numpy as np
import pytest

from helpers import Memory, foreign_tiff, grid, noise
from zoompick.discovery.clouds import inside_of
from zoompick.geo.crs import LONLAT
from zoompick.geo.shapes import box_polygon, project
from zoompick.judge.checks.cloud import clouds_over
from zoompick.products.observations import observations
from zoompick.raster.grid import Window
from zoompick.raster.opening import open_raster
from zoompick.scenes.deliveries import open_layers
from zoompick.scenes.fewcodes import guessed_codes
from zoompick.sensors.classes import MEANINGS, ClassTable
from zoompick.sensors.words import UNKNOWN, meaning_in, meaning_of
from zoompick.standin.rude.catalogue import CODES

WORDS = {
    "fill": "no_data no-data nodata missing fill filled NoData outside not_observed",
    "clear": "clear cloud_free cloudFree not_cloudy NotCloudy no_snow free_of_clouds cloudless vegetation bare_soil "
             "sand urban rice built_up forest shadow_free grasses crops not_vegetated clear_sky open_land trees",
    "shadow": "shadow cloud_shadow cloud_shadows topographic_shadow shaded",
    "cloud": "cloud clouds thin_cloud dense_cloud cirrus thin_cirrus cloud_medium_probability haze fog dilated_cloud",
    "snow": "snow ice snow_or_ice sea_ice glacier",
    "water": "water sea lakes inland_water open_water rivers",
    "doubtful": "defective saturated unclassified background saturated_or_defective unknown not_clear sun_glint "
                "cloud_low_probability",
    UNKNOWN: "plankton zone_7 a 12",
}  # fmt: skip


@pytest.mark.parametrize(("meaning", "word"), [(m, w) for m, words in WORDS.items() for w in words.split()])
def test_words_mean_what_people_mean_by_them(meaning, word):
    assert meaning_of(word) == meaning
    assert meaning_of(word.replace("_", " ").upper() if "_" in word else word) == meaning


@pytest.mark.parametrize(
    ("field", "word", "meaning"),
    [("cloud_confidence", "not_set", ""), ("cloud_confidence", "low", ""), ("cloud_confidence", "medium", "cloud"),
     ("cloud_confidence", "high", "cloud"), ("cloud", "no_cloud", ""), ("cloud", "cloud", "cloud"),
     ("fill", "not_fill", ""), ("fill", "fill", "fill"), ("clear", "clear", "clear"), ("water", "not_water", ""),
     ("shadow", "set", "shadow"), ("snow", "1", "snow"), ("aerosol_level", "high", UNKNOWN),
     ("unclassified", "no_unclassified", ""), ("saturated", "saturated", "doubtful")],
)  # fmt: skip
def test_classes_of_a_field_of_bits_are_read_with_the_field(field, word, meaning):
    assert meaning_in(field, word) == meaning


def test_the_words_of_the_archive_without_manners_are_all_known():
    table = ClassTable.of_words(CODES.items())
    assert not table.unknown and not table.told
    assert (table.fill, table.doubtful, table.cloud, table.shadow) == ({0}, {1, 2}, {4, 8}, {9})
    assert table.clear == {3, 5, 6, 7} and table.water == {7}


FIELDS = [
    {"name": "fill", "offset": 0, "length": 1, "classes": [
        {"value": 0, "name": "not_fill"}, {"value": 1, "name": "fill"}]},
    {"name": "cloud_confidence", "offset": 2, "length": 2, "classes": [
        {"value": n, "name": word} for n, word in enumerate(("not_set", "low", "medium", "high"))]},
    {"name": "cloud_shadow", "offset": 4, "length": 1},
    {"name": "aerosol_level", "offset": 6, "length": 2, "classes": [{"value": 3, "name": "high"}]},
]  # fmt: skip


def test_fields_of_several_bits_are_compared_as_numbers():
    table, codes = ClassTable.from_stac(FIELDS), np.arange(256, dtype=np.uint16)
    confidence, fill, shadow = (codes >> 2) & 3, codes & 1, (codes >> 4) & 1
    np.testing.assert_array_equal(table.holds(codes, ("cloud",)), confidence >= 2)
    np.testing.assert_array_equal(table.holds(codes, ("shadow", "fill")), (fill | shadow) > 0)
    np.testing.assert_array_equal(table.holds(codes, ("clear",)), (confidence < 2) & (fill == 0) & (shadow == 0))
    assert table.silent == ("aerosol_level",) and "not looked at: aerosol_level" in table.told[0]


def scene_with(folder, codes, words):
    """A scene of one band, its class layer, and an item that names its classes."""
    folder.mkdir()
    place = grid(*codes.shape[::-1])
    foreign_tiff(folder / "red.tif", noise((1, *codes.shape)), place, nodata="0")
    foreign_tiff(folder / "scl.tif", codes[np.newaxis], place)
    tiff = {"type": "image/tiff", "roles": ["data"]}
    item = {
        "type": "Feature", "id": folder.name, "collection": "c", "geometry": None,
        "properties": {"datetime": "2025-12-08T10:00:00Z"},
        "assets": {"red": {"href": "red.tif", "eo:bands": [{"common_name": "red"}], **tiff},
                   "scl": {"href": "scl.tif", "classification:classes": [
                       {"value": code, "name": word} for code, word in words.items()], **tiff}},
        "links": [{"rel": "self", "href": "http://127.0.0.1/x/item.json"}],
    }  # fmt: skip
    (folder / "item.json").write_text(json.dumps(item))
    return [folder / "red.tif", folder / "scl.tif"], place


def test_what_no_table_knows_is_neither_clear_nor_counted_and_is_told(tmp_path):
    codes = noise((60, 80), "uint8", 0, 5)
    words = {0: "fill", 1: "clear", 2: "cloud", 3: "plankton", 4: "defective"}
    paths, place = scene_with(tmp_path / "s", codes, words)
    (one,) = observations(paths, ["red"], place)
    window = place.window
    np.testing.assert_array_equal(one.clear.read(window), np.isin(codes, (0, 1)))
    assert any("plankton" in note and "guide" in note for note in one.notes)
    area = project(box_polygon(place.bounds), LONLAT, place.crs)
    table = ClassTable.of_words(words.items())
    seen = np.isin(codes, (1, 2))
    for found in (clouds_over([(Memory(codes[np.newaxis], place), table)], area),
                  inside_of(Memory(codes[np.newaxis], place), table, area)):  # fmt: skip
        assert found.cloud == pytest.approx(100 * (codes == 2).sum() / seen.sum(), abs=1)
        assert found.seen == pytest.approx(100 * seen.mean(), abs=1)


def test_a_second_layer_fills_what_the_first_did_not_see_whatever_its_code_for_clear(tmp_path):
    """0 is a class here, and no code stands for what is missing."""
    first, second = np.zeros((1, 60, 80), np.uint8), np.full((1, 60, 80), 5, np.uint8)
    place = grid(80, 60)
    tables = ClassTable.of_words({0: "clear", 1: "cloud"}.items()), ClassTable.of_words({5: "cloud"}.items())
    area = project(box_polygon(place.bounds), LONLAT, place.crs)
    found = clouds_over([(Memory(first, place), tables[0]), (Memory(second, place), tables[1])], area)
    assert (found.cloud, found.seen) == (0, pytest.approx(100, abs=1))
    west = Memory(first[:, :, :40], place.part(Window(0, 0, 40, 60)))
    found = clouds_over([(west, tables[0]), (Memory(second, place), tables[1])], area)
    assert found.cloud == pytest.approx(50, abs=2), "each layer is read by its own table"


@pytest.mark.parametrize("dtype", ["uint8", "int16", "float32"])
def test_few_small_whole_numbers_are_proposed_as_classes_and_never_mixed_in_silence(program, tmp_path, dtype):
    codes = np.array([0, 3, 4, 9])[noise((1, 300, 300), "uint8", 0, 4)].astype(dtype)
    foreign_tiff(tmp_path / "cover.tif", codes, grid(300, 300))
    (layer,) = open_layers([tmp_path / "cover.tif"])
    assert guessed_codes(layer) == (0, 3, 4, 9)
    done = program("stack", "cover.tif", "--pixel", "20", "--out", "s")
    assert done.code == 0 and "taken for classes" in " ".join(done.err.split()), done.err
    made = open_raster(tmp_path / "s.tif")
    found = made.read(made.grid.window)[0]
    assert set(np.unique(found)) <= {0, 3, 4, 9} | ({made.nodata} - {None}) and made.bands[0].is_class
    done = program("stack", "cover.tif", "--pixel", "20", "--resampling", "cover=bilinear", "--out", "t")
    assert done.code == 0 and "taken for classes" not in done.err
    made = open_raster(tmp_path / "t.tif")
    assert len(np.unique(made.read(made.grid.window)[0])) > 5


ALONE = np.full((1, 300, 300), 7, "uint8"), np.full((1, 300, 300), 0.5, "float32")


@pytest.mark.parametrize("values", [noise((1, 300, 300), "uint16"), *ALONE, noise((1, 300, 300), "int16", -3, 3)])
def test_measurements_are_not_taken_for_classes(tmp_path, values):
    foreign_tiff(tmp_path / "depth.tif", values, grid(300, 300))
    assert not guessed_codes(open_layers([tmp_path / "depth.tif"])[0])


def test_every_meaning_can_be_asked_for():
    assert set(WORDS) - {UNKNOWN} == set(MEANINGS)
