"""Verbs that lie in several pieces, as one call each: areas, sources, tiles, calendar, shortlist.

Like the other verbs they take and give values and never print; ``study`` may be left out wherever one works without.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from zoompick.area import kept as areas
from zoompick.area import places
from zoompick.area.model import Area
from zoompick.area.places import Place
from zoompick.discovery import agenda
from zoompick.discovery import check_source as checking
from zoompick.discovery.readers import reader_of
from zoompick.errors import UnknownNameError
from zoompick.events import Report, ignore
from zoompick.figures.calendar import calendar_picture as drawn
from zoompick.files import refuse_existing
from zoompick.geo.shapes import Shape
from zoompick.journal import act
from zoompick.orders.desk import Terms
from zoompick.raster.grid import Grid
from zoompick.raster.write import WriteOptions
from zoompick.scenes import sources
from zoompick.scenes.finding import Finding
from zoompick.scenes.period import Period
from zoompick.scenes.scenelist import Entry
from zoompick.scenes.session import session
from zoompick.scenes.source import Source
from zoompick.scenes.tileservice import TileLayer
from zoompick.study import shortlist as kept
from zoompick.study.areas import Under, where
from zoompick.study.folder import Study
from zoompick.study.login import Asked, Kept, keep
from zoompick.study.orders import desk_of, picked
from zoompick.tiles import tiles
from zoompick.tiles.getting import TileOutcome
from zoompick.tiles.tiles import Wish as TileWish
from zoompick.tiles.tilestore import TileStore


def keep_area(area: Area, name: str, overwrite: bool = False) -> Path:
    """Keep an area under a name, for all studies; :func:`kept_area` gives it back."""
    return areas.keep(area, name, overwrite)


def kept_area(name: str) -> Area:
    """The area that is kept under a name."""
    return areas.load(name)


def kept_areas() -> list[str]:
    """Names of all areas that are kept."""
    return areas.names()


def forget_area(name: str) -> None:
    """Keep an area no longer."""
    areas.forget(name)


def places_called(name: str) -> Place:
    """A place of the gazetteers by its name; UnknownNameError tells near ones."""
    return places.named(name)


def sheets_under(area: Area) -> list[Under]:
    """Map sheets and tiles of all schemes that an area lies on."""
    return where(area)


def known_sources(study: Study | None = None) -> dict[str, Source]:
    """Sources by name: those of all studies, and a study's own before them."""
    return sources.known(study.root if study else None)


def add_source(
    name: str, url: str, kind: str = "", day: str = "", study: Study | None = None, report: Report = ignore
) -> tuple[checking.There, bool]:
    """Add a source, or change the address of one.

    Parameters
    ----------
    kind : str
        One of :data:`zoompick.scenes.sourcekinds.KINDS`; found out when empty.
    day : str
        Date of footprints whose file tells none.
    study : Study, optional
        Keep it in this study only.

    Returns
    -------
    (There, bool)
        The source as it was kept and what was found at its address; whether one of this name was replaced.

    Raises
    ------
    UsageError, FormatError
    """
    if day:
        Period.parse(day)
    added = sources.checked(name, url, kind, day)
    if added.kind == "footprints":
        # Indexed now, so that a file that cannot be read is told now.
        reader_of(added, session(report, [added]), report)
    there = checking.look_there(added, bool(kind), report)
    with act(study.journal_file if study else None, "source add", source=name, url=url):
        replaced = sources.add(there.source, sources.sources_file(study.root if study else None))
    return there, replaced


def remove_source(name: str, study: Study | None = None) -> bool:
    """Forget a source, a study's own first; True when it was the study's. What came of it stays.

    Raises
    ------
    UnknownNameError
    """
    here = study is not None and sources.remove(name, sources.sources_file(study.root))
    if not here and not sources.remove(name, sources.sources_file(None)):
        raise UnknownNameError.of("source", name, known_sources(study))
    with act(study.journal_file if study else None, "source remove", source=name):
        return here


def collections_of(source: Source, report: Report = ignore) -> Sequence[Mapping[str, Any]]:
    """What a source has: its collections as STAC tells them (STAC specification, Collection)."""
    return reader_of(source, session(report, [source]), report).collections()


def check_source(source: Source, report: Report = ignore) -> list[Finding]:
    """Test a source: does it answer, what does it conform to, does a search give what was asked for."""
    return checking.check(source, report)


def log_in(
    source: Source, secret: str, user: str = "", client_id: str = "", token_url: str = "", host: str = ""
) -> Kept:
    """Keep a log-in for a source: a bearer token, a user's password, or the secret of an OAuth 2.0 client.

    Parameters
    ----------
    secret : str
        Token, password or client secret, by what is named beside it.
    host : str
        Another host that the source's files lie on.
    """
    asked = Asked(token=not (user or client_id), user=user, client_id=client_id, token_url=token_url)
    return keep(host or source.url, asked, lambda _: secret, source)


def order_terms(study: Study, report: Report = ignore) -> list[Terms]:
    """The terms of what the shortlist would buy; :func:`zoompick.accept_terms` accepts them by their digest."""
    return desk_of(study, report).terms(picked(study))


def open_tiles(source: Source, layer: str = "", report: Report = ignore) -> TileLayer:
    """A layer of a service of picture tiles, its only one by default."""
    return tiles.open_layer(source, layer, session(report, [source]))


def tile_levels(layer: TileLayer, ground: Shape) -> list[tuple[str, float, int]]:
    """Levels of a layer: name, side of a pixel on the ground in metres, tiles over a polygon in lon/lat."""
    return tiles.levels(layer, ground)


def plan_tiles(
    layer: TileLayer, ground: Shape, wish: TileWish, store: Path | None = None, report: Report = ignore
) -> tiles.Prepared:
    """What a level of picture tiles takes: tiles to fetch and here, bytes, time.

    Parameters
    ----------
    ground : shapely polygon
        In longitude and latitude, as ``area.polygon``.
    store : Path, optional
        Where tiles are kept; what is there needs not be fetched.

    Raises
    ------
    UsageError, NothingFoundError, SourceError
        See :func:`zoompick.tiles.tiles.prepare`.
    """
    client = session(report).acting(layer.authority)
    if store is None or not store.exists():
        return tiles.prepare(layer, wish, ground, None, client)
    with TileStore(store) as held:
        return tiles.prepare(layer, wish, ground, held, client)


def get_tiles(
    source: Source, layer: TileLayer, ground: Shape, wish: TileWish, store: Path, report: Report = ignore
) -> tuple[tiles.Prepared, TileOutcome]:
    """Fetch the tiles over an area into a store, which works offline; what is there is not fetched again.

    Returns
    -------
    (Prepared, TileOutcome)
        What was decided, and what came of it; tiles that could not be fetched are told, not raised.
    """
    client = session(report).acting(layer.authority)
    with TileStore(store) as held:
        prepared = tiles.prepare(layer, wish, ground, held, client, sample=False)
        return prepared, tiles.get(prepared, ground, held, client, source, report)


def join_tiles(
    store: Path,
    ground: Shape,
    out: Path,
    zoom: str = "",
    compression: str = "deflate",
    onto: Grid | None = None,
    overwrite: bool = False,
    report: Report = ignore,
) -> tiles.Joined:
    """Join stored tiles over an area into one georeferenced picture; see :func:`zoompick.tiles.tiles.join`."""
    with TileStore(store, must_exist=True) as held:
        wish = WriteOptions(compression=compression, is_rgb=True, credit=held.facts.get("attribution", ""))
        return tiles.join(held, zoom, ground, out, wish, onto, report, overwrite)


def calendar(entries: Sequence[Entry], by_day: bool = False) -> agenda.Agenda:
    """When there are scenes and how cloudy: counts and the least cloud by month, or by day; spans and gaps."""
    return agenda.of_days(entries) if by_day else agenda.of_months(entries)


def calendar_picture(entries: Sequence[Entry], out: Path, title: str = "", overwrite: bool = False) -> Path:
    """Draw the calendar of scenes as a PNG."""
    refuse_existing([out], overwrite)
    drawn(agenda.marks(entries), title or f"{len(entries)} scenes by day and cloud", out)
    return out


def shortlist(study: Study) -> list[Entry]:
    """The scenes that a study works with, in order."""
    return kept.shortlist(study)


def change_shortlist(
    study: Study, add: Sequence[Entry] = (), drop: Sequence[Entry] = (), only: bool = False, verb: str = "pick"
) -> list[Entry]:
    """Change the shortlist under the study's lock; from then on it counts as picked by hand.

    Parameters
    ----------
    add : sequence of Entry
        New ones, and those that are there already with other tags or notes.
    only : bool
        Nothing but what is added stays.
    verb : str
        What the journal calls it.
    """
    gone = {entry.scene.key for entry in drop}
    with study.locked(), act(study.journal_file, verb, scenes=[entry.scene.id for entry in (*add, *drop)]):
        before = [] if only else kept.shortlist(study)
        found = {entry.scene.key: entry for entry in (*before, *add) if entry.scene.key not in gone}
        entries = sorted(found.values(), key=lambda entry: (entry.scene.when, -entry.cover_percent))
        kept.keep(study, entries, kept.BY_HAND)
    return entries


def undo_shortlist(study: Study) -> list[Entry]:
    """The shortlist as it was before its last change."""
    with study.locked(), act(study.journal_file, "undo"):
        return kept.undo(study)
