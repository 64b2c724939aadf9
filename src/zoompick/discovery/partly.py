"""Searches that need not see everything: the first scenes in order, and a look at what is there at all."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Any

from zoompick.discovery.criteria import Criteria
from zoompick.discovery.gather import Gathering
from zoompick.discovery.readers import Reader
from zoompick.jsontypes import JsonObject
from zoompick.scenes.scene import Scene


class Enough:
    """Tells when the first scenes in order are here, of a source that sends them in that order.

    Whether it really does is looked at scene by scene: where one comes out of order, all are waited for.
    """

    def __init__(self, criteria: Criteria, gathered: Gathering[Any]) -> None:
        self._criteria, self._gathered = criteria, gathered
        self._most = criteria.most or 0
        self.batch = self._most + 1
        self._last: float | None = None
        self._is_in_order = True

    @classmethod
    def of(cls, reader: Reader, criteria: Criteria, gathered: Gathering[Any]) -> Enough | None:
        """None where all that fits must be seen."""
        sorts = getattr(reader, "sorts", None)
        sees_all = criteria.look_inside or criteria.cloud_area_max is not None or len(gathered)
        return None if sorts is None or sees_all or not sorts(criteria) else cls(criteria, gathered)

    def is_reached(self, scene: Scene) -> bool:
        """True when what comes from here on lies behind the last that is wanted."""
        sign = -1 if self._criteria.sort == "newest" else 1
        here = sign * scene.when.timestamp()
        if self._last is not None and here < self._last:
            self._is_in_order = False
        self._last = here
        if not self._is_in_order or len(self._gathered) < self._most:
            return False
        wanted = self._criteria.versions != "all", self._criteria.cover_min, self._criteria.sort
        found = self._gathered.sorted(*wanted)
        # Twins of one moment come together: the last that is wanted must lie before this one.
        return len(found) >= self._most and sign * _when(found[self._most - 1]) < here


def _when(found: Any) -> float:
    moment: float = getattr(found, "scene", found).when.timestamp()
    return moment


class Bounded:
    """A reader of which no more than a part is read."""

    def __init__(self, reader: Reader) -> None:
        self._reader = reader
        self.is_cut = False

    def collections(self) -> list[JsonObject]:
        """Those of the reader."""
        return self._reader.collections()

    def search(self, criteria: Criteria) -> Iterator[JsonObject]:
        """The first items, as long as it does not take long."""
        began = time.monotonic()
        for number, item in enumerate(self._reader.search(criteria)):
            if number >= _MOST_EXPLAINED or time.monotonic() - began > _LONGEST_EXPLAINED_S:
                self.is_cut = True
                return
            yield item


_MOST_EXPLAINED, _LONGEST_EXPLAINED_S = 1000, 20.0
