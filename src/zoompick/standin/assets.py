"""Files of scenes over HTTP: ranges, ETag, Last-Modified, and the digest of the whole file (RFC 9530)."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import FileResponse

from zoompick.standin.instrument import Instrument
from zoompick.standin.store import Published, Store

_TYPES = {
    ".png": "image/png",
    ".tif": "image/tiff; application=geotiff; profile=cloud-optimized",
    ".h5": "application/x-hdf5",
    ".nc": "application/x-netcdf",
    ".gz": "application/gzip",
    ".pdf": "application/pdf",
    ".bz2": "application/x-bzip2",
}


def endpoint(store: Store, shelves: Mapping[str, Instrument]) -> Any:
    """Route handler for ``/files/{scene}/{name}``; it runs in a thread, since pixels may have to be made."""

    def serve(request: Request) -> FileResponse:
        scene_id, name = request.path_params["scene"], request.path_params["name"]
        scene, instrument = next(
            ((scene, shelf) for shelf in shelves.values() if (scene := shelf.by_id(scene_id))), (None, None)
        )
        if scene is None or instrument is None:
            raise HTTPException(404, "no such file")
        if reason := instrument.is_closed(name):
            raise HTTPException(403, reason)
        found = store.file(instrument, scene, name)
        if found is None:
            raise HTTPException(404, "no such file")
        return _sent(*found)

    return serve


def deliveries(store: Store, shelves: Mapping[str, Instrument], cache: Path) -> Any:
    """Route handler for ``/deliveries/{name}``: files that are no scene's own."""

    def serve(request: Request) -> FileResponse:
        for shelf in shelves.values():
            found = shelf.delivery(request.path_params["name"], cache, store)
            if found is not None:
                return _sent(*found)
        raise HTTPException(404, "no such delivery")

    return serve


def _sent(path: Path, published: Published) -> FileResponse:
    digest = base64.b64encode(bytes.fromhex(published.sha256)).decode()
    headers = {
        "Repr-Digest": f"sha-256=:{digest}:",
        "ETag": f'"{published.sha256[:24]}-{published.size}"',
        "Cache-Control": "public, max-age=86400",
    }
    return FileResponse(path, headers=headers, media_type=_TYPES.get(path.suffix, "application/octet-stream"))
