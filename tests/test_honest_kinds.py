"""Honest data of odd kinds: nothing that is right is accused, and what cannot be judged is said not to be."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import pytest
from scipy import ndimage

from helpers import Memory, grid
from zoompick.judge import registry
from zoompick.judge.held import held_by
from zoompick.judge.subject import SceneFacts, Subject
from zoompick.raster.raster import Band
from zoompick.raster.write import write_geotiff

PLACE, SHAPE = grid(500, 400), (400, 500)
FOUR = ("blue", "green", "red", "nir")
SPECTRA = {
    "plants": (0.03, 0.07, 0.05, 0.40), "soil": (0.08, 0.12, 0.18, 0.24), "clear water": (0.05, 0.04, 0.02, 0.01),
    "silt": (0.10, 0.15, 0.19, 0.07), "snow": (0.92, 0.92, 0.90, 0.75), "sand": (0.18, 0.28, 0.38, 0.44),
    "haze": (0.19, 0.16, 0.14, 0.17), "night": (0.001, 0.001, 0.001, 0.001), "smoke": (0.30, 0.25, 0.22, 0.24),
    "lagoon": (0.20, 0.24, 0.17, 0.04), "salt": (0.55, 0.58, 0.60, 0.61), "burnt": (0.05, 0.06, 0.07, 0.09),
}  # fmt: skip


def ground(*names: str, noisy: float = 0.06, seed: int = 3) -> np.ndarray:
    """Reflectance of patches of some covers, shape (4, rows, cols), each with its own texture."""
    rng = np.random.default_rng(seed)
    rough = ndimage.gaussian_filter(rng.standard_normal(SHAPE), 12)
    ranks = np.argsort(np.argsort(rough, axis=None)).reshape(SHAPE) * len(names) // rough.size
    texture = 1 + noisy * ndimage.gaussian_filter(rng.standard_normal(SHAPE), 1) * 3
    each = 1 + 0.01 * rng.standard_normal((len(FOUR), *SHAPE))
    return np.moveaxis(np.array([SPECTRA[name] for name in names])[ranks], 2, 0) * texture * each


def stored(values: np.ndarray, scale: float = 0.0001, names: tuple[str, ...] = FOUR, **told) -> Memory:
    pixels = (values / scale).round().clip(1, 65535).astype("uint16")
    return Memory(pixels, PLACE, 0, tuple(Band(name, scale, **told) for name in names))


def as_type(dtype: str, more: int, nodata: float) -> Memory:
    pixels = stored(ground("plants", "soil")).read(PLACE.window) + more
    return Memory(pixels.astype(dtype), PLACE, nodata, tuple(Band(name, 0.0001, -0.0001 * more) for name in FOUR))


def as_floats(values: np.ndarray) -> Memory:
    return Memory(values.astype("float32"), PLACE, np.nan, tuple(Band(name) for name in FOUR))


def without_scale(values: np.ndarray, names: tuple[str, ...] = FOUR) -> Memory:
    return Memory(stored(values).read(PLACE.window), PLACE, 0, tuple(Band(name) for name in names))


def thermal(values: np.ndarray) -> Memory:
    warm = (2900 + 100 * values[3:]).round()
    pixels = np.concatenate([stored(values).read(PLACE.window), warm.astype("uint16")])
    return Memory(pixels, PLACE, 0, (*(Band(name, 0.0001) for name in FOUR), Band("lwir11", 0.1)))


def heights() -> Memory:
    rough = ndimage.gaussian_filter(np.random.default_rng(5).standard_normal(SHAPE), 20)
    return Memory(np.maximum(0, 6000 * rough)[None].astype("float32"), PLACE, -9999, (Band("band1", unit="m"),))


def few() -> Memory:
    return Memory(np.random.default_rng(6).integers(0, 7, (1, *SHAPE)).astype("uint8"), PLACE, None, (Band("band1"),))


def grey() -> Memory:
    shade = (255 * ground("soil", "plants")[2:3]).clip(1, 255).astype("uint8")
    return Memory(np.repeat(shade, 3, axis=0), PLACE, 0, tuple(Band(name) for name in ("red", "green", "blue")))


def measure(make: Callable, name: str, dtype: str = "float32", nodata: float | None = np.nan, **told) -> Memory:
    """One band of a smooth field with texture, as ``make`` turns it (about -3 to 3) into values."""
    rng = np.random.default_rng(8)
    field = ndimage.gaussian_filter(rng.standard_normal(SHAPE), 15)
    field = field / field.std() + 0.15 * rng.standard_normal(SHAPE)
    return Memory(np.asarray(make(field))[None].astype(dtype), PLACE, nodata, (Band(name, **told),))


def with_gaps(raster: Memory, gone: np.ndarray) -> Memory:
    pixels = raster.read(PLACE.window).copy()
    pixels[:, gone] = 0 if raster.nodata is None or np.isnan(raster.nodata) else raster.nodata
    return Memory(pixels, PLACE, raster.nodata, raster.bands)


def framed() -> np.ndarray:
    """Outside of a frame that stands askew."""
    rows, cols = np.indices(SHAPE)
    return (cols + 0.2 * rows < 90) | (cols - 0.15 * rows > 430) | (rows - 0.1 * cols < 10)


def coarse(values: np.ndarray, factor: int) -> np.ndarray:
    """The last band seen in pixels so many times larger, each laid on all that it covers."""
    made = values.copy()
    means = made[3].reshape(SHAPE[0] // factor, factor, SHAPE[1] // factor, factor).mean(axis=(1, 3))
    made[3] = means.repeat(factor, axis=0).repeat(factor, axis=1)
    return made


def with_relief(values: np.ndarray, most_px: float) -> np.ndarray:
    """The last band displaced by what heights do: more here, less there."""
    rough = ndimage.gaussian_filter(np.random.default_rng(9).standard_normal(SHAPE), 60)
    rows, cols = np.indices(SHAPE).astype(float)
    made = values.copy()
    made[3] = ndimage.map_coordinates(values[3], [rows, cols + most_px * rough / np.abs(rough).max()], order=1)
    return made


def rows_of_vines(values: np.ndarray) -> np.ndarray:
    """Rows of plants every eight pixels, over a part of the picture."""
    stripes = 1 + 0.3 * (np.indices(SHAPE)[0] % 8 < 3)
    stripes[:, 250:] = 1
    return values * stripes


def town(values: np.ndarray) -> np.ndarray:
    """Blocks of houses and streets between them, bright roofs among them."""
    rows, cols = np.indices(SHAPE)
    made = values * np.where((rows % 23 < 3) | (cols % 31 < 3), 0.5, 1.0)
    made[:, (rows % 46 > 38) & (cols % 62 > 52)] *= 2
    return made


def clouds(values: np.ndarray, share: float, bright: float = 0.9) -> np.ndarray:
    rough = ndimage.gaussian_filter(np.random.default_rng(10).standard_normal(SHAPE), 9)
    made, high = values.copy(), rough > np.quantile(rough, 1 - share)
    made[:, high] = bright
    return made * (1 + 0.01 * np.random.default_rng(11).standard_normal(SHAPE))


def blinded() -> Memory:
    """Eight bits that end at 60 % reflected: cloud rises to it, and half a percent lies beyond."""
    values = clouds(ground("plants", "soil"), 0.05, 0.45)
    rough = ndimage.gaussian_filter(np.random.default_rng(10).standard_normal(SHAPE), 9)
    low, high = np.quantile(rough, [0.95, 0.995])
    values *= 1 + np.clip((rough - low) / (high - low), 0, 1) / 3
    shades = (values / 0.00235).round().clip(1, 255).astype("uint8")
    return Memory(shades, PLACE, 0, tuple(Band(name, 0.00235) for name in FOUR))


def narrow() -> Memory:
    """Twelve bands, ten nanometres apart."""
    four = ground("plants", "soil", "clear water")
    places = np.linspace(0, 3, 12)
    low = np.clip(places.astype(int), 0, 2)
    values = four[low] + (places - low)[:, None, None] * (four[low + 1] - four[low])
    names = tuple(f"band{n}" for n in range(12))
    bands = tuple(Band(name, 0.0001, wavelength_um=0.46 + 0.03 * n, width_um=0.01) for n, name in enumerate(names))
    noisy = values * (1 + 0.01 * np.random.default_rng(12).standard_normal(values.shape))
    return Memory((noisy / 0.0001).round().clip(1, 65535).astype("uint16"), PLACE, 0, bands)


def picture() -> Memory:
    shades = (560 * ground("soil", "plants", "sand")[[2, 1, 0]]).clip(1, 255).astype("uint8")
    return Memory(shades, PLACE, 0, tuple(Band(name) for name in ("red", "green", "blue")))


def by_night() -> Subject:
    """Nothing lights the ground, and the scene says so."""
    raster = stored(ground("night", "night", noisy=0.2))
    scenes = (SceneFacts("a", sun_elevation_deg=-12.0, off_nadir_deg=3.0, cloud_percent=0.0),)
    return Subject("s", raster, scenes=scenes)


class Kind(NamedTuple):
    name: str
    make: Callable[[], Memory]
    untold: str = ""


KINDS = [
    Kind("fields and soil", lambda: stored(ground("plants", "soil", "sand"))),
    Kind("fields by a clear lake", lambda: stored(ground("plants", "soil", "clear water"))),
    Kind("water full of silt", lambda: stored(ground("silt", "silt", "clear water")), "spectra"),
    Kind("silt by fields", lambda: stored(ground("silt", "silt", "silt", "plants"))),
    Kind("a bright lagoon", lambda: stored(ground("lagoon", "lagoon", "sand")), "spectra"),
    Kind("snow", lambda: stored(ground("snow", noisy=0.02)), "spectra"),
    Kind("desert", lambda: stored(ground("sand", "salt")), "spectra"),
    Kind("haze over fields", lambda: stored(ground("haze", "plants", "haze") + 0.06)),
    Kind("smoke", lambda: stored(ground("smoke", "smoke", "haze")), "spectra"),
    Kind("burnt ground", lambda: stored(ground("burnt", "soil"))),
    Kind("no scale", lambda: without_scale(ground("plants", "soil")), "negative range spectra"),
    Kind("no scale and no names", lambda: without_scale(ground("plants", "soil"), ("one", "two", "three", "four")),
         "negative range"),
    Kind("fractions", lambda: as_floats(ground("plants", "soil"))),
    Kind("fractions with snow", lambda: as_floats(ground("plants", "snow"))),
    Kind("with a thermal band", lambda: thermal(ground("plants", "soil"))),
    Kind("a height model with sea", heights),
    Kind("classes that nothing tells", few),
    Kind("a grey picture", grey, "distinct negative range"),
    Kind("a frame askew", lambda: with_gaps(stored(ground("plants", "soil")), framed())),
    Kind("a narrow strip of pixels", lambda: with_gaps(stored(ground("plants", "soil")), np.indices(SHAPE)[1] > 70)),
    Kind("holes where clouds were", lambda: with_gaps(stored(ground("plants", "soil")), ground("soil")[0] > 0.085)),
    Kind("salt pans", lambda: stored(ground("salt", "sand", "salt")), "spectra"),
    Kind("snow and bare rock", lambda: stored(ground("snow", "soil"))),
    Kind("snow and water", lambda: stored(ground("snow", "clear water")), "spectra"),
    Kind("clear sea alone", lambda: stored(ground("clear water", noisy=0.02)), "spectra"),
    Kind("a coast", lambda: stored(ground("clear water", "sand", "plants"))),
    Kind("burnt forest", lambda: stored(ground("burnt", "plants"))),
    Kind("dense plants alone", lambda: stored(ground("plants", noisy=0.1))),
    Kind("bare soil alone", lambda: stored(ground("soil", noisy=0.1))),
    Kind("a tenth of cloud", lambda: stored(clouds(ground("plants", "soil"), 0.1))),
    Kind("half of cloud", lambda: stored(clouds(ground("plants", "soil"), 0.5))),
    Kind("cloud over sea", lambda: stored(clouds(ground("clear water"), 0.3)), "spectra"),
    Kind("cloud brighter than white", lambda: stored(clouds(ground("plants", "soil"), 0.05, 1.25))),
    Kind("a sensor blinded by half a percent", blinded),
    Kind("smoke over forest", lambda: stored(ground("smoke", "plants", "plants"))),
    Kind("haze over sea", lambda: stored(ground("haze", "clear water") + 0.03), "spectra"),
    Kind("rows of vines", lambda: stored(rows_of_vines(ground("plants", "soil")))),
    Kind("a town", lambda: stored(town(ground("soil", "salt", "plants")))),
    Kind("a band four times as coarse", lambda: stored(coarse(ground("plants", "soil"), 4))),
    Kind("a band twenty times as coarse", lambda: stored(coarse(ground("plants", "soil"), 20))),
    Kind("relief by a third of a pixel", lambda: stored(with_relief(ground("plants", "soil"), 0.3))),
    Kind("relief by a pixel", lambda: stored(with_relief(ground("plants", "soil"), 1.0))),
    Kind("twelve narrow bands", narrow),
    Kind("a picture in colour", picture, "negative range"),
    Kind("signed whole numbers", lambda: as_type("int16", 0, -9999)),
    Kind("an offset", lambda: as_type("uint16", 1000, 0)),
    Kind("percent", lambda: stored(ground("plants", "soil"), 0.01)),
    Kind("fractions in doubles", lambda: Memory(ground("plants", "soil"), PLACE, np.nan, tuple(map(Band, FOUR)))),
    Kind("a little below zero over water", lambda: Memory(
        (ground("clear water", "plants") - 0.012).astype("float32"), PLACE, np.nan, tuple(map(Band, FOUR)))),
    Kind("eight bits", lambda: Memory((250 * ground("plants", "soil")).clip(1, 255).astype("uint8"), PLACE, 0,
                                      tuple(Band(name, 0.004) for name in FOUR))),
    Kind("one band", lambda: Memory(stored(ground("plants", "soil")).read(PLACE.window)[:1], PLACE, 0,
                                    (Band("red", 0.0001),))),
    Kind("speckle of a radar", lambda: measure(lambda f: 0.1 * np.random.default_rng(1).exponential(np.exp(0.3 * f)),
                                               "vv"), "negative range"),
    Kind("backscatter in decibels", lambda: measure(lambda f: -12 + 3 * f, "vv", unit="dB")),
    Kind("phase", lambda: measure(lambda f: np.angle(np.exp(2j * f)), "phase", unit="rad")),
    Kind("coherence", lambda: measure(lambda f: np.clip(0.5 + 0.15 * f, 0, 1), "coherence"), "negative range"),
    Kind("kelvin", lambda: measure(lambda f: 288 + 4 * f, "surface", unit="K")),
    Kind("degrees of frost", lambda: measure(lambda f: -5 + 8 * f, "surface", unit="degC")),
    Kind("scaled kelvin", lambda: measure(lambda f: (288 + 4 * f) * 100, "lwir11", "uint16", 0, scale=0.01,
                                          unit="K")),
    Kind("depths of the sea", lambda: measure(lambda f: -40 + 12 * f, "depth", "float32", -9999, unit="m")),
    Kind("heights in whole metres", lambda: measure(lambda f: np.maximum(0, 300 * f), "height", "int16", -32768,
                                                    unit="m")),
    Kind("rain, mostly none", lambda: measure(lambda f: np.where(f > 1, (f - 1) * 4, 0), "rain", unit="mm")),
    Kind("probability in percent", lambda: measure(lambda f: np.clip(50 + 20 * f, 0, 100), "cloudy", "uint8", 255),
         "negative range"),
    Kind("an index in whole numbers", lambda: measure(lambda f: 4000 + 2000 * f, "ndvi", "int16", -32768,
                                                      scale=0.0001), "negative range"),
    Kind("days of a year", lambda: measure(lambda f: 180 + 40 * f, "day", "uint16", 0), "negative range"),
    Kind("counts of observations", lambda: measure(lambda f: np.clip(5 + f, 0, 9), "count", "uint8", 255)),
]  # fmt: skip


def test_a_scene_by_night_is_not_called_badly_scaled():
    found = {one.key: one for one in registry.judge(by_night())}
    assert found["range"].outcome == "not judged" and "-12 degrees" in found["range"].note
    assert {one.key for one in found.values() if one.outcome in ("warn", "fail")} <= {"sun"}
    assert len(KINDS) >= 60


@pytest.mark.parametrize("kind", KINDS, ids=[kind.name for kind in KINDS])
def test_honest_data_is_not_accused(kind):
    found = registry.judge(Subject("s", kind.make()))
    bad = [(one.key, one.outcome, one.figure, one.note) for one in found if one.outcome in ("warn", "fail")]
    assert not bad, bad
    untold = {one.key for one in found if one.outcome == "not judged"}
    wanted = set(kind.untold.split())
    # A shift is told where there is texture enough: by chance of what was drawn here.
    assert wanted <= untold and not (untold - wanted) & {"negative", "range", "saturated", "leaks", "distinct"}, (
        untold
    )
    assert all(one.note for one in found if one.outcome == "not judged")


@pytest.mark.parametrize(
    ("name", "told", "values", "held"),
    [
        ("red", {"scale": 0.0001}, [1, 5000], "reflectance"), ("red", {}, [0.1, 0.4], "reflectance"),
        ("red", {}, [100.5, 4000.5], "unscaled"), ("band1", {}, [0.1, 0.4], "unknown"),
        ("band1", {"wavelength_um": 0.66}, [0.1, 0.4], "reflectance"),
        ("lwir11", {"scale": 0.1}, [2900, 3000], "measure"),
        ("band1", {"wavelength_um": 10.9}, [0.1, 0.4], "measure"), ("red", {"unit": "W m-2"}, [0.1, 3], "measure"),
        ("band1", {}, [1, 2, 3], "codes"), ("red", {"is_class": True}, [1, 2], "codes"), ("red", {}, [], "unscaled"),
    ],
)  # fmt: skip
def test_what_a_band_holds_by_what_is_told_of_it(name, told, values, held):
    assert held_by(Band(name, **told), np.dtype("float32"), np.array(values, "float32")) == held


def test_data_without_a_scale_gets_what_needs_none(tmp_path, program):
    pixels = without_scale(ground("plants", "soil")).read(PLACE.window)
    pixels[1, 77] = 1234
    write_geotiff(Memory(pixels, PLACE, 0, tuple(Band(name) for name in FOUR)), tmp_path / "a.tif")
    done = program("verify", "a.tif", "--json", cwd=tmp_path)
    told = {row["key"]: row for row in done.json["findings"]}
    assert done.code == 1 and told["lines"]["outcome"] == "fail" and "row 77 of green" in told["lines"]["note"]
    note = told["range"]["note"]
    assert told["range"]["outcome"] == "not judged" and "the scale of blue, green, red and nir" in note


def test_a_folder_is_no_file_to_judge(tmp_path, program):
    done = program("verify", ".", cwd=tmp_path)
    assert done.code == 2 and ". is a folder." in done.err and "go into it" in done.err


def test_a_check_that_was_named_and_not_made_ends_with_a_code_of_its_own(tmp_path, program):
    write_geotiff(without_scale(ground("plants", "soil")), tmp_path / "a.tif")
    for words, code, said in (
        (("--checks", "spectra"), 5, "0 checks passed, 0 warned, 0 failed, 1 not judged."),
        (("--checks", "spectra,lines"), 5, "1 check passed, 0 warned, 0 failed, 1 not judged."),
        (("--checks", "lines"), 0, "1 check passed, 0 warned, 0 failed."),
        ((), 0, "not judged"),
    ):
        done = program("verify", "a.tif", *words, cwd=tmp_path)
        assert (done.code, said in done.err + done.out) == (code, True), (words, done.out, done.err)
