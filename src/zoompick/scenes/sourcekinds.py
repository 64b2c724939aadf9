"""The kinds of sources: what each is, and how its addresses look."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from zoompick.addresses import is_remote


class SourceKind(NamedTuple):
    """A kind of source.

    Attributes
    ----------
    about : str
        What it is and who searches, for people.
    fits : callable
        Whether an address looks like one of this kind.
    """

    about: str
    fits: Callable[[str], bool]


def _is_web(address: str) -> bool:
    return is_remote(address)


def _path(address: str) -> str:
    return address.split("?")[0].lower()


def _looks_like_tiles(address: str) -> bool:
    has_tiles = "{z}" in address or "wmts" in address.lower()
    return _is_web(address) and (has_tiles or _path(address).endswith(("tilejson.json", "/tiles.json")))


def _is_parquet(address: str) -> bool:
    return _path(address).endswith((".parquet", ".geoparquet"))


KINDS: dict[str, SourceKind] = {
    "tiles": SourceKind(
        "a service of picture tiles: WMTS, TileJSON or an address with {z}, {x} and {y}; no scenes",
        _looks_like_tiles,
    ),
    "stac-catalog": SourceKind(
        "a static STAC catalog: crawled, checked here",
        lambda address: _is_web(address) and _path(address).endswith(".json"),
    ),
    "stac-api": SourceKind(
        "a STAC API: searched by the server, checked here",
        lambda address: _is_web(address) and not _is_parquet(address),
    ),
    "footprints": SourceKind(
        "a file of footprints, searched here: GeoParquet with boxes as it lies, others through an index",
        lambda address: True,
    ),
}  # fmt: skip
"""By name, in the order in which an address is tried."""


def kind_of(address: str) -> str:
    """The likely kind of what lies at an address."""
    return next(name for name, kind in KINDS.items() if kind.fits(address))
