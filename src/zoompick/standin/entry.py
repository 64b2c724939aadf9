"""A scene as search, store and items see it."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Protocol


class Entry(Protocol):
    """A scene as search sees it."""

    @property
    def id(self) -> str:
        """Name, unique in the archive."""

    @property
    def when(self) -> datetime:
        """Begin of the acquisition."""

    @property
    def until(self) -> datetime:
        """End of the acquisition; the begin for a scene of one moment."""

    @property
    def footprint(self) -> Any:
        """Polygon in longitude/latitude."""
