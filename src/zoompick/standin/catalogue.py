"""The archive's shelves: its landing page and the collections it offers."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from typing import Any

from zoompick.standin.curlew import Curlew
from zoompick.standin.dunlin import Dunlin
from zoompick.standin.gannet import Gannet
from zoompick.standin.instrument import Instrument
from zoompick.standin.lapwing_shelf import Lapwing
from zoompick.standin.maps import Maps
from zoompick.standin.siskin import Siskin
from zoompick.standin.stac import link
from zoompick.standin.tern import Tern

CONFORMANCE = [
    "https://api.stacspec.org/v1.0.0/core",
    "https://api.stacspec.org/v1.0.0/collections",
    "https://api.stacspec.org/v1.0.0/ogcapi-features",
    "https://api.stacspec.org/v1.0.0/item-search",
    "https://api.stacspec.org/v1.0.0/item-search#sort",
    "https://api.stacspec.org/v1.0.0/item-search#filter",
    "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/core",
    "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/geojson",
    "http://www.opengis.net/spec/cql2/1.0/conf/cql2-json",
    "http://www.opengis.net/spec/cql2/1.0/conf/basic-cql2",
]


@cache
def instruments() -> Mapping[str, Instrument]:
    """The instruments of the invented archive by the id of their collection."""
    return {entry.name: entry for entry in (Lapwing(), Siskin(), Curlew(), Tern(), Dunlin(), Gannet(), Maps())}


def landing(base: str, shelves: Mapping[str, Instrument]) -> dict[str, Any]:
    """Landing page (STAC API 1.0, core)."""
    return {
        "type": "Catalog",
        "stac_version": "1.1.0",
        "id": "ostrell-archive",
        "title": "Ostrell archive (simulated)",
        "description": "Scenes of the invented Ostrell islands, made on request.",
        "conformsTo": CONFORMANCE,
        "links": [
            link("self", f"{base}/"),
            link("root", f"{base}/"),
            link("conformance", f"{base}/conformance"),
            link("data", f"{base}/collections"),
            link("search", f"{base}/search", "application/geo+json") | {"method": "GET"},
            link("search", f"{base}/search", "application/geo+json") | {"method": "POST"},
            link("http://www.opengis.net/def/rel/ogc/1.0/processes", f"{base}/processes"),
            link("http://www.opengis.net/def/rel/ogc/1.0/job-list", f"{base}/jobs"),
            link("register", f"{base}/account", "text/plain"),
            *(link("child", f"{base}/collections/{name}") for name in shelves),
        ],
    }
