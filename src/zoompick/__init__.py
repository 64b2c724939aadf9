"""Zoom Pick: from an area, dates and a cloud limit to a checked satellite picture of exactly that area.

The verbs of the command line, for Python. Each is imported when it is first used: ``import zoompick`` is cheap.
"""

from __future__ import annotations

import importlib
from typing import Any

__version__ = "0.1.0"

_VERBS = {
    "Area": "zoompick.area.model",
    "Criteria": "zoompick.catalog.criteria",
    "Grid": "zoompick.raster.grid",
    "Period": "zoompick.catalog.period",
    "Source": "zoompick.catalog.sources",
    "Study": "zoompick.study.folder",
    "ZoomPickError": "zoompick.errors",
    "open_raster": "zoompick.workflow.opening",
    "to_numpy": "zoompick.raster.raster",
    "make": "zoompick.workflow.step",
    "read_area": "zoompick.area.read",
    "run": "zoompick.workflow.run",
    "search": "zoompick.workflow.find",
    "verify_files": "zoompick.workflow.verify",
    "write_geotiff": "zoompick.raster.write",
}

__all__ = ["__version__", *sorted(_VERBS)]


def __getattr__(name: str) -> Any:
    if name in _VERBS:
        found = getattr(importlib.import_module(_VERBS[name]), name)
        globals()[name] = found
        return found
    raise AttributeError(f"module 'zoompick' has no attribute '{name}'")


def __dir__() -> list[str]:
    return sorted(__all__)
