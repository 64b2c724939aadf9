"""Gannet: 0.3 m strips that cost money by the square kilometre and need a licence; only quicklooks are free."""

from __future__ import annotations

import random
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from functools import cache, cached_property
from pathlib import Path
from typing import Any

from zoompick.standin import ground, stac, world
from zoompick.standin.ground import Shot
from zoompick.standin.instrument import Instrument
from zoompick.standin.passes import Pass
from zoompick.standin.store import Store

_USES = ("proj", "eo", "view", "file", "processing")
_FIRST, _COUNT = datetime(2025, 10, 4, 11, 26, tzinfo=UTC), 18
_WIDTH_M, _HEIGHT_M = 6_500, 9_000
_PRICES = (9.0, 12.5, 15.0)
_CLOUD = (0, 11, 3, 46, 7, 20)
_LOOK_M = 16.0


@cache
def _shots() -> tuple[Shot, ...]:
    rng = random.Random(303)
    found = []
    for number in range(_COUNT):
        seen = Pass(
            number=9000 + number,
            satellite="ab"[number % 2],
            when=_FIRST + timedelta(days=7 * number + rng.randrange(4), seconds=rng.randrange(3000)),
            centre_km=0.0,
            cloud_percent=_CLOUD[number % len(_CLOUD)],
            cloud_kind="cumulus",
            haze=0.01,
            off_nadir_deg=round(rng.uniform(2, 29), 1),
        )
        lon = world.CENTRE_LON + rng.uniform(-0.09, 0.09)
        outline = ground.rectangle(lon, world.CENTRE_LAT + rng.uniform(-0.03, 0.03), _WIDTH_M, _HEIGHT_M, 12.0)
        name = f"gannet-{seen.satellite}-{seen.when:%Y%m%d-%H%M}-p{number:03d}"
        found.append(Shot(name, outline, seen, facts={"price_km2": _PRICES[number % 3]}))
    return tuple(found)


@cache
def _by_id() -> dict[str, Shot]:
    return {shot.id: shot for shot in _shots()}


@cache
def _cloud(shot_id: str) -> float:
    shot = _by_id()[shot_id]
    return ground.clouds_over(shot.footprint, shot.seen)[0]


class Gannet(Instrument):
    """A vendor's two satellites."""

    name = "gannet-vhr"
    groups = ("", "look")

    @cached_property
    def _facts(self) -> dict[str, Any]:
        return stac.facts("gannet")

    def scenes(self) -> Sequence[Shot]:
        """All strips."""
        return _shots()

    def by_id(self, scene_id: str) -> Shot | None:
        """The strip of this id, or None."""
        return _by_id().get(scene_id)

    def is_closed(self, name: str) -> str:
        """Only quicklooks are free."""
        return "" if name.endswith(".png") else "this strip is sold by the square kilometre: order it"

    def collection(self, base: str) -> dict[str, Any]:
        """The STAC Collection."""
        cloud = {"minimum": 0, "maximum": 100}
        summaries = {"platform": ["gannet-a", "gannet-b"], "gsd": [0.3], "eo:cloud_cover": cloud}
        about = stac.collection(self._facts, base, _shots(), summaries, {"image": self._about()})
        about["ost:price_km2"] = {"from": min(_PRICES), "to": max(_PRICES), "currency": "crowns"}
        return about

    def _about(self) -> dict[str, Any]:
        return {
            "type": stac.COG, "roles": ["data"], "title": "Four bands", "gsd": 0.3, "nodata": 0,
            "data_type": "uint16",
            "bands": [stac.band(entry) for entry in self._facts["band"]],
        }  # fmt: skip

    def item(self, scene: Shot, base: str, store: Store) -> dict[str, Any]:
        """A strip as a STAC Item with its price."""
        known = store.published(self, scene)
        look = f"{scene.id}-quicklook.png"
        assets = {
            "image": self._about() | {"href": f"{base}/files/{scene.id}/{scene.id}.tif"},
            "quicklook": {
                "href": f"{base}/files/{scene.id}/{look}", "type": "image/png", "roles": ["thumbnail"],
                "title": "Natural colour at 16 m",
            } | ground.placed(ground.grid_around(scene.footprint, _LOOK_M)) | stac.published(known, look),
        }  # fmt: skip
        sun = scene.seen.sun
        properties = {
            "created": stac.moment(scene.when + timedelta(hours=20)),
            "platform": f"gannet-{scene.seen.satellite}",
            "gsd": 0.3,
            "eo:cloud_cover": round(_cloud(scene.id), 1),
            "view:off_nadir": scene.seen.off_nadir_deg,
            "view:sun_azimuth": round(sun.azimuth_deg, 2),
            "view:sun_elevation": round(sun.elevation_deg, 2),
            "proj:code": str(ground.UTM),
            "ost:access": "priced",
            "ost:price_km2": scene.facts["price_km2"],
            "ost:currency": "crowns",
        }
        return stac.item(self._facts, scene, base, properties, assets, _USES)

    def make(self, scene: Shot, group: str, folder: Path, cache: Path) -> None:
        """The quicklook; pixels at 0.3 m are made for an order only."""
        if group:
            grid = ground.grid_around(scene.footprint, _LOOK_M)
            picture, seen = ground.see(scene.seen, grid, cache), ground.inside(scene.footprint, grid)
            ground.write_quicklook(picture, seen, folder / f"{scene.id}-quicklook.png")
