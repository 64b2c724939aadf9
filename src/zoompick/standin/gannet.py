"""Gannet: 0.3 m strips that cost money by the square kilometre and need a licence; only quicklooks are free."""

from __future__ import annotations

import random
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from zoompick.geo.shapes import intersection
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.standin import ground, stac, world
from zoompick.standin.ground import Shot
from zoompick.standin.passes import Pass
from zoompick.standin.simple import Simple, sight
from zoompick.standin.store import Store

_USES = ("proj", "eo", "view", "file", "processing")
_FIRST, _COUNT = datetime(2025, 10, 4, 11, 26, tzinfo=UTC), 18
_WIDTH_M, _HEIGHT_M = 6_500, 9_000
_PIXEL_M = 0.3
_PRICES = (9.0, 12.5, 15.0)
_CLOUD = (0, 11, 3, 46, 7, 20)


def _shots() -> list[Shot]:
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
    return found


class Gannet(Simple):
    """A vendor's two satellites."""

    name = "gannet-vhr"
    facts_name, look_title, look_m = "gannet", "Natural colour at 16 m", 16.0

    def shots(self) -> Sequence[Shot]:
        """All strips, made anew."""
        return _shots()

    def is_closed(self, name: str) -> str:
        """Only quicklooks are free."""
        return "" if name.endswith(".png") else "this strip is sold by the square kilometre: order it"

    def collection(self, base: str) -> dict[str, Any]:
        """The STAC Collection."""
        cloud = {"minimum": 0, "maximum": 100}
        summaries = {"platform": ["gannet-a", "gannet-b"], "gsd": [0.3], "eo:cloud_cover": cloud}
        about = stac.collection(self.facts, base, self.scenes(), summaries, {"image": self._about()})
        about["ost:price_km2"] = {"from": min(_PRICES), "to": max(_PRICES), "currency": "crowns"}
        return about

    def _about(self) -> dict[str, Any]:
        return {
            "type": stac.COG, "roles": ["data"], "title": "Four bands", "gsd": 0.3, "nodata": 0,
            "data_type": "uint16",
            "bands": [stac.band(entry) for entry in self.facts["band"]],
        }  # fmt: skip

    def item(self, scene: Shot, base: str, store: Store) -> dict[str, Any]:
        """A strip as a STAC Item with its price."""
        known = store.published(self, scene)
        assets = {
            "image": self._about() | {"href": f"{base}/files/{scene.id}/{scene.id}.tif"},
            "quicklook": self.quicklook(scene, base, known),
        }
        properties = {
            "created": stac.moment(scene.when + timedelta(hours=20)),
            "platform": f"gannet-{scene.seen.satellite}",
            "gsd": 0.3,
            "eo:cloud_cover": round(self.clouds(scene)[0], 1),
            **sight(scene),
            "proj:code": str(ground.UTM),
            "ost:access": "priced",
            "ost:price_km2": scene.facts["price_km2"],
            "ost:currency": "crowns",
        }
        return stac.item(self.facts, scene, base, properties, assets, _USES)

    def prepare(self, scene: Shot, area: Any, folder: Path, cache: Path) -> None:
        """The area's part of a strip, seen tile by tile."""
        part = scene.footprint if area is None else intersection(area, scene.footprint)
        grid = ground.grid_around(part, _PIXEL_M)
        strip = ground.Seen(scene.seen, part, grid, cache, tuple(entry["name"] for entry in self.facts["band"]))
        write_geotiff(strip, folder / f"{scene.id}.tif", WriteOptions(workers=1))

    def make_data(self, scene: Shot, folder: Path, cache: Path) -> None:
        """Nothing: pixels at 0.3 m are made for an order only."""
