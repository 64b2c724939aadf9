"""Orders: how a shortlist is split, the queue that survives, the whole way from terms to files."""

from __future__ import annotations

import itertools
import json
import re
from dataclasses import asdict, dataclass, replace
from datetime import UTC, datetime, timedelta

import pytest
import shapely

from zoompick.errors import DataError, SourceError, UsageError
from zoompick.geo.cuts import equal_pieces
from zoompick.geo.shapes import from_text, project
from zoompick.geo.sizes import area_km2
from zoompick.journal import history
from zoompick.money import Money
from zoompick.net.client import Client
from zoompick.net.login import Keyring, Login
from zoompick.net.refusals import AnsweredError, TransientError, UnreachableError
from zoompick.orders import jobs as orders
from zoompick.orders.desk import Desk
from zoompick.orders.queue import Order, Queue, on_order
from zoompick.orders.quotas import Quota, Share, next_to_submit, split
from zoompick.raster.masks import PolygonMask
from zoompick.raster.opening import open_raster
from zoompick.scenes import offer
from zoompick.standin.gannet import Gannet
from zoompick.standin.serve import archive as standin
from zoompick.study.orders import expected_end


@dataclass(frozen=True)
class Wanted:
    id: str
    footprint: shapely.Geometry
    collection: str = "c"
    tile: str = ""
    source: str = "s"
    price: Money | None = None


def shares(scenes: list[Wanted], area: shapely.Geometry | None = None) -> list[Share]:
    """The area's part of each."""
    return [Share.of(scene, area, scene.price) for scene in scenes]


def quota(**limits: float) -> dict[tuple[str, str], Quota]:
    """What the collection of these scenes allows."""
    return {("s", "c"): Quota(**limits)}


def strips(*widths: float, **more) -> list[Wanted]:
    """Scenes of one height, as wide as told, in hundredths of a degree."""
    return [Wanted(f"s{n}", shapely.box(0, 0, width / 100, 0.01), **more) for n, width in enumerate(widths)]


def sizes(*widths: float) -> list[float]:
    return [area_km2(scene.footprint) for scene in strips(*widths)]


@pytest.mark.parametrize(
    ("count", "limit", "expected"), [(7, 3, [3, 3, 1]), (6, 3, [3, 3]), (1, 3, [1]), (4, float("inf"), [4])]
)
def test_scenes_are_split_into_the_fewest_orders(count, limit, expected):
    found = split(shares(strips(*[1] * count)), quota(scenes_an_order=limit))
    assert [len(order.scenes) for order in found] == expected
    assert [order.number for order in found] == list(range(1, len(expected) + 1))
    assert [scene for order in found for scene in order.scenes] == [f"s{n}" for n in range(count)]


def test_a_bound_on_area_fills_orders_well():
    one = sizes(1)[0]
    found = split(shares(strips(2, 5, 4, 1, 6, 2)), quota(km2_an_order=10.05 * one))
    assert len(found) == 2
    assert all(order.km2 <= 10.05 * one for order in found)
    assert {scene for order in found for scene in order.scenes} == {f"s{n}" for n in range(6)}


def test_collections_and_prices_are_kept_apart():
    wanted = [*strips(1, 1, collection="a", price=Money(10.0, "crowns")), *strips(1, collection="b")]
    first, second = split(shares(wanted), {}, first=4)
    assert (first.number, first.collection, second.collection) == (4, "a", "b")
    assert first.price == pytest.approx(20 * sizes(1)[0], abs=0.01)
    assert (second.price, first.currency) == (0, "crowns")
    inside = split(shares(wanted, shapely.box(0, 0, 0.005, 0.01)), {})
    assert inside[0].price == pytest.approx(first.price / 2, abs=0.02)


def sheets(*cells: str) -> list[Wanted]:
    return [Wanted(f"s{n}", shapely.box(0, 0, 0.01, 0.01), tile=cell) for n, cell in enumerate(cells)]


@pytest.mark.parametrize(
    ("cells", "limits", "expected"),
    [
        ("abab", {"grid_cells_an_order": 1}, [["s0", "s2"], ["s1", "s3"]]),
        ("abcabc", {"grid_cells_an_order": 2}, [["s0", "s3", "s1", "s4"], ["s2", "s5"]]),
        ("aaab", {"grid_cells_an_order": 1, "scenes_an_order": 2}, [["s0", "s1"], ["s2"], ["s3"]]),
        ("abc", {"grid_cells_an_order": 3}, [["s0", "s1", "s2"]]),
    ],
)
def test_a_bound_on_grid_cells_keeps_those_of_a_cell_together(cells, limits, expected):
    found = split(shares(sheets(*cells)), quota(**limits))
    assert [list(order.scenes) for order in found] == expected


@pytest.mark.parametrize("count", [1, 2, 3, 5, 8])
def test_an_area_is_cut_into_equal_pieces(count):
    bay = shapely.Polygon([(0, 0), (0.3, 0), (0.3, 0.1), (0.2, 0.02), (0.1, 0.1), (0, 0.1)])
    pieces = equal_pieces(bay, count)
    assert len(pieces) == count
    assert [area_km2(piece) for piece in pieces] == pytest.approx([area_km2(bay) / count] * count, rel=1e-4)
    assert shapely.union_all(pieces).symmetric_difference(bay).area < 1e-8
    assert all(one.intersection(two).area < 1e-10 for one, two in itertools.pairwise(pieces))


@pytest.mark.parametrize("name", ["largest_area_km2", "km2_an_order"])
def test_an_area_too_large_for_an_order_is_cut(name):
    """Two dates over the same ground: as few pieces as will do, each of both where both may lie in it."""
    wide, other = (
        Wanted("a", shapely.box(0, 0, 0.05, 0.01), price=Money(2.0)),
        Wanted("b", shapely.box(0, 0, 0.05, 0.01)),
    )
    small = Wanted("c", shapely.box(0, 0, 0.01, 0.01))
    limit = 2.6 * sizes(1)[0]
    found = split(shares([wide, other, small]), quota(**{name: limit}))
    parts = [(order.scenes, order.part, order.parts) for order in found]
    if name == "largest_area_km2":
        assert parts == [(("a", "b"), 1, 2), (("a", "b"), 2, 2), (("c",), 0, 0)]
    else:
        assert sorted(parts) == [
            (("a",), 1, 2), (("a",), 2, 2), (("b",), 1, 2), (("b",), 2, 2), (("c",), 0, 0)]  # fmt: skip
    pieces = {order.piece for order in found if order.parts}
    assert shapely.union_all([from_text(piece) for piece in pieces]).symmetric_difference(wide.footprint).area < 1e-9
    assert sum(order.price for order in found) == pytest.approx(10 * sizes(1)[0], abs=0.03)


def test_a_limit_far_below_the_scenes_is_told_and_not_planned():
    """A source that gives 0.00001 km2 an order would cut a scene into a hundred thousand pieces, for hours."""
    with pytest.raises(UsageError, match=r"Scene s0 .* be ordered in \d{3},\d{3} pieces.*c gives 1e-05 km2"):
        split(shares(strips(1)), quota(largest_area_km2=1e-5))
    most = split(shares(strips(1)), quota(largest_area_km2=sizes(1)[0] / 400))
    assert 400 < len(most) <= 403
    assert sum(order.km2 for order in most) == pytest.approx(sizes(1)[0], rel=0.02)


@pytest.mark.parametrize("told", [0, -1, 1e400, "2", None, True])
def test_a_limit_that_is_no_number_above_0_limits_nothing(told):
    about = json.loads(json.dumps({"summaries": {"trade:limits": {"scenes_an_order": told, "km2_an_order": 7}}}))
    assert offer.limits(about) == {"km2_an_order": 7}


def order(number: int, state: str = "planned", collection: str = "c", **more) -> Order:
    return Order(number, "s", collection, (f"x{number}",), 1.0, 0.0, state=state, **more)


@pytest.mark.parametrize(
    ("states", "slots", "chosen"),
    [
        ("ppp", 2, [1, 2]), ("rpp", 2, [2]), ("rap", 2, []), ("fspp", 1, [3]), ("ppp", float("inf"), [1, 2, 3]),
        ("dp", 1, [2]),
    ],
)  # fmt: skip
def test_orders_are_handed_in_as_slots_free_up(states, slots, chosen):
    names = {"p": "planned", "r": "running", "a": "accepted", "f": "fetched", "s": "successful", "d": "dismissed"}
    queue = [order(number, names[letter]) for number, letter in enumerate(states, 1)]
    assert [o.number for o in next_to_submit(queue, quota(pending_orders=slots))] == chosen
    assert next_to_submit([order(1, collection="other")], quota(pending_orders=0))


def test_the_queue_survives(tmp_path):
    queue = Queue(tmp_path / "orders.json")
    assert list(queue) == []
    queue.add([order(1), order(2)])
    queue.replace(order(2, "running", progress=40))
    assert list(Queue(queue.path)) == [order(1), order(2, "running", progress=40)]
    nobody, numbers = (asdict(replace(order(1), scenes=scenes)) for scenes in ((), (7,)))
    for row in ({"nonsense": 1}, nobody, numbers):
        queue.path.write_text(json.dumps({"orders": [row]}))
        with pytest.raises(DataError, match="does not hold orders"):
            list(queue)


def test_the_expected_end():
    now = datetime(2026, 1, 1, 12, tzinfo=UTC)
    began = (now - timedelta(seconds=60)).isoformat()
    running = order(1, "running", progress=75, submitted=began)
    assert expected_end(running, [], now) == pytest.approx(20)
    old = order(2, "fetched", submitted=began, ended=(now + timedelta(seconds=40)).isoformat())
    assert expected_end(order(3), [old], now) == pytest.approx(100)
    assert expected_end(order(3, "accepted", submitted=began), [old], now) == pytest.approx(40)
    assert expected_end(order(3), [], now) is None
    assert expected_end(old, [old], now) is None


AREA = ("--box", -12.0560, -38.6110, -12.0545, -38.6100)


@pytest.fixture
def shop(program, archive, tmp_path):
    """A study with two strips and a container picked, and a log-in."""
    folder = tmp_path / "shop"
    program("new", folder, *AREA, "--source", "ostrell", "--collection", "gannet-vhr", "--dates", "2025-11/2025-12",
            "--cloud", 100)  # fmt: skip
    program("source", "add", "ostrell", archive, "--here", cwd=folder)
    assert program("search", cwd=folder).code == 0
    assert program("pick", "1-2", cwd=folder).code == 0
    Keyring().put(archive, Login("basic", "visitor", "ostrell"))
    yield folder
    Keyring().drop(archive)


def test_from_terms_to_files(shop, program):
    plan = program("order", "plan", "--json", cwd=shop).json
    price = sum(row["price"] for row in plan)
    assert price > 0 and sum(len(row["scenes"]) for row in plan) == 2
    refused = program("order", "submit", "--accept-price", 99, cwd=shop)
    assert refused.code == 2 and "have not been accepted" in refused.err
    asked = program("order", "ask", cwd=shop)
    digest = re.search(r"--accept-terms (\w+)", asked.err)[1]
    assert "invented collection gannet-vhr" in asked.out and digest in asked.out
    assert program("order", "ask", "--accept-terms", "1234567890", cwd=shop).code == 2
    assert program("order", "ask", "--accept-terms", digest, cwd=shop).code == 0
    followed = program("order", "ask", cwd=shop)
    assert "Accepted on" in followed.err and followed.out.count("not ordered yet") == 2
    dear = program("order", "submit", "--accept-price", price / 2, cwd=shop)
    assert dear.code == 2 and "Nothing was ordered" in dear.err
    assert not (shop / "orders.json").exists()
    assert program("order", "submit", "--accept-price", price, cwd=shop).code == 0
    done = program("order", "wait", "--every", "0.3s", cwd=shop)
    assert done.code == 0, done.err
    assert len(list(shop.glob("scenes/ostrell/gannet-vhr/*/*.tif"))) == 2
    queue = program("order", "status", "--json", cwd=shop).json
    assert {row["state"] for row in queue} == {"fetched"}
    assert program("order", "ask", cwd=shop).out.count("order 1 is fetched") == 2
    got = program("download", "--bands", "red", cwd=shop)
    assert got.code == 0 and "here, by size and time stamp" in got.err
    verified = program("verify", *shop.glob("scenes/ostrell/gannet-vhr/*/*.tif"), cwd=shop)
    assert verified.code == 0
    again = program("order", "plan", cwd=shop)
    assert again.code == 3 and "has still to be ordered" in again.err
    acts = [json.loads(line) for line in (shop / "journal.jsonl").read_text().splitlines()]
    assert {"order ask", "order submit", "order handed in", "order wait"} <= {act["act"] for act in acts}
    [bought] = [act for act in acts if act["act"] == "order handed in"]
    assert bought["price"] == pytest.approx(price) and bought["job"].startswith("http")
    assert "visitor" not in (shop / "journal.jsonl").read_text()


def test_cancelling(shop, program):
    digest = re.search(r"--accept-terms (\w+)", program("order", "ask", cwd=shop).err)[1]
    program("order", "ask", "--accept-terms", digest, cwd=shop)
    assert program("order", "submit", "--accept-price", 99, cwd=shop).code == 0
    assert program("order", "cancel", 7, cwd=shop).code == 2
    cancelled = program("order", "cancel", 1, cwd=shop)
    assert "dismissed" in cancelled.out
    assert program("order", "plan", cwd=shop).code == 0


def test_without_a_log_in_the_source_says_so(shop, program, archive):
    Keyring().drop(archive)
    digest = re.search(r"--accept-terms (\w+)", program("order", "ask", cwd=shop).err)[1]
    program("order", "ask", "--accept-terms", digest, cwd=shop)
    refused = program("order", "submit", "--accept-price", 99, cwd=shop)
    assert refused.code == 4 and "source login" in refused.err
    assert [row["state"] for row in json.loads((shop / "orders.json").read_text())["orders"]] == ["planned"]
    told = program("source", "login", "ostrell", cwd=shop)
    assert "an account and an order" in told.out and "/account" in told.out and "There is no log-in" in told.err
    wrong = program("source", "login", "ostrell", "--client-id", "x", cwd=shop)
    assert wrong.code == 2 and "--token-url" in wrong.err
    tokens = ("--token-url", f"{archive}/account/token")
    bad = program("source", "login", "ostrell", "--client-id", "x", *tokens, cwd=shop, stdin="no\n")
    assert bad.code == 4 and "these are not known here" in bad.err
    good = program(
        "source", "login", "ostrell", "--client-id", "visitor-tool", *tokens, cwd=shop, stdin="ostrell-tool\n"
    )
    assert good.code == 0 and "ostrell-tool" not in good.out + good.err
    assert re.search(r"It works: http://\S+/jobs lets it in", good.err)
    # Reading never buys: with a log-in there now, looking hands nothing in, nor does a limit too low for all.
    for look in (("status",), ("ask",), ("wait", "--every", "0.1s")):
        program("order", *look, cwd=shop)
        assert [row["state"] for row in json.loads((shop / "orders.json").read_text())["orders"]] == ["planned"]
    assert "One of them waits in the queue" in program("order", "plan", cwd=shop).err
    low = program("order", "submit", "--accept-price", 0.01, cwd=shop)
    assert low.code == 2 and "for orders that wait since earlier" in low.err.replace("\n", " ").replace(
        "          ", " "
    )
    assert [row["state"] for row in json.loads((shop / "orders.json").read_text())["orders"]] == ["planned"]
    assert program("order", "submit", "--accept-price", 99, cwd=shop).code == 0
    assert program("source", "login", "ostrell", "--forget", cwd=shop).code == 0


class Broken:
    """A client whose one answer is told."""

    def __init__(self, error: SourceError) -> None:
        self.error = error

    def json(self, url, body=None, method=""):
        execute = {"rel": orders._EXECUTE, "href": "http://h/processes/p/execution"}
        return {"links": [{"rel": "x/processes", "href": "http://h/processes"}], "processes": [{"links": [execute]}]}

    def acting(self, authority):
        return self

    def post_once(self, url, body):
        raise self.error


@pytest.mark.parametrize(
    ("error", "state"),
    [
        (TransientError("cut"), "unsure"),
        (TransientError("busy", status=429), "planned"),
        (TransientError("a gateway gave up", status=504), "unsure"),
        (SourceError("the answer is no JSON"), "unsure"),
        (UnreachableError("nothing listens"), "planned"),
        (AnsweredError("no", "", 402), "planned"),
    ],
)
def test_what_may_have_been_taken_is_never_handed_in_twice(tmp_path, error, state):
    from zoompick.scenes.source import Source
    from zoompick.study.folder import Study

    desk = Desk(Study(tmp_path), {"s": Source("s", "http://h")}, None, Broken(error))
    desk.queue.add([order(1)])
    with pytest.raises(SourceError):
        desk.hand_in([])
    assert [o.state for o in desk.queue] == [state]
    assert next_to_submit(desk.queue, {}) == ([] if state == "unsure" else [order(1)])
    [line] = history(desk.books.journal_file, "order handed in")
    assert (line["order"], line["outcome"]) == (1, "failed")
    if state == "unsure":
        with pytest.raises(UsageError, match="may have taken order 1"):
            desk.cancel([1])
        assert desk.cancel([1], not_taken=True)[0].state == "dismissed"


def test_a_source_without_orders(archive):
    with pytest.raises(SourceError, match="takes no orders"):
        orders.OrderDesk("s", "http://h", [], Client())
    links = [{"rel": "x/processes", "href": f"{archive}/processes"}]
    Keyring().put(archive, Login("basic", "visitor", "ostrell"))
    lost = orders.OrderDesk("s", archive, links, Client()).status(
        replace(order(1, "running"), job=f"{archive}/jobs/nothing")
    )
    Keyring().drop(archive)
    assert lost.state == "lost"


@pytest.fixture
def small_lots(monkeypatch, shared_cache):
    """The archive, whose vendor sells less than the area at once."""
    limits = {"largest_area_km2": 0.006, "scenes_an_order": 10, "pending_orders": 1}
    monkeypatch.setattr(Gannet, "order_limits", limits)
    told = Gannet.collection
    monkeypatch.setattr(Gannet, "collection", lambda self, base: told(self, base) | {"ost:limits": limits})
    with standin(shared_cache, faults=("queue:0",)) as address:
        yield address


def test_pieces_of_a_scene_become_one_file(small_lots, program, tmp_path):
    folder = tmp_path / "lots"
    program("new", folder, *AREA, "--source", "ostrell", "--collection", "gannet-vhr", "--dates", "2025-11/2025-12",
            "--cloud", 100)  # fmt: skip
    program("source", "add", "ostrell", small_lots, "--here", cwd=folder)
    assert program("search", cwd=folder).code == 0 and program("pick", "1", cwd=folder).code == 0
    Keyring().put(small_lots, Login("basic", "visitor", "ostrell"))
    try:
        plan = program("order", "plan", cwd=folder)
        assert re.search(r"\(piece 3\s+of\s+3\)", plan.out), plan.out
        digest = re.search(r"--accept-terms (\w+)", program("order", "ask", cwd=folder).err)[1]
        program("order", "ask", "--accept-terms", digest, cwd=folder)
        price = sum(row["price"] for row in program("order", "plan", "--json", cwd=folder).json)
        first = program("order", "submit", "--accept-price", price + 0.01, "--json", cwd=folder).json
        assert [row["state"] for row in first] == ["accepted", "planned", "planned"] or first[0]["state"] == "running"
        cancelled = program("order", "cancel", 2, cwd=folder)
        assert cancelled.code == 0
        [waits, again] = program("order", "plan", "--json", cwd=folder).json
        assert waits["number"] == 3
        assert (again["number"], again["part"], again["parts"]) == (4, 2, 3)
        done = program("order", "submit", "--accept-price", price, "--wait", "--every", "0.2s", cwd=folder)
        assert done.code == 0 and "3 pieces of" in done.err, done.err
    finally:
        Keyring().drop(small_lots)
    [path] = folder.glob("scenes/ostrell/*/*/*.tif")
    assert not (path.parent / "pieces").exists()
    # As if the run had been killed after the joining: no piece is fetched again.
    rows = (folder / "orders.json").read_text()
    (folder / "orders.json").write_text(rows.replace('"fetched"', '"successful"'))
    Keyring().put(small_lots, Login("basic", "visitor", "ostrell"))
    assert "0 files fetched" in program("order", "wait", "--every", "0.2s", cwd=folder).err
    Keyring().drop(small_lots)
    assert not (path.parent / "pieces").exists()
    assert program("order", "plan", cwd=folder).code == 3
    joined = open_raster(path)
    assert [band.name for band in joined.bands] == ["blue", "green", "red", "nir"]
    pixels = joined.read(joined.grid.window)
    area = project(shapely.box(*AREA[1:]), joined.grid.crs)
    inside = PolygonMask(area, joined.grid).read(joined.grid.window)
    assert inside.sum() * joined.grid.pixel_x**2 == pytest.approx(area.area, rel=0.001)
    assert (pixels[0][inside] > 0).mean() > 0.995


def test_what_comes_by_orders_is_told_by_how_far_it_is(tmp_path):
    """What is ready is not to be ordered, and what is only planned is."""
    queue = Queue(tmp_path / "orders.json")
    states = {"a": "successful", "b": "running", "c": "planned", "d": "unsure", "e": "failed"}
    queue.write([Order(n, "s", "k", (name,), 1, 0, state=states[name]) for n, name in enumerate(states, 1)])
    assert on_order(["a", "b", "c", "d", "e", "f"], queue) == [
        "1 scene is ready: 'zoompick order wait' fetches it.",
        "2 scenes are ordered and under way: 'zoompick order wait' waits for them.",
        "3 scenes have to be ordered first: 'zoompick order plan' plans them.",
    ]
    assert on_order([], queue) == []
