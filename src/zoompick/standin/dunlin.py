"""Dunlin: twelve bands of three detectors in one HDF5 container; the shortwave detector fails on a known day."""

from __future__ import annotations

import random
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np

from zoompick.standin import ground, lapwing, stac, world
from zoompick.standin.container import Variable, write_container
from zoompick.standin.covers import BANDS
from zoompick.standin.ground import Shot
from zoompick.standin.noise import Field
from zoompick.standin.passes import Pass
from zoompick.standin.simple import Simple, sight
from zoompick.standin.store import Store

_USES = ("proj", "eo", "view", "file", "processing")
_FIRST, _STEP_DAYS, _COUNT = datetime(2021, 11, 6, 11, 3, tzinfo=UTC), 48, 32
_WIDTH_M, _HEIGHT_M, _LEAN_DEG = 18_000, 16_000, 9.0
_CLOUD = (15, 4, 60, 33, 88, 9, 47, 22)
_SCALE, _KELVIN_SCALE = 0.0001, 0.01
_FILL = 65535
_WAVELENGTHS_UM = (0.443, 0.489, 0.558, 0.662, 0.717, 0.848, 1.617, 2.204)
"""Centres of the bands in which the world's spectra are known."""
_KELVIN = {
    lapwing.LAND: 297.0,
    lapwing.WATER: 288.5,
    lapwing.SHADOW: 291.0,
    lapwing.THIN: 284.0,
    lapwing.THICK: 262.0,
}


def _shots() -> list[Shot]:
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
    return found


class Dunlin(Simple):
    """Three detectors behind one name."""

    name = "dunlin-l1"
    facts_name, look_title, look_m = "dunlin", "Natural colour at 72 m", 72.0

    def shots(self) -> Sequence[Shot]:
        """All scenes, made anew."""
        return _shots()

    def _has_failed(self, scene: Shot) -> bool:
        return f"{scene.when:%Y-%m-%d}" >= self.facts["shortwave_failed"]

    def is_closed(self, name: str) -> str:
        """Containers are given on request only."""
        return "" if name.endswith(".png") else "this container is given on request: its terms must be accepted first"

    def collection(self, base: str) -> dict[str, Any]:
        """The STAC Collection."""
        summaries = {"platform": ["dunlin-1"], "gsd": [12, 24, 72], "eo:cloud_cover": {"minimum": 0, "maximum": 100}}
        return stac.collection(self.facts, base, self.scenes(), summaries, {"container": self._about(False)})

    def _about(self, has_failed: bool) -> dict[str, Any]:
        """The container lists the bands that hold something."""
        bands = [entry for entry in self.facts["band"] if not (has_failed and entry["detector"] == "swir")]
        return {
            "type": "application/x-hdf5", "roles": ["data"], "title": "All detectors", "gsd": 12,
            "bands": [stac.band(entry) | {"gsd": entry["pixel_m"]} for entry in bands],
        }  # fmt: skip

    def item(self, scene: Shot, base: str, store: Store) -> dict[str, Any]:
        """A scene as a STAC Item: one asset with all bands."""
        known = store.published(self, scene)
        file = f"{scene.id}.h5"
        assets = {
            "container": self._about(self._has_failed(scene))
            | {"href": f"{base}/files/{scene.id}/{file}"}
            | stac.published(known, file),
            "quicklook": self.quicklook(scene, base, known),
        }
        properties = {
            "created": stac.moment(scene.when + timedelta(days=1)),
            "platform": "dunlin-1",
            "gsd": 12,
            "eo:cloud_cover": round(self.clouds(scene)[0], 1),
            **sight(scene),
            "proj:code": str(ground.UTM),
            "ost:access": "ask",
        }
        return stac.item(self.facts, scene, base, properties, assets, _USES)

    def make_data(self, scene: Shot, folder: Path, cache: Path) -> None:
        """The container."""
        variables: dict[str, Variable] = {}
        for detector, pixel_m in {entry["detector"]: entry["pixel_m"] for entry in self.facts["band"]}.items():
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
        for entry in self.facts["band"]:
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
