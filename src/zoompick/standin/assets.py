"""Files of scenes over HTTP: ranges, ETag, Last-Modified, and the digest of the whole file (RFC 9530)."""

from __future__ import annotations

import base64
from typing import Any

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import FileResponse

from zoompick.standin.passes import by_id
from zoompick.standin.store import Store


def endpoint(store: Store) -> Any:
    """Route handler for ``/files/{scene}/{name}``; it runs in a thread, since pixels may have to be made."""

    def serve(request: Request) -> FileResponse:
        scene = by_id().get(request.path_params["scene"])
        found = store.file(scene, request.path_params["name"]) if scene else None
        if found is None:
            raise HTTPException(404, "no such file")
        path, published = found
        digest = base64.b64encode(bytes.fromhex(published.sha256)).decode()
        kind = "image/png" if path.suffix == ".png" else "image/tiff; application=geotiff; profile=cloud-optimized"
        headers = {
            "Repr-Digest": f"sha-256=:{digest}:",
            "ETag": f'"{published.sha256[:24]}-{published.size}"',
            "Cache-Control": "public, max-age=86400",
        }
        return FileResponse(path, headers=headers, media_type=kind)

    return serve
