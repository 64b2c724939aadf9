"""Decoded blocks of input rasters, kept in bounded memory for all rasters of a process together."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Hashable

from zoompick import settings
from zoompick.arrays import Pixels
from zoompick.later import np


class BlockCache:
    """Least-recently-used blocks up to a number of bytes."""

    def __init__(self, limit_bytes: int) -> None:
        self._limit = limit_bytes
        self._held = 0
        self._blocks: OrderedDict[Hashable, Pixels] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: Hashable) -> Pixels | None:
        """The block, or None."""
        with self._lock:
            block = self._blocks.get(key)
            if block is not None:
                self._blocks.move_to_end(key)
            return block

    def put(self, key: Hashable, block: Pixels) -> None:
        """Keep a block; the array must not be changed afterwards."""
        if block.nbytes > self._limit // 4:
            return
        with self._lock:
            if key in self._blocks:
                return
            self._blocks[key] = block
            self._held += block.nbytes
            while self._held > self._limit:
                _, old = self._blocks.popitem(last=False)
                self._held -= np.asarray(old).nbytes


_shared: BlockCache | None = None
_shared_lock = threading.Lock()


def shared() -> BlockCache:
    """The cache of this process; its size is the setting ``block_cache_mb``."""
    global _shared
    with _shared_lock:
        if _shared is None:
            _shared = BlockCache(settings.whole("block_cache_mb") * 1_000_000)
        return _shared
