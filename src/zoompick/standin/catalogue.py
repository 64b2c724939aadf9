"""The archive's catalogue, written by hand as STAC 1.1 JSON."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib import resources
from typing import Any

from zoompick.geo.shapes import geojson_of
from zoompick.standin import lapwing, weather
from zoompick.standin.passes import SCALE, Scene, scenes
from zoompick.standin.store import Store

_EXTENSIONS = "https://stac-extensions.github.io"
_ITEM_EXTENSIONS = [
    f"{_EXTENSIONS}/{name}/schema.json"
    for name in (
        "projection/v2.0.0", "raster/v2.0.0", "eo/v2.0.0", "view/v1.0.0", "file/v2.1.0", "processing/v1.2.0",
        "grid/v1.1.0", "classification/v2.0.0",
    )
]  # fmt: skip
CONFORMANCE = [
    "https://api.stacspec.org/v1.0.0/core",
    "https://api.stacspec.org/v1.0.0/collections",
    "https://api.stacspec.org/v1.0.0/ogcapi-features",
    "https://api.stacspec.org/v1.0.0/item-search",
    "https://api.stacspec.org/v1.0.0/item-search#sort",
    "https://api.stacspec.org/v1.0.0/item-search#filter",
    "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/core",
    "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/geojson",
    "http://www.opengis.net/spec/cql2/1.0/conf/cql2-json",
    "http://www.opengis.net/spec/cql2/1.0/conf/basic-cql2",
]
_COG = "image/tiff; application=geotiff; profile=cloud-optimized"


@cache
def facts() -> dict[str, Any]:
    """What the collection says of itself."""
    text = resources.files("zoompick.standin").joinpath("data/lapwing.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


def landing(base: str) -> dict[str, Any]:
    """Landing page (STAC API 1.0, core)."""
    return {
        "type": "Catalog",
        "stac_version": "1.1.0",
        "id": "ostrell-archive",
        "title": "Ostrell archive (simulated)",
        "description": "Scenes of the invented Ostrell islands, made on request.",
        "conformsTo": CONFORMANCE,
        "links": [
            _link("self", f"{base}/"),
            _link("root", f"{base}/"),
            _link("conformance", f"{base}/conformance"),
            _link("data", f"{base}/collections"),
            _link("search", f"{base}/search", "application/geo+json") | {"method": "GET"},
            _link("search", f"{base}/search", "application/geo+json") | {"method": "POST"},
            _link("child", f"{base}/collections/{facts()['id']}"),
        ],
    }


def _link(rel: str, href: str, kind: str = "application/json") -> dict[str, Any]:
    return {"rel": rel, "href": href, "type": kind}


def collection(base: str) -> dict[str, Any]:
    """The Lapwing collection."""
    table, found = facts(), scenes()
    boxes = [scene.footprint.bounds for scene in found]
    bbox = [
        min(b[0] for b in boxes),
        min(b[1] for b in boxes),
        max(b[2] for b in boxes),
        max(b[3] for b in boxes),
    ]
    start, end = _time(found[0].seen.when), _time(found[-1].seen.when)
    here = f"{base}/collections/{table['id']}"
    return {
        "type": "Collection",
        "stac_version": "1.1.0",
        "stac_extensions": [f"{_EXTENSIONS}/item-assets/v1.0.0/schema.json"],
        "id": table["id"],
        "title": table["title"],
        "description": table["description"],
        "license": table["license"],
        "keywords": table["keywords"],
        "extent": {
            "spatial": {"bbox": [[round(value, 5) for value in bbox]]},
            "temporal": {"interval": [[start, end]]},
        },
        "summaries": {
            "platform": ["lapwing-a", "lapwing-b"],
            "instruments": [table["instrument"]],
            "constellation": [table["constellation"]],
            "gsd": [8, 16, 48],
            "eo:cloud_cover": {"minimum": 0, "maximum": 100},
        },
        "item_assets": {key: _about(key) for key in lapwing.PIXEL_M},
        "links": [
            _link("self", here),
            _link("root", f"{base}/"),
            _link("parent", f"{base}/"),
            _link("items", f"{here}/items", "application/geo+json"),
        ],
    }


def item(scene: Scene, base: str, store: Store) -> dict[str, Any]:
    """A scene as a STAC Item; sizes and checksums once its files have been made."""
    table = facts()
    footprint = scene.footprint
    home = f"{base}/collections/{table['id']}"
    sun = scene.seen.sun
    centre = footprint.centroid
    return {
        "type": "Feature",
        "stac_version": "1.1.0",
        "stac_extensions": _ITEM_EXTENSIONS,
        "id": scene.id,
        "collection": table["id"],
        "geometry": _rounded(geojson_of(footprint)),
        "bbox": [round(value, 6) for value in footprint.bounds],
        "properties": {
            "datetime": _time(scene.seen.when),
            "created": _time(scene.created),
            "updated": _time(scene.created),
            "platform": f"lapwing-{scene.seen.satellite}",
            "constellation": table["constellation"],
            "instruments": [table["instrument"]],
            "gsd": 8,
            "eo:cloud_cover": round(weather.cloud_percent(scene.seen, scene.tile), 1),
            "view:off_nadir": scene.seen.off_nadir_deg,
            "view:sun_azimuth": round(sun.azimuth_deg, 2),
            "view:sun_elevation": round(sun.elevation_deg, 2),
            "processing:level": table["level"],
            "processing:version": scene.baseline,
            "proj:code": str(scene.tile.grid.crs),
            "proj:centroid": {"lat": round(centre.y, 5), "lon": round(centre.x, 5)},
            "grid:code": f"OST-{scene.tile.name.upper()}",
        },
        "assets": _assets(scene, base, store),
        "links": [
            _link("self", f"{home}/items/{scene.id}", "application/geo+json"),
            _link("collection", home),
            _link("parent", home),
            _link("root", f"{base}/"),
        ],
    }


def _assets(scene: Scene, base: str, store: Store) -> dict[str, Any]:
    known = store.published(scene) or {}
    found = {}
    for key in lapwing.keys(scene):
        name = f"{scene.id}-{key}.tif"
        grid = lapwing.band_grid(scene, key)
        asset = _about(key) | {
            "href": f"{base}/files/{scene.id}/{name}",
            "proj:shape": [grid.height, grid.width],
            "proj:transform": [grid.pixel_x, 0, grid.west, 0, -grid.pixel_y, grid.north],
        }
        if key != "classes":
            asset["raster:scale"] = SCALE
            asset["raster:offset"] = scene.offset
        found[key] = asset | _published(known, name)
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
    } | _published(known, name)
    return found


def _published(known: dict[str, Any], name: str) -> dict[str, Any]:
    if name not in known:
        return {}
    # 1220 marks a multihash of SHA-256 (STAC file extension: file:checksum).
    return {"file:size": known[name].size, "file:checksum": f"1220{known[name].sha256}"}


def _about(key: str) -> dict[str, Any]:
    """What all assets of one band share."""
    pixel = lapwing.PIXEL_M[key]
    about: dict[str, Any] = {
        "type": _COG,
        "roles": ["data"],
        "gsd": pixel,
        "raster:spatial_resolution": pixel,
        "nodata": 0,
    }
    if key == "classes":
        about |= {
            "title": "Classes",
            "roles": ["data", "classes"],
            "data_type": "uint8",
            "bands": [{"name": "classes"}],
            "classification:classes": [
                {"value": code, "name": name.replace(" ", "_"), "description": name}
                for code, name in lapwing.CLASSES.items()
            ],
        }
        return about
    band = next(entry for entry in facts()["band"] if entry["name"] == key)
    return about | {
        "title": band["title"],
        "roles": ["data", "reflectance"],
        "data_type": "uint16",
        "bands": [
            {
                "name": key,
                "eo:common_name": band["common_name"],
                "eo:center_wavelength": band["center_um"],
                "eo:full_width_half_max": band["width_um"],
            }
        ],
    }


def _time(when: Any) -> str:
    return str(when.strftime("%Y-%m-%dT%H:%M:%SZ"))


def _rounded(geometry: dict[str, Any]) -> dict[str, Any]:
    def walk(value: Any) -> Any:
        return round(value, 6) if isinstance(value, float) else [walk(entry) for entry in value]

    return {"type": geometry["type"], "coordinates": walk(geometry["coordinates"])}


def name() -> str:
    """The collection's id."""
    return str(facts()["id"])
