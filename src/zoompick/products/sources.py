"""What steps read while they are made."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from zoompick.bytesource import ByteSource
    from zoompick.raster.raster import Raster


class Sources:
    """Inputs of steps as rasters: each file is opened once.

    Parameters
    ----------
    is_shared : bool
        Several steps take them in one pass: each window is read once.
    """

    def __init__(self, is_shared: bool = False) -> None:
        self.is_shared = is_shared
        self._opened: dict[Path, Raster] = {}
        self._bytes: dict[Path, ByteSource] = {}
        self._made: dict[Hashable, Any] = {}

    @classmethod
    def of(cls, opened: Mapping[Path, Raster]) -> Sources:
        """Sources of which some are open already."""
        found = cls()
        found._opened |= opened
        return found

    def once(self, key: Hashable, make: Callable[[], Any]) -> Any:
        """What several steps are made of beside files: made at the first call."""
        if key not in self._made:
            self._made[key] = make()
        return self._made[key]

    def open(self, path: Path) -> Raster:
        """The raster in a file."""
        from zoompick.raster.shared import Shared
        from zoompick.scenes.opening import open_raster, source_of

        if path not in self._opened:
            self._bytes[path] = source_of(path)
            raster = open_raster(self._bytes[path])
            self._opened[path] = Shared(raster) if self.is_shared else raster
        return self._opened[path]

    def confirm(self) -> None:
        """Look at all inputs again: what was made of them is of these very states.

        Raises
        ------
        DataError, SourceError
            One changed while it was read.
        """
        for source in self._bytes.values():
            source.confirm()
