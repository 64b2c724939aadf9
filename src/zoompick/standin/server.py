"""The archive as a web application: STAC API 1.0 over the hand-written catalogue."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Route

from zoompick.standin import assets, catalogue, desk, search, tilehouse
from zoompick.standin.accounts import Accounts
from zoompick.standin.faults import Faults, FaultyApp
from zoompick.standin.instrument import Instrument
from zoompick.standin.search import Query
from zoompick.standin.store import Store
from zoompick.standin.synthetic import Synthetic

_GEOJSON = "application/geo+json"


def application(cache: Path, faults: Faults | None = None, synthetic: int = 0) -> Any:
    """Build the ASGI application whose files are kept under ``cache``; ``synthetic`` adds a made-up collection."""
    shelves = dict(catalogue.instruments())
    if synthetic:
        shelves[Synthetic.name] = Synthetic(synthetic)
    troubles = faults or Faults()
    archive, accounts = _Archive(Store(cache), shelves), Accounts(troubles.token)
    manners = desk.Manners(wait_s=troubles.queue, fails=troubles.jobs, keeps_s=troubles.expire)
    orders = desk.Desk(archive.store, shelves, accounts, manners)
    routes = [
        Route("/", archive.landing),
        Route("/conformance", archive.conformance),
        Route("/collections", archive.collections),
        Route("/collections/{collection}", archive.collection),
        Route("/collections/{collection}/items", archive.items),
        Route("/collections/{collection}/items/{item}", archive.item),
        Route("/search", archive.search, methods=["GET", "POST"]),
        Route("/files/{scene}/{name}", assets.endpoint(archive.store, shelves)),
        Route("/deliveries/{name}", assets.deliveries(archive.store, shelves, cache)),
        *tilehouse.routes(cache),
        *accounts.routes(),
        *orders.routes(),
    ]
    handlers: Any = {HTTPException: _http_error, search.QueryError: _query_error}
    app = Starlette(routes=routes, exception_handlers=handlers)
    return FaultyApp(app, troubles) if troubles != Faults() else app


def _http_error(request: Request, error: Any) -> JSONResponse:
    told = {"code": str(error.status_code), "description": error.detail}
    return JSONResponse(told, error.status_code, headers=error.headers)


def _query_error(request: Request, error: Any) -> JSONResponse:
    return JSONResponse({"code": "BadRequest", "description": str(error)}, 400)


def _base(request: Request) -> str:
    return str(request.base_url).rstrip("/")


class _Archive:
    """The endpoints, over one store of files and the shelves of all instruments."""

    def __init__(self, store: Store, shelves: Mapping[str, Instrument]) -> None:
        self.store = store
        self.shelves = shelves

    async def landing(self, request: Request) -> JSONResponse:
        return JSONResponse(catalogue.landing(_base(request), self.shelves))

    async def conformance(self, request: Request) -> JSONResponse:
        return JSONResponse({"conformsTo": catalogue.CONFORMANCE})

    async def collections(self, request: Request) -> JSONResponse:
        base = _base(request)
        links = [{"rel": "self", "href": f"{base}/collections", "type": "application/json"}]
        found = [shelf.collection(base) for shelf in self.shelves.values()]
        return JSONResponse({"collections": found, "links": links})

    async def collection(self, request: Request) -> JSONResponse:
        return JSONResponse(self._shelf(request).collection(_base(request)))

    def _shelf(self, request: Request) -> Instrument:
        name = request.path_params["collection"]
        if name not in self.shelves:
            raise HTTPException(404, f"no collection {name}")
        return self.shelves[name]

    def item(self, request: Request) -> JSONResponse:
        shelf = self._shelf(request)
        scene = shelf.by_id(request.path_params["item"])
        if scene is None:
            raise HTTPException(404, f"no item {request.path_params['item']}")
        return JSONResponse(shelf.item(scene, _base(request), self.store), media_type=_GEOJSON)

    async def items(self, request: Request) -> JSONResponse:
        shelf = self._shelf(request)
        given = search.from_get(dict(request.query_params))
        return await self._page(request, given | {"collections": [shelf.name]})

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
        query = Query.parse(given)
        count, page = self._matching(query, _base(request))
        links = [{"rel": "root", "href": f"{_base(request)}/", "type": "application/json"}]
        after = query.offset + len(page)
        if after < count:
            links.append(_next(request, given, search.token_of(after)))
        return {
            "type": "FeatureCollection",
            "features": page,
            "links": links,
            "numberMatched": count,
            "numberReturned": len(page),
        }

    def _matching(self, query: Query, base: str) -> tuple[int, list[dict[str, Any]]]:
        """Number of matches over the shelves asked for, and the items of one page."""
        asked = [shelf for name, shelf in self.shelves.items() if not query.collections or name in query.collections]
        if len(asked) == 1 and (page := asked[0].page(query, base, self.store)):
            return page
        home = {scene.id: shelf for shelf in asked for scene in shelf.scenes()}

        def as_item(scene: Any) -> dict[str, Any]:
            return home[scene.id].item(scene, base, self.store)

        found = search.matches(query, [scene for shelf in asked for scene in shelf.scenes()], as_item)
        return len(found), [as_item(scene) for scene in found[query.offset : query.offset + query.limit]]


def _next(request: Request, given: dict[str, Any], token: str) -> dict[str, Any]:
    """Link to the next page, to be followed as it is (STAC API 1.0, item search, paging)."""
    address = str(request.url).split("?", maxsplit=1)[0]
    if request.method == "POST":
        body = given | {"token": token}
        return {"rel": "next", "href": address, "method": "POST", "type": _GEOJSON, "body": body}
    params = dict(request.query_params) | {"token": token}
    return {"rel": "next", "href": f"{address}?{urlencode(params)}", "method": "GET", "type": _GEOJSON}
