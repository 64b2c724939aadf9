"""Products of a study as a static STAC catalog, which other clients can walk and this one can search."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from zoompick.errors import DataError
from zoompick.files import read_json, safe_name, write_json
from zoompick.scenes.sidecar import sidecar_of
from zoompick.study.folder import Study

NAME = "catalog.json"


def write_shelf(study: Study, name: str, products: Iterable[Path]) -> Path | None:
    """Write the catalog of the products that are there (STAC 1.1, Catalog); None where there is none.

    Its bytes change only when its products do.
    """
    root = study.root
    records = [record for record in (sidecar_of(path) for path in products) if record.is_file()]
    if not records:
        return None
    links = [{"rel": "root", "href": f"./{NAME}", "type": "application/json"}]
    links += [{"rel": "item", "href": f"./{record.relative_to(root).as_posix()}", "type": "application/geo+json"}
              for record in sorted(records)]  # fmt: skip
    catalog = {
        "type": "Catalog", "stac_version": "1.1.0", "id": safe_name(name or root.resolve().name), "title": name,
        "description": f"Products of the study {name}, with their bands, checksums, sources and steps.",
        "links": links,
    }  # fmt: skip
    path = root / NAME
    if _told(path) != catalog:
        write_json(path, catalog)
    return path


def _told(path: Path) -> object:
    try:
        return read_json(path) if path.is_file() else None
    except DataError:
        return None
