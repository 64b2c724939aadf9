"""Arrays of longitude and latitude in containers, and which of them place a variable: a swath.

Source: CF conventions 1.11, sections 5.2 (two-dimensional coordinates) and 2.7 (names in groups).
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from zoompick.raster.attributes import Dataset, Group, text_of
from zoompick.raster.gridmapping import found_near
from zoompick.raster.sides import kind_of

_WORD = re.compile(r"(?i)lat(itude)?s?|lon(gitude|g)?s?")


@dataclass(frozen=True)
class Pair:
    """Two datasets with the places of pixels.

    Attributes
    ----------
    shape : (int, int)
        Rows and columns: their dimensions without those of one place.
    """

    lon: str
    lat: str
    shape: tuple[int, int]


def pairs_in(file: Group, datasets: Sequence[tuple[str, Dataset]]) -> list[Pair]:
    """Pairs that variables name, and those that lie together under names that are alike."""
    found: dict[tuple[str, str], Pair] = {}
    for _, entry in datasets:
        named = _named(file, entry)
        if named is not None:
            found.setdefault((named.lon, named.lat), named)
    flat = [(name, entry, _flat(entry.shape)) for name, entry in datasets]
    arrays = {kind: [(name, shape) for name, entry, shape in flat if shape and kind_of(name, entry) == kind]
              for kind in ("lon", "lat")}  # fmt: skip
    for lon, shape in arrays["lon"]:
        for lat, other in arrays["lat"]:
            if shape == other and _alike(lon) == _alike(lat):
                found.setdefault((lon, lat), Pair(lon, lat, shape))
    return list(found.values())


def pair_for(file: Group, name: str, entry: Dataset, pairs: Sequence[Pair]) -> tuple[Pair, tuple[int, int]] | None:
    """The pair that places a variable, and its dimensions that are rows and columns.

    The pair that it names; else the one of its size that lies nearest in the tree of groups. Of several as near none
    is: which is meant nothing tells.
    """
    named = _named(file, entry)
    if named is not None:
        sides = _sides(entry.shape, named.shape)
        return (named, sides) if sides else None
    fitting = [(pair, sides) for pair in pairs if (sides := _sides(entry.shape, pair.shape))]
    if not fitting:
        return None
    near = max(_shared(name, pair.lat) for pair, _ in fitting)
    best = [(pair, sides) for pair, sides in fitting if _shared(name, pair.lat) == near]
    return best[0] if len(best) == 1 else None


def _named(file: Group, entry: Dataset) -> Pair | None:
    """The pair that the attribute ``coordinates`` of a variable names."""
    held: dict[str, Dataset] = {}
    for word in text_of(entry, "coordinates").split():
        other = found_near(file, entry, word)
        if other is None or not hasattr(other, "shape") or not _flat(other.shape):
            continue
        kind = kind_of(word, other)
        if kind in ("lon", "lat"):
            held[kind] = other
    if len(held) < 2 or _flat(held["lon"].shape) != _flat(held["lat"].shape):
        return None
    shape = _flat(held["lon"].shape)
    return Pair(held["lon"].name.lstrip("/"), held["lat"].name.lstrip("/"), shape) if shape else None


def _flat(shape: Sequence[int]) -> tuple[int, int] | None:
    """Rows and columns of an array whose other dimensions have one place."""
    left = tuple(size for size in shape if size > 1)
    return (left[0], left[1]) if len(left) == 2 else None


def _alike(name: str) -> str:
    """A name without the word for longitude or latitude."""
    home, _, word = name.rpartition("/")
    return f"{home}/{_WORD.sub('', word, count=1)}"


def _shared(name: str, other: str) -> int:
    """How many groups two paths share."""
    pairs: Iterator[tuple[str, str]] = zip(name.split("/")[:-1], other.split("/")[:-1], strict=False)
    return sum(1 for _ in itertools.takewhile(lambda pair: pair[0] == pair[1], pairs))


def _sides(shape: Sequence[int], wanted: tuple[int, int]) -> tuple[int, int] | None:
    """The last two dimensions of a variable that have the sizes of an array of places."""
    fitting = [pair for pair in itertools.combinations(range(len(shape)), 2)
               if (shape[pair[0]], shape[pair[1]]) == wanted]  # fmt: skip
    return fitting[-1] if fitting else None
