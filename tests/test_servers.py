"""Servers as they are: half-broken, half-standard, hostile. A small server of our own plays each of them."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest
import shapely

from helpers import FEN
from zoompick.discovery import find
from zoompick.discovery.criteria import Criteria
from zoompick.discovery.stac import StacApi
from zoompick.errors import SourceError
from zoompick.geo.shapes import polygon_of
from zoompick.net.client import Client
from zoompick.net.ranges import RemoteFile
from zoompick.scenes.source import Source

AREA = polygon_of(FEN)
CQL, QUERY = (
    "http://www.opengis.net/spec/cql2/1.0/conf/cql2-json",
    "https://api.stacspec.org/v1.0.0/item-search#query",
)


def item(name: str, **other: Any) -> dict[str, Any]:
    """An item over the fen."""
    properties = {"datetime": "2025-12-15T11:00:00Z", "platform": name, "eo:cloud_cover": 5}
    return {"type": "Feature", "id": name, "collection": "c", "geometry": FEN, "assets": {}, "links": [],
            "properties": properties} | other  # fmt: skip


class Played:
    """What a server was asked, and how it answers: ``answer(page number, body)`` gives a status and a document."""

    def __init__(self, answer: Callable[[int, dict[str, Any]], tuple[int, Any]], conforms: list[str]) -> None:
        self.answer, self.conforms = answer, conforms
        self.bodies: list[dict[str, Any]] = []
        self.url = ""


@pytest.fixture
def play(monkeypatch) -> Iterator[Callable[..., Played]]:
    """Start a server that plays a part."""
    monkeypatch.setenv("ZOOMPICK_RETRIES", "1")
    monkeypatch.setenv("ZOOMPICK_RETRY_WAIT_MAX_S", "0.01")
    servers = []

    def start(answer: Any, conforms: tuple[str, ...] = ()) -> Played:
        played = Played(answer, list(conforms))

        class Handler(BaseHTTPRequestHandler):
            def log_message(self, *words: Any) -> None:
                pass

            def give(self, status: int, value: Any) -> None:
                data = value if isinstance(value, bytes) else json.dumps(value).encode()
                self.send_response(status)
                self.send_header("Content-Type", "text/html" if isinstance(value, bytes) else "application/json")
                self.send_header("Content-Length", str(len(data)))
                self.end_headers()
                self.wfile.write(data)

            def do_GET(self) -> None:
                search = {"rel": "search", "href": f"{played.url}/search", "method": "POST"}
                data = {"rel": "data", "href": f"{played.url}/collections"}
                if self.path.startswith("/file"):
                    self.give(200, b"0123456789" * 10)
                elif self.path == "/collections":
                    self.give(200, {"collections": [{"id": "c"}, {"id": "d"}], "links": []})
                else:
                    self.give(200, {"type": "Catalog", "conformsTo": played.conforms, "links": [search, data]})

            def do_POST(self) -> None:
                body = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
                played.bodies.append(body)
                status, value = played.answer(int(body.get("page", 0)), body)
                if isinstance(value, list):
                    following = {"rel": "next", "href": f"{played.url}/search", "method": "POST", "merge": True,
                                 "body": {"page": int(body.get("page", 0)) + 1}}  # fmt: skip
                    more = value and value[-1] is Ellipsis
                    features = [entry for entry in value if entry is not Ellipsis]
                    value = {"type": "FeatureCollection", "features": features, "links": [following] if more else []}
                self.give(status, value)

        server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        played.url = f"http://127.0.0.1:{server.server_port}"
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        servers.append(server)
        return played

    yield start
    for server in servers:
        server.shutdown()


def found(played: Played, **wish: Any) -> find.Found:
    return find.search_all([Source("s", played.url)], Criteria(AREA, **wish))


@pytest.mark.parametrize(
    ("failure", "told"),
    [
        ((500, {"description": "the disk is full"}), "answered 500 (the disk is full)"),
        ((404, {"title": "gone", "status": 404}), "answered 404 (gone)"),
        ((200, b"<html>please log in</html>"), "answered with text/html where JSON was expected"),
        ((200, {"features": "none"}), ""),
    ],
)
def test_a_page_that_fails_does_not_lose_the_pages_before_it(play, failure, told):
    played = play(lambda page, body: (200, [item("a"), item("b"), ...]) if page == 0 else failure)
    result = found(played)
    assert [entry.scene.id for entry in result.entries] == ["a", "b"]
    assert [told in problem.what for problem in result.problems] == ([True] if told else [])


def test_the_program_says_what_is_missing_and_ends_in_part(play, program):
    played = play(lambda page, body: (200, [item("a"), ...]) if page == 0 else (500, {}))
    program("source", "add", "half", played.url)
    done = program("search", "--source", "half", "--box", "-12.07", "-38.62", "-12.05", "-38.61")
    assert done.code == 5
    assert "1 scene found" in done.err and "answered 500" in done.err and "lapwing" not in done.out


def test_pages_in_a_circle_end_and_keep_what_came(play):
    played = play(lambda page, body: (200, [item("a"), ...]))
    played.answer = lambda page, body: (200, {"features": [item("a")], "links": [
        {"rel": "next", "href": f"{played.url}/search", "method": "POST", "body": {"page": 7}}]})  # fmt: skip
    result = found(played)
    assert [entry.scene.id for entry in result.entries] == ["a"]
    assert "in a circle" in result.problems[0].what


def test_filters_are_sent_as_each_server_takes_them(play):
    wish = {"cloud_max": 20, "sun_min_deg": 30}
    for conforms, key in (((CQL,), "filter"), ((QUERY,), "query"), ((), None)):
        played = play(lambda page, body: (200, []), conforms)
        list(StacApi(played.url, Client()).search(Criteria(AREA, **wish)))
        assert {name for name in played.bodies[0] if name in ("filter", "query")} == ({key} if key else set())
        # The older language knows no "or", and which name for cloud this server uses nothing tells.
        assert played.bodies[0].get("query", {"view:sun_elevation": {"gte": 30}}) == {
            "view:sun_elevation": {"gte": 30}
        }
    cql = play(lambda page, body: (200, []), (CQL,))
    list(StacApi(cql.url, Client()).search(Criteria(AREA, **wish)))
    assert cql.bodies[0]["filter"] == {"op": "and", "args": [
        {"op": "or", "args": [{"op": "<=", "args": [{"property": name}, 20]}
                              for name in ("eo:cloud_cover", "cloud_cover", "cloudCover")]},
        {"op": ">=", "args": [{"property": "view:sun_elevation"}, 30]}]}  # fmt: skip


def test_a_server_that_refuses_its_own_filter_is_asked_without(play):
    def answer(page, body):
        return (400, {"detail": "unknown property"}) if "filter" in body else (200, [item("a")])

    played = play(answer, (CQL,))
    assert [e.scene.id for e in found(played, cloud_max=20).entries] == ["a"]
    assert [("filter" in body) for body in played.bodies] == [True, False]
    always = play(lambda page, body: (400, {"detail": "no"}))
    with pytest.raises(SourceError, match=r"answered 400 \(no\)"):
        found(always)


def test_what_comes_back_is_tested_against_every_filter(play):
    late = {"datetime": "2019-01-01T00:00:00Z", "eo:cloud_cover": 1}
    odd = [
        item("good"),
        item("cloudy", properties={"datetime": "2025-12-15T11:00:00Z", "eo:cloud_cover": 90}),
        item("late", properties=late),
        item("elsewhere", geometry=json.loads(shapely.to_geojson(shapely.box(3, 3, 4, 4)))),
        item("other", collection="d"),
    ]
    played = play(lambda page, body: (200, odd))
    result = found(played, cloud_max=20, collections=("c",), periods=(find.Period.parse("2025"),))
    assert [entry.scene.id for entry in result.entries] == ["good"]


def test_items_of_every_shape_are_taken_or_left_out_and_counted(play):
    broken = [
        {"id": 7}, {"properties": {}}, {"id": "no-date", "properties": {}}, {"id": "bad", "properties": "none"},
        item("bad-date", properties={"datetime": "yesterday"}),
        item("box", geometry=None, bbox=[-12.08, -38.63, 0, -12.04, -38.6, 90]),
        item("placeless", geometry=None), item("bow", geometry={"type": "Polygon", "coordinates": [[[0, 0]]]}),
        item("words", assets="many", links=None, properties={"datetime": "2025-12-15", "eo:cloud_cover": "few"}),
        item("twin"), item("twin", collection="d"),
    ]  # fmt: skip
    notes: list[Any] = []
    played = play(lambda page, body: (200, broken))
    result = find.search_all([Source("s", played.url)], Criteria(AREA, versions="all"), notes.append)
    assert sorted(entry.scene.id for entry in result.entries) == ["box", "twin", "twin", "words"]
    assert any(
        "7 of 11 scenes cannot be read or placed; the first: an item has no id" in getattr(note, "text", "")
        for note in notes
    )


def test_a_huge_outline_is_sent_light_and_an_area_across_the_antimeridian_split(play):
    played = play(lambda page, body: (200, []))
    circle = shapely.Point(-12, -38.6).buffer(0.1, quad_segs=50_000)
    list(StacApi(played.url, Client()).search(Criteria(circle)))
    assert len(json.dumps(played.bodies[0])) < 20_000
    sent = polygon_of(played.bodies[0]["intersects"])
    assert sent.buffer(1e-9).contains(circle)
    split = shapely.union(shapely.box(179, -17, 180, -16), shapely.box(-180, -17, -179, -16))
    list(StacApi(played.url, Client()).search(Criteria(split)))
    assert played.bodies[1]["intersects"]["type"] == "MultiPolygon"


def test_a_server_without_ranges_is_told(play):
    played = play(lambda page, body: (200, []))
    with pytest.raises(SourceError, match="only sent whole"):
        RemoteFile(f"{played.url}/file.tif", Client()).read(0, 10)
