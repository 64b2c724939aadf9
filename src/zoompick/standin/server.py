"""The archive as a web application: STAC API 1.0 over the hand-written catalogue."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Route

from zoompick.standin import assets, catalogue, passes, search
from zoompick.standin.faults import Faults, FaultyApp
from zoompick.standin.store import Store

_GEOJSON = "application/geo+json"


def application(cache: Path, faults: Faults | None = None) -> Any:
    """Build the ASGI application whose files are kept under ``cache``."""
    archive = _Archive(Store(cache))
    here = f"/collections/{catalogue.name()}"
    routes = [
        Route("/", archive.landing),
        Route("/conformance", archive.conformance),
        Route("/collections", archive.collections),
        Route("/collections/{collection}", archive.collection),
        Route("/collections/{collection}/items", archive.items),
        Route(here + "/items/{item}", archive.item),
        Route("/search", archive.search, methods=["GET", "POST"]),
        Route("/files/{scene}/{name}", assets.endpoint(archive.store)),
    ]
    handlers: Any = {HTTPException: _http_error, search.QueryError: _query_error}
    app = Starlette(routes=routes, exception_handlers=handlers)
    return FaultyApp(app, faults) if faults and faults != Faults() else app


def _http_error(request: Request, error: Any) -> JSONResponse:
    return JSONResponse({"code": str(error.status_code), "description": error.detail}, error.status_code)


def _query_error(request: Request, error: Any) -> JSONResponse:
    return JSONResponse({"code": "BadRequest", "description": str(error)}, 400)


def _base(request: Request) -> str:
    return str(request.base_url).rstrip("/")


class _Archive:
    """The endpoints, over one store of files."""

    def __init__(self, store: Store) -> None:
        self.store = store

    async def landing(self, request: Request) -> JSONResponse:
        return JSONResponse(catalogue.landing(_base(request)))

    async def conformance(self, request: Request) -> JSONResponse:
        return JSONResponse({"conformsTo": catalogue.CONFORMANCE})

    async def collections(self, request: Request) -> JSONResponse:
        base = _base(request)
        links = [{"rel": "self", "href": f"{base}/collections", "type": "application/json"}]
        return JSONResponse({"collections": [catalogue.collection(base)], "links": links})

    async def collection(self, request: Request) -> JSONResponse:
        self._known(request)
        return JSONResponse(catalogue.collection(_base(request)))

    def _known(self, request: Request) -> None:
        if request.path_params["collection"] != catalogue.name():
            raise HTTPException(404, f"no collection {request.path_params['collection']}")

    async def item(self, request: Request) -> JSONResponse:
        scene = passes.by_id().get(request.path_params["item"])
        if scene is None:
            raise HTTPException(404, f"no item {request.path_params['item']}")
        return JSONResponse(catalogue.item(scene, _base(request), self.store), media_type=_GEOJSON)

    async def items(self, request: Request) -> JSONResponse:
        self._known(request)
        given = search.from_get(dict(request.query_params))
        return await self._page(request, given | {"collections": [catalogue.name()]})

    async def search(self, request: Request) -> JSONResponse:
        if request.method == "GET":
            return await self._page(request, search.from_get(dict(request.query_params)))
        try:
            given = await request.json()
        except json.JSONDecodeError as error:
            raise search.QueryError(f"the body is not JSON: {error}") from error
        if not isinstance(given, dict):
            raise search.QueryError("the body is no JSON object")
        return await self._page(request, given)

    async def _page(self, request: Request, given: dict[str, Any]) -> JSONResponse:
        return JSONResponse(await run_in_threadpool(self._found, request, given), media_type=_GEOJSON)

    def _found(self, request: Request, given: dict[str, Any]) -> dict[str, Any]:
        base, query = _base(request), search.Query.parse(given)
        found = search.matches(query, passes.scenes(), lambda scene: catalogue.item(scene, base, self.store))
        page = found[query.offset : query.offset + query.limit]
        links = [{"rel": "root", "href": f"{base}/", "type": "application/json"}]
        after = query.offset + len(page)
        if after < len(found):
            links.append(_next(request, given, search.token_of(after)))
        return {
            "type": "FeatureCollection",
            "features": [catalogue.item(scene, base, self.store) for scene in page],
            "links": links,
            "numberMatched": len(found),
            "numberReturned": len(page),
        }


def _next(request: Request, given: dict[str, Any], token: str) -> dict[str, Any]:
    """Link to the next page, to be followed as it is (STAC API 1.0, item search, paging)."""
    address = str(request.url).split("?", maxsplit=1)[0]
    if request.method == "POST":
        body = given | {"token": token}
        return {"rel": "next", "href": address, "method": "POST", "type": _GEOJSON, "body": body}
    params = dict(request.query_params) | {"token": token}
    return {"rel": "next", "href": f"{address}?{urlencode(params)}", "method": "GET", "type": _GEOJSON}
