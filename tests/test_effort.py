"""The codec's effort: chosen tile by tile, told in records, and another one asked for is another file."""

from __future__ import annotations

import json

import imagecodecs
import numpy as np
import pytest
import tifffile

from helpers import foreign_tiff, grid, noise
from zoompick.products.picture import write_face
from zoompick.raster.codec import BY_TILE, Codec
from zoompick.raster.encode import Encoder
from zoompick.raster.opening import open_raster

SIDE = 512


def smooth(dtype: str) -> np.ndarray:
    rows, cols = np.mgrid[:SIDE, :SIDE]
    return (2000 + 900 * np.sin(cols / 130) + 400 * np.cos(rows / 90)).astype(dtype)[np.newaxis]


def classes() -> np.ndarray:
    rows, cols = np.mgrid[:SIDE, :SIDE]
    return ((np.sin(rows / 40) + np.cos(cols / 50)) > 0.5).astype(np.uint8)[np.newaxis] * 3


@pytest.mark.parametrize(
    ("pixels", "level"),
    [
        (noise((1, SIDE, SIDE), "uint16", 1, 60000), 1),
        (noise((3, SIDE, SIDE), "uint8", 1, 255), 1),
        (noise((1, SIDE, SIDE), "float32", 0.01, 0.6), 1),
        (smooth("float32"), 4),
        (classes(), 6),
        (np.zeros((1, SIDE, SIDE), np.uint16), 6),
    ],
    ids=["noise", "colours", "floats", "a smooth field", "classes", "nothing"],
)
def test_each_tile_gets_what_it_is_worth(pixels, level):
    """The block is that of a fixed level; zero is the setting's default, so that nobody has to choose."""
    assert Codec.usual("deflate").effort == BY_TILE
    chosen = bytes(Encoder(pixels.dtype, "deflate", BY_TILE).encode(pixels))
    assert chosen == bytes(Encoder(pixels.dtype, "deflate", level).encode(pixels))


@pytest.mark.parametrize("dtype", ["uint16", "int16", "uint8", "float32"])
def test_the_choice_costs_few_bytes(dtype):
    """Of noise, smooth ground and both together never much more than with the hardest of the three."""
    mixed = smooth("float64") + noise((1, SIDE, SIDE), "float64", 0, 40) * (np.arange(SIDE) % 64 < 32)
    for pixels in (smooth("float64"), noise((1, SIDE, SIDE), "float64", 1, 3000), mixed):
        tile = (pixels / 16 if dtype == "uint8" else pixels).astype(dtype)
        sizes = [len(Encoder(tile.dtype, "deflate", level).encode(tile)) for level in (BY_TILE, 6)]
        assert sizes[0] <= 1.1 * sizes[1]


@pytest.mark.parametrize(
    ("codec", "text"),
    [(Codec("deflate", BY_TILE), "deflate by tile"), (Codec("deflate", 6), "deflate 6"), (Codec("zstd", 3), "zstd 3"),
     (Codec("lzw"), "lzw"), (Codec("jpeg", 88), "jpeg 88")],
)  # fmt: skip
def test_a_codec_is_told_and_read(codec, text):
    assert codec.text == text and Codec.of_text(text) == codec


def test_settings_say_how_hard(monkeypatch):
    assert (Codec.usual("zstd"), Codec.usual("lzw"), Codec.usual("webp").effort) == (("zstd", 3), ("lzw", 0), 88)
    monkeypatch.setenv("ZOOMPICK_DEFLATE_LEVEL", "9")
    monkeypatch.setenv("ZOOMPICK_ZSTD_LEVEL", "12")
    assert (Codec.usual("deflate"), Codec.usual("zstd"), Codec.usual("deflate", 2).effort) == (
        ("deflate", 9), ("zstd", 12), 2,
    )  # fmt: skip
    assert Codec.of_text("") == Codec("deflate", 6), "files of before such texts"


def test_another_effort_is_another_file_only_for_who_asks(tmp_path, program):
    foreign_tiff(tmp_path / "f-red.tif", noise((1, 300, 300), "uint16", 1, 3000), grid(300, 300), nodata="0")
    target, record = tmp_path / "b.tif", tmp_path / "b.tif.stac.json"

    def stack(*words: str, level: str = "0") -> tuple[bytes, str]:
        done = program("stack", "f-red.tif", "--out", "b.tif", *words, env={"ZOOMPICK_DEFLATE_LEVEL": level})
        assert done.code == 0, done.err
        return target.read_bytes(), json.loads(record.read_text())["assets"]["data"].get("zoompick:codec")

    first = stack()
    assert first[1] == "deflate by tile" and stack(level="9") == first, "it shows the same, and stays"
    stamp = target.stat().st_mtime_ns
    assert stack("--overwrite") == first and target.stat().st_mtime_ns == stamp, "the very same is there"
    harder = stack("--overwrite", level="9")
    assert harder[1] == "deflate 9" and harder[0] != first[0]
    assert (tifffile.imread(target) == tifffile.imread(tmp_path / "f-red.tif")).all()
    item = json.loads(record.read_text())
    item["assets"]["data"].pop("zoompick:codec")
    record.write_text(json.dumps(item))
    assert stack(level="0")[0] == harder[0], "a record from before is as good"
    assert stack("--overwrite", level="0") == first
    pressed = stack("--overwrite", "--compression", "zstd")
    assert pressed[1] == "zstd 3" and open_raster(target).is_zstd


def test_pictures_are_small_and_whole(tmp_path):
    """Runs alone pack imagery to less bytes than what looks further back."""
    rng = np.random.default_rng(3)
    rows, cols = np.mgrid[:400, :500]
    shades = 120 + 60 * np.sin(cols / 60) + 30 * np.cos(rows / 50)
    colours = np.dstack([shades + rng.normal(0, 4, shades.shape) for _ in range(3)]).clip(1, 255).astype(np.uint8)
    image = np.dstack([colours, np.full(shades.shape, 255, np.uint8)])
    path = tmp_path / "a.png"
    write_face(image, grid(500, 400), path, tmp_path / "a.pgw", tmp_path / "a.prj")
    assert (imagecodecs.png_decode(path.read_bytes()) == image).all()
    assert path.stat().st_size < len(imagecodecs.png_encode(image, level=6))
