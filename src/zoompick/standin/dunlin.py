"""Dunlin: twelve bands of three detectors in one HDF5 container; the shortwave detector fails on a known day."""

from __future__ import annotations

import random
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from functools import cache, cached_property
from pathlib import Path
from typing import Any

import numpy as np

from zoompick.standin import ground, lapwing, stac, world
from zoompick.standin.container import Variable, write_container
from zoompick.standin.covers import BANDS
from zoompick.standin.ground import Shot
from zoompick.standin.instrument import Instrument
from zoompick.standin.noise import Field
from zoompick.standin.passes import Pass
from zoompick.standin.store import Store

_USES = ("proj", "eo", "view", "file", "processing")
_FIRST, _STEP_DAYS, _COUNT = datetime(2021, 11, 6, 11, 3, tzinfo=UTC), 48, 32
_WIDTH_M, _HEIGHT_M, _LEAN_DEG = 18_000, 16_000, 9.0
_CLOUD = (15, 4, 60, 33, 88, 9, 47, 22)
_SCALE, _KELVIN_SCALE = 0.0001, 0.01
_FILL = 65535
_LOOK_M = 72.0
_WAVELENGTHS_UM = (0.443, 0.489, 0.558, 0.662, 0.717, 0.848, 1.617, 2.204)
"""Centres of the bands in which the world's spectra are known."""
_KELVIN = {
    lapwing.LAND: 297.0,
    lapwing.WATER: 288.5,
    lapwing.SHADOW: 291.0,
    lapwing.THIN: 284.0,
    lapwing.THICK: 262.0,
}


@cache
def _shots() -> tuple[Shot, ...]:
    rng = random.Random(1212)
    found = []
    for number in range(_COUNT):
        seen = Pass(
            number=8000 + number,
            satellite="",
            when=_FIRST + timedelta(days=_STEP_DAYS * number, seconds=rng.randrange(120)),
            centre_km=rng.uniform(-3, 3),
            cloud_percent=_CLOUD[number % len(_CLOUD)],
            cloud_kind=("cumulus", "bank")[number % 2],
            haze=0.02,
            off_nadir_deg=round(rng.uniform(0, 8.5), 1),
        )
        lon = world.CENTRE_LON + seen.centre_km / 87
        outline = ground.rectangle(lon, world.CENTRE_LAT, _WIDTH_M, _HEIGHT_M, _LEAN_DEG)
        found.append(Shot(f"dunlin-{seen.when:%Y%m%d%H%M%S}", outline, seen))
    return tuple(found)


@cache
def _by_id() -> dict[str, Shot]:
    return {shot.id: shot for shot in _shots()}


@cache
def _cloud(shot_id: str) -> float:
    shot = _by_id()[shot_id]
    return ground.clouds_over(shot.footprint, shot.seen)[0]


class Dunlin(Instrument):
    """Three detectors behind one name."""

    name = "dunlin-l1"
    groups = ("", "look")

    @cached_property
    def _facts(self) -> dict[str, Any]:
        return stac.facts("dunlin")

    def _has_failed(self, scene: Shot) -> bool:
        return f"{scene.when:%Y-%m-%d}" >= self._facts["shortwave_failed"]

    def scenes(self) -> Sequence[Shot]:
        """All scenes."""
        return _shots()

    def by_id(self, scene_id: str) -> Shot | None:
        """The scene of this id, or None."""
        return _by_id().get(scene_id)

    def is_closed(self, name: str) -> str:
        """Containers are given on request only."""
        return "" if name.endswith(".png") else "this container is given on request: its terms must be accepted first"

    def collection(self, base: str) -> dict[str, Any]:
        """The STAC Collection."""
        summaries = {"platform": ["dunlin-1"], "gsd": [12, 24, 72], "eo:cloud_cover": {"minimum": 0, "maximum": 100}}
        return stac.collection(self._facts, base, _shots(), summaries, {"container": self._about(False)})

    def _about(self, has_failed: bool) -> dict[str, Any]:
        """The container lists the bands that hold something."""
        bands = [entry for entry in self._facts["band"] if not (has_failed and entry["detector"] == "swir")]
        return {
            "type": "application/x-hdf5", "roles": ["data"], "title": "All detectors", "gsd": 12,
            "bands": [stac.band(entry) | {"gsd": entry["pixel_m"]} for entry in bands],
        }  # fmt: skip

    def item(self, scene: Shot, base: str, store: Store) -> dict[str, Any]:
        """A scene as a STAC Item: one asset with all bands."""
        known = store.published(self, scene)
        file, look = f"{scene.id}.h5", f"{scene.id}-quicklook.png"
        assets = {
            "container": self._about(self._has_failed(scene))
            | {"href": f"{base}/files/{scene.id}/{file}"}
            | stac.published(known, file),
            "quicklook": {
                "href": f"{base}/files/{scene.id}/{look}", "type": "image/png", "roles": ["thumbnail"],
                "title": "Natural colour at 72 m",
            } | ground.placed(ground.grid_around(scene.footprint, _LOOK_M)) | stac.published(known, look),
        }  # fmt: skip
        sun = scene.seen.sun
        properties = {
            "created": stac.moment(scene.when + timedelta(days=1)),
            "platform": "dunlin-1",
            "gsd": 12,
            "eo:cloud_cover": round(_cloud(scene.id), 1),
            "view:off_nadir": scene.seen.off_nadir_deg,
            "view:sun_azimuth": round(sun.azimuth_deg, 2),
            "view:sun_elevation": round(sun.elevation_deg, 2),
            "proj:code": str(ground.UTM),
            "ost:access": "ask",
        }
        return stac.item(self._facts, scene, base, properties, assets, _USES)

    def make(self, scene: Shot, group: str, folder: Path, cache: Path) -> None:
        """The container, or the quicklook alone."""
        if group:
            grid = ground.grid_around(scene.footprint, _LOOK_M)
            picture, seen = ground.see(scene.seen, grid, cache), ground.inside(scene.footprint, grid)
            ground.write_quicklook(picture, seen, folder / f"{scene.id}-quicklook.png")
            return
        variables: dict[str, Variable] = {}
        for detector, pixel_m in {entry["detector"]: entry["pixel_m"] for entry in self._facts["band"]}.items():
            variables |= self._detector(scene, detector, pixel_m, cache)
        write_container(folder / f"{scene.id}.h5", variables, {"title": scene.id, "level": "L1"})

    def _detector(self, scene: Shot, detector: str, pixel_m: float, cache: Path) -> dict[str, Variable]:
        """Datasets of one detector on its own grid, which the attributes place."""
        grid = ground.grid_around(scene.footprint, float(pixel_m))
        seen = ground.inside(scene.footprint, grid)
        is_dead = detector == "swir" and self._has_failed(scene)
        picture = None if is_dead else ground.see(scene.seen, grid, cache)
        place = {
            "epsg": grid.crs.epsg, "west": grid.west, "north": grid.north, "pixel_m": pixel_m,
            "status": "failed" if is_dead else "good",
        }  # fmt: skip
        found = {}
        for entry in self._facts["band"]:
            if entry["detector"] != detector:
                continue
            stored = np.full(seen.shape, _FILL, np.uint16)
            scale = _KELVIN_SCALE if detector == "thermal" else _SCALE
            if picture is not None:
                physical = _kelvin(picture) if detector == "thermal" else _between(picture, entry["center_um"])
                stored[seen] = np.clip(np.rint(physical[seen] / scale), 0, _FILL - 1)
            about = place | {
                "scale_factor": scale,
                "_FillValue": np.uint16(_FILL),
                "wavelength_um": entry["center_um"],
            }
            found[f"{detector}/{entry['name']}"] = Variable(stored, ("y", "x"), about)
        return found


def _between(picture: ground.Picture, wavelength_um: float) -> Field:
    """Reflectance at a wavelength, interpolated between the bands in which the world is known."""
    place = float(np.interp(wavelength_um, _WAVELENGTHS_UM, np.arange(len(BANDS))))
    low, part = min(int(place), len(BANDS) - 2), place - min(int(place), len(BANDS) - 2)
    return np.asarray(picture.reflectance[low] * (1 - part) + picture.reflectance[low + 1] * part, np.float32)


def _kelvin(picture: ground.Picture) -> Field:
    """Temperature of the ground: by class, bright dry soil warmer than dark green leaves."""
    base = np.zeros(picture.classes.shape, np.float32)
    for code, kelvin in _KELVIN.items():
        base[picture.classes == code] = kelvin
    return np.asarray(base + 14 * (picture.band("swir22") - 0.12), np.float32)
