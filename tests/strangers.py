"""Servers of strangers: a catalogue, an order desk and files on one address, each as honest as a test makes it."""

from __future__ import annotations

import http.server
import json
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from badserver import Patient

OGC = "http://www.opengis.net/def/rel/ogc/1.0/"
RING = [[-12.2, -38.7], [-12.0, -38.7], [-12.0, -38.5], [-12.2, -38.5], [-12.2, -38.7]]


@dataclass
class Seen:
    """A request as it came."""

    method: str
    path: str
    headers: dict[str, str]
    body: bytes

    @property
    def key(self) -> str:
        return self.headers.get("Authorization", "")

    @property
    def json(self) -> Any:
        return json.loads(self.body)


Answer = tuple[int, dict[str, str], Any] | None
"""Status, headers, and a body: JSON, bytes, or pieces without a length; None breaks the connection."""


@dataclass
class Stranger:
    """One server: answers by path, or by a function; what it was asked is kept."""

    url: str = ""
    paths: dict[str, Any] = field(default_factory=dict)
    route: Callable[[Seen], Answer] | None = None
    seen: list[Seen] = field(default_factory=list)

    def asked(self, method: str, beginning: str) -> list[Seen]:
        """Requests of a method below a path."""
        return [one for one in self.seen if one.method == method and one.path.startswith(beginning)]

    def answer(self, seen: Seen) -> Answer:
        self.seen.append(seen)
        found = self.route(seen) if self.route is not None else NotImplemented
        if found is not NotImplemented:
            return found
        value = self.paths.get(seen.path.partition("?")[0])
        return (404, {}, {"description": "nothing here"}) if value is None else (200, {}, value)

    def catalogue(self, items: list[dict[str, Any]], *links: dict[str, Any], collection: Any = None) -> None:
        """A STAC API with one collection, ``c1``."""
        url = self.url
        extent = {
            "spatial": {"bbox": [[-13, -39, -11, -38]]},
            "temporal": {"interval": [["2020-01-01T00:00:00Z", None]]},
        }
        one = collection or {
            "type": "Collection", "id": "c1", "stac_version": "1.0.0", "title": "t", "license": "x",
            "description": "d", "links": [], "extent": extent,
        }  # fmt: skip
        search = {"rel": "search", "href": f"{url}/search", "method": "POST"}
        self.paths |= {
            "/": {"type": "Catalog", "id": "x", "title": "t", "description": "d", "stac_version": "1.0.0",
                  "conformsTo": ["https://api.stacspec.org/v1.0.0/item-search"],
                  "links": [{"rel": "data", "href": f"{url}/collections"}, search, *links]},
            "/collections": {"collections": [one], "links": []},
            "/collections/c1": one,
            "/search": {"type": "FeatureCollection", "features": items, "links": []},
        }  # fmt: skip
        for item in items:
            self.paths[f"/items/{item['id']}"] = item

    def item(self, name: str = "s1", href: str = "", west: float = -12.2, **properties: Any) -> dict[str, Any]:
        """An item over the same box, or one that begins elsewhere in the west."""
        ring = [[lon + west + 12.2, lat] for lon, lat in RING]
        return {
            "type": "Feature", "stac_version": "1.0.0", "id": name, "collection": "c1",
            "geometry": {"type": "Polygon", "coordinates": [ring]}, "bbox": [ring[0][0], -38.7, ring[1][0], -38.5],
            "properties": {"datetime": "2025-12-20T11:17:21Z", "eo:cloud_cover": 1, "platform": "p"} | properties,
            "links": [{"rel": "self", "href": f"{self.url}/items/{name}"},
                      {"rel": "collection", "href": f"{self.url}/collections/c1"}],
            "assets": {"red": {"href": href or f"{self.url}/{name}.tif", "type": "image/tiff", "roles": ["data"]}},
        }  # fmt: skip

    def desk(self, jobs: str = "/jobs") -> tuple[dict[str, Any], dict[str, Any]]:
        """Links of a landing page that takes orders; the process is told as well."""
        execute = {"rel": f"{OGC}execute", "href": f"{self.url}/processes/p/execution"}
        self.paths["/processes"] = {"processes": [{"id": "p", "links": [execute]}]}
        self.paths[jobs] = {"jobs": [], "links": []}
        return ({"rel": f"{OGC}processes", "href": f"{self.url}/processes"},
                {"rel": f"{OGC}job-list", "href": f"{self.url}{jobs}"})  # fmt: skip


@contextmanager
def stranger(host: str = "127.0.0.1") -> Iterator[Stranger]:
    """A server for a while."""
    here = Stranger()

    class Handler(http.server.BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def one(self) -> None:
            size = int(self.headers.get("Content-Length") or 0)
            seen = Seen(
                self.command,
                self.path,
                {name.title(): value for name, value in self.headers.items()},
                self.rfile.read(size) if size else b"",
            )
            answer = here.answer(seen)
            if answer is None:
                self.close_connection = True
                return
            status, headers, body = answer
            if isinstance(body, dict | list):
                body, headers = json.dumps(body).encode(), {"Content-Type": "application/json"} | headers
            if isinstance(body, str):
                body = body.encode("utf-8", "surrogatepass")
            self.send_response(status)
            if isinstance(body, bytes):
                headers = {"Content-Length": str(len(body))} | headers
            else:
                headers, self.close_connection = {"Connection": "close"} | headers, True
            for name, value in headers.items():
                self.send_header(name, value)
            self.end_headers()
            if self.command != "HEAD":
                for piece in [body] if isinstance(body, bytes) else body:
                    self.wfile.write(piece)

        do_GET = do_HEAD = do_POST = do_DELETE = do_PUT = one  # noqa: N815

        def log_message(self, *args: object) -> None:
            """Say nothing."""

    server = Patient((host, 0), Handler)
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    here.url = f"http://{host}:{server.server_port}"
    try:
        yield here
    finally:
        server.shutdown()
        server.server_close()
