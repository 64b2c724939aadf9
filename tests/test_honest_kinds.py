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
from zoompick.judge.subject import Subject
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
]  # fmt: skip


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
