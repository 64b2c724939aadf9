"""A raster that other processes can unpack."""

from __future__ import annotations

from typing import Any

from zoompick.raster.raster import Derived


class Computed(Derived):
    """Pixels only: no block of it can be passed on as it is stored."""

    def read(self, window: Any, bands: Any = None, level: int = 0) -> Any:
        """The source's pixels."""
        return self.source.read(window, bands, level)
