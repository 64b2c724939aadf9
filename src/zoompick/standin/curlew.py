"""Curlew: aerial sheets of 1 km at 0.4 m, four bands in one file; a sheet tells days of flight and no cloud."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zoompick.area import sheets
from zoompick.raster.grid import Grid
from zoompick.standin import ground, package, spectrometer, stac
from zoompick.standin.ground import Shot
from zoompick.standin.passes import Pass
from zoompick.standin.simple import Simple
from zoompick.standin.store import Published, Store

_USES = ("proj", "raster", "eo", "file", "processing", "grid")
_LEAST_LAND_PERCENT = 3.0
_SIDE_M = 1000
_FEN = shapely.box(-12.085, -38.635, -12.03, -38.595)
_DELIVERED_M = 2.0
_BRIGHTEST = {"red": 0.30, "green": 0.27, "blue": 0.24, "nir": 0.55}


def _shots() -> list[Shot]:
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
    return found


class Curlew(Simple):
    """A camera in an aeroplane."""

    name = "curlew-sheets"
    facts_name, look_title, look_m = "curlew", "Natural colour at 8 m", 8.0

    def shots(self) -> Sequence[Shot]:
        """All sheets of all flights, made anew."""
        return _shots()

    def collection(self, base: str) -> dict[str, Any]:
        """The STAC Collection."""
        about = {"platform": ["curlew"], "gsd": [0.4]}
        found = stac.collection(self.facts, base, self.scenes(), about, {"image": self._about()})
        parts = {
            f"part{n}": {
                "href": f"{base}/deliveries/curlew-fen.tar.00{n}",
                "type": "application/x-tar",
                "roles": ["archive"],
                "title": f"The fen's sheets at 2 m, part {n} of 2",
            }
            for n in (1, 2)
        }
        cube = {
            "href": f"{base}/deliveries/{spectrometer.NAME}",
            "type": "application/x-netcdf",
            "roles": ["data"],
            "title": f"The fen in {spectrometer.COUNT} narrow bands at {spectrometer.PIXEL_M:g} m",
        }
        return found | {"assets": parts | {"spectrometer": cube}}

    def delivery(self, name: str, cache: Path, store: Store) -> tuple[Path, Published] | None:
        """Of the newest flight over the fen, made when first asked for: its sheets at 2 m in parts, and a cube."""
        newest = max(scene.when for scene in self.scenes())
        over = [s for s in self.scenes() if s.when == newest and s.footprint.intersects(_FEN)]

        def write(folder: Path) -> None:
            sheets = {}
            with tempfile.TemporaryDirectory() as work:
                for scene in over:
                    self._write(scene, _grid(scene, _DELIVERED_M), Path(work), cache)
                    sheets[scene.facts["sheet"]] = Path(work) / f"{scene.id}.tif", scene.footprint
                package.tar_of_sheets(sheets, folder / "curlew-fen.tar")

        def fly(folder: Path) -> None:
            spectrometer.write_cube(over[0].seen, _FEN, folder, cache)

        if name == spectrometer.NAME:
            return store.made(f"{name}+delivery", fly)[name]
        return store.made("curlew-fen+delivery", write).get(name) if name.startswith("curlew-fen.tar") else None

    def _about(self) -> dict[str, Any]:
        return {
            "type": stac.COG, "roles": ["data"], "title": "Four bands", "gsd": 0.4, "nodata": 0, "data_type": "uint8",
            "bands": [stac.band(entry) for entry in self.facts["band"]],
        }  # fmt: skip

    def item(self, scene: Shot, base: str, store: Store) -> dict[str, Any]:
        """A sheet as a STAC Item without a cloud figure."""
        known = store.published(self, scene)
        image = f"{scene.id}.tif"
        assets = {
            "image": self._about()
            | {"href": f"{base}/files/{scene.id}/{image}"}
            | ground.placed(_grid(scene, self.facts["pixel_m"]))
            | stac.published(known, image),
            "quicklook": self.quicklook(scene, base, known),
        }
        properties = {
            "created": stac.moment(scene.until + timedelta(days=60)),
            "platform": "curlew",
            "gsd": 0.4,
            "proj:code": str(ground.UTM),
            "grid:code": "OST-" + scene.facts["sheet"].replace("-", "").upper(),
        }
        return stac.item(self.facts, scene, base, properties, assets, _USES)

    def look_grid(self, scene: Shot) -> Grid:
        """The sheet's square in coarse pixels."""
        return _grid(scene, self.look_m)

    def make_data(self, scene: Shot, folder: Path, cache: Path) -> None:
        """The sheet in four bands."""
        self._write(scene, _grid(scene, self.facts["pixel_m"]), folder, cache)

    def _write(self, scene: Shot, grid: Grid, folder: Path, cache: Path) -> None:
        picture = ground.see(scene.seen, grid, cache, tuple(_BRIGHTEST))
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
