"""Search sources and choose scenes."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from zoompick import foreign
from zoompick.discovery import clouds, explain, pick
from zoompick.discovery.cover import CoverOptions
from zoompick.discovery.criteria import Criteria
from zoompick.discovery.gather import Gathering
from zoompick.discovery.partly import Bounded, Enough
from zoompick.discovery.readers import Reader, reader_of
from zoompick.errors import AreaError, NothingFoundError, SourceError, UnknownNameError, ZoomPickError
from zoompick.events import Noted, Report, ignore
from zoompick.files import human_bytes
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape
from zoompick.net.client import Client
from zoompick.scenes import limits
from zoompick.scenes.fields import edges_of
from zoompick.scenes.period import Period
from zoompick.scenes.scene import CLASS_BAND, Scene, refuse_unknown
from zoompick.scenes.scenelist import Entry
from zoompick.scenes.session import session
from zoompick.scenes.source import Source


@dataclass(frozen=True)
class Found:
    """What a search came to.

    Attributes
    ----------
    entries : sequence of Entry
        By time, tile and processing; very many are made one by one as they are asked for.
    problems : tuple of ZoomPickError
        Of sources that failed on the way; what came before is among the entries.
    """

    entries: Sequence[Entry]
    problems: tuple[ZoomPickError, ...] = ()


def search(sources: Source | Sequence[Source], criteria: Criteria, report: Report = ignore) -> list[Entry]:
    """Scenes that fit, of one source or several; see :func:`search_all`.

    Raises
    ------
    NothingFoundError
        Says which filter emptied the list.
    SourceError, UnknownNameError
    """
    return list(search_all([sources] if isinstance(sources, Source) else sources, criteria, report).entries)


def search_all(sources: Sequence[Source], criteria: Criteria, report: Report = ignore) -> Found:
    """Scenes that fit, merged and sorted. What servers send is checked again here against every filter.

    A source that fails half-way keeps what it sent before; when all fail without a scene, the first failure is
    raised.

    Raises
    ------
    NothingFoundError, SourceError, UnknownNameError
    """
    client = session(report, sources)
    gathered = Gathering(Entry)
    problems: list[ZoomPickError] = []
    closed: list[Scene] = []
    untold, is_all = 0, True
    unknown: UnknownNameError | None = None
    for source in sources:
        try:
            tally = _gather(reader_of(source, client, report), criteria, source.name, gathered)
            untold, is_all = untold + tally.untold, is_all and tally.is_all
            closed += tally.closed
            if tally.unusable:
                of_all = f"{tally.unusable} of {tally.items} scene{'' if tally.items == 1 else 's'}"
                report(Noted(f"{of_all} cannot be read or placed; the first: {tally.why}"))
        except UnknownNameError as error:
            # With several sources a collection need only be in one of them.
            unknown = error
            problems += [error] if len(sources) == 1 else []
        except ZoomPickError as error:
            problems.append(error)
    if untold:
        report(Noted(f"{untold} scenes tell no cloud and were left out; `unknown-cloud` keep keeps them."))
    fitting = gathered.sorted(criteria.versions != "all", criteria.cover_min, criteria.sort)
    if fitting and (criteria.cloud_area_max is not None or criteria.look_inside):
        fitting = _clear_inside(list(fitting), criteria, client, report)
    for sentence in limits.of_orders(closed, client) if fitting else ():
        report(Noted(sentence))
    if fitting:
        if criteria.most is not None and len(fitting) > criteria.most:
            least = "" if is_all else "at least "
            shown = "the first is" if criteria.most == 1 else f"the first {criteria.most} are"
            report(Noted(f"{least}{len(fitting)} scenes fit; {shown} listed.".capitalize()))
            fitting = [fitting[number] for number in range(criteria.most)]
        return Found(fitting, tuple(problems))
    if problems:
        raise problems[0]
    if unknown and not gathered:
        raise unknown
    raise _explained(sources, criteria, client, report)


def passes_over(source: Source, area: Shape, collection: str, report: Report = ignore) -> list[Scene]:
    """All scenes of a collection that touch an area, however cloudy: on which days a satellite passed."""
    wanted = Criteria(area, (collection,) if collection else (), versions="all")
    gathered = Gathering(lambda scene, cover: scene)
    _gather(reader_of(source, session(report, [source]), report), wanted, source.name, gathered)
    return list(gathered.sorted(False, 0))


class _Tally(NamedTuple):
    """Items, those of no use and why the first is, scenes that tell no cloud, and one of each collection to order."""

    items: int
    unusable: int
    why: str
    untold: int
    closed: list[Scene]
    is_all: bool = True


def _gather(reader: Reader, criteria: Criteria, source: str, gathered: Gathering[Any]) -> _Tally:
    """Test and keep what a source sends as it comes, so that a failure keeps what came before."""
    items = unusable = untold = 0
    why, is_all = "", True
    fitting: list[Scene] = []
    closed: dict[str, Scene] = {}
    enough = Enough.of(reader, criteria, gathered)
    try:
        for item in reader.search(criteria):
            items += 1
            try:
                scene = Scene.from_item(item, source)
                is_fitting = criteria.fits(scene)
            except (SourceError, *_ODD) as error:
                unusable, why = unusable + 1, why or _reason(item, error)
                continue
            if is_fitting:
                fitting.append(scene)
                if scene.collection not in closed and scene.access != "open":
                    closed[scene.collection] = scene
            elif criteria.fails_untold(scene):
                untold += 1
            if len(fitting) == (enough.batch if enough else _TOGETHER):
                odd = _placed(fitting, criteria, gathered)
                unusable, why, fitting = unusable + len(odd), why or _nowhere(odd), []
            if enough is not None and enough.is_reached(scene):
                is_all = False
                break
    finally:
        odd = _placed(fitting, criteria, gathered)
        unusable, why = unusable + len(odd), why or _nowhere(odd)
    return _Tally(items, unusable, why, untold, list(closed.values()), is_all)


def _placed(scenes: Sequence[Scene], criteria: Criteria, gathered: Gathering[Any]) -> list[Scene]:
    """Keep scenes that can be placed; gives those that cannot."""
    covers = criteria.covers(scenes)
    placed = [(scene, cover) for scene, cover in zip(scenes, covers, strict=True) if not math.isnan(cover)]
    gathered.add([scene for scene, _ in placed], [cover for _, cover in placed])
    return [scene for scene, cover in zip(scenes, covers, strict=True) if math.isnan(cover)]


def _nowhere(scenes: Sequence[Scene]) -> str:
    """Why the first of some scenes cannot be placed; empty for none."""
    try:
        return (
            "" if not scenes or scenes[0].footprint is None else f"{scenes[0].id} has no footprint that can be used."
        )
    except AreaError as error:
        return error.what


_ODD = (AreaError, ValueError, TypeError, KeyError, AttributeError, ArithmeticError, LookupError)
"""What an item can bring about that is like no other: one such scene never ends a search."""


def _reason(item: object, error: Exception) -> str:
    if isinstance(error, ZoomPickError):
        return error.what
    name = foreign.text(item.get("id"), 80) if isinstance(item, dict) else ""
    return f"{name or 'an item'} holds a value that is none ({error})."


def _clear_inside(entries: list[Entry], criteria: Criteria, client: Client, report: Report) -> list[Entry]:
    """Entries with their cloud inside the area, those above the limit left out; says what looking cost."""
    looked = clouds.look_inside([entry.scene for entry in entries], criteria.ground, client, report)
    report(Noted(cost_words(looked)))
    for sentence in looked.problems():
        report(Noted(sentence))
    known = [entry.with_inside(looked.inside[entry.scene.key]) for entry in entries]
    limit = criteria.cloud_area_max
    if limit is None:
        return known
    kept = [entry for entry in known if entry.cloud_area_percent is not None and entry.cloud_area_percent <= limit]
    if not kept and looked.unread and not any(figure is not None for figure in looked.inside.values()):
        raise SourceError(looked.problems()[0], "Leave `cloud-area` out, or try again when they can be read.")
    if not kept:
        raise explain.cloudy_inside(limit, [(entry.scene, entry.cloud_area_percent) for entry in known])
    unread = sum(entry.scene.key in looked.unread for entry in known)
    untold = sum(entry.cloud_area_percent is None for entry in known) - unread
    if unread:
        have = "scene whose class layer" if unread == 1 else "scenes whose class layers"
        report(Noted(f"{unread} {have} could not be read {'was' if unread == 1 else 'were'} left out."))
    if untold:
        have = "scene has" if untold == 1 else "scenes have"
        report(Noted(f"{untold} {have} no class layer that tells the cloud inside the area: left out."))
    return kept


def cost_words(looked: clouds.Looked) -> str:
    """What looking inside the area cost, in a sentence."""
    return (
        f"Looked into {len(looked.inside)} scenes for cloud inside the area: {looked.requests} requests, "
        f"{human_bytes(looked.received_bytes)}."
    )


def _explained(sources: Sequence[Source], criteria: Criteria, client: Client, report: Report) -> NothingFoundError:
    """Ask once more for what touches the area, and say which filter emptied the list.

    Scenes that were named first, whatever else was asked; else within the dates, then at any time; so many items and
    seconds a source, whatever it holds.
    """
    seen: list[Scene] = []
    extents: list[Bounds] = []
    is_all = True
    wider = [Criteria(criteria.ground, criteria.collections, periods=periods, versions="all")
             for periods in dict.fromkeys((criteria.periods, ()))]  # fmt: skip
    named = Criteria(criteria.ground, criteria.collections, ids=criteria.ids, versions="all")
    for anything in [named, *wider] if criteria.ids else wider:
        touching = Gathering(lambda scene, cover: scene)
        for source in sources:
            try:
                reader = reader_of(source, client, report)
                bounded = Bounded(reader)
                _gather(bounded, anything, source.name, touching)
                is_all = is_all and not bounded.is_cut
                extents += _extents(reader, criteria) if not extents else []
            except ZoomPickError:
                is_all = False
        seen = list(touching.sorted(False, 0))
        if seen:
            break
    return explain.nothing_found(criteria, seen, extents, is_all)


def _extents(reader: Reader, criteria: Criteria) -> list[Bounds]:
    found = []
    for entry in reader.collections():
        if criteria.collections and entry.get("id") not in criteria.collections:
            continue
        extent = entry.get("extent")
        spatial = extent.get("spatial") if isinstance(extent, dict) else None
        told = spatial.get("bbox") if isinstance(spatial, dict) else None
        boxes = told if isinstance(told, list) else []
        found += [Bounds(*edges) for box in boxes if (edges := edges_of(box))]
    return found


_SAME_PASS_DAYS = 0.5
_TOGETHER = 200
"""So many scenes are measured against the area at once."""


@dataclass(frozen=True)
class Choosing:
    """What the scenes that a brief chooses have to be.

    Attributes
    ----------
    bands : tuple of str
        Each must have all of them.
    cover_percent : float
        Of the area that they must cover together.
    cloud_area_max : float
        Percent of the area under cloud, at most: scenes that would fail this are passed by while others would not.
    pixel_m : float
        Of the study grid: where there are scenes as fine, coarser ones are passed by.
    must_be_clear : bool
        Rather none than scenes with more cloud in the area than that.
    """

    crs: Crs
    bands: Sequence[str]
    cover_percent: float
    cloud_area_max: float = 100.0
    pixel_m: float | None = None
    must_be_clear: bool = False


def choose_for(
    entries: Sequence[Entry],
    criteria: Criteria,
    wish: Choosing,
    report: Report = ignore,
    client: Client | None = None,
) -> list[Entry]:
    """For each period the scenes of one overpass that cover the area at the least cost: few and clear.

    Parameters
    ----------
    client : Client, optional
        The session that looks into the scenes; by default one that knows the sources of all studies.

    Raises
    ------
    NothingFoundError
        A period in which no overpass covers enough of the area.
    UnknownNameError
        A band that no scene has.
    """
    refuse_unknown(wish.bands, [entry.scene for entry in entries])
    chosen: dict[tuple[str, str, str], Entry] = {}
    for period in criteria.periods or (Period(None, None),):
        within = [entry for entry in entries if period.meets(entry.scene.when, entry.scene.until)]
        choice = _clear_choice(_able(within, wish), criteria.ground, wish, client, report)
        covered = choice.cover.covered_percent if choice and choice.cover else 0.0
        if choice is None or covered < wish.cover_percent:
            raise _no_choice(period, covered, wish.cover_percent, len(within))
        told = [entry.scene.cloud_percent for entry in choice.entries if entry.scene.cloud_percent is not None]
        cloud = f"cloud at most {max(told):.0f} %" if len(told) == len(choice.entries) else "cloud not told"
        of_all = f"{len(choice.entries)} of {len(within)} scenes chosen, {choice.entries[0].scene.day}"
        report(Noted(f"{period}: {of_all}, cover {covered:.0f} %, {cloud}"))
        chosen |= {entry.scene.key: entry for entry in choice.entries}
    return list(chosen.values())


def _able(entries: Sequence[Entry], wish: Choosing) -> list[Entry]:
    """Scenes with all the bands, each in a form that can be read; class layers and fine pixels where any has them."""
    able = [entry for entry in entries if all(band in entry.scene.bands for band in wish.bands)]
    preferences: list[Callable[[Scene], bool]] = [
        lambda scene: not any(scene.bands[band].is_container for band in wish.bands),
        lambda scene: CLASS_BAND in scene.bands,
        lambda scene: wish.pixel_m is None or scene.pixel_m is None or scene.pixel_m <= wish.pixel_m * _AS_FINE,
    ]
    for prefers in preferences:
        able = [entry for entry in able if prefers(entry.scene)] or able
    return able


_AS_FINE, _MOST_LOOKS = 1.01, 6


def _clear_choice(
    able: list[Entry], area: Shape, wish: Choosing, client: Client | None, report: Report
) -> pick.Choice | None:
    """The cheapest cover whose scenes leave the area as clear as wished; the clearest where none does."""
    plain = CoverOptions(one_platform=True, within_days=_SAME_PASS_DAYS, crs=wish.crs)
    best: tuple[float, pick.Choice] | None = None
    for _ in range(_MOST_LOOKS):
        choice = _covered(able, area, plain, wish.cover_percent, report)
        if choice is None:
            break
        cloud = _cloud_over(choice, area, client or session(report), report) if wish.cloud_area_max < 100 else 0.0
        if cloud is None or cloud <= wish.cloud_area_max:
            return choice
        best = min(best, (cloud, choice), key=lambda one: one[0]) if best else (cloud, choice)
        gone = {entry.scene.key for entry in choice.entries}
        able = [entry for entry in able if entry.scene.key not in gone]
    if best is not None and wish.must_be_clear:
        raise NothingFoundError(
            f"The clearest choice of {best[1].entries[0].scene.day} has {best[0]:.0f} % cloud in the area, at most "
            f"{wish.cloud_area_max:g} % is wanted.",
            "Raise [verify] cloud in study.toml.",
        )
    if best is not None:
        report(Noted(f"No choice is clear enough: the clearest has {best[0]:.0f} % cloud in the area."))
        return best[1]
    return _covered(able, area, plain, 0.0, report)


def _covered(able: list[Entry], area: Shape, wish: CoverOptions, least: float, report: Report) -> pick.Choice | None:
    """The cheapest cover, or None when it covers too little, or there is nothing to choose from."""
    if not able:
        return None
    choice = pick.pick_cover(able, area, wish, False, report)
    return choice if choice.cover and choice.cover.covered_percent >= least else None


def _cloud_over(choice: pick.Choice, area: Shape, client: Client, report: Report) -> float | None:
    """Percent of cloud inside the area, as the class layers of the chosen scenes tell; None when none does."""
    looked = clouds.look_inside([entry.scene for entry in choice.entries], area, client, report)
    for sentence in looked.problems():
        report(Noted(sentence))
    seen = [(figure.cloud, figure.seen) for figure in looked.inside.values() if figure is not None]
    weight = sum(share for _, share in seen)
    return sum(cloud * share for cloud, share in seen) / weight if weight else None


def _no_choice(period: Period, covered: float, cover_percent: float, count: int) -> NothingFoundError:
    return NothingFoundError(
        f"For {period} {count} scenes were found, but no single overpass with all the bands covers "
        f"{cover_percent:g} % of the area; the best covers {covered:.0f} %.",
        "Raise the cloud limit, widen the dates, ask for fewer bands, or lower [search] cover in study.toml.",
    )
