"""Addresses of the picture tiles: WMTS by query and by path, XYZ by path, TileJSON."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from zoompick.standin import tiles


def routes(cache: Path) -> list[Route]:
    """Routes under ``/tiles``; each runs in a thread, since pixels have to be made."""

    def send(layer: str, zoom: Any, x: Any, y: Any, form: str) -> Response:
        try:
            data, kind = tiles.tile(cache, layer, int(zoom), int(x), int(y), form)
        except (tiles.NoTileError, ValueError) as error:
            raise HTTPException(404, str(error)) from error
        return Response(data, media_type=kind, headers={"Cache-Control": "public, max-age=86400"})

    def by_query(request: Request) -> Response:
        """Key-value pairs, in capitals or not (WMTS 1.0.0, section 8.2)."""
        told = {key.upper(): value for key, value in request.query_params.items()}
        if told.get("REQUEST", "GetCapabilities") == "GetCapabilities":
            base = str(request.base_url).rstrip("/")
            return Response(tiles.capabilities(base), media_type="application/xml")
        form = {kind: name for name, kind in tiles.FORMATS.items()}.get(told.get("FORMAT", ""), "")
        return send(told.get("LAYER", ""), told.get("TILEMATRIX"), told.get("TILECOL"), told.get("TILEROW"), form)

    def by_path(request: Request) -> Response:
        at = request.path_params
        if at["set"] != tiles.MATRIX_SET:
            raise HTTPException(404, f"no matrix set {at['set']}")
        return send(at["layer"], at["z"], at["x"], at["y"], at["form"])

    def xyz(request: Request) -> Response:
        at = request.path_params
        return send(at["layer"], at["z"], at["x"], at["y"], at["form"])

    def about(request: Request) -> Response:
        try:
            return JSONResponse(tiles.tilejson(str(request.base_url).rstrip("/"), request.path_params["layer"]))
        except tiles.NoTileError as error:
            raise HTTPException(404, str(error)) from error

    return [
        Route("/tiles/wmts", by_query),
        Route("/tiles/wmts/{layer}/{set}/{z:int}/{y:int}/{x:int}.{form}", by_path),
        Route("/tiles/{layer}/tilejson.json", about),
        Route("/tiles/{layer}/{z:int}/{x:int}/{y:int}.{form}", xyz),
    ]
