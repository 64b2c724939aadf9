"""Zoom Pick: from an area, dates and a cloud limit to a checked satellite picture of exactly that area.

The verbs of the command line, for Python. Each is imported when it is first used: ``import zoompick`` is cheap.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from zoompick.area.model import Area as Area
    from zoompick.area.read import read_area as read_area
    from zoompick.catalog.criteria import Criteria as Criteria
    from zoompick.catalog.period import Period as Period
    from zoompick.catalog.sources import Source as Source
    from zoompick.errors import ZoomPickError as ZoomPickError
    from zoompick.raster.grid import Grid as Grid
    from zoompick.raster.grid import Window as Window
    from zoompick.raster.labelled import to_xarray as to_xarray
    from zoompick.raster.raster import to_numpy as to_numpy
    from zoompick.study.folder import Study as Study
    from zoompick.workflow.areas import change_area as change_area
    from zoompick.workflow.areas import set_area as set_area
    from zoompick.workflow.find import search as search
    from zoompick.workflow.making import make_in_study as make_in_study
    from zoompick.workflow.new import NewStudy as NewStudy
    from zoompick.workflow.new import new_study as new_study
    from zoompick.workflow.opening import open_raster as open_raster
    from zoompick.workflow.orders import cancel_orders as cancel_orders
    from zoompick.workflow.orders import submit_orders as submit_orders
    from zoompick.workflow.orders import wait_for_orders as wait_for_orders
    from zoompick.workflow.reporting import report_of as report_of
    from zoompick.workflow.run import RunWish as RunWish
    from zoompick.workflow.run import run as run
    from zoompick.workflow.stages import Stages as Stages
    from zoompick.workflow.status import state_of as state_of
    from zoompick.workflow.verbs import clip as clip
    from zoompick.workflow.verbs import composite as composite
    from zoompick.workflow.verbs import download as download
    from zoompick.workflow.verbs import index as index
    from zoompick.workflow.verbs import pick as pick
    from zoompick.workflow.verbs import stack as stack
    from zoompick.workflow.verbs import write as write
    from zoompick.workflow.verify import Wish as Wish
    from zoompick.workflow.verify import judge_study as judge_study
    from zoompick.workflow.verify import verify_files as verify_files

_VERBS = {
    "Area": "area.model", "read_area": "area.read", "Criteria": "catalog.criteria", "Period": "catalog.period",
    "Source": "catalog.sources", "ZoomPickError": "errors", "Grid": "raster.grid", "Window": "raster.grid",
    "to_numpy": "raster.raster", "Study": "study.folder", "change_area": "workflow.areas",
    "set_area": "workflow.areas", "search": "workflow.find", "make_in_study": "workflow.making",
    "NewStudy": "workflow.new", "new_study": "workflow.new", "open_raster": "workflow.opening",
    "cancel_orders": "workflow.orders", "submit_orders": "workflow.orders", "wait_for_orders": "workflow.orders",
    "report_of": "workflow.reporting", "RunWish": "workflow.run", "Stages": "workflow.stages",
    "Wish": "workflow.verify", "to_xarray": "raster.labelled",
    "run": "workflow.run", "state_of": "workflow.status", "clip": "workflow.verbs", "composite": "workflow.verbs",
    "download": "workflow.verbs", "index": "workflow.verbs", "pick": "workflow.verbs", "stack": "workflow.verbs",
    "write": "workflow.verbs", "judge_study": "workflow.verify", "verify_files": "workflow.verify",
}  # fmt: skip
"""Name to the module that has it."""

__all__ = ["__version__", *sorted(_VERBS)]


def __getattr__(name: str) -> Any:
    if name in _VERBS:
        found = getattr(importlib.import_module(f"zoompick.{_VERBS[name]}"), name)
        globals()[name] = found
        return found
    raise AttributeError(f"module 'zoompick' has no attribute '{name}'")


def __dir__() -> list[str]:
    return sorted(__all__)
