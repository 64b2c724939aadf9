"""Money: amounts with their currency, prices that are none, orders of unknown fate, ground that is paid once."""

from __future__ import annotations

import json
import math
import re

import pytest
import shapely

from strangers import stranger
from zoompick.errors import SourceError, UsageError
from zoompick.geo.sizes import area_km2
from zoompick.money import Money, allowed, too_dear, totals, words
from zoompick.net.login import Keyring, Login

WHERE = ("--box", -12.15, -38.65, -12.05, -38.55)
INSIDE = shapely.box(-12.15, -38.65, -12.05, -38.55)
SOLD = {"x:access": "priced", "x:price_km2": 2.0, "x:currency": "crowns"}


@pytest.mark.parametrize("amount", [-1, -0.01, math.nan, math.inf, -math.inf, 1e300, 10**400, "5", None, True, [5]])
def test_no_amount_is_money(amount):
    with pytest.raises(ValueError, match="is no"):
        Money(amount)
    with pytest.raises(SourceError, match=r"s1 has the price .*, which is none: nothing is planned or bought"):
        Money.told(amount, "crowns", "s1")


def test_currencies_never_meet():
    crowns, marks = Money(10.0, "crowns"), Money(3.5, "marks")
    assert totals([crowns, marks, crowns, Money(0.0, "pence")]) == (Money(20.0, "crowns"), marks)
    assert words((crowns, marks)) == "10.00 crowns and 3.50 marks"
    for act in (lambda: crowns + marks, lambda: crowns.is_within(marks)):
        with pytest.raises(ValueError, match="cannot be"):
            act()
    assert sum([Money(0.1, "c")] * 9, Money(0.1, "c")).is_within(Money(1.0, "c"))


@pytest.mark.parametrize(
    ("text", "money"),
    [
        ("48.34 crowns", Money(48.34, "crowns")),
        ("48.34", Money(48.34)),
        (" .5\u20ac ", Money(0.5, "\u20ac")),
        ("7 old marks", Money(7.0, "old marks")),
    ],
)
def test_money_as_people_write_it(text, money):
    assert Money.parse(text) == money


@pytest.mark.parametrize(
    "text", ["", "crowns", "-5 crowns", "nan", "1e9", "1,5 crowns", "5 6", "5 crowns 6", "9" * 20]
)
def test_what_people_write_that_is_no_money(text):
    with pytest.raises(UsageError, match="is no amount of money"):
        Money.parse(text)


def test_a_bare_number_stands_only_where_there_is_one_currency():
    crowns, marks = Money(10.0, "crowns"), Money(3.5, "marks")
    assert too_dear([crowns], allowed([10], [crowns])) is None
    assert too_dear([crowns], allowed(["9.99"], [crowns])) == crowns
    assert too_dear([crowns], allowed(["99 marks"], [crowns])) == crowns
    assert too_dear([crowns, marks], allowed(["10 crowns", "3.5 marks"], [crowns, marks])) is None
    assert too_dear([crowns, marks], allowed(["10 crowns"], [crowns, marks])) == marks
    assert too_dear([], allowed([], [])) is None
    with pytest.raises(UsageError, match="of what"):
        allowed([20], [crowns, marks])
    with pytest.raises(UsageError, match="Two limits"):
        allowed(["5 crowns", "6 crowns"], [crowns])


class Shop:
    """A study whose picks a stranger sells."""

    def __init__(self, server, program, folder) -> None:
        self.server, self._program, self.folder = server, program, folder
        self.items: list[dict] = []

    def opens(self, *items: dict, limits: dict | None = None) -> None:
        """The stranger offers these, and all of them are picked."""
        self.server.catalogue(list(items), *self.server.desk())
        self.server.paths["/collections/c1"]["summaries"] = {"x:limits": limits or {}}
        asked = ("--source", "cat", "--collection", "c1", "--dates", "2025-12", "--cloud", 100)
        self("new", self.folder, *WHERE, *asked, cwd=self.folder.parent)
        self("source", "add", "cat", f"{self.server.url}/", "--kind", "stac-api", "--here")
        assert self("search").code == 0
        assert self("pick", f"1-{len(items)}").code == 0

    def __call__(self, *given, **more):
        return self._program(*given, **{"cwd": self.folder} | more)

    def said(self, *given) -> tuple[int, str]:
        done = self(*given)
        assert "Traceback" not in done.err
        return done.code, " ".join((done.out + done.err).split())

    @property
    def bought(self) -> list[dict]:
        """Orders that came through the door."""
        return [one.json["inputs"] for one in self.server.asked("POST", "/processes/")]

    @property
    def states(self) -> list[str]:
        return [row["state"] for row in json.loads((self.folder / "orders.json").read_text())["orders"]]


@pytest.fixture
def shop(program, tmp_path):
    with stranger() as server:
        Keyring().put(server.url, Login("basic", "ann", "hush-hush"))
        here = Shop(server, program, tmp_path / "study")
        taken: list[dict] = []

        def route(seen):
            if seen.method == "POST" and seen.path.endswith("/execution"):
                number = len(taken) + 1
                link = {"rel": "self", "href": f"{server.url}/jobs/{number}"}
                taken.append({"jobID": str(number), "status": "accepted", "links": [link]})
                server.paths[f"/jobs/{number}"] = taken[-1]
                return 201, {}, taken[-1]
            return NotImplemented

        server.route = route
        yield here
        Keyring().drop(server.url)


@pytest.mark.parametrize(
    ("price", "said"),
    [
        ({"x:price_km2": -60, "x:currency": "crowns"}, "s1 has the price -60 crowns, which is none"),
        ({"x:price_km2": "free", "x:currency": "crowns"}, "s1 has the price free crowns, which is none"),
        ({"x:price_km2": 1e40}, "s1 has the price 1e+40, which is none"),
        ({}, "s1 is sold, and its source tells no price"),
    ],
)
def test_a_price_that_is_none_stops_the_plan(shop, price, said):
    """Beside an honest scene, which it must not pay for."""
    shop.opens(shop.server.item("s1", **{"x:access": "priced"} | price), shop.server.item("s2", **SOLD))
    for words_ in (("order", "plan"), ("order", "submit"), ("order", "submit", "--accept-price", "1e6")):
        code, told = shop.said(*words_)
        assert code in (2, 4) and (said in told or "1e6" in words_), told
    assert said in shop.said("order", "submit", "--accept-price", "999999 crowns")[1]
    assert shop.bought == []
    assert said in shop.said("scene", "1")[1]


def test_two_currencies_are_accepted_each_by_itself(shop):
    own = shop.server.item("s2", **SOLD | {"x:currency": "marks", "datetime": "2025-12-22T11:00:00Z"})
    shop.opens(shop.server.item("s1", **SOLD), own)
    price = area_km2(INSIDE) * 2
    code, told = shop.said("order", "plan")
    assert code == 0
    give = f"--accept-price '{price:.2f} crowns' --accept-price '{price:.2f} marks'"
    assert f"for {price:.2f} crowns and {price:.2f} marks" in told and f"order submit {give}" in told
    for limit in ((), ("99999",), ("99999 crowns",), ("99999 crowns", "1 marks")):
        code, told = shop.said("order", "submit", *(word for one in limit for word in ("--accept-price", one)))
        assert code == 2 and shop.bought == [], told
    code, told = shop.said(
        "order", "submit", "--accept-price", f"{price:.2f} crowns", "--accept-price", f"{price:.2f} marks"
    )
    assert code == 0, told
    assert sorted(order["items"][0] for order in shop.bought) == ["s1", "s2"]


def test_without_an_agreed_price_only_what_is_free_is_ordered(shop):
    shop.opens(shop.server.item("s1", **{"x:access": "ask"}))
    assert shop("order", "submit").code == 0
    assert [order["items"] for order in shop.bought] == [["s1"]] and shop.states == ["accepted"]


def test_a_price_that_changed_since_the_plan_stops_it(shop):
    shop.opens(shop.server.item("s1", **SOLD))
    shop.server.paths["/items/s1"]["properties"]["x:price_km2"] = 2.5
    code, told = shop.said("order", "submit", "--accept-price", "99999 crowns")
    assert code == 4 and "s1 cost 2.00 crowns a km2 when it was searched, and now 2.50 crowns" in told
    assert shop.bought == [] and not (shop.folder / "orders.json").exists()


@pytest.mark.parametrize("created", ["2025-12-01", "2026-01-01T00:00:00", None])
def test_an_order_whose_connection_broke_is_never_bought_again_by_itself(shop, created):
    """The source tells no references, and times that prove nothing: a person decides, either way."""
    shop.opens(shop.server.item("s1", **SOLD))
    price = f"{area_km2(INSIDE) * 2:.2f} crowns"
    count = [0]

    def breaks(seen):
        if seen.method == "POST" and seen.path.endswith("/execution"):
            count[0] += 1
            job = {"jobID": "a7", "status": "running", "created": created}
            shop.server.paths["/jobs"] = {"jobs": [job], "links": []}
            shop.server.paths["/jobs/a7"] = job
            return None
        return NotImplemented

    shop.server.route = breaks
    assert shop.said("order", "submit", "--accept-price", price)[0] == 4
    later = json.loads((shop.folder / "orders.json").read_text())
    later["orders"][0]["submitted"] = "2025-12-20T00:00:00+00:00"
    (shop.folder / "orders.json").write_text(json.dumps(later))
    for again in (("order", "submit", "--accept-price", price), ("order", "status"), ("order", "submit")):
        shop(*again)
        assert shop.states == ["unsure"] and count == [1]
    code, told = shop.said("order", "cancel", "1")
    assert code == 2 and "may have taken order 1" in told and "order adopt 1 JOB" in told and "--not-taken" in told
    stranger_job = shop.said("order", "adopt", "1", "http://127.0.0.1:1/jobs/a7")
    assert stranger_job[0] == 4 and "another host" in stranger_job[1]
    assert shop.said("order", "adopt", "9", "a7")[0] == 2
    assert shop("order", "adopt", "1", "a7").code == 0 and shop.states == ["running"]
    assert shop.said("order", "adopt", "1", "a7")[0] == 2
    assert count == [1]


def test_money_that_is_unsure_counts_as_spent(shop):
    """A limit holds for what may have been bought, too."""
    other = shop.server.item("s2", west=-12.1, **SOLD | {"datetime": "2025-12-22T11:00:00Z"})
    shop.opens(shop.server.item("s1", **SOLD), other, limits={"scenes_an_order": 1, "pending_orders": 1})
    rows = json.loads(shop("order", "plan", "--json").out)
    whole = sum(row["price"] for row in rows)
    shop.server.route = lambda seen: None if seen.method == "POST" and "execution" in seen.path else NotImplemented
    assert shop.said("order", "submit", "--accept-price", f"{whole:.2f} crowns")[0] == 4
    assert shop.states == ["unsure", "planned"]
    code, told = shop.said("order", "submit", "--accept-price", f"{rows[1]['price']:.2f} crowns")
    assert code == 2 and f"{rows[0]['price']:.2f} crowns of it for orders that the source may have taken" in told
    # It holds its slot, too: nothing else is handed in while nobody knows.
    before = len(shop.bought)
    assert shop.said("order", "submit", "--accept-price", f"{whole:.2f} crowns")[0] == 0
    assert len(shop.bought) == before


def grounds(shop) -> list:
    return [shapely.from_geojson(json.dumps(order["area"])) for order in shop.bought]


def test_within_one_overpass_no_ground_is_paid_twice(shop):
    """Three scenes of one pass: the second adds a strip, the third nothing."""
    shop.opens(
        shop.server.item("s1", west=-12.2, **SOLD),
        shop.server.item("s2", west=-12.09, **SOLD | {"datetime": "2025-12-20T11:17:41Z"}),
        shop.server.item("s3", west=-12.2, **SOLD | {"datetime": "2025-12-20T11:17:51Z"}),
    )
    # s1 ends in the west of the area's east edge: what it lacks is the strip that s2 gives alone.
    shop.server.paths["/search"]["features"][0]["geometry"]["coordinates"][0] = [
        [-12.2, -38.7], [-12.07, -38.7], [-12.07, -38.5], [-12.2, -38.5], [-12.2, -38.7]]  # fmt: skip
    shop.server.paths["/search"]["features"][2]["geometry"]["coordinates"][0] = [
        [-12.14, -38.64], [-12.1, -38.64], [-12.1, -38.6], [-12.14, -38.6], [-12.14, -38.64]]  # fmt: skip
    shop("search")
    shop("pick", "1-3", "--instead")
    code, told = shop.said("order", "plan")
    assert code == 0 and "s3 adds no ground to the others of the overpass: it is not ordered" in told
    rows = json.loads(shop("order", "plan", "--json").out)
    assert sum(row["km2"] for row in rows) == pytest.approx(area_km2(INSIDE), rel=1e-3)
    price = sum(row["price"] for row in rows)
    assert price == pytest.approx(2 * area_km2(INSIDE), rel=1e-3)
    assert shop.said("order", "submit", "--accept-price", f"{price:.2f} crowns")[0] == 0
    one, two = grounds(shop)
    seen = [shapely.box(-12.2, -38.7, -12.07, -38.5), shapely.box(-12.09, -38.7, -11.89, -38.5)]
    sold = [ground.intersection(footprint) for ground, footprint in zip((one, two), seen, strict=True)]
    assert area_km2(sold[0].intersection(sold[1])) < 1e-4
    assert area_km2(shapely.union_all(sold)) == pytest.approx(area_km2(INSIDE), rel=1e-4)
    # What was bought before counts, too: a fourth scene of the pass is cut against both.
    shop.server.paths["/search"]["features"].append(
        shop.server.item("s4", **SOLD | {"datetime": "2025-12-20T11:18:00Z"})
    )
    shop("search")
    shop("pick", "s4")
    code, told = shop.said("order", "plan")
    assert code == 3 and "would add no ground to what other scenes of the overpass give" in told


def test_across_dates_ground_is_paid_for_each(shop):
    shop.opens(shop.server.item("s1", **SOLD), shop.server.item("s2", **SOLD | {"datetime": "2025-12-22T11:17:21Z"}))
    rows = json.loads(shop("order", "plan", "--json").out)
    assert sum(row["km2"] for row in rows) == pytest.approx(2 * area_km2(INSIDE), rel=1e-6)


def test_a_budget_buys_the_most_ground(shop):
    """Two dear scenes cover all; two cheap ones of other days cover less for less."""
    half = {"x:price_km2": 2.0}
    shop.opens(
        shop.server.item("west", west=-12.3, **SOLD | half | {"datetime": "2025-12-20T11:00:00Z"}),
        shop.server.item("east", west=-12.12, **SOLD | half | {"datetime": "2025-12-21T11:00:00Z"}),
        shop.server.item("whole", west=-12.2, **SOLD | {"x:price_km2": 6.0, "datetime": "2025-12-22T11:00:00Z"}),
    )
    size = {
        "west": area_km2(INSIDE.intersection(shapely.box(-12.3, -38.7, -12.1, -38.5))),
        "east": area_km2(INSIDE.intersection(shapely.box(-12.12, -38.7, -11.92, -38.5))),
        "whole": area_km2(INSIDE),
    }
    cost = {"west": 2 * size["west"], "east": 2 * size["east"], "whole": 6 * size["whole"]}

    def picked(budget: float) -> set[str]:
        done = shop("pick", "--cover", "--instead", "--weights", "1,0,0,0", "--budget", f"{budget:.2f} crowns")
        assert done.code == 0, done.err
        return set(re.findall(r"\b(west|east|whole)\b", done.err.split("Picked")[1].splitlines()[0]))

    assert picked(cost["whole"] + 1) == {"whole"}
    assert picked(cost["west"] + cost["east"] + 1) == {"west", "east"}
    assert picked(cost["east"] + 1) == {"east"}
    assert picked(cost["west"] + 0.01) == {"west"}
    told = shop.said("pick", "--cover", "--instead", "--budget", f"{cost['east'] + 1:.2f} crowns")[1]
    assert "out of reach with a budget of" in told
    assert shop.said("pick", "--cover", "--budget", "5 marks")[0] == 2
    nothing = shop.said("pick", "--cover", "--budget", "0.01 crowns")
    assert nothing[0] == 3, nothing


def test_limits_are_told_before_anything_is_planned(shop):
    """In the search, with the picks, and in the first dry run."""
    limits = {"scenes_an_order": 2, "km2_an_order": 40.5, "pending_orders": 1, "parallel_downloads": 3}
    shop.opens(shop.server.item("s1", **SOLD), limits=limits)
    told = "c1 is sold: at most 2 scenes an order, 40.5 km2 an order, 1 order under way."
    brief = shop.folder / "study.toml"
    told = re.sub(r"(?m)^bands = .*$", 'bands = ["red"]', brief.read_text())
    brief.write_text(re.sub(r"(?ms)^\[(composites?|index|indices)\].*?(?=^\[|\Z)", "", told))
    told = "c1 is sold: at most 2 scenes an order, 40.5 km2 an order, 1 order under way."
    for given in (("search",), ("pick", "1"), ("download", "--dry-run"), ("run", "--dry-run")):
        assert told in shop.said(*given)[1], given
    shop.server.paths["/collections/c1"]["summaries"] = {}
    assert "c1 is sold; it tells no limits." in shop.said("pick", "1")[1]
    shop.server.paths["/collections/c1"] = None
    assert "c1 is sold; its limits are not known: " in shop.said("pick", "1")[1]
