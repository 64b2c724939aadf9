"""A STAC API spoken to over HTTP: landing page, collections, item search with paging.

Source: STAC API 1.0 (core, collections, item search), CQL2-JSON (OGC 21-065r2) where the server says it takes it.
"""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from urllib.parse import urlencode

from zoompick import settings
from zoompick.addresses import host_of
from zoompick.discovery.criteria import Criteria
from zoompick.errors import SourceError, UnknownNameError
from zoompick.files import human_time
from zoompick.geo.shapes import Shape, geojson_of
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import shapely
from zoompick.net.client import Client
from zoompick.net.links import joined, links_of, objects_in
from zoompick.net.refusals import RefusedError
from zoompick.scenes.fields import aliases

_MOST_IDS = 100
_PAGE = 250
_MOST_PAGES, _MOST_EMPTY, _MOST_ASKED = 10_000, 50, 1 << 20
_MOST_CORNERS = 500
_EXTENSIONS = ("filter", "filter-lang", "query", "sortby")
_SORTED, _BESIDE = {"newest": "desc", "oldest": "asc"}, 10
"""Orders in which servers send items (STAC API, sort extension 1.0); so many items more than twice what is wanted."""
_OLDER = {"<=": "lte", ">=": "gte"}
"""Operators of the query extension that came before CQL2 (STAC API, query extension 1.0)."""


def _light(area: Shape) -> Shape:
    """An outline that a request can carry: the hull of one with very many corners (what comes is tested here)."""
    if shapely.get_num_coordinates(area) <= _MOST_CORNERS:
        return area
    hulls = [shapely.convex_hull(part) for part in shapely.get_parts(area)]
    hull = shapely.union_all(hulls) if len(hulls) < 50 else shapely.convex_hull(area)
    return hull if shapely.get_num_coordinates(hull) <= _MOST_CORNERS else shapely.box(*area.bounds)


class StacApi:
    """One STAC API.

    Parameters
    ----------
    url : str
        Its landing page.
    """

    def __init__(self, url: str, client: Client) -> None:
        self.url = url
        self._client = client

    @cached_property
    def landing(self) -> JsonMap:
        """The landing page."""
        page = self._client.json(self.url)
        if not isinstance(page, dict) or not isinstance(page.get("links"), list):
            raise SourceError(f"{self.url} is not the landing page of a STAC API.", "Check the address.")
        return page

    @cached_property
    def conformance(self) -> frozenset[str]:
        """Conformance classes the server claims."""
        claimed = self.landing.get("conformsTo")
        return frozenset(map(str, claimed)) if isinstance(claimed, list) else frozenset()

    def collections(self) -> list[JsonObject]:
        """All collections, page after page."""
        links = links_of(self.landing, "data")
        address = joined(self.url, links[0]["href"]) if links else self.url.rstrip("/") + "/collections"
        return [entry for page in self._pages(address, None) for entry in objects_in(page, "collections")]

    @cached_property
    def _listed(self) -> list[JsonObject]:
        """All collections, asked for once."""
        return self.collections()

    def sorts(self, criteria: Criteria) -> bool:
        """True where the server says that it sends items in the order that is asked for."""
        return criteria.most is not None and criteria.sort in _SORTED and self._conforms("item-search#sort")

    def search(self, criteria: Criteria) -> Iterator[JsonObject]:
        """Items that the server thinks fit, as they come; the caller checks them again.

        A server that refuses the filter it claims to know is asked once more without it.

        Raises
        ------
        UnknownNameError
            A collection the server does not have.
        SourceError
        """
        self._check_collections(criteria)
        body = self._body(criteria)
        try:
            yield from self._items(body)
        except RefusedError:
            plain = {key: value for key, value in body.items() if key not in _EXTENSIONS}
            if plain == body:
                raise
            yield from self._items(plain)

    def _items(self, body: JsonObject, is_one_page: bool = False) -> Iterator[JsonObject]:
        post = [link for link in links_of(self.landing, "search") if str(link.get("method", "")).upper() == "POST"]
        links = post or links_of(self.landing, "search")
        if not links:
            raise SourceError(f"{self.url} offers no item search.", "Give the landing page of a STAC API.")
        address = joined(self.url, links[0]["href"])
        asked = (address, body) if post else (f"{address}?{urlencode(_as_query(body))}", None)
        if is_one_page:
            yield from objects_in(self._client.json(*asked), "features")
            return
        for page in self._pages(*asked):
            yield from objects_in(page, "features")

    def _check_collections(self, criteria: Criteria) -> None:
        if criteria.collections:
            known = [str(entry.get("id")) for entry in self._listed]
            for name in criteria.collections:
                if name not in known:
                    raise UnknownNameError.of("collection", name, known)

    def _body(self, criteria: Criteria) -> JsonObject:
        body: JsonObject = {"intersects": geojson_of(_light(criteria.ground)), "limit": _PAGE}
        if self.sorts(criteria):
            most = criteria.most or 0
            body["limit"] = min(_PAGE, 2 * most + _BESIDE)
            body["sortby"] = [{"field": "properties.datetime", "direction": _SORTED[criteria.sort]}]
        if criteria.collections:
            body["collections"] = list(criteria.collections)
        if criteria.ids and len(criteria.ids) <= _MOST_IDS:
            body["ids"] = list(criteria.ids)
        span = criteria.span()
        if span:
            body["datetime"] = span.interval
        return body | self._filter(criteria, body)

    def _filter(self, criteria: Criteria, body: JsonObject) -> JsonObject:
        """The limits by which the server can filter, in the language that it speaks, by the names its items use."""
        limits, is_new = criteria.limits(), self._conforms("cql2-json")
        if not limits or not (is_new or self._conforms("item-search#query")):
            return {}
        told = self._properties(criteria, body) if any(len(aliases(name)) > 1 for name, _, _ in limits) else None
        named = [([one for one in aliases(name) if told is None or one in told], op, value)
                 for name, op, value in limits]  # fmt: skip
        if not is_new:
            # The older language knows no "or".
            return {"query": {names[0]: {_OLDER[op]: value} for names, op, value in named if len(names) == 1}}
        tests = [_joined("or", [{"op": op, "args": [{"property": one}, value]} for one in names])
                 for names, op, value in named if names]  # fmt: skip
        return {"filter-lang": "cql2-json", "filter": _joined("and", tests)} if tests else {}

    def _properties(self, criteria: Criteria, body: JsonObject) -> frozenset[str] | None:
        """Names of properties of the items of the one collection that is searched; None where nothing tells.

        By the summaries of the collection, else by one item of what is searched.
        """
        if len(criteria.collections) != 1:
            return None
        entry = next((one for one in self._listed if one.get("id") == criteria.collections[0]), {})
        summaries = entry.get("summaries")
        known = frozenset(summaries) if isinstance(summaries, dict) else frozenset()
        if any(len(aliases(name)) > 1 and known & set(aliases(name)) for name, _, _ in criteria.limits()):
            return known
        item = next(self._items({**body, "limit": 1}, is_one_page=True), {})
        properties = item.get("properties")
        return frozenset(properties) if isinstance(properties, dict) else None

    def _conforms(self, words: str) -> bool:
        return any(words in name for name in self.conformance)

    def _pages(self, address: str, body: JsonObject | None) -> Iterator[JsonObject]:
        """Follow ``next`` links as they are given, by GET or POST, never the same one twice.

        The next page is on its way while the caller works on this one.
        """
        seen, empty = set(), 0
        authority = self._client.authority
        # Pages that are posted elsewhere than to the search's own address go there without a log-in.
        client = self._client.acting(authority.to(address) if authority and body is not None else authority)
        with ThreadPoolExecutor(1, thread_name_prefix="zoompick-page") as ahead:
            coming = ahead.submit(client.json, address, body)
            waited, most_s = 0.0, settings.number("search_max_s")
            for number in range(_MOST_PAGES):
                began = time.monotonic()
                page = coming.result()
                waited += time.monotonic() - began
                if not isinstance(page, dict):
                    raise SourceError(
                        f"{address} answered with JSON that is no page of results.", "Check the address."
                    )
                links = links_of(page, "next")
                if not links:
                    yield page
                    return
                if waited > most_s:
                    raise SourceError(
                        f"{host_of(address)} took {human_time(waited)} for {_pages(number + 1)}, and there are more.",
                        "Narrow the search (dates, area, cloud), or raise the setting search_max_s.",
                    )
                empty = 0 if page.get("features") else empty + 1
                if empty > _MOST_EMPTY or len(address) + len(repr(body)) > _MOST_ASKED:
                    what = f"{empty} empty pages in a row" if empty > _MOST_EMPTY else "ever longer links"
                    raise SourceError(
                        f"{host_of(address)} sends {what}, and no end.", "Tell the people who run the source."
                    )
                address, body = _following(links[0], address, body)
                key = (address, repr(body))
                if key not in seen:
                    coming = ahead.submit(client.json, address, body)
                yield page
                if key in seen:
                    raise SourceError(
                        f"{address} links its pages in a circle.", "Tell the people who run the source."
                    )
                seen.add(key)
            raise SourceError(
                f"{host_of(address)} has no end after {_MOST_PAGES} pages.", "Narrow the search: dates, area, cloud."
            )


def _joined(op: str, tests: list[JsonObject]) -> JsonObject:
    return tests[0] if len(tests) == 1 else {"op": op, "args": tests}


def _pages(count: int) -> str:
    return "1 page" if count == 1 else f"{count} pages"


def _following(link: JsonMap, address: str, body: JsonObject | None) -> tuple[str, JsonObject | None]:
    href = joined(address, str(link["href"]))
    if str(link.get("method", "GET")).upper() != "POST":
        return href, None
    told = link.get("body")
    given = told if isinstance(told, dict) else {}
    return href, {**(body or {}), **given} if link.get("merge") else dict(given)


def _as_query(body: JsonObject) -> dict[str, str]:
    """The search body as parameters of a GET."""
    query = {}
    for key, value in body.items():
        if isinstance(value, list):
            query[key] = ",".join(_sign(one) if isinstance(one, dict) else str(one) for one in value)
        else:
            query[key] = json.dumps(value) if isinstance(value, dict) else str(value)
    return query


def _sign(order: JsonMap) -> str:
    """An order of a property, as a GET writes it."""
    return f"{'-' if order['direction'] == 'desc' else '+'}{order['field']}"
