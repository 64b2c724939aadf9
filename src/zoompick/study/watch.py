"""Keep a study up to date: newly published overpasses that fit its brief are added, fetched and made."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from zoompick.area.model import Area
from zoompick.errors import DataError, NothingFoundError, UsageError, ZoomPickError
from zoompick.events import Noted, Report, ignore
from zoompick.files import read_json, write_json
from zoompick.given import seconds_of
from zoompick.journal import act
from zoompick.scenes import sources
from zoompick.scenes.overpass import days_of
from zoompick.scenes.period import Period
from zoompick.scenes.scenelist import Entry
from zoompick.study import needs
from zoompick.study.brief import Brief
from zoompick.study.folder import Study
from zoompick.study.run import RunOptions, StudyRun, criteria_of, run
from zoompick.study.searchkey import keys
from zoompick.study.shortlist import chosen_by, keep, shortlist
from zoompick.study.terms import keep_terms

_NAME, _MOST_DAYS = "watch.json", 6


class Round(NamedTuple):
    """What one look came to.

    Attributes
    ----------
    added : tuple of Entry
        Scenes that joined the shortlist.
    done : StudyRun or None
        None when the round failed.
    error : ZoomPickError or None
        Why it failed; the next round tries again.
    """

    number: int
    added: tuple[Entry, ...]
    done: StudyRun | None
    error: ZoomPickError | None

    @property
    def has_news(self) -> bool:
        """True when scenes were added or a product was made."""
        return bool(self.added) or (self.done is not None and any(not made.was_current for made in self.done.made))


@dataclass(frozen=True)
class WatchOptions:
    """How a study is watched.

    Attributes
    ----------
    every_s : float
    rounds : int
        So many, and then the end; 0 for no end.
    """

    every_s: float
    rounds: int = 0

    @classmethod
    def of(cls, text: str, rounds: int = 0) -> WatchOptions:
        """From ``1d``, ``6h``, ``30min`` or ``90s``.

        Raises
        ------
        UsageError
        """
        return cls(seconds_of(text), rounds)


def watch(
    study: Study,
    options: WatchOptions,
    how: RunOptions,
    wait: Callable[[float], None],
    report: Report = ignore,
) -> Iterator[Round]:
    """Run a study again and again; scenes published meanwhile join it. A round that fails does not end it.

    Parameters
    ----------
    wait : callable
        Waits so many seconds.

    Raises
    ------
    UsageError
        The study itself is at fault: its brief, its area.
    """
    number = 0
    while True:
        number += 1
        added: tuple[Entry, ...] = ()
        try:
            added = tuple(add_published(study, report))
            told = Round(number, added, run(study, report, how), None)
        except UsageError:
            raise
        except ZoomPickError as error:
            told = Round(number, added, None, error)
        yield told
        if number == options.rounds:
            return
        wait(options.every_s)


def add_published(study: Study, report: Report = ignore) -> list[Entry]:
    """Add overpasses that the source did not have when the study was first watched; returns their scenes.

    What was known then was chosen from already. Of days that are new all scenes together must cover as much of the
    area as the brief wants: an overpass whose second half comes later is added then.

    Raises
    ------
    ZoomPickError
        The source cannot be asked.
    """
    brief, area = study.brief(), study.area()
    with study.locked():
        found = _found(study, brief, area, report)
        accepted, known = keys(brief, area), _known(study)
        if known is None or known[0] not in accepted:
            write_json(study.local(_NAME), {"key": accepted[0], "known": sorted(map(_name, found))})
            return []
        picked = shortlist(study)
        chosen = _fitting(found, known[1], picked, brief, area, report)
        if chosen:
            with act(study.journal_file, "add", picked=[entry.scene.id for entry in chosen]):
                keep(study, [*picked, *chosen], chosen_by(study) or accepted[0])
                keep_terms(study, [entry.scene for entry in chosen], report, anew=True)
    return chosen


def _found(study: Study, brief: Brief, area: Area, report: Report) -> Sequence[Entry]:
    from zoompick.discovery import find

    source = sources.named(brief.source, sources.known(study.root))
    try:
        return find.search(source, criteria_of(brief, area), report)
    except NothingFoundError:
        return ()


def _fitting(
    found: Sequence[Entry], known: frozenset[str], picked: Sequence[Entry], brief: Brief, area: Area, report: Report
) -> list[Entry]:
    """Of each new day the scenes that the brief would choose, where they do."""
    from zoompick.discovery import find

    days = {(entry.scene.source, entry.scene.day) for entry in picked}
    new = [one for one in found if _name(one) not in known and (one.scene.source, one.scene.day) not in days]
    limits = brief.cover, brief.cloud_area_max, brief.pixel_m
    options = find.Choosing(needs.study_crs(brief, area), brief.bands, *limits, must_be_clear=True)
    chosen: list[Entry] = []
    passed_by: list[str] = []
    passes: dict[str, list[Entry]] = {}
    for day, entry in zip(days_of([one.scene for one in new]), new, strict=True):
        passes.setdefault(day, []).append(entry)
    for day, group in sorted(passes.items()):
        period = Period.parse(f"{day}/{max(one.scene.day for one in group)}")
        criteria = replace(criteria_of(brief, area), periods=(period,))
        try:
            chosen += find.choose_for(group, criteria, options, report)
        except NothingFoundError:
            passed_by.append(day)
    if passed_by:
        told = ", ".join(passed_by[-_MOST_DAYS:])
        report(Noted(f"Not added, for they cover too little of the area or are too cloudy in it: {told}"))
    return chosen


def _known(study: Study) -> tuple[str, frozenset[str]] | None:
    """The search that was watched, and the scenes it found then."""
    path = study.local(_NAME)
    try:
        told = read_json(path) if path.exists() else {}
        return str(told["key"]), frozenset(map(str, told["known"]))
    except (DataError, KeyError, TypeError):
        return None


def _name(entry: Entry) -> str:
    return "/".join(entry.scene.key)
