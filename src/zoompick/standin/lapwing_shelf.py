"""Lapwing's shelf in the archive: its collection and its items."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from zoompick.raster.opening import open_raster
from zoompick.standin import lapwing, stac, weather
from zoompick.standin.covers import BANDS
from zoompick.standin.instrument import Instrument
from zoompick.standin.jp2file import write_jp2, zipped
from zoompick.standin.passes import SCALE, Scene, by_id, scenes
from zoompick.standin.store import Store

_GROUPS = {f"-{key}.tif": key for key in (*BANDS, "classes")} | {".zip": "package", "-quicklook.png": "look"}
_USES = ("proj", "raster", "eo", "view", "file", "processing", "grid", "classification")


class Lapwing(Instrument):
    """Two satellites, 8 to 48 m, square tiles in two UTM zones; some scenes have planted faults."""

    name = "lapwing-l2"
    groups = (*BANDS, "classes", "look", "package")

    def __init__(self) -> None:
        self._facts = stac.facts("lapwing")

    def collection(self, base: str) -> dict[str, Any]:
        """The STAC Collection."""
        summaries = {
            "platform": ["lapwing-a", "lapwing-b"],
            "gsd": [8, 16, 48],
            "eo:cloud_cover": {"minimum": 0, "maximum": 100},
        }
        assets = {key: self._about(key) for key in lapwing.PIXEL_M}
        return stac.collection(self._facts, base, scenes(), summaries, assets)

    def scenes(self) -> Sequence[Scene]:
        """All scenes."""
        return scenes()

    def by_id(self, scene_id: str) -> Scene | None:
        """The scene of this id, or None."""
        return by_id().get(scene_id)

    def group_of(self, name: str) -> str:
        """Each band is made apart, and so are class layer, quicklook and package."""
        return next((group for ending, group in _GROUPS.items() if name.endswith(ending)), "")

    def make(self, scene: Scene, group: str, folder: Path, cache: Path) -> None:
        """Write a file of a scene; nothing where it was not published."""
        makers = {"package": self._pack, "classes": lapwing.make_classes, "look": lapwing.make_quicklook}
        if group in makers:
            makers[group](scene, folder, cache)
        elif group in lapwing.keys(scene):
            lapwing.make_band(scene, group, folder, cache)

    def _pack(self, scene: Scene, folder: Path, cache: Path) -> None:
        """The bands as JP2 in folders by pixel size, zipped."""
        whole = replace(scene, fault=replace(scene.fault, cut=""))
        with tempfile.TemporaryDirectory() as work:
            lapwing.make(whole, Path(work), cache)
            files = {}
            for key in lapwing.keys(scene):
                raster = open_raster(Path(work, f"{scene.id}-{key}.tif"))
                path = Path(work, f"{scene.id}-{key}.jp2")
                write_jp2(raster.read(raster.grid.window)[0], raster.grid, path)
                files[f"{scene.id}/{lapwing.PIXEL_M[key]}m/{path.name}"] = path
            zipped(files, folder / f"{scene.id}.zip")

    def wrong_digest(self, scene: Scene) -> str:
        """The band file whose digest is published wrongly."""
        return scene.fault.wrong_digest and f"-{scene.fault.wrong_digest}.tif"

    def item(self, scene: Scene, base: str, store: Store) -> dict[str, Any]:
        """A scene as a STAC Item; sizes and checksums once its files have been made."""
        sun, centre = scene.seen.sun, scene.footprint.centroid
        properties = {
            "created": stac.moment(scene.created),
            "updated": stac.moment(scene.created),
            "platform": f"lapwing-{scene.seen.satellite}",
            "gsd": 8,
            "eo:cloud_cover": round(weather.cloud_percent(scene.seen, scene.tile), 1),
            "view:off_nadir": scene.seen.off_nadir_deg,
            "view:sun_azimuth": round(sun.azimuth_deg, 2),
            "view:sun_elevation": round(sun.elevation_deg, 2),
            "processing:version": scene.baseline,
            "proj:code": str(scene.tile.grid.crs),
            "proj:centroid": {"lat": round(centre.y, 5), "lon": round(centre.x, 5)},
            "grid:code": f"OST-{scene.tile.name.upper()}",
        }
        return stac.item(self._facts, scene, base, properties, self._assets(scene, base, store), _USES)

    def _assets(self, scene: Scene, base: str, store: Store) -> dict[str, Any]:
        known = store.published(self, scene)
        found = {}
        for key in lapwing.keys(scene):
            name = f"{scene.id}-{key}.tif"
            grid = lapwing.band_grid(scene, key)
            asset = self._about(key) | {
                "href": f"{base}/files/{scene.id}/{name}",
                "proj:shape": [grid.height, grid.width],
                "proj:transform": [grid.pixel_x, 0, grid.west, 0, -grid.pixel_y, grid.north],
            }
            if key != "classes":
                asset |= {"raster:scale": SCALE, "raster:offset": scene.offset}
            found[key] = asset | stac.published(known, name)
        found["package"] = {
            "href": f"{base}/files/{scene.id}/{scene.id}.zip",
            "type": "application/zip",
            "title": "All bands as JPEG 2000, in folders by pixel size",
            "roles": ["archive"],
        } | stac.published(known, f"{scene.id}.zip")
        name = f"{scene.id}-quicklook.png"
        tile = scene.tile.grid
        step = tile.pixel_x * lapwing.QUICKLOOK_FACTOR
        side = tile.width // lapwing.QUICKLOOK_FACTOR
        found["quicklook"] = {
            "proj:shape": [side, side],
            "proj:transform": [step, 0, tile.west, 0, -step, tile.north],
            "href": f"{base}/files/{scene.id}/{name}",
            "type": "image/png",
            "title": "Natural colour at 32 m",
            "roles": ["thumbnail"],
        } | stac.published(known, name)
        return found

    def _about(self, key: str) -> dict[str, Any]:
        """What all assets of one band share."""
        pixel = lapwing.PIXEL_M[key]
        about: dict[str, Any] = {
            "type": stac.COG, "roles": ["data"], "gsd": pixel, "raster:spatial_resolution": pixel, "nodata": 0,
        }  # fmt: skip
        if key == "classes":
            return about | stac.class_layer(lapwing.CLASSES)
        entry = next(entry for entry in self._facts["band"] if entry["name"] == key)
        return about | {
            "title": entry["title"],
            "roles": ["data", "reflectance"],
            "data_type": "uint16",
            "bands": [stac.band(entry)],
        }
