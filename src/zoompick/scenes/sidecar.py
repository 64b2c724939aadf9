"""The sidecar beside a product: a STAC Item with bands, statistics, checksum, sources and the steps that made it."""

from __future__ import annotations

import hashlib
import json
import math
import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from zoompick import files
from zoompick.addresses import is_remote, public, restored
from zoompick.errors import DataError
from zoompick.geo.shapes import bbox_of, geojson_of, outline_of
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.versions import version_here

if TYPE_CHECKING:
    from zoompick.raster.raster import Raster
    from zoompick.raster.write import Written

_EXTENSIONS = [
    f"https://stac-extensions.github.io/{name}/schema.json"
    for name in (
        "projection/v2.0.0",
        "raster/v2.0.0",
        "eo/v2.0.0",
        "file/v2.1.0",
        "processing/v1.2.0",
        "classification/v2.0.0",
    )
]


@dataclass(frozen=True)
class Origin:
    """What a product was made of and how.

    Attributes
    ----------
    step : str
        The operation: ``stack``, ``clip``, …
    options : mapping
        Everything that decides the result beside the inputs, as JSON holds it.
    inputs : mapping of Path to str
        Files read and their multihashes.
    when : datetime or None
        Acquisition of what it shows; of the first of several.
    scenes : sequence of mapping
        All scenes in it: ``id``, ``source``, ``collection``, ``datetime``.
    """

    step: str
    options: JsonMap
    inputs: Mapping[Path, str]
    when: datetime | None = None
    scenes: Sequence[Mapping[str, str]] = ()

    @property
    def fingerprint(self) -> str:
        """Equal fingerprints mean equal products."""
        facts = [self.step, self.options, [(path.name, digest) for path, digest in self.inputs.items()]]
        return hashlib.sha256(json.dumps(facts, sort_keys=True).encode()).hexdigest()[:32]


ENDING = ".stac.json"


def sidecar_of(product: Path) -> Path:
    """Path of a product's sidecar: a name of its own kind, which no other file has by chance."""
    return product.with_name(product.name + ENDING)


def write_sidecar(
    raster: Raster,
    written: Written,
    origin: Origin,
    pictures: Sequence[Path] = (),
    told: JsonMap | None = None,
) -> Path:
    """Write the STAC Item (1.1) of a product; see :func:`item_of`."""
    return write_item_of(item_of(raster, written, origin, told), written.path, pictures)


def item_of(raster: Raster, written: Written, origin: Origin, told: JsonMap | None = None) -> JsonObject:
    """The STAC Item (1.1) of a product, still without its pictures.

    Parameters
    ----------
    told : mapping, optional
        Further properties: what was found while it was made.
    """
    grid = raster.grid
    footprint = outline_of(grid.bounds, grid.crs, _step(raster))
    place = {
        **({"proj:code": grid.crs.code} if grid.crs.epsg else {"proj:code": None, "proj:wkt2": grid.crs.text}),
        "proj:shape": [grid.height, grid.width],
        "proj:transform": [grid.pixel_x, 0, grid.west, 0, -grid.pixel_y, grid.north],
    }
    item = _item(written.path, origin) | {"geometry": geojson_of(footprint), "bbox": bbox_of(footprint)}
    item["properties"] |= place | dict(told or {})
    item["assets"] = {"data": _asset(raster, written)}
    return item


def write_item_of(item: JsonMap, product: Path, pictures: Sequence[Path] = ()) -> Path:
    """Write the item of a product beside it, with the pictures that were made of it."""
    assets = item["assets"] | {path.suffix[1:]: _companion(path) for path in pictures}
    path = sidecar_of(product)
    files.write_json(path, dict(item) | {"assets": assets})
    return path


def write_drawn_sidecar(picture: Path, origin: Origin) -> Path:
    """Write the STAC Item of a picture for people; its place is that of the first product it shows."""
    # A product of pixels may have the same stem.
    item = _item(picture, origin) | {"id": f"{picture.parent.name}-{picture.stem}-{picture.suffix[1:]}"}
    try:
        shown = files.read_json(sidecar_of(next(iter(origin.inputs))))
        item |= {"geometry": shown["geometry"], "bbox": shown["bbox"]}
    except (DataError, KeyError, TypeError, StopIteration):
        item["geometry"] = None
    data = {
        "href": f"./{picture.name}", "type": _MEDIA[picture.suffix.lower()], "roles": ["overview"],
        "file:size": picture.stat().st_size, "file:checksum": files.multihash_of(picture),
    }  # fmt: skip
    item["assets"] = {"data": data}
    path = sidecar_of(picture)
    files.write_json(path, item)
    return path


_MEDIA = {".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".pdf": "application/pdf",
          ".svg": "image/svg+xml"}  # fmt: skip


def _item(product: Path, origin: Origin) -> JsonObject:
    """What the items of all products tell; without place and assets."""
    moment = origin.when or datetime.now(UTC)
    return {
        "type": "Feature",
        "stac_version": "1.1.0",
        "stac_extensions": _EXTENSIONS,
        "id": f"{product.parent.name}-{product.stem}",
        "properties": {
            "datetime": moment.isoformat(timespec="seconds").replace("+00:00", "Z"),
            "created": datetime.now(UTC).isoformat(timespec="seconds").replace("+00:00", "Z"),
            "processing:software": {"zoompick": version_here()},
            "processing:lineage": _lineage(origin),
            **_span(origin),
            "zoompick:steps": [{"step": origin.step, "options": origin.options}],
            "zoompick:fingerprint": origin.fingerprint,
        },
        "links": [_link(path, product, digest) for path, digest in origin.inputs.items()],
    }


def _span(origin: Origin) -> JsonObject:
    """Scenes, and the time from the first to the last of them."""
    if not origin.scenes:
        return {}
    times = sorted(scene["datetime"] for scene in origin.scenes)
    span = {"start_datetime": times[0], "end_datetime": times[-1]} if len(times) > 1 else {}
    return span | {"zoompick:scenes": [dict(scene) for scene in origin.scenes]}


def scenes_of(product: Path) -> list[dict[str, str]]:
    """The scenes in a product, as its sidecar tells them; none when it tells none."""
    try:
        told = files.read_json(sidecar_of(product))["properties"].get("zoompick:scenes")
    except (DataError, AttributeError, KeyError, TypeError):
        return []
    rows = told if isinstance(told, list) else []
    return [{str(k): str(v) for k, v in row.items()} for row in rows if isinstance(row, dict) and "datetime" in row]


def _step(raster: Raster) -> float:
    return max(raster.grid.bounds.width, raster.grid.bounds.height) / 16


def _lineage(origin: Origin) -> str:
    options = ", ".join(f"{key} {json.dumps(value)}" for key, value in origin.options.items())
    return f"{origin.step} of {', '.join(path.name for path in origin.inputs)} with {options}"


def _link(path: Path, product: Path, digest: str) -> JsonObject:
    if is_remote(path):
        return {"rel": "derived_from", "href": public(restored(path)), "zoompick:state": digest}
    return {
        "rel": "derived_from",
        "href": Path(os.path.relpath(path, product.parent)).as_posix(),
        "file:checksum": digest,
    }


def _companion(path: Path) -> JsonObject:
    kind, role = ("image/png", "overview") if path.suffix == ".png" else ("text/plain", "metadata")
    return {
        "href": f"./{path.name}",
        "type": kind,
        "roles": [role],
        "file:size": path.stat().st_size,
        "file:checksum": files.multihash_of(path),
    }


def _asset(raster: Raster, written: Written) -> JsonObject:
    bands = []
    for band, stats, histogram in zip(raster.bands, written.statistics, written.histograms, strict=True):
        entry: JsonObject = {"name": band.name, "data_type": str(raster.dtype)}
        if raster.nodata is not None:
            entry["nodata"] = "nan" if math.isnan(raster.nodata) else raster.nodata
        if (band.scale, band.offset) != (1.0, 0.0):
            entry |= {"raster:scale": band.scale, "raster:offset": band.offset}
        if band.unit:
            entry["unit"] = band.unit
        if band.own:
            entry["zoompick:own_name"] = band.own
        if band.classes:
            entry["classification:classes"] = [{"value": code, "name": name} for code, name in band.classes]
        if band.told_by:
            entry["zoompick:told_by"] = dict(band.told_by)
        optics = {"eo:center_wavelength": band.wavelength_um, "eo:full_width_half_max": band.width_um}
        entry |= {key: value for key, value in optics.items() if value is not None}
        entry["statistics"] = {"valid_percent": round(stats.valid_percent, 4)}
        if stats.count:
            entry["statistics"] |= {
                "minimum": stats.minimum, "maximum": stats.maximum, "mean": stats.mean, "stddev": stats.stddev
            }  # fmt: skip
        if histogram:
            entry["raster:histogram"] = {
                "count": len(histogram.counts), "min": histogram.minimum, "max": histogram.maximum,
                "buckets": list(histogram.counts),
            }  # fmt: skip
        bands.append(entry)
    return {
        "href": f"./{written.path.name}",
        "type": "image/tiff; application=geotiff; profile=cloud-optimized",
        "roles": ["data"],
        "file:size": written.size,
        "file:checksum": written.multihash,
        "zoompick:codec": written.codec.text,
        "bands": bands,
    }


@dataclass(frozen=True)
class Recorded:
    """What a sidecar says of its product.

    Attributes
    ----------
    companions : mapping
        Name of each file that belongs to the product to its multihash.
    codec : str
        As :class:`~zoompick.raster.codec.Codec` writes it; empty where the record is older than that.
    """

    fingerprint: str
    size: int
    multihash: str
    when: datetime | None
    companions: Mapping[str, str]
    codec: str = ""


def read_sidecar(product: Path) -> Recorded | None:
    """What the sidecar of a product says, or None when there is none that can be read."""
    try:
        item = files.read_json(sidecar_of(product))
        asset, properties = item["assets"]["data"], item["properties"]
        when = datetime.fromisoformat(properties["datetime"])
        others = {
            str(entry["href"]).removeprefix("./"): str(entry["file:checksum"])
            for key, entry in item["assets"].items()
            if key != "data"
        }
        print_, codec = str(properties["zoompick:fingerprint"]), str(asset.get("zoompick:codec", ""))
        return Recorded(print_, int(asset["file:size"]), str(asset["file:checksum"]), when, others, codec)
    except (DataError, AttributeError, KeyError, TypeError, ValueError, OverflowError):
        return None
