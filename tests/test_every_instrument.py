"""Every instrument of the archive, from the search to verified composite and index, by the same commands."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass

import numpy as np
import pytest

from zoompick.raster.opening import open_raster

pytestmark = pytest.mark.slow

BLOOM = """
[composite.water]
title = "Water"
bands = ["sst", "chlorophyll", "turbidity"]
shows = "warm water red, algae green, mud blue"

[index.bloom]
title = "Bloom"
formula = "log(chlorophyll)"
source = "of this study"
"""


@dataclass(frozen=True)
class Way:
    """What is asked of one collection."""

    collection: str
    dates: str
    pixel_m: float
    bands: tuple[str, ...] = ("green", "red", "nir")
    around: str = "600m"
    composite: str = "infrared"
    index: str = "ndvi"
    more: str = ""
    price: str = ""
    classes: bool = False
    cloud: int = 60


WAYS = [
    Way("lapwing-l2", "2025-12", 8, classes=True),
    Way("siskin-l2", "2024-11", 20, around="2km", classes=True),
    Way("curlew-sheets", "2025", 2, around="200m", cloud=100),
    Way("tern-ocean", "2026-01", 750, ("sst", "chlorophyll", "turbidity"), "60km", "water", "bloom", BLOOM),
    Way("dunlin-l1", "2023/2024", 12, price="0"),
    Way("gannet-vhr", "2025-12/2026-02", 1, around="150m", price="20"),
]


def brief_for(text: str, way: Way) -> str:
    """The brief with what is asked for."""
    for key, value in {
        "pixel_m": way.pixel_m, "bands": list(way.bands), "cover": 90, "valid": 90, "cloud": way.cloud,
    }.items():  # fmt: skip
        text = re.sub(rf"(?m)^{key} *= [^#\n]*", f"{key} = {str(value).replace(chr(39), chr(34))} ", text)
    first, second = f'["{way.composite}"]', f'["{way.index}"]'
    head, _, tail = text.partition("[index]")
    return (re.sub(r"(?m)^recipes *= [^#\n]*", f"recipes = {first} ", head) + "[index]"
            + re.sub(r"(?m)^recipes *= [^#\n]*", f"recipes = {second} ", tail))  # fmt: skip


@pytest.mark.parametrize("way", WAYS, ids=[way.collection for way in WAYS])
def test_an_instrument_goes_from_search_to_checked_products(way, program, archive, tmp_path):
    made = program("new", "s", "--area", "Harrow Fen", "--around", way.around, "--source", "o", "--collection",
                   way.collection, "--dates", way.dates)  # fmt: skip
    assert made.code == 0, made.err
    study = tmp_path / "s"
    (study / "study.toml").write_text(brief_for((study / "study.toml").read_text(), way))
    if way.more:
        (study / "recipes").mkdir()
        (study / "recipes" / "own.toml").write_text(way.more)
    at = {"cwd": study}
    assert program("source", "add", "o", archive, "--here", **at).code == 0
    if way.price:
        waits = program("run", **at)
        assert waits.code == 5 and "zoompick order ask" in waits.err
        assert program("source", "login", "o", "--user", "visitor", stdin="ostrell\n", **at).code == 0
        terms = program("order", "ask", **at)
        digest = re.search(r"--accept-terms (\w+)", terms.err)[1]
        assert program("order", "ask", "--accept-terms", digest, **at).code == 0
        bought = program("order", "submit", "--accept-price", way.price, "--wait", **at)
        assert bought.code == 0, bought.err + bought.out
    done = program("run", **at)
    assert done.code == 0, done.err + done.out
    [folder] = (study / "products").iterdir()
    clip = open_raster(folder / "clip.tif")
    assert [band.name for band in clip.bands] == list(way.bands)
    stored = clip.read(clip.grid.window).astype(float)
    there = np.all([np.isfinite(band) & (band != clip.nodata) for band in stored], axis=0)
    values = [band * told.scale + told.offset for band, told in zip(stored, clip.bands, strict=True)]
    by_name = dict(zip(way.bands, values, strict=True))
    with np.errstate(all="ignore"):
        if way.index == "ndvi":
            wanted = (by_name["nir"] - by_name["red"]) / (by_name["nir"] + by_name["red"])
        else:
            wanted = np.log(by_name["chlorophyll"])
    there &= np.isfinite(wanted)
    index = open_raster(folder / f"{way.index}.tif").read(clip.grid.window)[0]
    np.testing.assert_allclose(index[there], wanted[there], atol=2e-5)
    picture = open_raster(folder / f"{way.composite}.tif").read(clip.grid.window)
    assert there.mean() > 0.5 and picture.std(axis=(1, 2)).min() > 10
    assert ("no class layer" in (done.out + done.err).lower()) is not way.classes
    found = json.loads((study / "checks.json").read_text())["findings"]
    # Nobody can tell the cloud without a class layer, nor what a licence allows that is the seller's own.
    [licence] = [row for row in found if row["key"] == "licence"]
    owned = "proprietary" in licence["figure"]
    assert (licence["outcome"] == "warn") is owned and (owned or licence["figure"].startswith("CC"))
    untold = {"cloud"} if not way.classes else set()
    untold |= {"licence"} if owned else set()
    odd = [row for row in found if row["outcome"] in ("warn", "fail") and row["key"] not in untold]
    assert odd == [] and len(found) > 40
    unseen = [row["key"] for row in found if row["outcome"] == "not judged" and row["key"] not in untold]
    # An ocean has few plants; what its chlorophyll reflects is no question; a small area has short lines.
    assert set(unseen) <= {"spectra", "lines", "negative", "range"}, unseen
    listed = program("bands", "products/" + folder.name + "/clip.tif", "--json", **at)
    assert [row["band"] for row in listed.json["bands"]] == list(way.bands)
