"""Test a source before work depends on it: its address, its conformance, and whether it does what is asked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import islice
from typing import Literal

from zoompick.discovery.criteria import Criteria
from zoompick.discovery.footprintfile import FootprintFile
from zoompick.discovery.readers import Reader, reader_of
from zoompick.discovery.stac import StacApi
from zoompick.errors import SourceError, ZoomPickError
from zoompick.events import Report, ignore
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import shapely
from zoompick.net.authority import Purpose
from zoompick.net.client import Client, workers
from zoompick.net.links import links_of
from zoompick.scenes.finding import Finding
from zoompick.scenes.period import Period
from zoompick.scenes.scene import Scene
from zoompick.scenes.session import session
from zoompick.scenes.source import Source
from zoompick.scenes.tileservice import TileLayer, TileService

_WORLD = (-180, -90, 180, 90)
_SAMPLE = 25
_MOST_COLLECTIONS = 12


def check(source: Source, report: Report = ignore) -> list[Finding]:
    """Findings, in the order of the tests; the first failure ends them."""
    client = session(report, [source])
    fetching = client.on_behalf(source.name)
    try:
        reader = reader_of(source, client, report)
        collections = reader.collections()
    except ZoomPickError as error:
        note = f"{error.what} {error.todo} A moved source: 'zoompick source add {source.name} ADDRESS'."
        return [Finding("answers", source.name, "fail", "no", "yes", note)]
    found = [
        _address(source, client.on_behalf(source.name, Purpose.SEARCH))
        if source.is_web
        else Finding("answers", source.name, "pass", source.url, "yes", "")
    ]
    names = _listed([str(entry.get("id")) for entry in collections])
    found.append(Finding("collections", source.name, "pass" if collections else "warn", names or "none", "some", ""))
    if isinstance(reader, TileService):
        return found + [_tile(layer, fetching) for layer in reader.layers() if layer.addresses]
    if isinstance(reader, StacApi):
        found.append(_conformance(reader))
    try:
        found += _sample(reader, source)
        found += _access(reader, collections, fetching)
    except ZoomPickError as error:
        found.append(Finding("search", source.name, "fail", "no", "yes", f"{error.what} {error.todo}"))
    return found


@dataclass(frozen=True)
class There:
    """What was found at an address.

    Attributes
    ----------
    source : Source
        Of the kind that lies there.
    words : str
        What it holds, or why that is not known.
    """

    source: Source
    words: str


def look_there(source: Source, is_kind_told: bool, report: Report = ignore) -> There:
    """Ask a new source what it is: an address alone does not always tell.

    Parameters
    ----------
    is_kind_told : bool
        A person told the kind: it is not changed.
    """
    client = session(report, [source])
    asking = client.on_behalf(source.name, Purpose.SEARCH)
    if source.is_web and not is_kind_told and source.kind in ("stac-api", "stac-catalog"):
        try:
            document = asking.json(source.url)
        except ZoomPickError as error:
            return There(source, f"It could not be asked yet: {error.what}")
        source = replace(source, kind=_kind_of(document, source.kind))
    try:
        reader = reader_of(source, client, report)
        found = reader.collections()
    except ZoomPickError as error:
        return There(source, f"It could not be read: {error.what} {error.todo}".strip())
    if isinstance(reader, TileService):
        layers = [layer.name for layer in reader.layers()]
        return There(source, f"Layers: {_listed(layers)}." if layers else "It offers no layers.")
    names = [str(entry.get("id")) for entry in found]
    return There(source, f"Collections: {_listed(names)}." if names else "It names no collections.")


def _kind_of(document: object, supposed: str) -> str:
    """What a document at an address makes of it: items are crawled, so is a catalog without a search."""
    if not isinstance(document, dict):
        return supposed
    is_api = any(links_of(document, rel) for rel in ("search", "data")) or "conformsTo" in document
    is_static = document.get("type") in ("Feature", "FeatureCollection", "Catalog", "Collection")
    return "stac-api" if is_api else "stac-catalog" if is_static else supposed


def _listed(names: Sequence[str]) -> str:
    more = f" and {len(names) - _MOST_COLLECTIONS} more" if len(names) > _MOST_COLLECTIONS else ""
    return ", ".join(names[:_MOST_COLLECTIONS]) + more


def _address(source: Source, client: Client) -> Finding:
    """Whether the source answers where it is said to be."""
    try:
        settled = client.settled(source.url)
    except SourceError:
        # A server need not take HEAD; it did answer for its collections.
        settled = source.url
    if settled.rstrip("/") == source.url.rstrip("/"):
        return Finding("answers", source.name, "pass", source.url, "yes", "")
    note = f"It has moved to {settled}: 'zoompick source add {source.name} {settled}'; studies go on with it."
    return Finding("answers", source.name, "warn", source.url, "yes", note)


def _tile(layer: TileLayer, client: Client) -> Finding:
    """One tile of a layer is given; an address pattern tells no levels, so that a refusal there is no proof."""
    label = f"tiles of {layer.name}"
    try:
        client.settled(layer.sample_address())
    except SourceError as error:
        outcome: Literal["warn", "fail"] = "fail" if layer.bounds else "warn"
        return Finding(label, layer.name, outcome, "refused", "given", f"{layer.name}: {error.what} {error.todo}")
    return Finding(label, layer.name, "pass", "given", "given", "")


def _access(reader: Reader, collections: Sequence[JsonMap], client: Client) -> list[Finding]:
    """Whether a file of each collection is given to us as we are."""
    names = [str(entry.get("id")) for entry in collections[:_MOST_COLLECTIONS]]
    if isinstance(reader, FootprintFile):
        # Its index is open in this thread alone.
        return [finding for name in names if (finding := _file_of(reader, name, client))]
    with workers("check") as pool:
        return [finding for finding in pool.map(lambda name: _file_of(reader, name, client), names) if finding]


def _file_of(reader: Reader, collection: str, client: Client) -> Finding | None:
    """Try the first file of a collection; None when it has none on the web."""
    scenes = _usable(list(islice(reader.search(Criteria(shapely.box(*_WORLD), (collection,))), 1)), collection)
    href = next((band.href for scene in scenes for band in scene.bands.values()), "")
    if not href.startswith("http"):
        return None
    label = f"files of {collection}"
    try:
        client.settled(href)
    except SourceError as error:
        return Finding(label, collection, "warn", "refused", "given", f"{collection}: {error.what} {error.todo}")
    return Finding(label, collection, "pass", "given to all", "given", "")


def _conformance(api: StacApi) -> Finding:
    """A server without filters is slower, not wrong: what it sends is tested here."""
    wanted = {"item search": "item-search", "filter": "cql2-json", "sort": "item-search#sort"}
    has = [words for words, name in wanted.items() if any(name in claimed for claimed in api.conformance)]
    lacks = [words for words in wanted if words not in has]
    note = f"It does not claim {', '.join(lacks)}; that is done here." if lacks else ""
    return Finding("conformance", api.url, "warn" if lacks else "pass", ", ".join(has) or "none", "", note)


def _sample(reader: Reader, source: Source) -> list[Finding]:
    """A few items: usable, and inside the dates that were asked for."""
    items = list(islice(reader.search(Criteria(shapely.box(*_WORLD))), _SAMPLE))
    scenes = _usable(items, source.name)
    whole = bool(scenes) and len(scenes) == len(items)
    figure = f"{len(scenes)} of {len(items)} items usable"
    found = [Finding("search", source.name, "pass" if whole else "warn", figure, "all", "")]
    if not scenes:
        return found
    first = min(scenes, key=lambda scene: scene.when)
    period = Period.parse(first.day)
    asked = _usable(
        list(islice(reader.search(Criteria(shapely.box(*_WORLD), periods=(period,))), _SAMPLE)), source.name
    )
    kept = sum(period.meets(scene.when, scene.until) for scene in asked)
    note = "" if kept == len(asked) else "It sends scenes of other dates; they are left out here, which costs time."
    figure = f"{kept} of {len(asked)} items"
    found.append(Finding("keeps to dates", source.name, "warn" if note else "pass", figure, "all", note))
    return found


def _usable(items: list[JsonObject], source: str) -> list[Scene]:
    scenes = []
    for item in items:
        try:
            scene = Scene.from_item(item, source)
        except SourceError:
            continue
        scenes += [scene] if scene.has_footprint() else []
    return scenes
