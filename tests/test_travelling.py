"""What products are made of travels: the same bytes from threads here and from processes elsewhere."""

from __future__ import annotations

import json
import multiprocessing
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace

import h5py
import pytest
import shapely

from helpers import foreign_tiff, grid, noise
from zoompick.geo.crs import LONLAT, Crs, transform
from zoompick.geo.shapes import project
from zoompick.products import recipes
from zoompick.products.composite import Composite
from zoompick.products.curves import curves_for
from zoompick.products.formula import Formula
from zoompick.products.fused import FusedStep
from zoompick.products.kinds.clip import ClipRules, ClipStep
from zoompick.products.kinds.index import IndexStep
from zoompick.products.kinds.stack import StackStep
from zoompick.products.local import LocalCurves
from zoompick.products.masking import Masked, MaskLayer
from zoompick.products.mosaic import Mosaic, SceneLayer
from zoompick.products.observations import observations
from zoompick.products.sources import Sources
from zoompick.products.stack import build_stack
from zoompick.products.tone import Tone
from zoompick.raster.grid import Grid
from zoompick.raster.opening import open_raster
from zoompick.raster.part import with_least_nodata
from zoompick.raster.ways import Ways
from zoompick.raster.write import WriteOptions, as_told, write_geotiff
from zoompick.scenes.deliveries import open_layers
from zoompick.standin.jp2file import write_jp2

PLACE = grid(300, 260)
MIDDLE = transform(PLACE.west + 1200, PLACE.north - 1040, PLACE.crs, Crs(32729))
OTHER = Grid(Crs(32729), 11.0, 11.0, float(MIDDLE[0]) - 1320, float(MIDDLE[1]) + 1210, 240, 220)


@pytest.fixture(scope="module")
def files(tmp_path_factory):
    """Bands of two scenes, a cube, a JPEG 2000."""
    folder = tmp_path_factory.mktemp("files")
    for number, scene in enumerate(("a", "b")):
        for place, band in enumerate(("green", "red", "nir")):
            pixels = noise((1, 260, 300), "uint16", 10 * number + place, 3000)
            pixels[:, 40 + 90 * number : 120 + 90 * number, 60:200] = 0
            (folder / scene).mkdir(exist_ok=True)
            foreign_tiff(folder / scene / f"{scene}-{band}.tif", pixels, PLACE, nodata="0")
    with h5py.File(folder / "cube.h5", "w") as file:
        data = file.create_dataset("light", data=noise((5, 90, 120), "int16", 3, 900), chunks=(5, 30, 40))
        data.attrs.update({"epsg": 32728, "west": 752000.0, "north": 5720000.0, "pixel_m": 8.0, "_FillValue": -1})
    write_jp2(noise((1, 600, 600), "uint16", 4, 900)[0], grid(600, 600), folder / "scene-red.jp2")
    return folder


def stacked(files, ways="bilinear", place=PLACE, names=("green", "red", "nir")):
    """The bands of one scene on a grid."""
    return build_stack(open_layers(sorted((files / "a").glob("*.tif"))), names, place, ways=Ways.parse(ways))


def composite(files):
    """A picture equalised in neighbourhoods."""
    source, tone = stacked(files), Tone.parse("local")
    local = LocalCurves.measured(source, (2, 1, 0))
    return Composite(source, (2, 1, 0), curves_for(source, (2, 1, 0), tone), tone, local)


def mosaic(files, layer=False):
    """Two scenes, in another zone."""
    paths = sorted(files.glob("[ab]/*.tif"))
    made = Mosaic(observations(paths, ("red", "nir"), OTHER, ways=Ways.parse("cubic,nir=average")), feather_m=60)
    return SceneLayer(made) if layer else made


def masked(files):
    """Bands without what a rule names."""
    (one,) = observations(sorted((files / "a").glob("*.tif")), (), PLACE, ())
    return Masked(MaskLayer(one, Formula.parse("red > nir"), grow_m=16), one.raster)


def fused(files):
    """An index of a clip of a stack, neither of which is a file."""
    paths = tuple(sorted((files / "a").glob("*.tif")))
    area = project_box()
    stack = StackStep(paths, files / "stack.tif", ("green", "red", "nir"), PLACE)
    clip = ClipStep((stack.output,), files / "clip.tif", area=area)
    last = IndexStep((clip.output,), files / "index.tif", recipe=recipes.index("ndvi"))
    return FusedStep.of(last, {stack.output: stack, clip.output: clip}).build(Sources())


def project_box():
    """A polygon in longitude/latitude inside the scenes."""
    box = PLACE.bounds
    flat = shapely.Polygon([(box.west + 100, box.south + 90), (box.east - 200, box.south + 300), (box.west + 700,
                            box.north - 60)])  # fmt: skip
    return project(flat, LONLAT, PLACE.crs)


RASTERS = {
    "cubic in another zone": lambda files: stacked(files, "cubic", OTHER),
    "mean and majority in another zone": lambda files: stacked(files, "average,nir=majority", OTHER),
    "neighbourhoods": composite,
    "two scenes": mosaic,
    "which scene": lambda files: mosaic(files, True),
    "masked": masked,
    "fused": fused,
    "layers of a cube": lambda files: build_stack(open_layers([files / "cube.h5"]), ("light_002", "light_005")),
    "jpeg 2000": lambda files: open_raster(files / "scene-red.jp2"),
}


@pytest.fixture(scope="module")
def pool():
    """Processes that share nothing with this one."""
    with ProcessPoolExecutor(2, multiprocessing.get_context("spawn")) as made:
        yield made


@pytest.mark.parametrize("name", RASTERS)
def test_the_bytes_do_not_depend_on_who_makes_them(files, pool, tmp_path, name):
    options = WriteOptions(side=64, is_rgb=name == "neighbourhoods")
    here = write_geotiff(RASTERS[name](files), tmp_path / "here.tif", replace(options, workers=2))
    alone = write_geotiff(RASTERS[name](files), tmp_path / "alone.tif", replace(options, workers=1))
    there = write_geotiff(RASTERS[name](files), tmp_path / "there.tif", options, executor=pool)
    assert here.multihash == alone.multihash == there.multihash
    raster = open_raster(tmp_path / "there.tif")
    assert raster.read(raster.grid.window).any() and here.statistics == there.statistics


@pytest.mark.parametrize("text", ["lerc=0.02", "lerc=0", "zstd,pixel", "deflate"])
def test_codings_travel_too(files, pool, tmp_path, text):
    options = as_told(WriteOptions(side=64), text)
    raster = fused(files)
    source = with_least_nodata(raster) if text.startswith("lerc") else raster
    here = write_geotiff(source, tmp_path / "here.tif", options)
    assert here.multihash == write_geotiff(source, tmp_path / "there.tif", options, executor=pool).multihash


def test_a_fused_step_tells_all_that_it_is_made_of(files):
    """Another option anywhere in the chain is another product; its inputs are the files at the bottom."""
    paths = tuple(sorted((files / "a").glob("*.tif")))
    prints = set()
    for touch, bands in ((False, ("red", "nir")), (True, ("red", "nir")), (False, ("nir", "red"))):
        stack = StackStep(paths, files / "stack.tif", bands, PLACE)
        clip = ClipStep((stack.output,), files / "clip.tif", ClipRules(touch), area=project_box())
        last = IndexStep((clip.output,), files / "index.tif", recipe=recipes.index("ndvi"))
        step = FusedStep.of(last, {stack.output: stack, clip.output: clip})
        assert step.inputs == paths == step.shown and step.output == files / "index.tif" and step.name == "index"
        origin = step.origin(lambda path: path.name)
        assert [row["step"] for row in json.loads(json.dumps(origin.options))["of"]] == ["stack", "clip"]
        prints.add(origin.fingerprint)
    assert len(prints) == 3
