"""Large libraries that are loaded at their first use, so that commands that only read records start at once.

The module that names a library imports it for the type checker, and takes it from here when it runs::

    if TYPE_CHECKING:
        import shapely
    else:
        shapely = later("shapely")
"""

from __future__ import annotations

import importlib
from types import ModuleType
from typing import Any


class _Later(ModuleType):
    """A module that becomes the real one when something of it is asked for; safe to use from several threads."""

    def __getattr__(self, name: str) -> Any:
        found = getattr(importlib.import_module(self.__name__), name)
        setattr(self, name, found)
        return found


def later(name: str) -> Any:
    """The module called ``name``, loaded when something of it is asked for."""
    return _Later(name)
