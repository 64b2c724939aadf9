"""Matches of a search as they come, however many: a few numbers of each in memory, the items themselves in a spool.

A hundred thousand scenes must not need a gigabyte; a few hundred are simply kept.
"""

from __future__ import annotations

import marshal
import os
import tempfile
import threading
from array import array
from collections.abc import Callable, Iterator, Sequence
from typing import Any, Generic, TypeVar, overload

from zoompick.arrays import Numbers
from zoompick.later import np
from zoompick.scenes.scene import Scene

Made = TypeVar("Made")
_IN_MEMORY_BYTES = 8 << 20
FEW = 5_000
"""Up to so many matches are made into scenes at once."""


class Gathering(Generic[Made]):
    """Scenes that passed every filter, to be sorted when all are here.

    A scene that comes twice (same source, collection and id) is kept once.

    Parameters
    ----------
    make : callable
        What a match becomes: of the scene, and the percent of the area that its footprint covers.
    """

    def __init__(self, make: Callable[[Scene, float], Made]) -> None:
        self._make = make
        self._spool = tempfile.SpooledTemporaryFile(_IN_MEMORY_BYTES)  # noqa: SIM115
        self._lock = threading.Lock()
        self._names: dict[str, int] = {}
        self._listed: list[str] = []
        self._when, self._cover, self._cloud = array("d"), array("f"), array("f")
        self._places, self._sizes = array("q"), array("l")
        self._tile, self._version, self._source = array("l"), array("l"), array("l")
        self._key, self._acquisition, self._created = array("q"), array("q"), array("d")
        self._end = 0

    def __len__(self) -> int:
        return len(self._when)

    def add(self, scenes: Sequence[Scene], cover_percents: Sequence[float]) -> None:
        """Take scenes in, each with the percent of the area that its footprint covers."""
        packed = []
        for scene, percent in zip(scenes, cover_percents, strict=True):
            packed.append(marshal.dumps(dict(scene.item)))
            self._note(scene, percent, len(packed[-1]))
        self._spool.seek(0, os.SEEK_END)
        self._spool.write(b"".join(packed))

    def _note(self, scene: Scene, cover_percent: float, size: int) -> None:
        self._places.append(self._end)
        self._sizes.append(size)
        self._end += size
        self._when.append(scene.when.timestamp())
        self._cover.append(cover_percent)
        # What does not tell its cloud comes after all that does.
        self._cloud.append(101.0 if scene.cloud_percent is None else scene.cloud_percent)
        for column, text in ((self._tile, scene.tile), (self._version, scene.version), (self._source, scene.source)):
            column.append(self._names.setdefault(text, len(self._names)))
        self._key.append(hash(scene.key))
        self._acquisition.append(hash(scene.acquisition))
        self._created.append(scene.published.timestamp() if scene.published else 0.0)

    def sorted(self, newest_only: bool, cover_min: float, sort: str = "oldest") -> Sequence[Made]:
        """Matches in order, by default by time; among equals by tile and processing version.

        Parameters
        ----------
        newest_only : bool
            Of reprocessed twins (same platform, time and tile) keep the newest version.
        cover_min : float
            Percent of the area; a scene that covers nothing of it is left out in any case.
        sort : str
            ``oldest``, ``newest``, ``clearest`` or ``cover`` first.
        """
        order = self._order()
        order = order[_first_of_each(np.array(self._key, np.int64)[order])]
        if newest_only:
            order = self._newest(order)
        cover = np.frombuffer(self._cover, np.float32) if len(self) else np.zeros(0, np.float32)
        kept = order[(cover[order] > 0) & (cover[order] >= cover_min)]
        kept = kept[self._in_order(kept, cover, sort)]
        found = _Lazy(self, kept)
        return list(found) if len(kept) <= FEW else found

    def _in_order(self, kept: Numbers, cover: Any, sort: str) -> Numbers:
        """Places of matches that are in order of time, in another order."""
        if sort == "oldest":
            return np.arange(len(kept))
        when = np.array(self._when)[kept]
        if sort == "newest":
            return np.lexsort((np.arange(len(kept)), -when))
        figure = -cover[kept] if sort == "cover" else np.array(self._cloud)[kept]
        return np.lexsort((np.arange(len(kept)), -when, figure))

    def _order(self) -> Numbers:
        tile, version = (self._ranks()[np.array(column, np.int64)] for column in (self._tile, self._version))
        return np.lexsort((version, tile, np.array(self._when)))

    def _ranks(self) -> Numbers:
        """Alphabetical rank of each name, by its number."""
        ranks = np.empty(len(self._names) or 1, np.int64)
        for rank, name in enumerate(sorted(self._names)):
            ranks[self._names[name]] = rank
        return ranks

    def _newest(self, order: Numbers) -> Numbers:
        """The last of each acquisition in order of version, then of publication."""
        created = np.array(self._created)[order]
        version = self._ranks()[np.array(self._version, np.int64)[order]]
        by_age = np.lexsort((-created, -version))
        newest = np.zeros(len(order), bool)
        newest[by_age[_first_of_each(np.array(self._acquisition, np.int64)[order][by_age])]] = True
        return order[newest]

    def match(self, index: int) -> Made:
        """One match, read back from the spool."""
        with self._lock:
            self._spool.seek(self._places[index])
            data = self._spool.read(self._sizes[index])
        names = list(self._names) if len(self._names) != len(self._listed) else self._listed
        self._listed = names
        scene = Scene.from_item(marshal.loads(data), names[self._source[index]])
        return self._make(scene, self._cover[index])


def _first_of_each(values: Numbers) -> Numbers:
    """True where a value stands for the first time, shape (n,)."""
    first = np.zeros(len(values), bool)
    first[np.unique(values, return_index=True)[1]] = True
    return first


class _Lazy(Sequence[Made]):
    """Matches in order, each made when it is asked for."""

    def __init__(self, gathering: Gathering[Made], order: Numbers) -> None:
        self._gathering, self._order = gathering, order

    def __len__(self) -> int:
        return len(self._order)

    @overload
    def __getitem__(self, index: int) -> Made: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[Made]: ...
    def __getitem__(self, index: int | slice) -> Made | Sequence[Made]:
        if isinstance(index, slice):
            return _Lazy(self._gathering, self._order[index])
        return self._gathering.match(int(self._order[index]))

    def __iter__(self) -> Iterator[Made]:
        return (self._gathering.match(int(index)) for index in self._order)
