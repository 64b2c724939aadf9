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
    from zoompick.area.write import write_area as write_area
    from zoompick.catalog.criteria import Criteria as Criteria
    from zoompick.catalog.period import Period as Period
    from zoompick.catalog.source import Source as Source
    from zoompick.errors import ZoomPickError as ZoomPickError
    from zoompick.figures.face import Paper as Paper
    from zoompick.raster.grid import Grid as Grid
    from zoompick.raster.grid import Window as Window
    from zoompick.raster.labelled import to_xarray as to_xarray
    from zoompick.raster.raster import to_numpy as to_numpy
    from zoompick.study.folder import Study as Study
    from zoompick.study.journal import history as history
    from zoompick.study.scenelist import read_list as read_list
    from zoompick.study.scenelist import write_list as write_list
    from zoompick.workflow.areas import change_area as change_area
    from zoompick.workflow.areas import set_area as set_area
    from zoompick.workflow.asmade import make_in_study as make_in_study
    from zoompick.workflow.bands import bands_of as bands_of
    from zoompick.workflow.bands import guess_guide as guess_guide
    from zoompick.workflow.bands import split as split
    from zoompick.workflow.batch import BatchWish as BatchWish
    from zoompick.workflow.batch import run_batch as run_batch
    from zoompick.workflow.batch import units_of as units_of
    from zoompick.workflow.doctor import examined as examined
    from zoompick.workflow.find import passes_over as passes_over
    from zoompick.workflow.find import search as search
    from zoompick.workflow.library import TileWish as TileWish
    from zoompick.workflow.library import add_source as add_source
    from zoompick.workflow.library import calendar as calendar
    from zoompick.workflow.library import calendar_picture as calendar_picture
    from zoompick.workflow.library import change_shortlist as change_shortlist
    from zoompick.workflow.library import check_source as check_source
    from zoompick.workflow.library import collections_of as collections_of
    from zoompick.workflow.library import forget_area as forget_area
    from zoompick.workflow.library import get_tiles as get_tiles
    from zoompick.workflow.library import join_tiles as join_tiles
    from zoompick.workflow.library import keep_area as keep_area
    from zoompick.workflow.library import kept_area as kept_area
    from zoompick.workflow.library import kept_areas as kept_areas
    from zoompick.workflow.library import known_sources as known_sources
    from zoompick.workflow.library import log_in as log_in
    from zoompick.workflow.library import open_tiles as open_tiles
    from zoompick.workflow.library import order_terms as order_terms
    from zoompick.workflow.library import places_called as places_called
    from zoompick.workflow.library import plan_tiles as plan_tiles
    from zoompick.workflow.library import remove_source as remove_source
    from zoompick.workflow.library import sheets_under as sheets_under
    from zoompick.workflow.library import shortlist as shortlist
    from zoompick.workflow.library import tile_levels as tile_levels
    from zoompick.workflow.library import undo_shortlist as undo_shortlist
    from zoompick.workflow.like import study_like as study_like
    from zoompick.workflow.lock import lock_study as lock_study
    from zoompick.workflow.look import pictures as pictures
    from zoompick.workflow.new import NewStudy as NewStudy
    from zoompick.workflow.new import new_study as new_study
    from zoompick.workflow.opening import open_raster as open_raster
    from zoompick.workflow.orders import accept_terms as accept_terms
    from zoompick.workflow.orders import adopt_order as adopt_order
    from zoompick.workflow.orders import cancel_orders as cancel_orders
    from zoompick.workflow.orders import plan_orders as plan_orders
    from zoompick.workflow.orders import refresh_orders as refresh_orders
    from zoompick.workflow.orders import submit_orders as submit_orders
    from zoompick.workflow.orders import wait_for_orders as wait_for_orders
    from zoompick.workflow.passes import next_passes as next_passes
    from zoompick.workflow.picture import Look as Look
    from zoompick.workflow.picture import Wording as Wording
    from zoompick.workflow.products.blend import BlendRules as BlendRules
    from zoompick.workflow.products.mosaic import MosaicRules as MosaicRules
    from zoompick.workflow.reporting import report_of as report_of
    from zoompick.workflow.run import RunWish as RunWish
    from zoompick.workflow.run import run as run
    from zoompick.workflow.sidebyside import Comparison as Comparison
    from zoompick.workflow.stages import Stages as Stages
    from zoompick.workflow.status import state_of as state_of
    from zoompick.workflow.tell import findings_json as findings_json
    from zoompick.workflow.together import align as align
    from zoompick.workflow.together import blend as blend
    from zoompick.workflow.together import compare as compare
    from zoompick.workflow.together import grid_for as grid_for
    from zoompick.workflow.together import grid_of as grid_of
    from zoompick.workflow.together import mask as mask
    from zoompick.workflow.together import mosaic as mosaic
    from zoompick.workflow.together import picture as picture
    from zoompick.workflow.together import scene_layer as scene_layer
    from zoompick.workflow.unpack import Choice as Choice
    from zoompick.workflow.unpack import unpack as unpack
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
    from zoompick.workflow.watch import WatchWish as WatchWish
    from zoompick.workflow.watch import watch as watch

_VERBS = {
    "Area": "area.model", "BatchWish": "workflow.batch", "BlendRules": "workflow.products.blend",
    "Choice": "workflow.unpack", "Comparison": "workflow.sidebyside", "Criteria": "catalog.criteria",
    "Grid": "raster.grid", "Look": "workflow.picture", "MosaicRules": "workflow.products.mosaic",
    "NewStudy": "workflow.new", "Paper": "figures.face", "Period": "catalog.period",
    "RunWish": "workflow.run", "Source": "catalog.source", "Stages": "workflow.stages",
    "Study": "study.folder", "TileWish": "workflow.library", "WatchWish": "workflow.watch",
    "Window": "raster.grid", "Wish": "workflow.verify", "Wording": "workflow.picture",
    "ZoomPickError": "errors", "accept_terms": "workflow.orders", "add_source": "workflow.library",
    "adopt_order": "workflow.orders",
    "align": "workflow.together", "bands_of": "workflow.bands", "blend": "workflow.together",
    "calendar": "workflow.library", "calendar_picture": "workflow.library",
    "cancel_orders": "workflow.orders", "change_area": "workflow.areas",
    "change_shortlist": "workflow.library", "check_source": "workflow.library", "clip": "workflow.verbs",
    "collections_of": "workflow.library", "compare": "workflow.together", "composite": "workflow.verbs",
    "download": "workflow.verbs", "examined": "workflow.doctor", "findings_json": "workflow.tell",
    "forget_area": "workflow.library", "get_tiles": "workflow.library", "grid_for": "workflow.together",
    "grid_of": "workflow.together", "guess_guide": "workflow.bands", "history": "study.journal",
    "index": "workflow.verbs", "join_tiles": "workflow.library", "judge_study": "workflow.verify",
    "keep_area": "workflow.library", "kept_area": "workflow.library", "kept_areas": "workflow.library",
    "known_sources": "workflow.library", "lock_study": "workflow.lock", "log_in": "workflow.library",
    "make_in_study": "workflow.asmade", "mask": "workflow.together", "mosaic": "workflow.together",
    "new_study": "workflow.new", "next_passes": "workflow.passes", "open_raster": "workflow.opening",
    "open_tiles": "workflow.library", "order_terms": "workflow.library", "passes_over": "workflow.find",
    "pick": "workflow.verbs", "picture": "workflow.together", "pictures": "workflow.look",
    "places_called": "workflow.library", "plan_orders": "workflow.orders", "plan_tiles": "workflow.library",
    "read_area": "area.read", "read_list": "study.scenelist", "refresh_orders": "workflow.orders",
    "remove_source": "workflow.library", "report_of": "workflow.reporting", "run": "workflow.run",
    "run_batch": "workflow.batch", "scene_layer": "workflow.together", "search": "workflow.find",
    "set_area": "workflow.areas", "sheets_under": "workflow.library", "shortlist": "workflow.library",
    "split": "workflow.bands", "stack": "workflow.verbs", "state_of": "workflow.status",
    "study_like": "workflow.like", "submit_orders": "workflow.orders", "tile_levels": "workflow.library",
    "to_numpy": "raster.raster", "to_xarray": "raster.labelled", "undo_shortlist": "workflow.library",
    "units_of": "workflow.batch", "unpack": "workflow.unpack", "verify_files": "workflow.verify",
    "wait_for_orders": "workflow.orders", "watch": "workflow.watch", "write": "workflow.verbs",
    "write_area": "area.write", "write_list": "study.scenelist",
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
