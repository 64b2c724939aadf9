"""Every command on the archive without manners, held against the formula of its ground.

What fails today is listed with its reason in ``tests/data/rude.toml``; what is listed there and passes is a failure
too, so that the list shrinks with what is mended.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import tomllib
import urllib.request
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pyproj
import pytest
import scipy.interpolate
import scipy.ndimage

from conftest import PROGRAM
from zoompick.raster.opening import open_raster
from zoompick.raster.raster import valid_mask
from zoompick.standin.rude import truth
from zoompick.standin.rude.containers import grid_axes

pytestmark = pytest.mark.slow

EXPECTED: Mapping[str, Mapping[str, str]] = tomllib.loads((Path(__file__).parent / "data" / "rude.toml").read_text())
FEN = ("--area", "38.615S 12.055W", "--around", "2km")
Cloud = tuple[float, float]


@dataclass(frozen=True)
class Way:
    """A collection: the bands asked for, the area, a pixel size, clouds by item, and what must be found."""

    collection: str
    bands: tuple[str, ...]
    items: tuple[str, ...]
    area: tuple[str, ...] = FEN
    pixel_m: float = 30
    clouds: Mapping[str, Cloud] = field(default_factory=dict)
    value: Callable[..., object] = truth.reflectance
    tolerance: float = 0.01


WAYS = {
    "petrel": Way("petrel-mercator", ("green", "red", "nir"),
                  ("petrel-2025-12-03", "petrel-2025-12-11", "petrel-2025-12-19"),
                  clouds={"petrel-2025-12-03": (-12.04, -38.60), "petrel-2025-12-19": (-12.09, -38.63)}),
    "knot": Way("knot-monthly", ("green", "red", "nir"), ("knot-202511", "knot-202512"),
                clouds={"knot-202511": (-12.03, -38.62)}),
    "plover": Way("plover-feet", ("red", "nir", "swir16"), ("plover-2025-12-05", "plover-2025-12-13")),
    "dunnock": Way("dunnock-midnight", ("green", "red", "nir"), ("dunnock-0", "dunnock-1"), pixel_m=40),
    "skua-180": Way("skua-swaths", ("sst",), ("skua-antimeridian",), ("--area", "17S 179.95W", "--around", "60km"),
                    3000, value=lambda band, lon, lat, cloud: truth.warmth(lon, lat), tolerance=0.05),
    "skua-pole": Way("skua-swaths", ("sst",), ("skua-pole",), ("--area", "89.6N 40E", "--around", "60km"), 3000,
                     value=lambda band, lon, lat, cloud: truth.warmth(lon, lat), tolerance=0.05),
    "whimbrel": Way("whimbrel-weather", ("rain",), ("whimbrel-20251208",),
                    ("--area", "38.6S 12W", "--around", "60km"), 2500,
                    value=lambda band, lon, lat, cloud: between_cells(lon, lat), tolerance=0.1),
}  # fmt: skip


def between_cells(lon: np.ndarray, lat: np.ndarray) -> np.ndarray:
    """Rain between the centres of its cells, which are so wide that it bends between them."""
    lats, lons = grid_axes()
    rain = truth.rain(*np.meshgrid(lons - 360, lats))
    return scipy.interpolate.RegularGridInterpolator((lats, lons - 360), rain)((lat, lon))


@pytest.fixture(scope="module")
def rude(shared_cache) -> Iterator[str]:
    """Address of the rude archive."""
    process = subprocess.Popen([*PROGRAM, "standin", "serve", "--rude", "--port", "0"], stdout=subprocess.PIPE,
                               stderr=subprocess.DEVNULL, text=True,
                               env=os.environ | {"ZOOMPICK_CACHE": str(shared_cache)})  # fmt: skip
    try:
        yield process.stdout.readline().strip()
    finally:
        process.terminate()
        process.wait(10)


@dataclass
class Asking:
    """A collection to be asked for, and how: the program, a folder, the archive's address."""

    way: Way
    folder: Path
    url: str
    program: Callable

    def run(self, *words: object, cwd: Path | None = None) -> object:
        """A run that ends well."""
        done = self.program(*words, cwd=cwd or self.folder)
        assert done.code == 0, f"{words}: {done.code} {done.err}{done.out}"
        return done

    @property
    def study(self) -> Path:
        """A study of the collection, nothing searched yet."""
        root = self.folder / "study"
        if not root.exists():
            self.run("new", "study", *self.way.area, "--source", "rude", "--collection", self.way.collection,
                     "--dates", "2025-11/2025-12", "--cloud", "90")  # fmt: skip
            self.run("source", "add", "rude", self.url, "--here", cwd=root)
            self._write_brief(root / "study.toml")
        return root

    def _write_brief(self, path: Path) -> None:
        bands = json.dumps(list(self.way.bands))
        recipes = '["infrared"]' if "green" in self.way.bands else "[]"
        index = '["ndvi"]' if "red" in self.way.bands else "[]"
        text = re.sub(r"(?m)^bands = .*", f"bands = {bands}", path.read_text())
        text = re.sub(r"(?m)^pixel_m = .*", f"pixel_m = {self.way.pixel_m:g}", text)
        text = re.sub(r'(?m)^recipes = \["natural.*', f"recipes = {recipes}", text)
        text = re.sub(r'(?m)^recipes = \["ndvi.*', f"recipes = {index}", text)
        text = text.replace("[download]", 'unknown_cloud = "keep"\n\n[download]', 1)
        path.write_text(re.sub(r"(?m)^valid = .*", "valid = 90", text))

    def searched(self) -> list[str]:
        """Ids that a search in the study finds."""
        done = self.run("search", "--unknown-cloud", "keep", "--json", cwd=self.study)
        return sorted(row["id"] for row in done.json["features"])

    def files(self, item: str) -> list[Path]:
        """Files of an item with the item beside them, fetched by another hand than the program's."""
        home = self.folder / "files" / item
        address = f"{self.url}/collections/{self.way.collection}/items/{item}"
        told = json.loads(urllib.request.urlopen(address).read())
        home.mkdir(parents=True, exist_ok=True)
        (home / "item.json").write_text(json.dumps(told))
        found = []
        for asset in told["assets"].values():
            name = asset["href"].rpartition("/")[2]
            (home / name).write_bytes(urllib.request.urlopen(f"{self.url}/files/{item}/{name}").read())
            found.append(home / name)
        return found

    def stacked(self, item: str, name: str = "stack.tif") -> Path:
        """Its bands as one file on a metric grid."""
        rasters = [path for path in self.files(item) if path.stem not in ("scl", "qa")]
        self.run("stack", *rasters, *self.way.area, "--bands", ",".join(self.way.bands), "--crs", "auto", "--pixel",
                 f"{self.way.pixel_m:g}", "--out", name)  # fmt: skip
        return self.folder / name


def places(raster: object) -> tuple[np.ndarray, np.ndarray]:
    """Longitude and latitude of pixel centres, by another library."""
    grid = raster.grid
    xs = grid.west + (np.arange(grid.width) + 0.5) * grid.pixel_x
    ys = grid.north - (np.arange(grid.height) + 0.5) * grid.pixel_y
    system = pyproj.CRS.from_wkt(grid.crs.text) if grid.crs.text else grid.crs.epsg
    return pyproj.Transformer.from_crs(system, 4326, always_xy=True).transform(*np.meshgrid(xs, ys))


def is_true(path: Path, way: Way, cloud: Cloud | None, least: float = 0.95) -> None:
    """A product shows the ground: values, units and place, away from the edges of clouds."""
    raster = open_raster(path)
    stored = raster.read(raster.grid.window)
    lon, lat = places(raster)
    hard = np.zeros(lon.shape, bool)
    if cloud is not None:
        for where in truth.kinds(lon, lat, cloud).values():
            hard |= scipy.ndimage.binary_dilation(where, iterations=2) & scipy.ndimage.binary_dilation(
                ~where, iterations=2
            )
    assert [band.name for band in raster.bands] == list(way.bands)
    for band, plane in zip(raster.bands, stored, strict=True):
        valid = valid_mask(plane, raster.nodata)
        assert valid.mean() >= least, f"{band.name}: {valid.mean():.3f} is valid"
        wanted = way.value(band.name, lon, lat, cloud)
        # Beside a gap the neighbours that are there count alone.
        near = scipy.ndimage.binary_dilation(~valid, iterations=3)
        away = np.abs(plane * band.scale + band.offset - wanted)[valid & ~hard & ~near]
        assert np.quantile(away, 0.999) <= way.tolerance, f"{band.name}: off by {np.quantile(away, 0.999):.4f}"


def search(ask: Asking) -> None:
    wanted = {item for way in WAYS.values() if way.collection == ask.way.collection for item in way.items}
    found = ask.searched()
    assert set(ask.way.items) <= set(found) <= wanted


def scene(ask: Asking) -> None:
    ask.searched()
    told = ask.run("scene", "1", cwd=ask.study).out
    assert "2025" in told and not re.search(r"(?m)^tile\s+in ", told), told


def calendar(ask: Asking) -> None:
    ask.searched()
    assert "2025" in ask.run("calendar", cwd=ask.study).out


def look(ask: Asking) -> None:
    ask.searched()
    ask.run("look", "--map", cwd=ask.study)
    ask.run("look", "1", "--bands", ask.way.bands[0], "--out", "band.png", cwd=ask.study)
    assert (ask.study / "band.png").stat().st_size > 1000


def source(ask: Asking) -> None:
    shown = ask.run("source", "show", "rude", cwd=ask.study).out
    assert ask.way.collection in shown and "now to now" not in shown
    assert ask.program("source", "check", "rude", cwd=ask.study).code == 0


def pick(ask: Asking) -> None:
    ask.searched()
    told = ask.run("pick", "--cover", cwd=ask.study).err
    assert float(re.search(r"([\d.]+) % of the area", told)[1]) > 99.9, told


def download(ask: Asking) -> None:
    ask.searched()
    ask.run("pick", ask.way.items[0], cwd=ask.study)
    ask.run("download", cwd=ask.study)
    came = {
        path.read_bytes() for path in ask.study.glob(f"scenes/rude/*/{ask.way.items[0]}/*") if path.suffix != ".json"
    }
    assert came and came <= {path.read_bytes() for path in ask.files(ask.way.items[0])}


def window(ask: Asking) -> None:
    ask.searched()
    ask.run("pick", ask.way.items[0], cwd=ask.study)
    ask.run("download", "--window", "--bands", ask.way.bands[0], cwd=ask.study)
    [path] = [
        path for path in ask.study.glob("scenes/rude/*/*/*") if path.suffix != ".json" and "scl" not in path.name
    ]
    raster = open_raster(path)
    assert raster.grid.width < 250


def bands(ask: Asking) -> None:
    ask.files(ask.way.items[0])
    told = ask.run("bands", f"files/{ask.way.items[0]}").out
    assert all(re.search(rf"\b{name}\b", told) for name in ask.way.bands), told


def stack(ask: Asking) -> None:
    item = ask.way.items[0]
    is_true(
        ask.stacked(item),
        ask.way,
        ask.way.clouds.get(item),
        0.5 if ask.way.collection.startswith("dunnock") else 0.95,
    )


def mosaic(ask: Asking) -> None:
    files = [path for item in ask.way.items for path in ask.files(item)]
    ask.run("mosaic", *files, *ask.way.area, "--bands", ",".join(ask.way.bands), "--crs", "auto", "--pixel",
            f"{ask.way.pixel_m:g}", "--grow", "90m", "--order", "given", "--out", "mosaic.tif")  # fmt: skip
    is_true(ask.folder / "mosaic.tif", ask.way, None)


def blend(ask: Asking) -> None:
    files = [path for item in ask.way.items for path in ask.files(item)]
    ask.run("blend", *files, *ask.way.area, "--bands", ",".join(ask.way.bands), "--crs", "auto", "--pixel",
            f"{ask.way.pixel_m:g}", "--grow", "90m", "--out", "blend.tif")  # fmt: skip
    is_true(ask.folder / "blend.tif", ask.way, None)


def clip(ask: Asking) -> None:
    first = ask.files(ask.way.items[0])[0]
    made = ask.run("clip", first, "--area", ask.way.area[1], "--around", "1km", "--out", "clip.tif", "--json").json
    assert 70 < made[0]["valid_percent"] < 85, made


def composite(ask: Asking) -> None:
    ask.run(
        "composite",
        ask.stacked(ask.way.items[0]),
        "--bands",
        ",".join(reversed(ask.way.bands)),
        "--out",
        "colours.tif",
    )
    raster = open_raster(ask.folder / "colours.tif")
    assert raster.dtype == np.uint8 and np.ptp(raster.read(raster.grid.window)) > 150


def ndvi(lon: np.ndarray, lat: np.ndarray, cloud: Cloud | None) -> np.ndarray:
    red, nir = (truth.reflectance(name, lon, lat, cloud) for name in ("red", "nir"))
    return (nir - red) / (nir + red)


def index(ask: Asking) -> None:
    item = ask.way.items[0]
    ask.run("index", ask.stacked(item), "--recipe", "ndvi", "--out", "ndvi.tif")
    raster = open_raster(ask.folder / "ndvi.tif")
    values = raster.read(raster.grid.window)[0]
    away = np.abs(values - ndvi(*places(raster), ask.way.clouds.get(item)))
    assert np.quantile(away[valid_mask(values, raster.nodata)], 0.98) < 0.03


def mask(ask: Asking) -> None:
    item = next(iter(ask.way.clouds), ask.way.items[0])
    ask.run("mask", *ask.files(item), *ask.way.area, "--where", "cloud or shadow", "--out", "mask.tif")
    raster = open_raster(ask.folder / "mask.tif")
    found = raster.read(raster.grid.window)[0]
    kinds = truth.kinds(*places(raster), ask.way.clouds.get(item))
    hidden = kinds["thick"] | kinds["thin"] | kinds["shadow"]
    assert ((found == 1) == hidden)[found != raster.nodata].mean() > 0.98


def picture(ask: Asking) -> None:
    product = ask.stacked(ask.way.items[0])
    if "red" in ask.way.bands:
        ask.run("index", product, "--recipe", "ndvi", "--out", "ndvi.tif")
        product = ask.folder / "ndvi.tif"
    ask.run("picture", product, "--out", "page.png")
    assert (ask.folder / "page.png").stat().st_size > 10_000


def compare(ask: Asking) -> None:
    items = ask.way.items[-2:]
    stacks = [ask.stacked(item, f"{number}.tif") for number, item in enumerate(items)]
    ask.run("compare", *stacks, "--index", "ndvi", "--change-min", "0.3", *ask.way.area, "--out", "both")
    raster = open_raster(ask.folder / "both-change.tif")
    codes = raster.read(raster.grid.window)[0]
    before, after = (ndvi(*places(raster), ask.way.clouds.get(item)) for item in items)
    wanted = np.where(after - before <= -0.3, 1, np.where(after - before >= 0.3, 3, 2))
    assert (codes == wanted)[codes != raster.nodata].mean() > 0.97


def verify(ask: Asking) -> None:
    if ask.way.collection == "dunnock-midnight":
        mosaic(ask)
        product = ask.folder / "mosaic.tif"
    else:
        product = ask.stacked(ask.way.items[-1])
    told = ask.run("verify", product, *ask.way.area, "--valid", "90", "--json").json
    bad = [(row["check"], row["note"]) for row in told["findings"] if row["outcome"] in ("warn", "fail")]
    assert not bad, bad
    assert sum(row["outcome"] == "pass" for row in told["findings"]) >= 4
    # What is small or smooth tells little: that is said, and is no fault.
    untold = {row["key"]: row["note"] for row in told["findings"] if row["outcome"] == "not judged"}
    assert set(untold) <= {"bands-shift", "dates-shift", "lines", "spectra"}, untold


def run(ask: Asking) -> None:
    done = ask.run("run", "--json", cwd=ask.study)
    days = {Path(row["path"]).parent.name for row in done.json["products"]}
    assert done.json["products"] and not [row for row in done.json["findings"] if row["outcome"] == "fail"]
    assert len(days) == 1, days
    ask.run("status", cwd=ask.study)
    ask.run("report", cwd=ask.study)
    ask.run("lock", cwd=ask.study)
    ask.run("run", "--locked", cwd=ask.study)


RASTERS = (
    search, scene, calendar, look, source, pick, download, window, bands, stack, mosaic, blend, clip, composite,
    index, mask, picture, compare, verify, run,
)  # fmt: skip
CONTAINERS = (search, scene, pick, download, bands, stack, picture, verify, run)


def commands(way: Way) -> Iterator[Callable[[Asking], None]]:
    """Commands that make sense for a collection: none looks for cloud where nothing tells it."""
    for command in RASTERS if "red" in way.bands else CONTAINERS:
        if command is not mask or way.clouds:
            yield command


def cases() -> list[object]:
    """Each collection with each of its commands."""
    found = []
    for name, way in WAYS.items():
        for command in commands(way):
            reason = EXPECTED.get(name, {}).get(command.__name__, "")
            marks = [pytest.mark.xfail(strict=True, raises=AssertionError, reason=reason)] if reason else []
            found.append(pytest.param(way, command, id=f"{name} {command.__name__}", marks=marks))
    return found


def test_what_is_expected_to_fail_is_tried():
    tried = {(name, one.__name__) for name, way in WAYS.items() for one in commands(way)}
    assert {(name, command) for name, rows in EXPECTED.items() for command in rows} <= tried


@pytest.mark.parametrize(("way", "command"), cases())
def test_commands_on_the_rude_archive(way, command, rude, program, tmp_path):
    command(Asking(way, tmp_path, rude, program))
