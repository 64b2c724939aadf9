"""Each fault is planted in a clean product: the check that must speak speaks, those that have no reason to do not.

Where a fault touches records alone, only the checks of records are asked: all others saw the clean study.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import numpy as np
import pytest
import tifffile
from scipy import ndimage

from conftest import copied
from helpers import Memory
from zoompick.area.read import read_area
from zoompick.raster.opening import open_raster
from zoompick.raster.raster import Band
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.study.folder import Study
from zoompick.study.verify import CheckOptions, judge_study, verify_files

DAY, BEFORE = "2025-12-15", "2024-12-20"
STACK, CLIP = f"products/{DAY}/stack.tif", f"products/{DAY}/clip.tif"


@pytest.fixture
def study(clean_study, tmp_path) -> Path:
    """A copy whose files may be replaced, not written into."""
    return copied(clean_study, tmp_path / "s")


def edited(path: Path, change: Callable, **options) -> None:
    """Pixels of all bands (a copy, their names) to what ``change`` makes of them; the rest of the file as it was."""
    raster = open_raster(path)
    bands, nodata, grid = raster.bands, raster.nodata, raster.grid
    made = change(raster.read(grid.window).copy(), [band.name for band in bands])
    if isinstance(made, tuple):
        made, bands, nodata, grid = (*made, *(bands, nodata, grid)[len(made) - 1 :])
    path.unlink()
    write_geotiff(Memory(made, grid, nodata, bands), path, WriteOptions(**options))


def band(change: Callable, name: str) -> Callable:
    """Change one band."""

    def whole(pixels, names):
        place = names.index(name)
        pixels[place] = change(pixels[place].astype(float)).round().clip(1, 65535)
        return pixels

    return whole


def swapped(one: str, other: str) -> Callable:
    def change(pixels, names):
        order = [{one: other, other: one}.get(name, name) for name in names]
        return pixels[[names.index(name) for name in order]]

    return change


def laid(one: str, other: str, factor: float = 1.0, more: float = 0.0) -> Callable:
    def change(pixels, names):
        pixels[names.index(other)] = (pixels[names.index(one)] * factor + more).round()
        return pixels

    return change


def at(rows: slice, cols: slice, value: float, names_of: tuple[str, ...] = ()) -> Callable:
    def change(pixels, names):
        for place, name in enumerate(names):
            if not names_of or name in names_of:
                pixels[place, rows, cols] = value
        return pixels

    return change


def moved(cols: float, rows: float) -> Callable:
    return lambda plane: ndimage.shift(plane, (rows, cols), order=3, mode="nearest")


def far_away(path: Path) -> None:
    raster = open_raster(path)
    grid = raster.grid
    there = type(grid)(grid.crs, grid.pixel_x, grid.pixel_y, grid.west + 30_000, grid.north, grid.width, grid.height)
    pixels = raster.read(grid.window).copy()
    bands, nodata = raster.bands, raster.nodata
    path.unlink()
    write_geotiff(Memory(pixels, there, nodata, bands), path)


def damaged(path: Path) -> None:
    data = bytearray(path.read_bytes())
    data[len(data) // 2 : len(data) // 2 + 400] = bytes(400)
    path.unlink()
    path.write_bytes(data)


def in_strips(path: Path) -> None:
    with tifffile.TiffFile(path) as tiff:
        page = tiff.pages[0]
        tags = [(tag.code, tag.dtype, tag.count, tag.value, True) for tag in page.tags.values()
                if tag.code in (33550, 33922, 34735, 42112, 42113)]  # fmt: skip
        pixels = tiff.asarray()
    path.unlink()
    tifffile.imwrite(path, pixels, planarconfig="separate", photometric="minisblack", extratags=tags, metadata=None)


def told(path: Path, change: Callable) -> None:
    """Another record: ``change`` gets the JSON of a file."""
    item = json.loads(path.read_text())
    change(item)
    path.unlink()
    path.write_text(json.dumps(item))


def item_told(key: str, value: object) -> Callable:
    def change(study: Path) -> None:
        first = next(iter(sorted(study.glob("scenes/*/*/*20251215*/item.json"))))
        told(first, lambda item: item["properties"].__setitem__(key, value))

    return change


def brighter(study: Path) -> None:
    layer = open_raster(study / "mosaic-scenes.tif")
    numbers = layer.read(layer.grid.window)[0]

    def change(pixels, names):
        return np.where(numbers == numbers.max(), (pixels * 1.15).round(), pixels).astype(pixels.dtype)

    edited(study / "mosaic.tif", change)


def unmasked(study: Path) -> None:
    stack = open_raster(study / f"products/{BEFORE}/stack.tif")
    edited(study / f"products/{BEFORE}/ground.tif", lambda pixels, names: stack.read(stack.grid.window))


def licensed(licence: str, credit: str = ""):
    def plant(study: Path) -> None:
        path = study / "collections.json"
        told = json.loads(path.read_text())
        path.write_text(json.dumps({key: row | {"licence": licence, "credit": credit} for key, row in told.items()}))

    return plant


def cut_journal(study: Path) -> None:
    path = study / "journal.jsonl"
    lines = [line for line in path.read_text().splitlines() if STACK not in line]
    path.unlink()
    path.write_text("\n".join(lines) + "\n")


def scene_file_changed(study: Path) -> None:
    path = next(iter(sorted(study.glob("scenes/*/*/*20251215*/*-red.tif"))))
    edited(path, band(lambda plane: plane + 40, "red"))


def in_file(name: str, change: Callable, **options) -> Callable:
    return lambda study: edited(study / name, change, **options)


def in_stack(change: Callable) -> Callable:
    return in_file(STACK, change)


def all_moved(pixels, names):
    return np.stack([moved(1.5, 0)(plane.astype(float)) for plane in pixels]).round().astype(pixels.dtype)


def paler(pixels, names):
    return np.where(pixels == 0, 0, 60 + pixels // 2).astype("uint8")


def half_moved(shift: float, name: str = "red") -> Callable:
    """The left half of a band aside by so much."""

    def change(pixels, names):
        place, middle = names.index(name), pixels.shape[2] // 2
        aside = moved(shift, 0)(pixels[place].astype(float)).round()
        pixels[place, :, :middle] = aside[:, :middle]
        return pixels

    return change


def figures_lie(study: Path) -> None:
    told(
        study / f"{STACK}.stac.json", lambda item: item["assets"]["data"]["bands"][1]["statistics"].update(maximum=9)
    )


def dates_lie(study: Path) -> None:
    def change(item):
        for row in item["properties"]["zoompick:scenes"]:
            row["datetime"] = "2025-11-15T11:17:24Z"

    told(study / f"{STACK}.stac.json", change)


def striped(pixels, names):
    place = names.index("green")
    pixels[place, :, 60] = (pixels[place, :, 60] * 1.25).round()
    return pixels


def stripped(pixels, names):
    place = names.index("green")
    pixels[place, 60:63] = (pixels[place, 60:63] * 1.25).round()
    return pixels


def longer(path: Path) -> None:
    data = path.read_bytes()
    path.unlink()
    path.write_bytes(data + b"x")


def first_of(study: Path, pattern: str) -> Path:
    return sorted(study.glob(f"scenes/*/*/*20251215*/{pattern}"))[0]


def reordered(study: Path) -> None:
    bands = tuple(reversed(open_raster(study / STACK).bands))
    edited(study / STACK, lambda pixels, names: (pixels, bands))


def zeros_untold(study: Path) -> None:
    bands = open_raster(study / STACK).bands
    edited(study / STACK, lambda pixels, names: (at(slice(0, 60), slice(0, 60), 0)(pixels, names), bands, None))


def scaled(path: Path, scale: float) -> None:
    bands = tuple(Band(one.name, scale, one.offset) for one in open_raster(path).bands)
    edited(path, lambda pixels, names: (pixels, bands))


def record_reversed(study: Path) -> None:
    told(study / f"{STACK}.stac.json", lambda item: item["assets"]["data"]["bands"].reverse())


def brief_changed(study: Path) -> None:
    text = (study / "study.toml").read_text()
    (study / "study.toml").unlink()
    (study / "study.toml").write_text(text.replace("touch = false", "touch = true"))


def clouded(study: Path) -> None:
    for path in study.glob("scenes/*/*/*20251215*/*-classes.tif"):
        classes = json.loads((path.parent / "item.json").read_text())["assets"]["classes"]["classification:classes"]
        code = next(row["value"] for row in classes if "cloud" in row["name"] and "shadow" not in row["name"])
        edited(path, lambda pixels, names, code=code: np.where(pixels == 0, 0, code).astype(pixels.dtype))


def upside_down(study: Path) -> None:
    """What is called cloud in a scene is so elsewhere."""
    for path in study.glob("scenes/*/*/*20241220*/*-classes.tif"):
        edited(path, lambda pixels, names: np.where(pixels == 0, 0, pixels[:, ::-1]))


class Fault(NamedTuple):
    """A fault, where it is planted, what is judged (the study without files), which checks must and may speak."""

    name: str
    plant: Callable[[Path], object]
    files: tuple[str, ...]
    must: str = ""
    may: str = ""
    in_area: bool = False
    reference: str = ""
    only: tuple[str, ...] = ()


NDVI, NATURAL, GROUND = f"products/{DAY}/ndvi.tif", f"products/{DAY}/natural.tif", f"products/{BEFORE}/ground.tif"
ALL = slice(None)
RECORDS = ("journal", "licence", "brief", "record", "checksum", "sources", "here")
FAULTS = [
    Fault("none", lambda s: None, ()),
    Fault("none in files", lambda s: None, (STACK, CLIP, NDVI, "mosaic.tif")),
    Fault("a block is damaged", lambda s: damaged(s / STACK), (STACK,), "blocks checksum"),
    Fault("in strips", lambda s: in_strips(s / STACK), (STACK,), "layout checksum"),
    Fault("a byte more", lambda s: longer(s / STACK), (STACK,), "checksum"),
    Fault("a file is gone", lambda s: (s / STACK).unlink(), (STACK,), "here"),
    Fault("30 km away", lambda s: far_away(s / STACK), (), "footprint grid valid checksum",
          "dates-shift holes brief sources clip mask shades index"),
    Fault("red and nir swapped", in_stack(swapped("red", "nir")), (STACK,), "spectra scenes checksum"),
    Fault("blue and red swapped", in_stack(swapped("red", "blue")), (STACK,), "scenes checksum", "spectra"),
    Fault("bands in another order", reordered, (), "order record checksum",
          "spectra scenes dates-shift brief sources"),
    Fault("a band twice", in_stack(laid("red", "nir")), (STACK,), "distinct scenes checksum", "spectra"),
    Fault("a band scaled", in_stack(laid("green", "red", 1.1, 5)), (STACK,), "distinct scenes checksum", "spectra"),
    Fault("a band constant", in_stack(band(lambda b: b * 0 + 2000, "blue")), (STACK,), "vary scenes checksum"),
    Fault("a band empty", in_stack(at(ALL, ALL, 0, ("blue",))), (STACK,), "distinct checksum", "scenes vary"),
    Fault("1.5 px between bands", in_stack(band(moved(1.5, 0), "nir")), (STACK,), "bands-shift scenes checksum"),
    Fault("1.5 px between dates", in_stack(all_moved), (), "dates-shift scenes checksum", "brief sources clip"),
    Fault("a hole", in_stack(at(slice(100, 240), slice(100, 260), 0)), (STACK,), "valid holes checksum",
          "bands-shift", True),
    Fault("below zero", in_stack(band(lambda b: b - 1200, "blue")), (STACK,), "negative scenes checksum", "leaks"),
    Fault("blinded", in_stack(at(slice(50, 150), slice(50, 250), 65535, ("red",))), (STACK,),
          "saturated leaks range checksum", "spectra scenes patches"),
    Fault("zeros that no tag tells", zeros_untold, (STACK,), "leaks checksum", "negative scenes"),
    Fault("another baseline's offset", in_stack(lambda p, n: p - 500), (STACK,), "scenes checksum", "negative"),
    Fault("another scale", lambda s: scaled(s / STACK, 0.01), (STACK,), "range record scenes checksum"),
    Fault("a dead row", in_stack(at(slice(77, 78), ALL, 1234, ("green",))), (STACK,), "lines checksum", "scenes"),
    Fault("a lost column", in_stack(at(ALL, slice(99, 100), 0, ("green",))), (STACK,), "lines checksum"),
    Fault("a stripe", in_stack(striped), (STACK,), "lines checksum", "scenes"),
    Fault("three dead rows", in_stack(at(slice(77, 80), ALL, 1234, ("green",))), (STACK,), "lines checksum",
          "scenes"),
    Fault("a lost strip", in_stack(at(ALL, slice(99, 103), 0, ("green",))), (STACK,), "lines checksum"),
    Fault("a strip off", in_stack(stripped), (STACK,), "lines checksum", "scenes"),
    Fault("half a band a pixel aside", in_stack(half_moved(1.0)), (STACK,), "bands-shift scenes checksum"),
    Fault("half of near infrared 1.5 px aside", in_stack(half_moved(1.5, "nir")), (STACK,),
          "bands-shift scenes checksum"),
    Fault("half a band half a pixel aside", in_stack(half_moved(0.5)), (STACK,), "bands-shift scenes checksum"),
    Fault("half a band a quarter of a pixel aside", in_stack(half_moved(0.25)), (STACK,),
          "bands-shift scenes checksum"),
    Fault("a blank block", in_stack(at(slice(128, 192), slice(192, 256), 777, ("green",))), (STACK,),
          "patches checksum", "scenes"),
    Fault("statistics that lie", figures_lie, (STACK,), "figures"),
    Fault("dates that lie", dates_lie, (STACK,), "figures"),
    Fault("a seam", brighter, ("mosaic.tif",), "seams mosaic checksum"),
    Fault("dates apart", item_told("datetime", "2025-09-01T11:17:24Z"), (STACK,), "dates", "figures"),
    Fault("a low sun", item_told("view:sun_elevation", 8.0), (STACK,), "sun"),
    Fault("another look", item_told("view:off_nadir", 31.0), (STACK,), "view"),
    Fault("a source changed", scene_file_changed, (STACK,), "sources", "scenes"),
    Fault("another record", record_reversed, (STACK,), "record", "figures"),
    Fault("another index", in_file(NDVI, lambda p, n: p * 1.02), (NDVI,), "index checksum"),
    Fault("colours swapped", in_file(NATURAL, lambda p, n: p[[2, 1, 0]], is_rgb=True), (NATURAL,), "shades checksum"),
    Fault("another stretch", in_file(NATURAL, paler, is_rgb=True), (NATURAL,), "shades checksum"),
    Fault("cloud left in", unmasked, (GROUND,), "mask checksum"),
    Fault("a journal cut", cut_journal, (), "journal", only=RECORDS),
    Fault("a licence that forbids", licensed("CC-BY-ND-4.0", "Ostrell Survey"), (), "licence", only=RECORDS),
    Fault("a licence that nobody knows", licensed("proprietary"), (), "licence", only=RECORDS),
    Fault("a credit that nobody tells", licensed("CC-BY-4.0"), (), "licence", only=RECORDS),
    Fault("a brief changed", brief_changed, (), "brief", only=RECORDS),
    Fault("a reference off", lambda s: scaled(s / CLIP, 0.00012), (STACK,), "reference", reference=CLIP),
    Fault("a scene's file is gone", lambda s: first_of(s, "*-nir.tif").unlink(), (), "here"),
    Fault("class layers upside down", upside_down, (), "classes checksum", "mask"),
    Fault("clouds painted", clouded, (), "cloud checksum"),
]  # fmt: skip


@pytest.mark.parametrize("fault", FAULTS, ids=[fault.name for fault in FAULTS])
def test_a_planted_fault_is_told_by_its_check_and_by_no_other(study, fault):
    fault.plant(study)
    wish = CheckOptions(only=fault.only, reference=study / fault.reference if fault.reference else None)
    area = read_area(study / "area.geojson").polygon if fault.in_area else None
    if fault.files:
        findings = verify_files([study / name for name in fault.files], area=area, options=wish)
    else:
        findings = judge_study(Study(study), options=wish)
    found = [finding.to_json() for finding in findings]
    bad = [row for row in found if row["outcome"] in ("warn", "fail")]
    spoke = {row["key"] for row in bad}
    shown = [(row["key"], row["subject"], row["figure"], row["note"]) for row in bad]
    must, may = set(fault.must.split()), set(fault.may.split())
    assert must <= spoke, (must - spoke, shown)
    assert spoke <= must | may, (spoke - must - may, [one for one in shown if one[0] in spoke - must - may])
    for row in found:
        assert row["key"] and row["figure"] and row["limit"] and (row["seen"] or row["outcome"] == "not judged")
        assert bool(row["note"]) is (row["outcome"] != "pass"), row
    if fault.name == "a seam":
        [row] = [row for row in found if row["key"] == "seams"]
        numbers = tifffile.imread(study / "mosaic-scenes.tif")
        col, row = row["data"]["worst"]["at"]
        assert numbers.max() in numbers[row - 40 : row + 40, col - 40 : col + 40]
    if fault.name.startswith("1.5 px"):
        [row] = [row for row in found if row["key"].endswith("-shift") and row["outcome"] == "fail"]
        assert row["value"] == pytest.approx(1.5, abs=0.1)
    if fault.name == "clouds painted":
        roots = [row for row in bad if "from it." in row["note"]]
        following = [row for row in found if "which is damaged, changed or gone" in row["note"]]
        assert roots and {row["key"] for row in roots} == {"checksum"}
        assert following and all(row["outcome"] == "not judged" for row in following)
        assert not {row["subject"] for row in roots} & {row["subject"] for row in following}
        counts = [int(re.search(r"(\d+) findings? of (?:an)?others?", row["note"])[1]) for row in roots]
        assert max(counts) <= len(following) <= sum(counts)
    if fault.name == "a block is damaged":
        unseen = {row["key"] for row in found if "does not decode" in row["note"] and row["outcome"] == "not judged"}
        assert {"scenes", "bands-shift"} <= unseen and not unseen & {"layout", "checksum", "grid"}
