"""Zoom Pick: from an area, dates and a cloud limit to a checked satellite picture of exactly that area.

The verbs of the command line, for Python. Each is imported when it is first used: ``import zoompick`` is cheap.
"""

from __future__ import annotations

import importlib
import warnings
from types import FunctionType
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from zoompick.area.model import Area as Area
    from zoompick.area.read import read_area as read_area
    from zoompick.area.write import write_area as write_area
    from zoompick.discovery.criteria import Criteria as Criteria
    from zoompick.discovery.find import passes_over as passes_over
    from zoompick.discovery.find import search as search
    from zoompick.discovery.look import pictures as pictures
    from zoompick.discovery.passes import next_passes as next_passes
    from zoompick.errors import ZoomPickError as ZoomPickError
    from zoompick.fetch.bands import bands_of as bands_of
    from zoompick.fetch.bands import guess_guide as guess_guide
    from zoompick.fetch.bands import split as split
    from zoompick.fetch.unpack import Choice as Choice
    from zoompick.fetch.unpack import unpack as unpack
    from zoompick.products.together import align as align
    from zoompick.products.together import blend as blend
    from zoompick.products.together import compare as compare
    from zoompick.products.together import grid_for as grid_for
    from zoompick.products.together import mask as mask
    from zoompick.products.together import mosaic as mosaic
    from zoompick.products.together import picture as picture
    from zoompick.products.together import scene_layer as scene_layer
    from zoompick.raster.engine import computed_on as computed_on
    from zoompick.raster.grid import Grid as Grid
    from zoompick.raster.grid import Window as Window
    from zoompick.raster.labelled import to_xarray as to_xarray
    from zoompick.raster.raster import to_numpy as to_numpy
    from zoompick.scenes.opening import open_raster as open_raster
    from zoompick.scenes.period import Period as Period
    from zoompick.scenes.scenelist import read_list as read_list
    from zoompick.scenes.scenelist import write_list as write_list
    from zoompick.scenes.source import Source as Source
    from zoompick.study.areaskept import forget_area as forget_area
    from zoompick.study.areaskept import keep_area as keep_area
    from zoompick.study.areaskept import kept_area as kept_area
    from zoompick.study.areaskept import kept_areas as kept_areas
    from zoompick.study.areaskept import places_called as places_called
    from zoompick.study.areaskept import sheets_under as sheets_under
    from zoompick.study.batch import BatchOptions as BatchOptions
    from zoompick.study.doctor import examined as examined
    from zoompick.study.months import calendar as calendar
    from zoompick.study.months import calendar_picture as calendar_picture
    from zoompick.study.new import NewStudy as NewStudy
    from zoompick.study.new import new_study as new_study
    from zoompick.study.opened import Study as Study
    from zoompick.study.run import RunOptions as RunOptions
    from zoompick.study.sourcing import add_source as add_source
    from zoompick.study.sourcing import check_source as check_source
    from zoompick.study.sourcing import collections_of as collections_of
    from zoompick.study.sourcing import known_sources as known_sources
    from zoompick.study.sourcing import log_in as log_in
    from zoompick.study.sourcing import remove_source as remove_source
    from zoompick.study.stages import Stages as Stages
    from zoompick.study.tiling import TileOptions as TileOptions
    from zoompick.study.tiling import get_tiles as get_tiles
    from zoompick.study.tiling import join_tiles as join_tiles
    from zoompick.study.tiling import open_tiles as open_tiles
    from zoompick.study.tiling import plan_tiles as plan_tiles
    from zoompick.study.tiling import tile_levels as tile_levels
    from zoompick.study.verbs import clip as clip
    from zoompick.study.verbs import composite as composite
    from zoompick.study.verbs import download as download
    from zoompick.study.verbs import index as index
    from zoompick.study.verbs import pick as pick
    from zoompick.study.verbs import stack as stack
    from zoompick.study.verbs import write as write
    from zoompick.study.verify import CheckOptions as CheckOptions
    from zoompick.study.verify import verify_files as verify_files
    from zoompick.study.watch import WatchOptions as WatchOptions

_VERBS = {
    "Area": "area.model", "BatchOptions": "study.batch", "Choice": "fetch.unpack",
    "Criteria": "discovery.criteria", "Grid": "raster.grid", "NewStudy": "study.new", "Period": "scenes.period",
    "RunOptions": "study.run", "Source": "scenes.source", "Stages": "study.stages", "Study": "study.opened",
    "TileOptions": "study.tiling", "WatchOptions": "study.watch", "Window": "raster.grid",
    "CheckOptions": "study.verify",
    "ZoomPickError": "errors", "add_source": "study.sourcing", "align": "products.together",
    "bands_of": "fetch.bands", "blend": "products.together", "calendar": "study.months",
    "calendar_picture": "study.months", "check_source": "study.sourcing", "clip": "study.verbs",
    "collections_of": "study.sourcing", "compare": "products.together", "composite": "study.verbs",
    "computed_on": "raster.engine", "download": "study.verbs", "examined": "study.doctor",
    "forget_area": "study.areaskept", "get_tiles": "study.tiling", "grid_for": "products.together",
    "guess_guide": "fetch.bands", "index": "study.verbs", "join_tiles": "study.tiling",
    "keep_area": "study.areaskept", "kept_area": "study.areaskept", "kept_areas": "study.areaskept",
    "known_sources": "study.sourcing", "log_in": "study.sourcing", "mask": "products.together",
    "mosaic": "products.together", "new_study": "study.new", "next_passes": "discovery.passes",
    "open_raster": "scenes.opening", "open_tiles": "study.tiling", "passes_over": "discovery.find",
    "pick": "study.verbs", "picture": "products.together", "pictures": "discovery.look",
    "places_called": "study.areaskept", "plan_tiles": "study.tiling", "read_area": "area.read",
    "read_list": "scenes.scenelist", "remove_source": "study.sourcing", "scene_layer": "products.together",
    "search": "discovery.find", "sheets_under": "study.areaskept", "split": "fetch.bands", "stack": "study.verbs",
    "tile_levels": "study.tiling", "to_numpy": "raster.raster", "to_xarray": "raster.labelled",
    "unpack": "fetch.unpack", "verify_files": "study.verify", "write": "study.verbs", "write_area": "area.write",
    "write_list": "scenes.scenelist",
}  # fmt: skip
"""Name to the module that has it."""

_GOING = {
    "RunWish": ("study.run", "RunOptions"),
    "BatchWish": ("study.batch", "BatchOptions"),
    "WatchWish": ("study.watch", "WatchOptions"),
    "TileWish": ("tiles.tiles", "TileOptions"),
    "Wish": ("study.verify", "CheckOptions"),
    "BlendRules": ("products.kinds.blend", "arguments of blend"),
    "Comparison": ("products.sidebyside", "arguments of compare"),
    "Look": ("products.drawing", "arguments of picture"),
    "MosaicRules": ("products.kinds.mosaic", "arguments of mosaic"),
    "Paper": ("figures.face", "arguments of picture"), "Wording": ("products.drawing", "arguments of picture"),
    "accept_terms": ("study.orders", "Study.accept_terms"), "adopt_order": ("study.orders", "Study.adopt_order"),
    "cancel_orders": ("study.orders", "Study.cancel_orders"), "change_area": ("study.areas", "Study.change_area"),
    "change_shortlist": ("study.choosing", "Study.pick"), "findings_json": ("judge.tell", "Finding.to_json"),
    "grid_of": ("products.together", "open_raster(file).grid"), "history": ("journal", "Study.history"),
    "judge_study": ("study.verify", "Study.verify"), "lock_study": ("study.locking", "Study.lock"),
    "make_in_study": ("study.making", "Study.make"), "order_terms": ("study.orders", "Study.order_terms"),
    "plan_orders": ("study.orders", "Study.plan_orders"), "refresh_orders": ("study.orders", "Study.orders"),
    "report_of": ("study.reporting", "Study.report"), "run": ("study.run", "Study.run"),
    "run_batch": ("study.batch", "Study.run_each"), "set_area": ("study.areas", "Study.set_area"),
    "shortlist": ("study.shortlist", "Study.shortlist"), "state_of": ("study.status", "Study.state"),
    "study_like": ("study.like", "Study.begin_like"), "submit_orders": ("study.orders", "Study.submit_orders"),
    "undo_shortlist": ("study.choosing", "Study.undo"), "units_of": ("study.batch", "Study.run_each"),
    "wait_for_orders": ("study.orders", "Study.wait_for_orders"), "watch": ("study.watch", "Study.watch"),
}  # fmt: skip
"""Names of version 0.1 that go with the next: the module that has it, and what to write."""

_CALLED = {
    "BatchWish": "BatchOptions", "RunWish": "RunOptions", "TileWish": "TileOptions", "WatchWish": "WatchOptions",
    "Wish": "CheckOptions",
}  # fmt: skip

__all__ = ["__version__", *sorted(_VERBS)]


def __getattr__(name: str) -> Any:
    if name in _GOING:
        module, instead = _GOING[name]
        warnings.warn(f"zoompick.{name} goes with the next version: {instead}.", DeprecationWarning, stacklevel=2)
    else:
        module = _VERBS.get(name, "")
    if module:
        found = getattr(importlib.import_module(f"zoompick.{module}"), _CALLED.get(name, name))
        if isinstance(found, FunctionType):
            found = importlib.import_module("zoompick.study.door").opened(found)
        if name in _VERBS:
            globals()[name] = found
        return found
    raise AttributeError(f"module 'zoompick' has no attribute '{name}'")


def __dir__() -> list[str]:
    return sorted(__all__)
