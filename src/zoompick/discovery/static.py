"""A static STAC catalog: JSON files that link to one another, crawled politely and never beyond their own host.

Source: STAC 1.1 (catalog and collection specification, link relations ``child`` and ``item``).
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from functools import cached_property

from zoompick.addresses import address_parts, is_remote
from zoompick.discovery.criteria import Criteria
from zoompick.errors import SourceError, UnknownNameError
from zoompick.events import Noted, Report, ignore
from zoompick.geo.bounds import Bounds
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.net.client import Client
from zoompick.net.links import joined, links_of, objects_in
from zoompick.scenes.fields import edges_of

_MOST_DOCUMENTS = 20_000


class StaticCatalog:
    """One static catalog.

    Parameters
    ----------
    url : str
        Its root document.
    report : callable
        Told of what was left out.
    """

    def __init__(self, url: str, client: Client, report: Report = ignore) -> None:
        self.url = url
        self._client = client
        self._report = report
        self._host = address_parts(url).netloc

    @cached_property
    def landing(self) -> JsonMap:
        """The root document."""
        return self._document(self.url)

    def _document(self, url: str) -> JsonMap:
        value = self._client.json(url)
        is_items = isinstance(value, dict) and value.get("type") in ("Feature", "FeatureCollection")
        if not isinstance(value, dict) or not (is_items or isinstance(value.get("links"), list)):
            raise SourceError(
                f"{url} is no STAC document.", "Give the root of a static catalog, or an ItemCollection."
            )
        return value

    def collections(self) -> list[JsonObject]:
        """All collections of the catalog, however deep; of an ItemCollection those that its items name."""
        if self.landing.get("type") == "FeatureCollection":
            names = {
                str(item["collection"]) for item in objects_in(self.landing, "features") if item.get("collection")
            }
            return [{"type": "Collection", "id": name} for name in sorted(names)]
        return [dict(entry) for entry in self._walk(None) if entry.get("type") == "Collection"]

    def search(self, criteria: Criteria) -> Iterator[JsonObject]:
        """Items of the collections whose extents meet the query; the caller checks them again.

        Raises
        ------
        UnknownNameError
            A collection the catalog does not have.
        SourceError
        """
        seen: set[str] = set()
        for url, document in self._walk_all(criteria):
            if document.get("type") == "Collection":
                seen.add(str(document.get("id")))
            if document.get("type") == "Feature":
                yield _placed(document, url)
            elif document.get("type") == "FeatureCollection":
                for item in objects_in(document, "features"):
                    seen.add(str(item.get("collection") or ""))
                    yield _placed(item, url)
        for name in criteria.collections:
            if name not in seen:
                raise UnknownNameError.of("collection", name, seen)

    def _walk(self, criteria: Criteria | None) -> Iterator[JsonMap]:
        return (document for _, document in self._walk_all(criteria))

    def _walk_all(self, criteria: Criteria | None) -> Iterator[tuple[str, JsonMap]]:
        """Addresses and documents, breadth first; items only when there is a query; each address once."""
        rels = ("child",) if criteria is None else ("child", "item", "items")
        queue, known = deque([self.url]), {self.url}
        foreign = 0
        while queue:
            url = queue.popleft()
            document = self._document(url) if url != self.url else self.landing
            if criteria is not None and document.get("type") == "Collection" and not _may_hold(document, criteria):
                yield url, {"type": "Collection", "id": document.get("id")}
                continue
            yield url, document
            if document.get("type") == "Feature":
                continue
            for link in links_of(document):
                if link.get("rel") not in rels:
                    continue
                target = _target(url, link["href"])
                parts = address_parts(target)
                if parts.netloc != self._host or not is_remote(target):
                    foreign += 1
                elif target not in known and len(known) < _MOST_DOCUMENTS:
                    known.add(target)
                    queue.append(target)
        if foreign:
            self._report(
                Noted(f"{foreign} links of {self._host} lead to other hosts or nowhere; they were not followed.")
            )
        if len(known) >= _MOST_DOCUMENTS:
            self._report(Noted(f"{self._host} has more than {_MOST_DOCUMENTS} documents; the rest was not read."))


def _placed(item: JsonMap, url: str) -> JsonObject:
    """An item that tells its own address: addresses in it that are relative are so to the document it came in."""
    own = links_of(item, "self")
    if own and is_remote(own[0]["href"]):
        return dict(item)
    others = [link for link in links_of(item) if link.get("rel") != "self"]
    return dict(item) | {"links": [{"rel": "self", "href": _target(url, own[0]["href"]) if own else url}, *others]}


def _target(base: str, href: str) -> str:
    """Where a link leads, without a place in the document; empty for no address."""
    try:
        return joined(base, href).split("#")[0]
    except SourceError:
        return ""


def _may_hold(collection: JsonMap, criteria: Criteria) -> bool:
    """True unless the collection's name or extent rules it out."""
    if criteria.collections and collection.get("id") not in criteria.collections:
        return False
    here = [Bounds(*part.bounds) for part in getattr(criteria.ground, "geoms", [criteria.ground])]
    known = list(_boxes(collection))
    return not known or any(box.intersects(part) for box in known for part in here)


def _boxes(collection: JsonMap) -> Iterator[Bounds]:
    """Boxes of a collection's spatial extent; what is none is left out."""
    extent = collection.get("extent")
    spatial = extent.get("spatial") if isinstance(extent, dict) else None
    boxes = spatial.get("bbox") if isinstance(spatial, dict) else None
    for box in boxes if isinstance(boxes, list) else ():
        edges = edges_of(box)
        if edges:
            yield Bounds(*edges)
