"""What is asked for seldom: lists of recipes, pictures of checks, cloud by pieces, empty lists, many files in one."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import zoompick as zp
from conftest import copied
from zoompick.products.sidebyside import ground_of
from zoompick.raster.opening import open_raster

DAY = "2025-12-15"


@pytest.fixture
def study(clean_study, tmp_path) -> Path:
    return copied(clean_study, tmp_path / "s")


@pytest.mark.parametrize("command", ["index", "composite"])
def test_recipes_are_listed_with_what_is_lacking(program, study, tmp_path, command):
    bare = program(command, "--list", cwd=tmp_path)
    assert bare.code == 0 and "lacks" not in bare.out and "(here)" not in bare.out
    inside = program(command, "--list", cwd=study)
    rows = program(command, "--list", "--json", f"products/{DAY}/natural.tif", cwd=study).json
    assert inside.code == 0 and "(here)" in inside.out
    assert all(row["name"] in bare.out and row["title"] in bare.out for row in rows)
    for row in rows:
        assert row["here"] is not bool(row["lacking"]) and set(row["lacking"]) <= set(row["bands"])
        assert row["here"] == (set(row["bands"]) <= {"red", "green", "blue"})


def test_checks_draw_what_they_saw(program, study):
    stack, folder = f"products/{DAY}/stack.tif", study / "proof"
    done = program("verify", stack, "--pictures", "proof", cwd=study)
    assert done.code == 0, done.err
    drawn = sorted(path for path in folder.iterdir())
    assert drawn and "proof" in done.err
    for path in drawn:
        with Image.open(path) as image:
            assert min(image.size) > 200 and len(image.convert("L").getcolors(1 << 20)) > 20, path.name
    first = {path: path.read_bytes() for path in drawn}
    assert program("verify", stack, "--pictures", "proof", cwd=study).code == 0
    assert len(list(folder.iterdir())) == 2 * len(drawn), "none is drawn over another"
    assert {path: path.read_bytes() for path in drawn} == first


def test_cloud_over_pieces_decides_what_covers(program, study, archive):
    (study / "sources.json").write_text(json.dumps({"o": {"url": archive, "kind": "stac-api", "day": ""}}))
    assert program("search", "--cloud", "60", cwd=study).code == 0
    picked = program("pick", "--cover", "--inside", cwd=study)
    assert picked.code == 0 and "pieces of the area" in picked.err, picked.err
    assert float(picked.err.partition(" % of the area")[0].split()[-1]) > 99


def test_nothing_known_is_said_so(program, tmp_path):
    env = {"ZOOMPICK_CONFIG": str(tmp_path / "none"), "ZOOMPICK_CACHE": str(tmp_path / "cache")}
    assert program("source", "list", "--json", env=env).json == []
    assert "No source is known yet" in program("source", "list", env=env).err
    told = program("settings", "--json", env=env | {"ZOOMPICK_ZSTD_LEVEL": "7"}).json
    assert told["cache_bytes"] == 0
    assert told["settings"]["zstd_level"] == {"value": 7, "from": "environment", "unit": ""}
    plain = program("settings", env=env).out
    assert all(key in plain for key in told["settings"]) and told["folders"]["config"] in plain.replace("\n", "")


def test_many_files_become_one_from_python(study):
    """The mosaic's layer names where a pixel is from; one date blends to itself; a mask takes out what it says."""
    files = [path for path in sorted(study.glob("scenes/*/*/*20251215*/*.tif"))
             if path.stem.endswith(("-red", "-nir", "-green", "-classes"))]  # fmt: skip
    area = zp.read_area(study / "area.geojson")
    joined = zp.mosaic(files, ["green", "red", "nir"], area)
    layer = zp.scene_layer(joined).read(joined.grid.window)[0]
    assert set(np.unique(layer)) <= set(range(len({path.parent for path in files}) + 1)) and layer.max() >= 2
    with pytest.raises(zp.ZoomPickError, match="Only a mosaic"):
        zp.scene_layer(open_raster(study / "mosaic.tif"))
    pixels = joined.read(joined.grid.window)
    both = zp.blend(files, ["green", "red", "nir"], area)
    assert (both.read(joined.grid.window) == pixels)[:, layer > 0].mean() > 0.9, "one date blends to itself"
    scene = [path for path in files if path.parent == files[0].parent]
    hidden = zp.mask(scene, "nir < 0.1", ["green", "red", "nir"])
    dark = hidden.read(hidden.grid.window)[0]
    kept = zp.mask(scene, "nir < 0.1", ["green", "red", "nir"], apply=True).read(hidden.grid.window)
    assert set(np.unique(dark)) <= {0, 1, 255} and not kept[:, dark == 1].any() and kept[:, dark == 0].any()
    with pytest.raises(zp.ZoomPickError, match="neither true nor false"):
        zp.mask(scene, "nir + 1")


def test_ground_is_counted_on_the_ellipsoid(program, study, tmp_path):
    """Hectares of a change layer, against the area of its pixels counted by hand."""
    before, after = (study / f"products/{day}/stack.tif" for day in ("2024-12-20", DAY))
    done = program("compare", before, after, "--index", "ndwi", "--above", "0", "--out", "c", "--json", cwd=tmp_path)
    assert done.code == 0, done.err
    raster = open_raster(tmp_path / "c-change.tif")
    codes = raster.read(raster.grid.window)[0]
    area = zp.read_area(study / "area.geojson")
    counted = ground_of(tmp_path / "c-change.tif", area)
    for row in done.json["classes"]:
        by_hand = (codes == row["value"]).sum() * 64 / 1e4
        assert row["ha"] == pytest.approx(by_hand, rel=0.002, abs=0.1)
        assert counted.get(row["value"], 0) / 1e4 <= row["ha"] + 0.1
    shutil.rmtree(study)
