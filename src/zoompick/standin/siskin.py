"""Siskin: 25 m, frames along slanting tracks; cloud over the whole frame and over its land differ."""

from __future__ import annotations

import random
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np

from zoompick.area import sheets
from zoompick.standin import ground, lapwing, package, stac
from zoompick.standin.container import Variable, write_container
from zoompick.standin.ground import Shot
from zoompick.standin.passes import Pass
from zoompick.standin.simple import Simple, sight
from zoompick.standin.store import Published, Store

_USES = ("proj", "raster", "eo", "view", "file", "processing", "grid", "classification", "sat")
_FIRST_SUMMER, _SUMMERS, _PASSES_A_SUMMER, _DAYS_BETWEEN = 2018, 8, 7, 16
_KINDS = ("seafog", "cumulus", "bank")
_CLOUD = (64, 8, 37, 92, 18, 71, 3, 48, 81, 26, 58, 12)
_LEAST_LAND_PERCENT = 5.0
_SCALE, _OFFSET = 0.00005, -0.2


def _shots() -> list[Shot]:
    """All frames with land under them, over eight summers."""
    scheme = next(entry for entry in sheets.schemes() if entry.name == "siskin frame")
    frames = [sheet for sheet, _ in scheme.under(ground.outline())]
    frames = [sheet for sheet in frames if ground.land_percent(sheet.polygon) > _LEAST_LAND_PERCENT]
    rng = random.Random(2518)
    found: list[Shot] = []
    for track in sorted({sheet.name[:4] for sheet in frames}):
        for summer in range(_FIRST_SUMMER, _FIRST_SUMMER + _SUMMERS):
            start = datetime(summer, 11, 2, 11, 41, tzinfo=UTC) + timedelta(days=7 * int(track[1:]) % 16)
            for step in range(_PASSES_A_SUMMER):
                number = 2000 + len(found)
                seen = Pass(
                    number=number,
                    satellite="",
                    when=start + timedelta(days=_DAYS_BETWEEN * step, seconds=rng.randrange(90)),
                    centre_km=0.0,
                    cloud_percent=_CLOUD[(number * 5 + summer) % len(_CLOUD)],
                    cloud_kind=_KINDS[(step + summer) % len(_KINDS)],
                    haze=rng.choice((0.0, 0.02, 0.05)),
                    off_nadir_deg=0.0,
                )
                for sheet in frames:
                    if sheet.name.startswith(track):
                        name = f"siskin-{sheet.name}-{seen.when:%Y%m%d}"
                        found.append(Shot(name, sheet.polygon, seen, facts={"frame": sheet.name}))
    return sorted(found, key=lambda shot: (shot.when, shot.id))


class Siskin(Simple):
    """One satellite with a long record."""

    name = "siskin-l2"
    groups = ("", "classes", "look", "package", "container")
    facts_name, look_title, look_m = "siskin", "Natural colour at 100 m", 100.0

    def shots(self) -> Sequence[Shot]:
        """All scenes, made anew."""
        return _shots()

    def collection(self, base: str) -> dict[str, Any]:
        """The STAC Collection."""
        summaries = {"platform": ["siskin-1"], "gsd": [25], "eo:cloud_cover": {"minimum": 0, "maximum": 100}}
        assets = {key: self._about(key) for key in (*(band["name"] for band in self.facts["band"]), "classes")}
        return stac.collection(self.facts, base, self.scenes(), summaries, assets)

    def item(self, scene: Shot, base: str, store: Store) -> dict[str, Any]:
        """A scene as a STAC Item."""
        cloud, land_cloud = self.clouds(scene)
        track, frame = scene.facts["frame"].split("-")
        properties = {
            "created": stac.moment(scene.when + timedelta(days=2)),
            "platform": "siskin-1",
            "gsd": 25,
            "eo:cloud_cover": round(cloud, 1),
            "ost:cloud_cover_land": None if land_cloud is None else round(land_cloud, 1),
            **sight(scene),
            "processing:version": "05",
            "proj:code": str(ground.UTM),
            "grid:code": f"OST-{track}{frame}".upper(),
            "sat:relative_orbit": int(track[1:]),
        }
        return stac.item(self.facts, scene, base, properties, self._assets(scene, base, store), _USES)

    def _assets(self, scene: Shot, base: str, store: Store) -> dict[str, Any]:
        known = store.published(self, scene)
        found = {}
        for key in (*(band["name"] for band in self.facts["band"]), "classes"):
            name = f"{scene.id}-{key}.tif"
            place = {"href": f"{base}/files/{scene.id}/{name}"} | ground.placed(self._grid(scene))
            found[key] = self._about(key) | place | stac.published(known, name)
        whole = self.package(f"{scene.id}.tar.gz", base, scene, known, "application/gzip")
        return found | {
            "container": self._container(scene, base, known),
            "quicklook": self.quicklook(scene, base, known),
            "package": whole,
        }

    def _container(self, scene: Shot, base: str, known: Mapping[str, Published]) -> dict[str, Any]:
        """The same bands in one HDF5 file."""
        name = f"{scene.id}.h5"
        about = {"href": f"{base}/files/{scene.id}/{name}", "type": "application/x-hdf5", "title": "All in one HDF5"}
        scaled = {"raster:scale": _SCALE, "raster:offset": _OFFSET}
        told = stac.class_layer(lapwing.CLASSES)
        classes = {"name": "classes", "classification:classes": told["classification:classes"]}
        bands = [*(stac.band(entry) | scaled for entry in self.facts["band"]), classes]
        return about | {"roles": ["data"], "nodata": 0, "bands": bands} | stac.published(known, name)

    def group_of(self, name: str) -> str:
        """Class layers and containers are made apart."""
        apart = {"-classes.tif": "classes", ".h5": "container"}
        return next((group for ending, group in apart.items() if name.endswith(ending)), super().group_of(name))

    def make(self, scene: Shot, group: str, folder: Path, cache: Path) -> None:
        """Write a group of files."""
        if group == "classes":
            self._write(scene, "classes", self._classes(scene, cache), folder)
        elif group == "container":
            self._contain(scene, folder, cache)
        elif group:
            super().make(scene, group, folder, cache)
        else:
            for name, values in self._stored(scene, cache):
                self._write(scene, name, values, folder)

    def _contain(self, scene: Shot, folder: Path, cache: Path) -> None:
        grid = self._grid(scene)
        place = {"epsg": grid.crs.epsg, "west": grid.west, "north": grid.north, "pixel_m": grid.pixel_x}
        about = place | {"_FillValue": 0}
        stored = {name: Variable(values, ("y", "x"), about) for name, values in self._all(scene, cache)}
        write_container(folder / f"{scene.id}.h5", stored, {"title": scene.id, "level": "L2"})

    def _about(self, key: str) -> dict[str, Any]:
        about: dict[str, Any] = {"type": stac.COG, "roles": ["data"], "gsd": 25, "nodata": 0}
        if key == "classes":
            return about | stac.class_layer(lapwing.CLASSES)
        entry = next(entry for entry in self.facts["band"] if entry["name"] == key)
        return about | {
            "roles": ["data", "reflectance"],
            "data_type": "uint16",
            "raster:scale": _SCALE,
            "raster:offset": _OFFSET,
            "bands": [stac.band(entry)],
        }

    def _grid(self, scene: Shot) -> Any:
        return ground.grid_around(scene.footprint, float(self.facts["pixel_m"]))

    def pack(self, scene: Shot, data: Path, folder: Path) -> None:
        """All files of a frame."""
        package.tar_gz(data.iterdir(), folder / f"{scene.id}.tar.gz", scene.id)

    def make_data(self, scene: Shot, folder: Path, cache: Path) -> None:
        """Bands and classes."""
        for name, values in self._all(scene, cache):
            self._write(scene, name, values, folder)

    def _all(self, scene: Shot, cache: Path) -> Iterator[tuple[str, Any]]:
        """The bands, then the classes."""
        yield from self._stored(scene, cache)
        yield "classes", self._classes(scene, cache)

    def _classes(self, scene: Shot, cache: Path) -> Any:
        grid = self._grid(scene)
        seen = ground.inside(scene.footprint, grid)
        return (ground.classes_on(scene.seen, grid, cache) * seen).astype(np.uint8)

    def _write(self, scene: Shot, name: str, values: Any, folder: Path) -> None:
        path = folder / f"{scene.id}-{name}.tif"
        ground.write_tiff(values[np.newaxis], self._grid(scene), [name], path, is_class=name == "classes")

    def _stored(self, scene: Shot, cache: Path) -> Iterator[tuple[str, Any]]:
        """Names and stored values of the bands; 0 beyond the frame."""
        grid = self._grid(scene)
        picture, seen = ground.see(scene.seen, grid, cache), ground.inside(scene.footprint, grid)
        for entry in self.facts["band"]:
            stored = np.clip(np.rint((picture.band(entry["name"]) - _OFFSET) / _SCALE), 1, 65535).astype(np.uint16)
            yield entry["name"], (stored * seen).astype(np.uint16)
