"""Pieces of hand-written STAC 1.1 JSON that all collections of the archive share."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from datetime import datetime
from functools import cache
from importlib import resources
from typing import Any

from zoompick.geo.shapes import geojson_of
from zoompick.standin.entry import Entry
from zoompick.standin.store import Published

_EXTENSIONS = "https://stac-extensions.github.io"
COG = "image/tiff; application=geotiff; profile=cloud-optimized"
_ITEM_EXTENSIONS = {
    "proj": "projection/v2.0.0", "raster": "raster/v2.0.0", "eo": "eo/v2.0.0", "view": "view/v1.0.0",
    "file": "file/v2.1.0", "processing": "processing/v1.2.0", "grid": "grid/v1.1.0",
    "classification": "classification/v2.0.0", "sat": "sat/v1.0.0",
}  # fmt: skip


@cache
def facts(name: str) -> dict[str, Any]:
    """What a collection says of itself: ``data/NAME.toml``."""
    text = resources.files("zoompick.standin").joinpath(f"data/{name}.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


def extensions(*prefixes: str) -> list[str]:
    """Schemas of the extensions that an item uses."""
    return [f"{_EXTENSIONS}/{_ITEM_EXTENSIONS[prefix]}/schema.json" for prefix in prefixes]


def link(rel: str, href: str, kind: str = "application/json") -> dict[str, Any]:
    """A link of a STAC document."""
    return {"rel": rel, "href": href, "type": kind}


def moment(when: datetime) -> str:
    """An RFC 3339 time."""
    return when.strftime("%Y-%m-%dT%H:%M:%SZ")


def collection(
    table: Mapping[str, Any],
    base: str,
    scenes: Sequence[Entry],
    summaries: Mapping[str, Any],
    assets: Mapping[str, Any],
) -> dict[str, Any]:
    """A STAC Collection out of its facts and the extent of its scenes."""
    boxes = [scene.footprint.bounds for scene in scenes]
    bbox = [
        *(min(box[side] for box in boxes) for side in (0, 1)),
        *(max(box[side] for box in boxes) for side in (2, 3)),
    ]
    here = f"{base}/collections/{table['id']}"
    is_open = table["terms"]["access"] == "open"
    terms = [] if is_open else [link("license", f"{base}/terms/{table['id']}", "text/plain")]
    return {
        "type": "Collection",
        "stac_version": "1.1.0",
        "stac_extensions": [f"{_EXTENSIONS}/item-assets/v1.0.0/schema.json"],
        "id": table["id"],
        "title": table["title"],
        "description": table["description"],
        "license": table["license"],
        "keywords": table["keywords"],
        **({"providers": [{"name": table["provider"], "roles": ["licensor"]}]} if "provider" in table else {}),
        "extent": {
            "spatial": {"bbox": [[round(value, 5) for value in bbox]]},
            "temporal": {"interval": [[moment(scenes[0].when), moment(scenes[-1].until)]]},
        },
        "summaries": {
            "constellation": [table["constellation"]],
            "instruments": [table["instrument"]],
            "processing:level": [table["level"]],
            **summaries,
        },
        **{f"ost:{key}": value for key, value in table["terms"].items()},
        "item_assets": dict(assets),
        "links": [
            link("self", here),
            link("root", f"{base}/"),
            link("parent", f"{base}/"),
            link("items", f"{here}/items", "application/geo+json"),
            *terms,
        ],
    }


def item(
    table: Mapping[str, Any], scene: Entry, base: str, properties: Mapping[str, Any], assets: Mapping[str, Any],
    uses: Sequence[str],
) -> dict[str, Any]:  # fmt: skip
    """A STAC Item; ``uses`` names the extensions by prefix."""
    home = f"{base}/collections/{table['id']}"
    return {
        "type": "Feature",
        "stac_version": "1.1.0",
        "stac_extensions": extensions(*uses),
        "id": scene.id,
        "collection": table["id"],
        "geometry": _rounded(geojson_of(scene.footprint)),
        "bbox": [round(value, 6) for value in scene.footprint.bounds],
        "properties": {
            **when(scene),
            "constellation": table["constellation"],
            "instruments": [table["instrument"]],
            "processing:level": table["level"],
            **properties,
        },
        "assets": dict(assets),
        "links": [
            link("self", f"{home}/items/{scene.id}", "application/geo+json"),
            link("collection", home),
            link("parent", home),
            link("root", f"{base}/"),
        ],
    }


def when(scene: Entry) -> dict[str, Any]:
    """Moment, or begin and end with a null moment, as STAC 1.1 writes a span."""
    if scene.when == scene.until:
        return {"datetime": moment(scene.when)}
    return {"datetime": None, "start_datetime": moment(scene.when), "end_datetime": moment(scene.until)}


def band(entry: Mapping[str, Any]) -> dict[str, Any]:
    """One band of an asset out of its facts; a key without a value is left out."""
    told = {
        "name": entry["name"],
        "eo:common_name": entry.get("common_name"),
        "eo:center_wavelength": entry.get("center_um"),
        "eo:full_width_half_max": entry.get("width_um"),
    }
    return {key: value for key, value in told.items() if value is not None}


def published(known: Mapping[str, Published], name: str) -> dict[str, Any]:
    """Size and checksum of a file, once it has been made."""
    if name not in known:
        return {}
    # 1220 marks a multihash of SHA-256 (STAC file extension: file:checksum).
    return {"file:size": known[name].size, "file:checksum": f"1220{known[name].sha256}"}


def _rounded(geometry: Mapping[str, Any]) -> dict[str, Any]:
    def walk(value: Any) -> Any:
        return round(value, 6) if isinstance(value, float) else [walk(entry) for entry in value]

    return {"type": geometry["type"], "coordinates": walk(geometry["coordinates"])}


def class_layer(classes: Mapping[int, str]) -> dict[str, Any]:
    """What an asset says of its classes (STAC classification extension 2.0)."""
    return {
        "title": "Classes",
        "roles": ["data", "classes"],
        "data_type": "uint8",
        "bands": [{"name": "classes"}],
        "classification:classes": [
            {"value": code, "name": name.replace(" ", "_"), "description": name} for code, name in classes.items()
        ],
    }
