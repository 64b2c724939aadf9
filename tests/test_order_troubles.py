"""The order desk under troubles, asked in this process: jobs that fail, results that expire, tokens that end."""

from __future__ import annotations

import time
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import pytest
import shapely

from zoompick.errors import DataError, NothingFoundError, SourceError, UsageError
from zoompick.events import Noted
from zoompick.net.client import Client
from zoompick.net.login import Keyring, Login
from zoompick.orders import jobs as orders
from zoompick.orders.desk import Desk
from zoompick.orders.queue import Order, Queue
from zoompick.orders.quotas import Quota
from zoompick.scenes.scene import Scene
from zoompick.scenes.source import Source
from zoompick.standin.desk import terms_digest
from zoompick.standin.serve import archive as standin
from zoompick.study.folder import Study
from zoompick.study.ordered import fetch_ready

AREA = shapely.box(-12.0560, -38.6110, -12.0545, -38.6100)


class Shop:
    """A study with strips to order, at an archive with troubles."""

    def __init__(self, folder: Path, url: str, count: int = 1) -> None:
        self.url, self.client = url, Client()
        body = {"collections": ["gannet-vhr"], "bbox": list(AREA.bounds), "limit": count}
        found = self.client.json(f"{url}/search", body)["features"]
        self.scenes = [Scene.from_item(item, "ostrell") for item in found]
        self.study = Study.create(folder / "shop", "")
        self.desk = Desk(self.study, {"ostrell": Source("ostrell", url)}, AREA, self.client)

    def accept(self) -> None:
        self.desk.accept(self.scenes, terms_digest("gannet-vhr"))

    def ordered(self) -> list[Order]:
        self.accept()
        planned = self.desk.plan(self.scenes)
        return self.desk.submit(self.scenes, planned, [sum(order.price for order in planned) + 0.01])

    def settled(self, *states: str) -> list[Order]:
        """The queue once nothing is pending any more."""
        until = time.monotonic() + 60
        while time.monotonic() < until:
            queue = self.desk.refresh()
            if all(order.state in states for order in queue):
                return queue
            time.sleep(0.1)
        raise AssertionError([order.state for order in self.desk.queue])


@pytest.fixture
def shop(shared_cache, tmp_path, request):
    """Its troubles are the parameter."""
    with standin(shared_cache, faults=("queue:0", *request.param)) as url:
        Keyring().put(url, Login("basic", "visitor", "ostrell"))
        yield Shop(tmp_path, url)
        Keyring().drop(url)


@pytest.mark.parametrize("shop", [("jobs:1",)], indirect=True)
def test_what_failed_can_be_ordered_again(shop):
    [order] = shop.ordered()
    [failed] = shop.settled("failed")
    assert failed.message == "the detector's calibration is missing" and failed.ended and failed.job == order.job
    assert fetch_ready(shop.desk, shop.scenes) == 0
    [again] = shop.desk.plan(shop.scenes)
    assert (again.number, again.state, again.scenes, again.job) == (2, "planned", order.scenes, "")


@pytest.mark.parametrize("shop", [("expire:0",)], indirect=True)
def test_results_that_are_kept_no_longer_are_told(shop):
    shop.ordered()
    shop.settled("successful")
    said = []
    assert fetch_ready(shop.desk, shop.scenes, said.append) == 0
    assert any("no longer kept" in event.text for event in said if isinstance(event, Noted))
    assert [order.state for order in shop.desk.queue] == ["lost"]
    assert not list(shop.study.root.rglob("*.tif"))
    assert [order.number for order in shop.desk.plan(shop.scenes)] == [2]


@pytest.mark.parametrize("shop", [()], indirect=True)
def test_an_order_that_the_source_forgot_is_lost_and_ordered_again(shop):
    [order] = shop.ordered()
    shop.desk.queue.replace(replace(order, job=f"{shop.url}/jobs/0123456789ab"))
    [lost] = shop.settled("lost")
    assert "knows this order no more" in lost.message
    assert [entry.number for entry in shop.desk.plan(shop.scenes)] == [2]


@pytest.mark.parametrize("shop", [("token:1",)], indirect=True)
def test_a_token_that_ends_while_waiting_is_renewed(shop):
    """A client's tokens end after a second; the files come nevertheless, and no password is asked for."""
    url = f"{shop.url}/account/token"
    login = Login("client", token_url=url, client_id="visitor-tool", client_secret="ostrell-tool")
    Keyring().put(shop.url, login)
    shop.client.keys = Keyring()
    shop.ordered()
    time.sleep(1.2)
    shop.settled("successful")
    time.sleep(1.2)
    said = []
    assert fetch_ready(shop.desk, shop.scenes, said.append) == 1
    assert [event.text for event in said if isinstance(event, Noted)] == ["Order 1 is here: one scene."]
    assert [order.state for order in shop.desk.queue] == ["fetched"]
    [path] = shop.study.root.rglob("*.tif")
    assert fetch_ready(shop.desk, shop.scenes) == 0 and path.stat().st_size > 0
    with pytest.raises(NothingFoundError, match="still to be ordered"):
        shop.desk.plan(shop.scenes)


@pytest.mark.parametrize("shop", [()], indirect=True)
def test_nothing_is_bought_or_accepted_silently(shop):
    planned = shop.desk.plan(shop.scenes)
    with pytest.raises(UsageError, match="have not been accepted"):
        shop.desk.submit(shop.scenes, planned, [1e9])
    with pytest.raises(UsageError, match="No terms here have the digest"):
        shop.desk.accept(shop.scenes, "0" * 64)
    with pytest.raises(UsageError, match="No terms here have the digest"):
        shop.desk.accept(shop.scenes, terms_digest("gannet-vhr")[:4])
    shop.accept()
    with pytest.raises(UsageError, match="Nothing was ordered"):
        shop.desk.submit(shop.scenes, planned, [planned[0].price - 0.01])
    assert list(shop.desk.queue) == []
    [terms] = shop.desk.terms(shop.scenes)
    assert terms.accepted and terms.sha256 == terms_digest("gannet-vhr")
    for damaged in ("null", '{"gannet-vhr": 7}', '{"gannet-vhr": {"sha256": "0"}}'):
        shop.study.terms_file.write_text(damaged)
        with pytest.raises(DataError, match="does not hold accepted terms"):
            shop.desk.terms(shop.scenes)


@pytest.mark.parametrize("shop", [()], indirect=True)
def test_the_source_keeps_to_its_own_limits(shop):
    """What a client may never send is refused with the source's own words."""
    [scene] = shop.scenes
    place = orders.OrderDesk("ostrell", shop.url, shop.client.json(shop.url)["links"], shop.client)
    plain = Order(1, "ostrell", scene.collection, (scene.id,), 0.01, 0.2)
    terms = terms_digest("gannet-vhr")
    wide = shapely.box(-12.12, -38.66, -12.02, -38.56)
    for order, area, digest, most, said in (
        (plain, AREA, "", 9, "terms have not been accepted"),
        (plain, AREA, terms, 0, "this costs"),
        (plain, wide, terms, 1e9, "km2 are more than 25"),
        (replace(plain, scenes=("nothing",)), AREA, terms, 9, "an item is not known"),
        (replace(plain, collection="lapwing-l2"), AREA, terms, 9, "nothing is prepared"),
        (replace(plain, scenes=(scene.id,) * 11), AREA, terms, 99, "at most 10 scenes"),
        (plain, shapely.box(0, 0, 0.001, 0.001), terms, 9, "does not touch the area"),
    ):
        with pytest.raises(SourceError, match=said):
            place.submit(order, area, digest, most)


@pytest.mark.parametrize("shop", [("queue:30",)], indirect=True)
def test_slots_are_not_overrun_and_free_up_by_cancelling(shop, monkeypatch):
    monkeypatch.setattr(
        Desk, "quotas", lambda self, scenes: {("ostrell", "gannet-vhr"): Quota(scenes_an_order=1, pending_orders=1)}
    )
    body = {"collections": ["gannet-vhr"], "bbox": list(AREA.bounds), "limit": 3}
    found = shop.client.json(f"{shop.url}/search", body)["features"]
    shop.scenes = [Scene.from_item(item, "ostrell") for item in found]
    assert [order.state for order in shop.ordered()] == ["accepted", "planned", "planned"]
    shop.desk.cancel([1, 3])
    assert [order.state for order in shop.desk.refresh()] == ["dismissed", "planned", "dismissed"]
    assert [order.state for order in shop.desk.hand_in(shop.scenes)] == ["dismissed", "accepted", "dismissed"]
    with pytest.raises(UsageError, match="no order 9"):
        shop.desk.cancel([9])
    replanned = shop.desk.plan(shop.scenes)
    assert [order.number for order in replanned] == [4, 5]
    assert {scene for order in replanned for scene in order.scenes} == {shop.scenes[0].id, shop.scenes[2].id}


@pytest.mark.parametrize("shop", [("queue:30",)], indirect=True)
def test_an_order_whose_fate_is_unknown_is_looked_up(shop):
    """The reply broke off: the source's list tells whether it took the order; nothing is bought twice."""
    [order] = shop.ordered()
    lost = replace(order, state="unsure", job="", message="it was being handed in")
    shop.desk.queue.replace(lost)
    [found] = shop.desk.refresh()
    assert (found.job, found.state) == (order.job, "accepted")
    # A list without it: a moment later nobody knows, after a while it was not taken.
    stranger = replace(lost, reference="another")
    shop.desk.queue.replace(stranger)
    assert shop.desk.refresh()[0].state == "unsure"
    assert not shop.desk.has_new(shop.scenes)
    with pytest.raises(UsageError, match="may have taken order 1"):
        shop.desk.cancel([1])
    shop.desk.queue.replace(replace(stranger, submitted="2025-01-01T00:00:00+00:00"))
    [again] = shop.desk.refresh()
    assert (again.state, again.submitted) == ("planned", "")


@pytest.mark.parametrize(
    ("jobs", "state"),
    [
        ([], "unsure"),
        ([{"jobID": "a", "created": "2025-01-01T10:00:05Z"}], "unsure"),
        ([{"jobID": "a", "created": "2025-01-01"}], "unsure"),
        ([{"jobID": "a", "created": "2025-01-01T05:00:00"}], "unsure"),
        ([{"jobID": "a"}, "b"], "unsure"),
        ([{"jobID": "a", "created": "2025-01-01T10:00:05Z", "reference": "another"}], "planned"),
        ([{"jobID": "a", "reference": "another"}, {"jobID": "b", "created": "2025-01-01T10:00:05Z"}], "planned"),
        ([{"jobID": "a", "status": "running", "reference": "r"}], "running"),
        (None, "unsure"),
    ],
)
def test_what_a_list_of_orders_tells(jobs, state):
    """Lists of others: with references or without, with times or without, or no list at all."""

    class Lists:
        def json(self, url, body=None, method=""):
            return {"jobs": jobs}

        def acting(self, authority):
            return self

    links = [{"rel": "x/processes", "href": "http://h/processes"}]
    links += (
        [{"rel": "http://www.opengis.net/def/rel/ogc/1.0/job-list", "href": "http://h/jobs"}]
        if jobs is not None
        else []
    )
    desk = orders.OrderDesk("s", "http://h", links, Lists())
    order = Order(1, "s", "c", ("x",), 1, 0, state="unsure", submitted="2025-01-01T10:00:00+00:00", reference="r")
    found = desk.find(order, datetime(2025, 1, 1, 11, tzinfo=UTC))
    assert found.state == state


def test_what_is_owed(tmp_path):
    """A failed order that was ordered again is not owed; a dismissed one never was."""
    queue = Queue(tmp_path / "orders.json")
    rows = [("failed", "a"), ("fetched", "a"), ("dismissed", "b"), ("lost", "c"), ("unsure", "d"), ("planned", "e")]
    queue.write([Order(n, "s", "c", (x,), 1, 0, state=state) for n, (state, x) in enumerate(rows, 1)])
    assert [order.number for order in queue.owed()] == [4, 5, 6]


@pytest.mark.parametrize(
    ("states", "told"),
    [
        ([("fetched", 1), ("running", 2)], 2),
        ([("running", 1), ("fetched", 2)], 1),
        ([("failed", 1), ("fetched", 2), ("planned", 1)], 3),
        ([("fetched", 1), ("fetched", 2)], 2),
        ([("failed", 0), ("accepted", 0)], 2),
    ],
)
def test_a_scene_in_pieces_is_as_far_as_its_last_piece(tmp_path, states, told):
    queue = Queue(tmp_path / "orders.json")
    queue.write([
        Order(number, "s", "c", ("x",), 1, 0, state=state, part=part, parts=2 * bool(part))
        for number, (state, part) in enumerate(states, 1)
    ])  # fmt: skip
    assert queue.by_scene()["s", "c", "x"].number == told


def test_only_the_pieces_that_failed_are_ordered_again(tmp_path, monkeypatch):
    """Not those that are here or under way, and not twice what was ordered again already."""
    item = {"id": "x", "collection": "c", "links": [], "assets": {}, "geometry": shapely.geometry.mapping(AREA),
            "properties": {"datetime": "2025-12-15T00:00:00Z", "a:access": "ask"}}  # fmt: skip
    scene, study = Scene.from_item(item, "s"), Study.create(tmp_path / "s", "")
    desk = Desk(study, {}, AREA, Client())
    monkeypatch.setattr(Desk, "quotas", lambda self, scenes: {})
    rows = [("fetched", 1), ("failed", 2), ("dismissed", 3), ("running", 3), ("lost", 4)]
    desk.queue.write([
        Order(number, "s", "c", ("x",), 1, 0, state=state, job="j", piece=f"POINT ({part} 0)", part=part, parts=4)
        for number, (state, part) in enumerate(rows, 1)
    ])  # fmt: skip
    again = desk.plan([scene])
    assert [(o.number, o.part, o.piece, o.state, o.job) for o in again] == [
        (6, 2, "POINT (2 0)", "planned", ""), (7, 4, "POINT (4 0)", "planned", "")]  # fmt: skip
    desk.queue.add(again)
    assert not desk.has_new([scene])
    # When nothing of a scene came of its pieces, it is cut and ordered as if it were new.
    desk.queue.write([replace(order, state="failed") for order in desk.queue])
    [fresh] = desk.plan([scene])
    assert (fresh.number, fresh.parts, fresh.piece) == (8, 0, "")
