"""Search a source and choose scenes."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.catalog import choose, explain
from zoompick.catalog.criteria import Criteria, Period
from zoompick.catalog.scene import CLASS_BAND, Scene
from zoompick.catalog.sources import Source
from zoompick.catalog.stac import StacApi
from zoompick.errors import NothingFoundError, UnknownNameError
from zoompick.events import Noted, Report, ignore
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import Crs
from zoompick.net.client import Client
from zoompick.study.scenelist import Entry


def search(source: Source, criteria: Criteria, report: Report = ignore) -> list[Entry]:
    """Scenes that fit, by date and tile. What the server sends is checked again here.

    Raises
    ------
    NothingFoundError
        Says which filter emptied the list.
    SourceError, UnknownNameError
    """
    api = StacApi(source.url, Client(report))
    found = _fitting(_scenes(api, source, criteria), criteria)
    if not found:
        anything = Criteria(criteria.area, criteria.collections)
        raise explain.nothing_found(criteria, _touching(api, source, anything), _extents(api, criteria))
    return found


def _scenes(api: StacApi, source: Source, criteria: Criteria) -> list[Scene]:
    scenes: dict[tuple[str, str], Scene] = {}
    for item in api.search(criteria):
        scene = Scene.from_item(item, source.name)
        scenes[scene.collection, scene.id] = scene
    return list(scenes.values())


def _fitting(scenes: Sequence[Scene], criteria: Criteria) -> list[Entry]:
    fitting = []
    for scene in scenes:
        if criteria.collections and scene.collection not in criteria.collections:
            continue
        if not (criteria.in_time(scene) and criteria.clear_enough(scene)):
            continue
        cover = criteria.cover(scene)
        if cover > 0 and cover >= criteria.cover_min:
            fitting.append(Entry(scene, cover))
    return sorted(fitting, key=lambda entry: (entry.scene.when, entry.scene.tile, entry.scene.version))


def _touching(api: StacApi, source: Source, anything: Criteria) -> list[Scene]:
    return [entry.scene for entry in _fitting(_scenes(api, source, anything), anything)]


def _extents(api: StacApi, criteria: Criteria) -> list[Bounds]:
    found = []
    for entry in api.collections():
        if criteria.collections and entry.get("id") not in criteria.collections:
            continue
        boxes = ((entry.get("extent") or {}).get("spatial") or {}).get("bbox") or []
        found += [Bounds(*box) for box in boxes if isinstance(box, list) and len(box) == 4]
    return found


def choose_for(
    entries: Sequence[Entry],
    criteria: Criteria,
    crs: Crs,
    bands: Sequence[str],
    cover_percent: float,
    report: Report = ignore,
) -> list[Entry]:
    """For each period the clearest acquisition that covers the area, with the fewest scenes.

    Raises
    ------
    NothingFoundError
        A period in which no acquisition covers enough of the area.
    UnknownNameError
        A band that no scene has.
    """
    offered = {name for entry in entries for name in entry.scene.bands}
    for name in bands:
        if name not in offered:
            raise UnknownNameError.of("band", name, offered)
    wanted = [*bands, CLASS_BAND] if CLASS_BAND in offered else list(bands)
    cover = {entry.scene.id: entry.cover_percent for entry in entries}
    chosen: dict[str, Entry] = {}
    for period in criteria.periods or (Period(None, None),):
        scenes = [entry.scene for entry in entries if period.holds(entry.scene.when)]
        choice = choose.choose(scenes, criteria.area, crs, wanted)
        if not choice.scenes or choice.cover_percent < cover_percent:
            raise _no_choice(period, choice, crs, cover_percent, len(scenes))
        report(
            Noted(
                f"{period}: {len(choice.scenes)} of {len(scenes)} scenes chosen, {choice.scenes[0].day}, "
                f"cover {choice.cover_percent:.0f} %, cloud {choice.cloud_percent:.0f} %"
            )
        )
        chosen |= {scene.id: Entry(scene, cover[scene.id]) for scene in choice.scenes}
    return list(chosen.values())


def _no_choice(
    period: Period, choice: choose.Choice, crs: Crs, cover_percent: float, count: int
) -> NothingFoundError:
    return NothingFoundError(
        f"For {period} {count} scenes were found, but no single overpass in {crs} with all the bands covers "
        f"{cover_percent:g} % of the area; the best covers {choice.cover_percent:.0f} %.",
        "Raise the cloud limit, widen the dates, ask for fewer bands, or lower [search] cover in study.toml.",
    )
