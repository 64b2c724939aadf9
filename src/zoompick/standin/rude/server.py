"""The rude archive as a web application: a STAC API that searches by GET alone, two items a page."""

from __future__ import annotations

import json
import threading
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import FileResponse, JSONResponse, Response
from starlette.routing import Route

from zoompick.standin.rude import catalogue
from zoompick.standin.rude.catalogue import RudeItem

_PAGE = 2
_VERSION = 1
_OPEN = datetime(1, 1, 2, tzinfo=UTC), datetime(9999, 12, 30, tzinfo=UTC)


def application(cache: Path) -> Starlette:
    """The ASGI application whose files are kept under ``cache``."""
    shelf = _Shelf(cache / f"rude-v{_VERSION}")
    return Starlette(routes=[
        Route("/", landing), Route("/collections", collections), Route("/collections/{collection}", collection),
        Route("/search", search), Route("/collections/{collection}/items", search),
        Route("/collections/{collection}/items/{item}", item), Route("/files/{item}/{name}", shelf.file),
    ])  # fmt: skip


def _base(request: Request) -> str:
    return str(request.base_url).rstrip("/")


def landing(request: Request) -> JSONResponse:
    """The landing page: paths without a host, and no word on what filters it knows."""
    return JSONResponse({
        "type": "Catalog", "stac_version": "1.0.0", "id": "rude", "description": "An archive without manners.",
        "conformsTo": ["https://api.stacspec.org/v1.0.0/core", "https://api.stacspec.org/v1.0.0/item-search"],
        "links": [{"rel": "self", "href": "/"}, {"rel": "data", "href": "/collections"},
                  {"rel": "search", "href": "/search", "type": "application/geo+json"}],
    })  # fmt: skip


def _collection(name: str) -> dict[str, Any]:
    """A collection without licence, keywords, providers or summaries; its extent is the whole Earth."""
    return {
        "type": "Collection", "stac_version": "1.0.0", "id": name, "description": "",
        "extent": {"spatial": {"bbox": [[-180, -90, 180, 90]]}, "temporal": {"interval": [[None, None]]}},
        "links": [{"rel": "items", "href": f"/collections/{name}/items"}],
    }  # fmt: skip


def collections(request: Request) -> JSONResponse:
    """All of them."""
    return JSONResponse({"collections": [_collection(name) for name in catalogue.COLLECTIONS], "links": []})


def collection(request: Request) -> Response:
    """One."""
    name = request.path_params["collection"]
    return JSONResponse(_collection(name)) if name in catalogue.COLLECTIONS else Response("?", 404)


def as_json(one: RudeItem, base: str) -> dict[str, Any]:
    """An item; addresses of Petrel's files are relative to the item's own."""
    is_relative = one.collection == "petrel-mercator"
    start = f"../../../files/{one.id}" if is_relative else f"{base}/files/{one.id}"
    names = {name.partition(".")[0]: name for name in one.makers}
    return {
        "type": "Feature", "stac_version": "1.0.0", "id": one.id, "collection": one.collection,
        "geometry": one.geometry, "properties": dict(one.told),
        "assets": {key: {"href": f"{start}/{names[key]}", **told} for key, told in one.assets.items()},
        "links": [{"rel": "self", "href": f"{base}/collections/{one.collection}/items/{one.id}"}],
    }  # fmt: skip


def item(request: Request) -> Response:
    """One item."""
    found = [one for one in catalogue.items() if one.id == request.path_params["item"]]
    return JSONResponse(as_json(found[0], _base(request))) if found else Response("?", 404)


def search(request: Request) -> JSONResponse:
    """Items by collection, id, time and box; everything else that is asked is passed over."""
    asked = dict(request.query_params)
    named = request.path_params.get("collection") or asked.get("collections", "")
    kept = [one for one in catalogue.items() if not named or one.collection in named.split(",")]
    kept = [one for one in kept if "ids" not in asked or one.id in asked["ids"].split(",")]
    found = [one for one in kept if _in_time(one, asked.get("datetime", "")) and _near(one, asked)]
    first = int(asked.get("token", 0))
    links = []
    if first + _PAGE < len(found):
        query = "&".join(f"{key}={value}" for key, value in (asked | {"token": first + _PAGE}).items())
        links.append({"rel": "next", "href": str(request.url.replace(query=query))})
    features = [as_json(one, _base(request)) for one in found[first : first + _PAGE]]
    return JSONResponse({"type": "FeatureCollection", "features": features, "links": links})


def _in_time(one: RudeItem, asked: str) -> bool:
    if not asked:
        return True
    first, _, last = asked.partition("/")
    begin, end = (_OPEN[place] if text in ("", "..") else datetime.fromisoformat(text)
                  for place, text in enumerate((first, last or first)))  # fmt: skip
    return one.span[0] <= end and one.span[1] >= begin


def _near(one: RudeItem, asked: dict[str, str]) -> bool:
    """Boxes meet; what has no readable outline is near everything."""
    if "intersects" in asked:
        edges = _edges(json.loads(asked["intersects"])["coordinates"])
    elif "bbox" in asked:
        edges = [float(edge) for edge in asked["bbox"].split(",")]
    else:
        return True
    try:
        own = _edges((one.geometry or {})["coordinates"])
    except (KeyError, TypeError, ValueError):
        return True
    return own[0] <= edges[2] and own[2] >= edges[0] and own[1] <= edges[3] and own[3] >= edges[1]


def _edges(rings: Any) -> list[float]:
    flat = list(_points(rings))
    lon, lat = [point[0] for point in flat], [point[1] for point in flat]
    return [min(lon), min(lat), max(lon), max(lat)]


def _points(rings: Any) -> Any:
    if rings and isinstance(rings[0], int | float):
        yield [float(rings[0]), float(rings[1])]
    else:
        for part in rings:
            yield from _points(part)


class _Shelf:
    """Files, made when they are first asked for."""

    def __init__(self, folder: Path) -> None:
        self._folder, self._lock = folder, threading.Lock()

    def file(self, request: Request) -> Response:
        """A file of an item; ranges are answered, there is no digest."""
        name = request.path_params["name"]
        found = next((one for one in catalogue.items() if one.id == request.path_params["item"]), None)
        if found is None or name not in found.makers:
            return Response("?", 404)
        path = self._folder / found.id / name
        with self._lock:
            if not path.exists():
                path.parent.mkdir(parents=True, exist_ok=True)
                part = path.with_name(f".{name}")
                found.makers[name](part)
                part.rename(path)
        return FileResponse(path, media_type="application/octet-stream")
