"""Write the coarse land mask and the coast of the simulated archive anew, after a change of its landscape.

python scripts/land.py
"""

from __future__ import annotations

import json
from pathlib import Path

import contourpy
import imagecodecs
import numpy as np
import shapely
from platformdirs import user_cache_path

from zoompick.geo.crs import LONLAT
from zoompick.geo.shapes import project
from zoompick.standin import world
from zoompick.standin.covers import Cover
from zoompick.standin.land import STEP

SOURCES = Path(__file__).parents[1] / "src/zoompick"
TARGET = SOURCES / "standin/data/land.png"
GAZETTEER = SOURCES / "area/data/ostrell.geojson"
COAST_M, ISLET_M2 = 25, 20_000


def main() -> None:
    """Average the world's land over squares of pixels; follow its coast."""
    cover = world.layers(user_cache_path("zoompick")).cover
    is_land = (np.asarray(cover) != Cover.SEA).astype(np.float32)
    share = is_land.reshape(world.HEIGHT // STEP, STEP, world.WIDTH // STEP, STEP).mean(axis=(1, 3))
    TARGET.write_bytes(imagecodecs.png_encode(np.rint(255 * share).astype(np.uint8), 9))
    print(f"{TARGET.name}: {TARGET.stat().st_size} bytes")
    land = {
        "type": "Feature",
        "properties": {"name": "Ostrell land", "kind": "land", "within": "Ostrell"},
        "geometry": json.loads(shapely.to_geojson(_coast(share))),
    }
    places = json.loads(GAZETTEER.read_text())
    others = [row for row in places["features"] if row["properties"]["kind"] != "land"]
    lines = ",\n".join(json.dumps(row) for row in (*others, land))
    GAZETTEER.write_text(f'{{"type": "FeatureCollection", "features": [\n{lines}\n]}}\n')
    print(f"{GAZETTEER.name}: {GAZETTEER.stat().st_size} bytes")


def _coast(share: np.ndarray) -> shapely.Geometry:
    """Land of at least 2 hectares as polygons in longitude and latitude, to about 25 metres."""
    grid, step_m = world.grid(), STEP * world.PIXEL_M
    padded = np.pad(share, 1)
    x = grid.west + (np.arange(padded.shape[1]) - 0.5) * step_m
    y = grid.north - (np.arange(padded.shape[0]) - 0.5) * step_m
    rings = contourpy.contour_generator(x, y, padded).lines(0.5)
    parts = [shapely.Polygon(ring) for ring in rings if len(ring) > 3]
    land = shapely.Polygon()
    for part in sorted(parts, key=lambda part: -part.area):
        # A ring inside land is a bay or a lagoon that the contour closed off.
        land = land.symmetric_difference(part) if part.area > ISLET_M2 else land
    return shapely.set_precision(project(shapely.simplify(land, COAST_M), LONLAT, grid.crs), 1e-5)


if __name__ == "__main__":
    main()
