"""What the archive asks of each instrument: its collection, its scenes, their items, and their files."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from zoompick.standin.search import Query
from zoompick.standin.store import Published, Store


class Instrument(ABC):
    """One collection of the archive; the parts that differ are overridden.

    Attributes
    ----------
    name : str
        Id of the collection.
    groups : tuple of str
        Files of a scene that are made together: a quicklook can be had without the bands.
    """

    name: str = ""
    groups: tuple[str, ...] = ("",)

    @abstractmethod
    def collection(self, base: str) -> dict[str, Any]:
        """The STAC Collection."""

    @abstractmethod
    def scenes(self) -> Sequence[Any]:
        """All scenes, each an :class:`~zoompick.standin.entry.Entry`, in order of time."""

    @abstractmethod
    def item(self, scene: Any, base: str, store: Store) -> dict[str, Any]:
        """A scene as a STAC Item."""

    @abstractmethod
    def make(self, scene: Any, group: str, folder: Path, cache: Path) -> None:
        """Write a group's files of a scene into ``folder``."""

    def group_of(self, name: str) -> str:
        """Group that a file belongs to, by its name."""
        return ("look" if name.endswith("-quicklook.png") else "") if len(self.groups) > 1 else ""

    def wrong_digest(self, scene: Any) -> str:
        """End of the name of a file whose digest is published wrongly; empty for none."""
        return ""

    def is_closed(self, name: str) -> str:
        """Why a file is not given away, or an empty text."""
        return ""

    @property
    def order_limits(self) -> Mapping[str, float]:
        """What an order must keep to; empty for an instrument whose files are open."""
        return {}

    def prepare(self, scene: Any, area: Any, folder: Path, cache: Path) -> None:
        """Write the file of an order into ``folder``: of a whole scene, or of the part inside an area (lon/lat)."""
        raise LookupError(f"nothing is prepared of {self.name}")

    def delivery(self, name: str, cache: Path, store: Store) -> tuple[Path, Published] | None:
        """A file that is no scene's own, by name: a part of an archive of many scenes, say."""
        return None

    def page(self, query: Query, base: str, store: Store) -> tuple[int, list[dict[str, Any]]] | None:
        """Number of matches and the items of one page, where an instrument finds them by itself."""
        return None

    def by_id(self, scene_id: str) -> Any:
        """The scene of this id, or None."""
        return next((scene for scene in self.scenes() if scene.id == scene_id), None)
