"""The bands of deliveries, through the program: folders, archives in place, containers, guesses, splits."""

from __future__ import annotations

import json
import shutil
import zipfile
from pathlib import Path

import h5py
import numpy as np
import tifffile

from helpers import foreign_tiff, geo_tags, grid, noise
from zoompick.raster.opening import open_raster
from zoompick.scenes import fetched
from zoompick.scenes.deliveries import open_layers
from zoompick.scenes.fetched import Fetched
from zoompick.standin.jp2file import write_jp2

ID = "lapwing-a-20251215t111724-28s9845-b02"


def delivery(folder):
    """JPEG 2000 in folders by pixel size, zipped."""
    folder.mkdir()
    for band, pixel in (("red", 8), ("nir", 8), ("swir16", 16)):
        path = folder / ID / f"{pixel}m" / f"{ID}-{band}.jp2"
        path.parent.mkdir(parents=True, exist_ok=True)
        write_jp2(noise((1, 96, 96), seed=pixel)[0], grid(96, 96, pixel), path)
    with zipfile.ZipFile(folder.with_suffix(".zip"), "w") as archive:
        for path in sorted(folder.rglob("*.jp2")):
            archive.write(path, path.relative_to(folder).as_posix())
        archive.writestr("read me.txt", "no raster")
    return folder


def test_bands_of_folders_and_archives_and_what_the_guide_misses(tmp_path, program):
    delivery(tmp_path / "a")
    for where in ("a", "a.zip"):
        done = program("bands", where, "--json", cwd=tmp_path)
        assert done.code == 0, done.err
        told = json.loads(done.out)
        rows = {row["band"]: row for row in told["bands"]}
        assert set(rows) == {"red", "nir", "swir16"} and told["guide"] == "Lapwing"
        assert (rows["swir16"]["pixel"], rows["swir16"]["um"], rows["red"]["nodata"]) == ("16 m", 1.617, 0)
        assert "blue" in told["missing"] and "red" not in told["missing"]
    stacked = program("stack", f"a.zip#{ID}/8m/{ID}-red.jp2", f"a.zip#{ID}/16m/{ID}-swir16.jp2", cwd=tmp_path)
    assert stacked.code == 0 and [b.name for b in open_raster(tmp_path / "stack.tif").bands] == ["red", "swir16"]
    (tmp_path / "a" / "broken.tif").write_bytes(b"II*\0nothing")
    text = program("bands", "a", cwd=tmp_path)
    assert "Not read" in text.err and "Guide Lapwing: it expects" in text.out
    assert program("bands", "none", cwd=tmp_path).code != 0


def test_a_guide_is_guessed_and_then_used(tmp_path, program):
    (tmp_path / "heron").mkdir()
    for band in ("B01", "B02", "B8A"):
        foreign_tiff(tmp_path / "heron" / f"heron-20250103-{band}-v2.tif", noise((1, 40, 40)), grid(40, 40, 5), "0")
    own = {"ZOOMPICK_CONFIG": str(tmp_path / "config")}
    out = tmp_path / "config" / "guides" / "heron.toml"
    out.parent.mkdir(parents=True)
    done = program("bands", "guess", "heron", "--name", "Heron", "--out", str(out), cwd=tmp_path, env=own)
    assert done.code == 0, done.err
    out.write_text(out.read_text().replace('name = "B8A"', 'name = "B8A"\nwavelength_um = 0.865'))
    told = json.loads(program("bands", "heron", "--json", cwd=tmp_path, env=own).out)
    assert told["guide"] == "Heron" and not told["missing"]
    assert {row["band"]: row["um"] for row in told["bands"]}["B8A"] == 0.865
    shutil.copy(tmp_path / "heron" / "heron-20250103-B01-v2.tif", tmp_path / "heron" / "other.tif")
    wrong = program("bands", "guess", "heron", cwd=tmp_path, env=own)
    assert wrong.code == 2 and "not built alike" in wrong.err


def test_containers_are_split_into_bands(tmp_path, program):
    place = {"epsg": 32728, "west": 752000.0, "north": 5720000.0}
    with h5py.File(tmp_path / "c.h5", "w") as file:
        for name, pixel, side in (("red", 8.0, 60), ("nir", 8.0, 60), ("heat", 24.0, 20)):
            file[name] = noise((side, side), seed=side)
            file[name].attrs.update(place | {"pixel_m": pixel, "scale_factor": 0.5})
    done = program("bands", "split", "c.h5", "--to", "out", cwd=tmp_path)
    assert done.code == 0, done.err
    with h5py.File(tmp_path / "c.h5") as file:
        for name in ("red", "nir", "heat"):
            raster = open_raster(tmp_path / "out" / f"c-{name}.tif")
            np.testing.assert_array_equal(raster.read(raster.grid.window)[0], file[name][...])
            assert raster.bands[0].scale == 0.5
    assert program("bands", "split", "c.h5", "--to", "out", cwd=tmp_path).code == 2


def test_bands_are_named_by_wavelength_and_files_packed_as_asked(tmp_path, program):
    delivery(tmp_path / "a")
    done = program("stack", f"a.zip#{ID}/8m/{ID}-red.jp2", f"a.zip#{ID}/8m/{ID}-nir.jp2", "--bands", "850nm,0.66um",
                   "--compression", "zstd", "--out", "s", cwd=tmp_path)  # fmt: skip
    assert done.code == 0, done.err
    assert "850nm is nir, 0.848 µm." in done.err
    with tifffile.TiffFile(tmp_path / "s.tif") as tiff:
        assert tiff.pages[0].compression.name == "ZSTD"
    assert [band.name for band in open_raster(tmp_path / "s.tif").bands] == ["nir", "red"]
    far = program("stack", f"a.zip#{ID}/8m/{ID}-red.jp2", "--bands", "2200nm", "--out", "t", cwd=tmp_path)
    assert far.code == 2 and "No band lies near 2200nm" in far.err
    odd = program("stack", f"a.zip#{ID}/8m/{ID}-red.jp2", "--compression", "best", "--out", "t", cwd=tmp_path)
    assert odd.code == 2 and "deflate" in odd.err


def test_wavelengths_and_units_stay_with_a_band_from_the_item_to_products(tmp_path, program, monkeypatch):
    """Item or guide to file, record and back; a guide counts before an item, as the pages say."""
    monkeypatch.chdir(tmp_path)
    assets = {}
    for band, um in (("red", 0.66), ("nir", 0.86)):
        foreign_tiff(tmp_path / f"{band}.tif", noise((1, 64, 64)), grid(64, 64), nodata="0")
        optics = {"name": band, "eo:common_name": band, "eo:center_wavelength": um, "eo:full_width_half_max": 0.04}
        assets[band] = {
            "href": f"{band}.tif",
            "type": "image/tiff; application=geotiff",
            "roles": ["data"],
            "bands": [optics],
        }
    item = {"type": "Feature", "id": "x", "collection": "own-l1", "links": [], "assets": assets, "geometry": None,
            "properties": {"datetime": "2025-01-01T00:00:00Z"}}  # fmt: skip
    (tmp_path / "item.json").write_text(json.dumps(item))

    def optics(name: str) -> list[tuple]:
        return [(band.name, band.wavelength_um, band.width_um) for band in open_raster(tmp_path / name).bands]

    told = [("red", 0.66, 0.04), ("nir", 0.86, 0.04)]
    (tmp_path / "made").mkdir()
    assert program("stack", "red.tif", "nir.tif", "--out", "made/stack.tif").code == 0
    assert optics("made/stack.tif") == told
    [row, _] = json.loads((tmp_path / "made" / "stack.tif.stac.json").read_text())["assets"]["data"]["bands"]
    assert (row["eo:center_wavelength"], row["eo:full_width_half_max"]) == (0.66, 0.04)
    listed = program("bands", "made", "--json").json["bands"]
    assert [(one["band"], one["um"]) for one in listed] == [("red", 0.66), ("nir", 0.86)]
    box = ("--box", "-12.2", "-38.8", "-12", "-38.4")
    assert (
        program("clip", "made/stack.tif", *box, "--out", "made/cut.tif").code == 0 and optics("made/cut.tif") == told
    )
    packed = program("stack", "made/cut.tif", "--bands", "850nm", "--out", "made/one.tif")
    assert packed.code == 0 and "850nm is nir, 0.86 µm." in packed.err and optics("made/one.tif") == told[1:]
    (tmp_path / "study.toml").write_text("")
    (tmp_path / "guides").mkdir()
    (tmp_path / "guides" / "own.toml").write_text(
        'name = "Own"\ncollections = ["own-l1"]\n\n[[band]]\nname = "red"\npixel_m = 8\nwavelength_um = 0.65\n'
    )
    assert program("stack", "red.tif", "nir.tif", "--out", "made/guided.tif").code == 0
    assert optics("made/guided.tif") == [("red", 0.65, 0.04), told[1]]


def item_beside(folder: Path, **assets: dict) -> None:
    told = {name: {"href": f"{name}.tif", "type": "image/tiff; application=geotiff", "roles": ["data"]} | more
            for name, more in assets.items()}  # fmt: skip
    item = {"type": "Feature", "id": "x", "collection": "own-l1", "links": [], "assets": told, "geometry": None,
            "properties": {"datetime": "2025-01-01T00:00:00Z"}}  # fmt: skip
    (folder / "item.json").write_text(json.dumps(item))


def tagged(path: Path, scale: float, offset: float) -> Path:
    """A file of another hand whose own tags tell scale and offset."""
    xml = (f'<GDALMetadata><Item name="SCALE" sample="0" role="scale">{scale}</Item>'
           f'<Item name="OFFSET" sample="0" role="offset">{offset}</Item></GDALMetadata>')  # fmt: skip
    tags = [*geo_tags(grid(64, 64)), (42112, "s", len(xml) + 1, xml, True)]
    return foreign_tiff(path, noise((1, 64, 64)), grid(64, 64), nodata="0", tags=tags)


def test_where_item_and_file_disagree_it_is_told_who_counts(tmp_path, program, monkeypatch):
    monkeypatch.chdir(tmp_path)
    tagged(tmp_path / "red.tif", 0.0002, -0.5), tagged(tmp_path / "nir.tif", 0.0002, -0.5)
    item_beside(
        tmp_path,
        red={"raster:scale": 0.0001, "raster:offset": -0.1, "bands": [{"name": "K4", "eo:common_name": "red"}]},
        nir={"bands": [{"name": "K8", "eo:common_name": "nir"}]},
    )
    done = program("stack", "red.tif", "nir.tif", "--out", "made.tif")
    assert done.code == 0 and "red: scale by the item, before the file's 0.0002 and -0.5." in done.err
    assert "nir: scale" not in done.err
    red, nir = open_raster(tmp_path / "made.tif").bands
    assert (red.scale, red.offset, nir.scale, nir.offset) == (0.0001, -0.1, 0.0002, -0.5), (
        "a silent item tells nothing"
    )
    rows = json.loads((tmp_path / "made.tif.stac.json").read_text())["assets"]["data"]["bands"]
    assert [row["zoompick:told_by"]["scale"].partition(",")[0] for row in rows] == ["item", "file"]
    assert [row["zoompick:own_name"] for row in rows] == ["K4", "K8"]
    assert [one["own"] for one in program("bands", "made.tif", "--json").json["bands"]] == ["K4", "K8"]
    assert program("verify", "made.tif", "--checks", "scenes").code == 0


def test_classes_keep_their_meanings_into_every_product(tmp_path, program, monkeypatch):
    monkeypatch.chdir(tmp_path)
    foreign_tiff(tmp_path / "cover.tif", noise((1, 64, 64), "uint8", 0, 3), grid(64, 64), nodata="9")
    table = [{"value": 0, "name": "bare"}, {"value": 1, "name": "reed | sedge"}, {"value": 2, "name": "water"}]
    item_beside(tmp_path, cover={"classification:classes": table})
    assert program("stack", "cover.tif", "--out", "laid.tif").code == 0
    assert program("clip", "laid.tif", "--box", "-12.2", "-38.8", "-12", "-38.4", "--out", "cut.tif").code == 0
    meant = {"0": "bare", "1": "reed / sedge", "2": "water"}
    assert program("bands", "cut.tif", "--json").json["bands"][0]["meanings"] == meant
    [row] = json.loads((tmp_path / "cut.tif.stac.json").read_text())["assets"]["data"]["bands"]
    assert {str(one["value"]): one["name"] for one in row["classification:classes"]} == meant


def test_a_renamed_file_is_known_by_the_record_of_its_download(tmp_path):
    """Two files of a scene that are called alike elsewhere have other names here."""
    item_beside(
        tmp_path, red={"href": "http://127.0.0.1:1/10m/band.tif"}, nir={"href": "http://127.0.0.1:1/20m/band.tif"}
    )
    for name, place in (("one.tif", "20m"), ("two.tif", "10m")):
        foreign_tiff(tmp_path / name, noise((1, 64, 64)), grid(64, 64), nodata="0")
        fetched.add(tmp_path / name, Fetched("any", f"http://127.0.0.1:1/{place}/band.tif", 1, "00", ""))
    assert [layer.name for layer in open_layers([tmp_path / "one.tif", tmp_path / "two.tif"])] == ["nir", "red"]
