"""A raster whose pixels several products take in one pass: each window of it is read once."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Sequence
from concurrent.futures import Future
from typing import Any

from zoompick.arrays import Pixels
from zoompick.later import np
from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Derived, Raster

KEPT_BYTES = 96 << 20


class Shared(Derived):
    """``source``, whose last windows stay in memory; who asks for one that is being read waits for it.

    It stays in this process: packed for workers elsewhere it is its source alone.
    """

    def __init__(self, source: Raster, most_bytes: int = KEPT_BYTES) -> None:
        super().__init__(source)
        self._most = most_bytes
        self._kept: OrderedDict[Hashable, Future[Any]] = OrderedDict()
        self._held = 0
        self._lock = threading.Lock()

    def __reduce__(self) -> tuple[Any, ...]:
        return Shared, (self.source, self._most)

    @property
    def levels(self) -> tuple[Grid, ...]:
        """The source's overviews: no pixel is changed."""
        return self.source.levels

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        wanted = range(len(self.bands)) if bands is None else bands
        layers = [self._band(window, band, level) for band in wanted]
        return layers[0] if len(layers) == 1 else np.concatenate(layers)

    def coded(self, window: Window, band: int) -> CodedBlock | None:
        """The source's block; see :meth:`zoompick.raster.coded.HasBlocks.coded`."""
        found: CodedBlock | None = self._once(("coded", window, band), lambda: coded_block(self.source, window, band))
        return found

    def physical(self, window: Window, band: int) -> Pixels:
        """Values of a band after scale and offset, as float64; what is missing there is of no meaning."""
        about = self.bands[band]

        def make() -> Pixels:
            return np.asarray(self._band(window, band, 0)[0].astype(np.float64) * about.scale + about.offset)

        found: Pixels = self._once(("physical", window, band), make)
        return found

    def _band(self, window: Window, band: int, level: int) -> Pixels:
        found: Pixels = self._once((level, window, band), lambda: self.source.read(window, (band,), level))
        return found

    def _once(self, key: Hashable, make: Callable[[], Any]) -> Any:
        with self._lock:
            known = self._kept.get(key)
            if known is None:
                future = self._kept[key] = Future()
            else:
                self._kept.move_to_end(key)
        if known is not None:
            return known.result()
        try:
            made = make()
        except BaseException as error:
            future.set_exception(error)
            with self._lock:
                self._kept.pop(key, None)
            raise
        future.set_result(made)
        self._note(_bytes(made))
        return made

    def _note(self, size: int) -> None:
        with self._lock:
            self._held += size
            while self._held > self._most and self._kept:
                oldest = next(iter(self._kept))
                if not self._kept[oldest].done():
                    return
                future = self._kept.pop(oldest)
                if future.exception() is None:
                    self._held -= _bytes(future.result())


def _bytes(made: Any) -> int:
    if isinstance(made, CodedBlock):
        return int(made.pixels.nbytes) + len(made.data)
    return int(made.nbytes) if made is not None else 0
