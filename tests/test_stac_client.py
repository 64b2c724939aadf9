"""The client side of STAC: paging by GET and POST, servers that ignore filters, answers against the standard."""

from __future__ import annotations

import pytest
import shapely

from zoompick.discovery import find
from zoompick.discovery.criteria import Criteria
from zoompick.discovery.stac import StacApi
from zoompick.errors import NothingFoundError, SourceError, UnknownNameError
from zoompick.net.client import Client
from zoompick.scenes.period import Period
from zoompick.scenes.source import Source

AREA = shapely.box(-12.09, -38.64, -12.03, -38.59)
CLEAR = Criteria(AREA, ("lapwing-l2",), (Period.parse("2025"),), cloud_max=30)


class Altered(Client):
    """A session whose documents pass through a hand before they are read; it notes how it was asked."""

    def __init__(self, alter):
        super().__init__()
        self.alter = alter
        self.asked = []

    def json(self, url, body=None):
        self.asked.append((url, body))
        return self.alter(super().json(url, body))


def without_post(page):
    page["links"] = [link for link in page.get("links", []) if link.get("method") != "POST"]
    return page


def without_filters(page):
    page.pop("conformsTo", None)
    return page


def ids(items):
    return sorted(item["id"] for item in items)


def test_get_and_post_find_the_same(archive):
    post, get = Altered(lambda page: page), Altered(without_post)
    found = ids(StacApi(archive, post).search(CLEAR))
    assert ids(StacApi(archive, get).search(CLEAR)) == found
    assert len(found) > 5
    assert any(body for _, body in post.asked)
    assert all(body is None for _, body in get.asked)


def test_every_page_is_followed(archive, monkeypatch):
    everything = Criteria(AREA)
    whole = ids(StacApi(archive, Client()).search(everything))
    monkeypatch.setattr("zoompick.discovery.stac._PAGE", 17)
    client = Altered(lambda page: page)
    assert ids(StacApi(archive, client).search(everything)) == whole
    assert sum(url.endswith("/search") for url, _ in client.asked) == -(-len(whole) // 17)


def test_what_a_server_does_not_filter_is_filtered_here(archive, monkeypatch):
    source = Source("ostrell", archive)
    expected = [entry.scene.id for entry in find.search(source, CLEAR)]
    client = Altered(without_filters)
    monkeypatch.setattr("zoompick.discovery.find.Client", lambda report: client)
    assert [entry.scene.id for entry in find.search(source, CLEAR)] == expected
    assert not any(body and "filter" in body for _, body in client.asked)


def test_scenes_come_by_date_with_their_share_of_the_area(archive):
    entries = find.search(Source("ostrell", archive), Criteria(AREA, periods=CLEAR.periods, cover_min=50))
    assert [entry.scene.when for entry in entries] == sorted((entry.scene.when for entry in entries), reverse=True)
    for entry in entries:
        exact = AREA.intersection(entry.scene.footprint).area / AREA.area * 100
        assert entry.cover_percent == pytest.approx(exact, abs=0.2)
        assert entry.cover_percent >= 50


@pytest.mark.parametrize(
    ("alter", "words"),
    [
        (lambda page: [], "not the landing page"),
        (lambda page: {"type": "Catalog"}, "not the landing page"),
        (lambda page: page | {"links": []} if "conformsTo" in page else page, "no item search"),
        (lambda page: 7 if "features" in page else page, "no page of results"),
    ],
)
def test_answers_against_the_standard(archive, alter, words):
    with pytest.raises(SourceError, match=words):
        list(StacApi(archive, Altered(alter)).search(Criteria(AREA)))


@pytest.mark.parametrize(("words", "said"), [("x", "empty pages in a row"), ("x" * 30_000, "ever longer links")])
def test_pages_without_end_are_left(archive, words, said):
    def endless(page):
        if "features" in page:
            count = len(client.asked)
            page["features"] = [] if said.startswith("empty") else page["features"]
            href = f"{archive}/search?limit=1&page={count}"
            page["links"] = [
                {
                    "rel": "next",
                    "href": href,
                    "method": "POST",
                    "body": {"limit": 1, "page": count, "more": words * count},
                }
            ]
        return page

    client = Altered(endless)
    with pytest.raises(SourceError, match=said):
        list(StacApi(archive, client).search(Criteria(AREA)))


def test_pages_that_take_too_long_together_are_left(archive, monkeypatch):
    monkeypatch.setenv("ZOOMPICK_SEARCH_MAX_S", "0.000001")

    def two_pages(page):
        if "features" in page:
            page["links"] = [{"rel": "next", "href": f"{archive}/search?limit=2"}]
        return page

    with pytest.raises(SourceError, match="for 1 page, and there are more"):
        list(StacApi(archive, Altered(two_pages)).search(Criteria(AREA)))


def test_pages_in_a_circle_are_left(archive):
    def circle(page):
        if "features" in page:
            page["links"] = [{"rel": "next", "href": f"{archive}/search?limit=1"}]
        return page

    with pytest.raises(SourceError, match="in a circle"):
        list(StacApi(archive, Altered(circle)).search(Criteria(AREA)))


def test_a_collection_the_server_does_not_have(archive):
    with pytest.raises(UnknownNameError, match="Did you mean lapwing-l2"):
        list(StacApi(archive, Client()).search(Criteria(AREA, ("lapwing",))))


def test_choosing_for_each_period_and_saying_when_none_fits(archive):
    periods = (Period.parse("2024-12/2025-02"), Period.parse("2025-12/2026-02"))
    criteria = Criteria(AREA, ("lapwing-l2",), periods, cloud_max=20)
    entries = find.search(Source("ostrell", archive), criteria)
    crs = next(entry.scene.crs for entry in entries if entry.scene.tile.startswith("28S"))
    chosen = find.choose_for(entries, criteria, find.Choosing(crs, ["red", "nir"], 99))
    assert len({entry.scene.day for entry in chosen}) == 2
    for period in periods:
        group = [entry.scene for entry in chosen if period.holds(entry.scene.when)]
        together = shapely.union_all([scene.footprint for scene in group])
        assert AREA.intersection(together).area / AREA.area > 0.99
        assert {scene.crs for scene in group} == {crs}
    with pytest.raises(NothingFoundError, match="no single overpass"):
        find.choose_for(entries[:1], criteria, find.Choosing(crs, ["red"], 99))
    with pytest.raises(UnknownNameError, match="Did you mean"):
        find.choose_for(entries, criteria, find.Choosing(crs, ["reed"], 99))
