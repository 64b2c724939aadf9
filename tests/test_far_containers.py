"""Containers that lie elsewhere, and in far archives: the header is fetched, and the chunks that are needed."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path

import h5py
import numpy as np
import pytest

from helpers import noise
from strangers import stranger
from zoompick.discovery.clouds import look_inside
from zoompick.discovery.look import preview
from zoompick.errors import FormatError, SourceError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import LONLAT, Crs
from zoompick.geo.shapes import box_polygon, project
from zoompick.net.client import Client
from zoompick.net.ranges import Cost
from zoompick.raster.grid import Window
from zoompick.scenes.deliveries import open_layers
from zoompick.scenes.opening import open_raster
from zoompick.scenes.scene import Scene

SIDE, CHUNK = 1024, 128
ZONE = Crs(32728)


def container() -> tuple[bytes, dict[str, np.ndarray]]:
    """Four variables of 2 MB each, which do not press, and a class layer."""
    held, values = io.BytesIO(), {}
    with h5py.File(held, "w") as file:
        for name, line in (("y", 5_719_996 - 8.0 * np.arange(SIDE)), ("x", 752_004 + 8.0 * np.arange(SIDE))):
            file.create_dataset(name, data=line).make_scale(name)
        file.create_dataset("crs", data=0).attrs["crs_wkt"] = ZONE.wkt
        for name in ("K1", "K2", "K3", "K4", "flags"):
            data = noise((SIDE, SIDE), "uint16" if name != "flags" else "uint8", 1, 60_000 if name != "flags" else 3)
            values[name] = data
            one = file.create_dataset(name, data=data, chunks=(CHUNK, CHUNK))
            one.attrs["grid_mapping"] = "crs"
            for side, scale in enumerate(("y", "x")):
                one.dims[side].attach_scale(file[scale])
    return held.getvalue(), values


def serving(here, files):
    """Ranges of some files; bytes that were sent are counted."""
    sent = []

    def route(seen):
        data = files.get(seen.path.lstrip("/").partition("#")[0])
        if data is None:
            return NotImplemented
        asked = seen.headers.get("Range")
        if not asked:
            sent.append(len(data))
            return 200, {"ETag": '"1"'}, data
        first, _, last = asked.removeprefix("bytes=").partition("-")
        part = data[int(first) : int(last) + 1]
        sent.append(len(part))
        return 206, {"ETag": '"1"', "Content-Range": f"bytes {first}-{int(first) + len(part) - 1}/{len(data)}"}, part

    here.route = route
    return sent


def item(url: str) -> Scene:
    kind = {"type": "application/x-hdf5", "roles": ["data"], "href": f"{url}/a.h5"}
    assets = {
        "optics": kind | {"bands": [{"name": "K3", "eo:common_name": "red"}]},
        "flags": kind | {"bands": [{"name": "flags"}], "classification:classes": [
            {"value": 1, "name": "clear"}, {"value": 2, "name": "cloud"}]},
    }  # fmt: skip
    ring = [[-12.2, -38.8], [-11.9, -38.8], [-11.9, -38.5], [-12.2, -38.5], [-12.2, -38.8]]
    told = {"type": "Feature", "id": "a", "collection": "c", "assets": assets, "links": [],
            "geometry": {"type": "Polygon", "coordinates": [ring]},
            "properties": {"datetime": "2025-12-08T10:00:00Z"}}  # fmt: skip
    return Scene.from_item(told, "s")


AREA = project(box_polygon(Bounds(753_000, 5_717_000, 754_000, 5_718_000)), LONLAT, ZONE)


@pytest.mark.parametrize("place", ["a.h5", "a.zip#deep/a.h5"])
def test_a_window_of_a_far_container_costs_its_chunks(place):
    data, values = container()
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr("readme.txt", b"x" * 3000)
        archive.writestr("deep/a.h5", data)
    with stranger() as here:
        sent = serving(here, {"a.h5": data, "a.zip": packed.getvalue()})
        raster = open_raster(f"{here.url}/{place}#K2" if place == "a.h5" else f"{here.url}/{place}")
        band = [one.name for one in raster.bands].index("K2")
        window = Window(300, 400, 100, 90)
        np.testing.assert_array_equal(raster.read(window, [band])[0], values["K2"][400:490, 300:400])
        chunks = 4 * CHUNK * CHUNK * 2
        assert sum(sent) < chunks + 400_000 < len(data) / 10, sum(sent)
        assert len(sent) < 40


def test_previews_and_clouds_inside_an_area_read_far_containers_in_part():
    data, values = container()
    with stranger() as here:
        sent = serving(here, {"a.h5": data})
        cost = Cost()
        picture = preview(item(here.url), ["red"], AREA, Client(), cost)
        assert picture.pixels.shape[2] == 4 and sum(sent) < len(data) / 5
        sent.clear()
        looked = look_inside([item(here.url)], AREA, Client())
        (found,) = looked.inside.values()
        rows, cols = slice(250, 375), slice(125, 250)
        true = 100 * (values["flags"][rows, cols] == 2).mean()
        assert found.cloud == pytest.approx(true, abs=1) and found.seen == pytest.approx(100, abs=2)
        assert sum(sent) < len(data) / 5
        with pytest.raises(SourceError, match="without nir"):
            preview(item(here.url), ["nir"], AREA, Client(), cost)


def test_a_far_part_of_a_container_is_known_by_its_address():
    data, values = container()
    with stranger() as here:
        serving(here, {"a.h5": data})
        (layer,) = open_layers([f"{here.url}/a.h5#K4"])
        np.testing.assert_array_equal(layer.raster.read(Window(10, 20, 30, 40))[0], values["K4"][20:60, 10:40])


@pytest.mark.parametrize("query", ["", "?X-key=2"])
def test_a_world_file_beside_a_far_picture_places_it(query):
    made = Path(__file__).parent / "data" / "jp2" / "tiles-tlm.j2k"
    files = {
        "a.b/t.j2k": made.read_bytes(),
        "a.b/t.j2w": b"10 0 0 -10 300005 5700005",
        "a.b/t.prj": ZONE.prj.encode(),
    }
    with stranger() as here:
        serving(here, {f"{name}{query}": data for name, data in files.items()})
        grid = open_raster(f"{here.url}/a.b/t.j2k{query}").grid
        assert (grid.west, grid.north, grid.pixel_x, grid.crs) == (300_000, 5_700_010, 10, ZONE)
        serving(here, {f"a.b/t.j2k{query}": made.read_bytes()})
        with pytest.raises(FormatError, match="without a georeference"):
            open_raster(f"{here.url}/a.b/t.j2k{query}")
