"""Zoom Pick: from an area, dates and a cloud limit to a checked satellite picture of exactly that area.

The verbs of the command line, for Python. Each is imported when it is first used: ``import zoompick`` is cheap.
"""

from __future__ import annotations

import importlib
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
    from zoompick.figures.face import Paper as Paper
    from zoompick.journal import history as history
    from zoompick.judge.tell import findings_json as findings_json
    from zoompick.products.drawing import Look as Look
    from zoompick.products.drawing import Wording as Wording
    from zoompick.products.kinds.blend import BlendRules as BlendRules
    from zoompick.products.kinds.mosaic import MosaicRules as MosaicRules
    from zoompick.products.sidebyside import Comparison as Comparison
    from zoompick.products.together import align as align
    from zoompick.products.together import blend as blend
    from zoompick.products.together import compare as compare
    from zoompick.products.together import grid_for as grid_for
    from zoompick.products.together import grid_of as grid_of
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
    from zoompick.study.areas import change_area as change_area
    from zoompick.study.areas import set_area as set_area
    from zoompick.study.areaskept import forget_area as forget_area
    from zoompick.study.areaskept import keep_area as keep_area
    from zoompick.study.areaskept import kept_area as kept_area
    from zoompick.study.areaskept import kept_areas as kept_areas
    from zoompick.study.areaskept import places_called as places_called
    from zoompick.study.areaskept import sheets_under as sheets_under
    from zoompick.study.batch import BatchWish as BatchWish
    from zoompick.study.batch import run_batch as run_batch
    from zoompick.study.batch import units_of as units_of
    from zoompick.study.choosing import change_shortlist as change_shortlist
    from zoompick.study.choosing import undo_shortlist as undo_shortlist
    from zoompick.study.doctor import examined as examined
    from zoompick.study.like import study_like as study_like
    from zoompick.study.locking import lock_study as lock_study
    from zoompick.study.making import make_in_study as make_in_study
    from zoompick.study.months import calendar as calendar
    from zoompick.study.months import calendar_picture as calendar_picture
    from zoompick.study.new import NewStudy as NewStudy
    from zoompick.study.new import new_study as new_study
    from zoompick.study.opened import Study as Study
    from zoompick.study.orders import accept_terms as accept_terms
    from zoompick.study.orders import adopt_order as adopt_order
    from zoompick.study.orders import cancel_orders as cancel_orders
    from zoompick.study.orders import order_terms as order_terms
    from zoompick.study.orders import plan_orders as plan_orders
    from zoompick.study.orders import refresh_orders as refresh_orders
    from zoompick.study.orders import submit_orders as submit_orders
    from zoompick.study.orders import wait_for_orders as wait_for_orders
    from zoompick.study.reporting import report_of as report_of
    from zoompick.study.run import RunWish as RunWish
    from zoompick.study.run import run as run
    from zoompick.study.shortlist import shortlist as shortlist
    from zoompick.study.sourcing import add_source as add_source
    from zoompick.study.sourcing import check_source as check_source
    from zoompick.study.sourcing import collections_of as collections_of
    from zoompick.study.sourcing import known_sources as known_sources
    from zoompick.study.sourcing import log_in as log_in
    from zoompick.study.sourcing import remove_source as remove_source
    from zoompick.study.stages import Stages as Stages
    from zoompick.study.status import state_of as state_of
    from zoompick.study.tiling import TileWish as TileWish
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
    from zoompick.study.verify import Wish as Wish
    from zoompick.study.verify import judge_study as judge_study
    from zoompick.study.verify import verify_files as verify_files
    from zoompick.study.watch import WatchWish as WatchWish
    from zoompick.study.watch import watch as watch

_VERBS = {
    "Area": "area.model", "BatchWish": "study.batch", "BlendRules": "products.kinds.blend",
    "Choice": "fetch.unpack", "Comparison": "products.sidebyside", "Criteria": "discovery.criteria",
    "Grid": "raster.grid", "Look": "products.drawing", "MosaicRules": "products.kinds.mosaic",
    "NewStudy": "study.new", "Paper": "figures.face", "Period": "scenes.period",
    "RunWish": "study.run", "Source": "scenes.source", "Stages": "study.stages",
    "Study": "study.opened", "TileWish": "study.tiling", "WatchWish": "study.watch",
    "Window": "raster.grid", "Wish": "study.verify", "Wording": "products.drawing",
    "ZoomPickError": "errors", "accept_terms": "study.orders", "add_source": "study.sourcing",
    "adopt_order": "study.orders",
    "align": "products.together", "bands_of": "fetch.bands", "blend": "products.together",
    "calendar": "study.months", "calendar_picture": "study.months",
    "cancel_orders": "study.orders", "change_area": "study.areas",
    "change_shortlist": "study.choosing", "check_source": "study.sourcing", "clip": "study.verbs",
    "collections_of": "study.sourcing", "compare": "products.together", "composite": "study.verbs",
    "computed_on": "raster.engine",
    "download": "study.verbs", "examined": "study.doctor", "findings_json": "judge.tell",
    "forget_area": "study.areaskept", "get_tiles": "study.tiling", "grid_for": "products.together",
    "grid_of": "products.together", "guess_guide": "fetch.bands", "history": "journal",
    "index": "study.verbs", "join_tiles": "study.tiling", "judge_study": "study.verify",
    "keep_area": "study.areaskept", "kept_area": "study.areaskept", "kept_areas": "study.areaskept",
    "known_sources": "study.sourcing", "lock_study": "study.locking", "log_in": "study.sourcing",
    "make_in_study": "study.making", "mask": "products.together", "mosaic": "products.together",
    "new_study": "study.new", "next_passes": "discovery.passes", "open_raster": "scenes.opening",
    "open_tiles": "study.tiling", "order_terms": "study.orders", "passes_over": "discovery.find",
    "pick": "study.verbs", "picture": "products.together", "pictures": "discovery.look",
    "places_called": "study.areaskept", "plan_orders": "study.orders", "plan_tiles": "study.tiling",
    "read_area": "area.read", "read_list": "scenes.scenelist", "refresh_orders": "study.orders",
    "remove_source": "study.sourcing", "report_of": "study.reporting", "run": "study.run",
    "run_batch": "study.batch", "scene_layer": "products.together", "search": "discovery.find",
    "set_area": "study.areas", "sheets_under": "study.areaskept", "shortlist": "study.shortlist",
    "split": "fetch.bands", "stack": "study.verbs", "state_of": "study.status",
    "study_like": "study.like", "submit_orders": "study.orders", "tile_levels": "study.tiling",
    "to_numpy": "raster.raster", "to_xarray": "raster.labelled", "undo_shortlist": "study.choosing",
    "units_of": "study.batch", "unpack": "fetch.unpack", "verify_files": "study.verify",
    "wait_for_orders": "study.orders", "watch": "study.watch", "write": "study.verbs",
    "write_area": "area.write", "write_list": "scenes.scenelist",
}  # fmt: skip
"""Name to the module that has it."""

__all__ = ["__version__", *sorted(_VERBS)]


def __getattr__(name: str) -> Any:
    if name in _VERBS:
        found = getattr(importlib.import_module(f"zoompick.{_VERBS[name]}"), name)
        if isinstance(found, FunctionType):
            found = importlib.import_module("zoompick.study.door").opened(found)
        globals()[name] = found
        return found
    raise AttributeError(f"module 'zoompick' has no attribute '{name}'")


def __dir__() -> list[str]:
    return sorted(__all__)
