"""Curlew: aerial sheets of 1 km at 0.4 m, four bands in one file; a sheet tells days of flight and no cloud."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from functools import cache, cached_property
from pathlib import Path
from typing import Any

import numpy as np

from zoompick.area import sheets
from zoompick.raster.grid import Grid
from zoompick.standin import ground, stac
from zoompick.standin.ground import Shot
from zoompick.standin.instrument import Instrument
from zoompick.standin.passes import Pass
from zoompick.standin.store import Store

_USES = ("proj", "raster", "eo", "file", "processing", "grid")
_LEAST_LAND_PERCENT = 3.0
_SIDE_M, _LOOK_M = 1000, 8.0
_BRIGHTEST = {"red": 0.30, "green": 0.27, "blue": 0.24, "nir": 0.55}


@cache
def _shots() -> tuple[Shot, ...]:
    scheme = next(entry for entry in sheets.schemes() if entry.name == "curlew sheet")
    under = [sheet for sheet, _ in scheme.under(ground.outline())]
    under = [sheet for sheet in under if ground.land_percent(sheet.polygon) > _LEAST_LAND_PERCENT]
    found = []
    for number, (first, last) in enumerate(stac.facts("curlew")["campaigns"]):
        begin, end = (datetime.fromisoformat(day).replace(tzinfo=UTC) for day in (first, last))
        seen = Pass(5000 + number, "", begin + timedelta(hours=11), 0.0, 0.0, "cumulus", 0.0, 0.0)
        for sheet in sorted(under, key=lambda entry: entry.name):
            name = f"curlew-{begin:%Y}-{sheet.name}"
            found.append(Shot(name, sheet.polygon, seen, end + timedelta(hours=15), {"sheet": sheet.name}))
    return tuple(found)


@cache
def _by_id() -> dict[str, Shot]:
    return {shot.id: shot for shot in _shots()}


class Curlew(Instrument):
    """A camera in an aeroplane."""

    name = "curlew-sheets"
    groups = ("", "look")

    @cached_property
    def _facts(self) -> dict[str, Any]:
        return stac.facts("curlew")

    def scenes(self) -> Sequence[Shot]:
        """All sheets of all flights."""
        return _shots()

    def by_id(self, scene_id: str) -> Shot | None:
        """The sheet of this id, or None."""
        return _by_id().get(scene_id)

    def collection(self, base: str) -> dict[str, Any]:
        """The STAC Collection."""
        return stac.collection(
            self._facts, base, _shots(), {"platform": ["curlew"], "gsd": [0.4]}, {"image": self._about()}
        )

    def _about(self) -> dict[str, Any]:
        return {
            "type": stac.COG, "roles": ["data"], "title": "Four bands", "gsd": 0.4, "nodata": 0, "data_type": "uint8",
            "bands": [stac.band(entry) for entry in self._facts["band"]],
        }  # fmt: skip

    def item(self, scene: Shot, base: str, store: Store) -> dict[str, Any]:
        """A sheet as a STAC Item without a cloud figure."""
        known = store.published(self, scene)
        image, look = f"{scene.id}.tif", f"{scene.id}-quicklook.png"
        assets = {
            "image": self._about()
            | {"href": f"{base}/files/{scene.id}/{image}"}
            | ground.placed(_grid(scene, self._facts["pixel_m"]))
            | stac.published(known, image),
            "quicklook": {
                "href": f"{base}/files/{scene.id}/{look}", "type": "image/png", "roles": ["thumbnail"],
                "title": "Natural colour at 8 m",
            } | ground.placed(_grid(scene, _LOOK_M)) | stac.published(known, look),
        }  # fmt: skip
        properties = {
            "created": stac.moment(scene.until + timedelta(days=60)),
            "platform": "curlew",
            "gsd": 0.4,
            "proj:code": str(ground.UTM),
            "grid:code": "OST-" + scene.facts["sheet"].replace("-", "").upper(),
        }
        return stac.item(self._facts, scene, base, properties, assets, _USES)

    def make(self, scene: Shot, group: str, folder: Path, cache: Path) -> None:
        """The sheet in four bands, or the quicklook alone."""
        grid = _grid(scene, _LOOK_M if group else self._facts["pixel_m"])
        picture = ground.see(scene.seen, grid, cache)
        if group:
            everywhere = np.ones((grid.height, grid.width))
            ground.write_quicklook(picture, everywhere, folder / f"{scene.id}-quicklook.png")
            return
        bands = [
            np.clip(255 * (picture.band(name) / brightest) ** 0.7, 1, 255).astype(np.uint8)
            for name, brightest in _BRIGHTEST.items()
        ]
        ground.write_tiff(np.stack(bands), grid, list(_BRIGHTEST), folder / f"{scene.id}.tif")


def _grid(scene: Shot, pixel_m: float) -> Grid:
    """The sheet's square: its name tells column and row in kilometres."""
    col, row = (int(part) for part in scene.facts["sheet"].removeprefix("c").split("-"))
    side = round(_SIDE_M / pixel_m)
    return Grid(ground.UTM, pixel_m, pixel_m, col * 1000.0, (row + 1) * 1000.0, side, side)
