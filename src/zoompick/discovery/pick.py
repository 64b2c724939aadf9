"""Choose scenes by rule: covers, pairs, the clearest of each month."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from zoompick.discovery import choosing as rules
from zoompick.discovery import cover
from zoompick.discovery.cover import Cover, CoverOptions, Piece
from zoompick.errors import NothingFoundError, SourceError
from zoompick.events import Advanced, Finished, Noted, Report, Started, ignore
from zoompick.files import human_bytes
from zoompick.geo.shapes import Shape
from zoompick.scenes.prices import km2_price
from zoompick.scenes.scene import CLASS_BAND, Key, Scene
from zoompick.scenes.scenelist import Entry

if TYPE_CHECKING:
    from zoompick.discovery import clouds
    from zoompick.net.client import Client


@dataclass(frozen=True)
class Choice:
    """Chosen entries and, of a cover, how it was solved."""

    entries: tuple[Entry, ...]
    cover: Cover | None = None


def pick_cover(
    entries: Sequence[Entry],
    area: Shape,
    wish: CoverOptions,
    look: bool,
    report: Report = ignore,
    client: Client | None = None,
) -> Choice:
    """The cheapest scenes that cover the area together.

    Parameters
    ----------
    look : bool
        Read the cloud over each piece from the class layers; else the scenes' own figures count.
    client : Client, optional
        The session that looks; by default one that knows the sources of all studies.

    Raises
    ------
    NothingFoundError
        No scene covers any of it.
    """
    from zoompick.scenes.session import session

    usable = [entry for entry in entries if entry.scene.has_footprint() and _can_be_had(entry.scene, report)]
    scenes = [entry.scene for entry in usable]
    pieces = cover.pieces_of(area, [scene.footprint for scene in scenes])
    cloud = _cloud_by_piece(scenes, pieces, client or session(report), report) if look else {}
    choice = cover.choose_cover(area, scenes, wish, cloud, pieces)
    if not choice.scenes:
        raise NothingFoundError(
            f"None of the {len(entries)} scenes can cover any of the area: {choice.reason or 'no usable footprint'}.",
            "Search more dates, or raise `cloud-area`.",
        )
    by_key = {entry.scene.key: entry for entry in usable}
    return Choice(tuple(by_key[scene.key] for scene in choice.scenes), choice)


def _can_be_had(scene: Scene, report: Report) -> bool:
    """False for a scene whose price is none: it is told, and never chosen."""
    try:
        km2_price(scene)
    except SourceError as error:
        report(Noted(error.what))
        return False
    return True


def _cloud_by_piece(
    scenes: Sequence[Scene], pieces: Sequence[Piece], client: Client, report: Report
) -> dict[tuple[Key, int], float]:
    """Percent of cloud over each piece by each scene that has a class layer, several scenes at a time."""
    from zoompick.discovery import clouds
    from zoompick.net.client import workers

    task = "cloud over the pieces"
    jobs = [
        (scene, own)
        for number, scene in enumerate(scenes)
        if CLASS_BAND in scene.bands and (own := [n for n, piece in enumerate(pieces) if number in piece.scenes])
    ]
    report(Started(task, len(jobs), "scenes"))

    def one(job: tuple[Scene, list[int]]) -> clouds.Parts:
        scene, own = job
        try:
            return clouds.look_at_parts(scene, [pieces[n].polygon for n in own], client)
        finally:
            report(Advanced(task, 1))

    with workers("pieces") as pool:
        looked = list(pool.map(one, jobs))
    report(Finished(task))
    requests, received = sum(part.requests for part in looked), sum(part.received_bytes for part in looked)
    failed = [(scene.id, part.unread) for (scene, _), part in zip(jobs, looked, strict=True) if part.unread]
    if failed:
        count = "The class layer" if len(failed) == 1 else f"{len(failed)} class layers"
        report(Noted(f"{count} could not be read, that of {failed[0][0]} first: {failed[0][1]}"))
    report(Noted(f"Cloud over {len(pieces)} pieces of the area: {requests} requests, {human_bytes(received)}."))
    return {
        (scene.key, n): figure.cloud
        for (scene, own), part in zip(jobs, looked, strict=True)
        for n, figure in zip(own, part.parts, strict=True)
        if figure is not None
    }


def told_cloud(entry: Entry) -> float | None:
    """Cloud inside the area where it is known, else over the scene; None when neither is told."""
    return entry.scene.cloud_percent if entry.cloud_area_percent is None else entry.cloud_area_percent


def cloud_of(entry: Entry) -> float:
    """The same for weighing scenes: what tells no cloud may be all cloud."""
    told = told_cloud(entry)
    return 100.0 if told is None else told


def pick_clearest(entries: Sequence[Entry], per: str, area: Shape) -> Choice:
    """The clearest scene, or overpass, of each month (day, year, tile)."""
    by_key = {entry.scene.key: entry for entry in entries}
    chosen = rules.clearest_per(
        [entry.scene for entry in entries],
        per,
        area,
        lambda scene: cloud_of(by_key[scene.key]),
        lambda scene: by_key[scene.key].cover_percent,
    )
    return Choice(tuple(by_key[scene.key] for scene in chosen))


def propose_pairs(entries: Sequence[Entry], either_side: datetime, area: Shape) -> list[rules.Pair]:
    """Pairs before and after a day, best first.

    Raises
    ------
    NothingFoundError
        There are no scenes on both sides.
    """
    by_key = {entry.scene.key: entry for entry in entries}
    found = rules.pairs(
        [entry.scene for entry in entries],
        either_side,
        area,
        lambda scene: cloud_of(by_key[scene.key]),
        lambda scene: by_key[scene.key].cover_percent,
    )
    if not found:
        raise NothingFoundError(
            f"No ground has scenes that cover the area on both sides of {either_side:%Y-%m-%d}.",
            "Search a wider range of dates.",
        )
    return found
