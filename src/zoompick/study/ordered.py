"""The files of an order that is ready: they get the names of their scenes' own files, and pieces become one again."""

from __future__ import annotations

import shutil
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path, PurePosixPath

from zoompick import files
from zoompick.addresses import address_parts
from zoompick.events import Noted, Report, ignore
from zoompick.fetch.get import opens
from zoompick.fetch.whole import Tools, fetch_whole
from zoompick.geo.bounds import Bounds
from zoompick.geo.region import Region
from zoompick.geo.shapes import Shape, as_text
from zoompick.net.client import Client
from zoompick.net.refusals import GONE, NOT_FOUND, AnsweredError
from zoompick.orders.desk import Desk
from zoompick.orders.jobs import Result
from zoompick.orders.queue import FETCHED, LOST, READY, Order
from zoompick.products.stack import Stack
from zoompick.raster.ongrid import OnGrid
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.scenes import fetched as record
from zoompick.scenes.deliveries import OneBand
from zoompick.scenes.fetchplan import Fetch, local_names
from zoompick.scenes.opening import open_raster
from zoompick.scenes.scene import Key, Scene

_PIECES = "pieces"
"""Folder below a scene's, where they wait for each other."""


def fetch_ready(desk: Desk, scenes: Sequence[Scene], report: Report = ignore) -> int:
    """Fetch the files of every order that is ready; returns how many came."""
    known, count = {scene.key: scene for scene in scenes}, 0
    for order in list(desk.queue):
        if order.state == READY:
            try:
                count += _fetch_order(order, desk, known, report)
            except AnsweredError as error:
                if error.status not in (NOT_FOUND, GONE):
                    raise
                desk.keep(replace(order, state=LOST, message="its files are no longer kept: order again"))
                report(Noted(f"Order {order.number}: {error.what}"))
                continue
            desk.keep(replace(order, state=FETCHED))
            what = "one scene" if len(order.scenes) == 1 else f"{len(order.scenes)} scenes"
            report(Noted(f"Order {order.number} is here: {what}."))
    return count


def _fetch_order(order: Order, desk: Desk, known: Mapping[Key, Scene], report: Report) -> int:
    """Fetch what an order gave; returns how many files came. Joins the pieces of a scene once all are here."""
    count, area = 0, desk.area
    there = desk.desk_of(order.source)
    client = there.client
    for result in there.results(order):
        scene = known.get((order.source, order.collection, result.scene))
        folder = desk.books.scene_folder((order.source, order.collection, result.scene or f"order-{order.number}"))
        path = folder / _name_of(scene, result.url)
        if not order.parts:
            count += _fetch(order, result, path, area, client, report)
        elif not record.is_here(_entry(order, result, path, area)):
            count += _fetch(order, result, _piece_of(path, order), area, client, report)
            _join(path, order, area, report)
        if scene is not None:
            record.write_item(folder, scene.item, scene.source)
    return count


def _fetch(order: Order, result: Result, path: Path, area: Shape | None, client: Client, report: Report) -> int:
    entry = _entry(order, result, path, area)
    if record.is_here(entry):
        return 0
    fetch_whole(entry, client, Tools(opens=opens), report)
    return 1


def _entry(order: Order, result: Result, path: Path, area: Shape | None) -> Fetch:
    return Fetch(
        result.scene, path.suffix.lstrip("."), result.url, path, result.size, result.sha256, order.collection,
        _region_of(order.ground(area) if order.parts else area), 0, (order.source, order.collection, result.scene),
        "" if order.parts else order.piece,
    )  # fmt: skip


def _region_of(ground: Shape | None) -> Region | None:
    return None if ground is None else Region.of(ground)


def _name_of(scene: Scene | None, url: str) -> str:
    """Local name of an ordered file: the one that its scene's file of the same kind would have."""
    plain = files.safe_name(PurePosixPath(address_parts(url).path).name)
    if scene is None:
        return plain
    names = local_names(scene)
    data = (names[band.href] for band in scene.bands.values())
    return next((name for name in data if PurePosixPath(name).suffix == PurePosixPath(plain).suffix), plain)


def _piece_of(path: Path, order: Order) -> Path:
    return path.parent / _PIECES / f"{path.stem}-{order.part}-of-{order.parts}{path.suffix}"


def _join(path: Path, order: Order, area: Shape | None, report: Report) -> None:
    """Make one raster of all pieces; files that are no rasters stay as they came."""
    pieces = [_piece_of(path, replace(order, part=part)) for part in range(1, order.parts + 1)]
    if path.suffix not in (".tif", ".tiff") or not all(piece.exists() for piece in pieces):
        return
    tiffs = [open_raster(piece) for piece in pieces]
    first, boxes = tiffs[0], [tiff.grid.bounds for tiff in tiffs]
    if first.nodata is None or not all(tiff.grid.shares_lattice(first.grid) for tiff in tiffs):
        report(Noted(f"The pieces of {path.name} stay apart: they have no no-data value, or no common pixels."))
        return
    around = Bounds(
        min(box.west for box in boxes), min(box.south for box in boxes), max(box.east for box in boxes),
        max(box.north for box in boxes),
    )  # fmt: skip
    grid = first.grid.around(around)
    bands = [[OnGrid(OneBand(tiff, index, band), grid) for tiff in tiffs] for index, band in enumerate(first.bands)]
    written = write_geotiff(Stack(grid, bands), path, WriteOptions())
    told = next(iter(record.read(pieces[0].parent).values()))
    whole = "" if area is None else as_text(area)
    record.add(path, replace(told, size=written.size, multihash=written.multihash, checked_by="", region=whole))
    shutil.rmtree(pieces[0].parent)
    report(Noted(f"{len(pieces)} pieces of {path.name} are one file again."))
