"""Blends of many dates, with the count of dates and, where each pixel is from one, the day it is from."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from zoompick.errors import UnknownNameError, UsageError
from zoompick.given import COUNT, METRES, words
from zoompick.jsontypes import JsonObject
from zoompick.products import recipes
from zoompick.products.kind import Day, Kind, Wanted, no_day
from zoompick.products.kinds.mosaic import HIDE, HIDES, RESAMPLING
from zoompick.products.kinds.scenes import ScenesStep, time_of
from zoompick.products.rules import Rules, Section, asked
from zoompick.products.step import Step
from zoompick.raster.ways import BILINEAR, WAYS_WORDS, Ways
from zoompick.scenes.traits import Traits

if TYPE_CHECKING:
    from zoompick.products.mosaic import Mosaic
    from zoompick.products.sources import Sources
    from zoompick.raster.grid import Grid
    from zoompick.raster.raster import Raster

PICKS = ("clearest", "newest", "highest")
"""Methods that take all bands of a pixel from one date."""
SPANS = ("8d", "month", "season", "year")


_WAYS = r"median|mean|clearest|newest|percentile=\d+(\.\d+)?|highest=[a-z][a-z0-9-]*"


@dataclass(frozen=True)
class BlendRules(Rules):
    """How many dates become one."""

    section: ClassVar[str] = "blend"

    by: str = asked(
        words(_WAYS, "median, mean, percentile=90, clearest, newest or highest=ndvi", "WAY",
              ("median", "mean", "percentile=90", *PICKS[:2], "highest=ndvi")),
        "median", "median, mean, percentile=90; or each pixel from one date: clearest, newest, highest=ndvi",
    )  # fmt: skip
    per: str = asked(
        words(f"|{'|'.join(SPANS)}", f"{', '.join(SPANS[:-1])} or {SPANS[-1]}", "SPAN", SPANS), "",
        "one blend for each 8d, month, season or year",
    )  # fmt: skip
    hide: tuple[str, ...] = asked(HIDE, ["cloud", "shadow"], HIDES)
    grow_m: float = asked(METRES, 0, "so far around it nothing is trusted either")
    least: int = asked(COUNT, 1, "dates that a pixel needs, else no data")
    resampling: Ways = asked(RESAMPLING, "bilinear", WAYS_WORDS)

    def check(self) -> None:
        """A way knows what it takes."""
        if self.method == "percentile":
            _percentile(self.detail)
        elif self.method == "highest":
            recipes.index(self.detail)
        if self.least > 1 and self.method in PICKS:
            raise UsageError(
                f"{self.method} takes each pixel from one date: `least` has nothing to count.", "Leave it out."
            )

    @property
    def method(self) -> str:
        """The way without what it takes."""
        return self.by.partition("=")[0]

    @property
    def detail(self) -> str:
        """The percentile of ``percentile``; of ``highest`` an index recipe."""
        return self.by.partition("=")[2]

    def facts(self) -> JsonObject:
        """As JSON holds them."""
        more = {"kernel": self.resampling.text} if self.resampling != BILINEAR else {}
        return more | {"by": self.method, "detail": self.detail, "least": self.least, "hide": list(self.hide),
                "grow_m": self.grow_m}  # fmt: skip


def _percentile(text: str) -> float:
    try:
        value = float(text)
        if 0 <= value <= 100:
            return value
    except ValueError:
        pass
    raise UsageError(f"'{text}' is no percentile.", "As `by` percentile=90.")


@dataclass(frozen=True)
class BlendStep(ScenesStep):
    """Many dates as one."""

    name: ClassVar[str] = "blend"
    traits: ClassVar[Traits] = Traits("reflectance", "blend")

    rules: BlendRules = field(default_factory=BlendRules, kw_only=True)

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.blend.Blend`."""
        return self.shared(sources)

    def joined(self) -> Mosaic:
        """All dates as one."""
        from zoompick.products.blend import Blend, Highest
        from zoompick.products.mosaic import Mosaic
        from zoompick.products.observations import in_order, observations

        rules = self.rules
        found = observations(self.inputs, self.bands, self.grid, rules.hide, rules.grow_m, ways=rules.resampling)
        if rules.method == "highest":
            return Highest(in_order(found, "newest"), recipes.index(rules.detail).formula)
        if rules.method in PICKS:
            return Mosaic(in_order(found, rules.method), clear_only=True)
        percentile = {"median": 50.0, "mean": None}.get(rules.method, 0.0)
        if rules.method == "percentile":
            percentile = _percentile(rules.detail)
        return Blend(in_order(found, "oldest"), percentile, rules.least)


@dataclass(frozen=True)
class CountStep(BlendStep):
    """How many dates went into each pixel."""

    name: ClassVar[str] = "dates counted"
    traits: ClassVar[Traits] = Traits("count", "count")

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.blend.CountLayer`."""
        from zoompick.products.blend import CountLayer

        return CountLayer(self.shared(sources))


@dataclass(frozen=True)
class DateStep(BlendStep):
    """The day each pixel is from."""

    name: ClassVar[str] = "day of each"
    traits: ClassVar[Traits] = Traits("classes", "day")

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.blend.DateLayer`."""
        from zoompick.products.blend import DateLayer

        return DateLayer(self.shared(sources))


def steps_of(
    files: Sequence[Path], target: Path, bands: tuple[str, ...], grid: Grid, rules: BlendRules
) -> tuple[BlendStep, ...]:
    """A blend and what tells of it, made in one pass."""
    kinds: list[tuple[type[BlendStep], str]] = [(BlendStep, ""), (CountStep, "-count")]
    kinds += [(DateStep, "-date")] if rules.method in PICKS else []
    return tuple(
        kind(tuple(files), target.with_name(f"{target.stem}{word}{target.suffix}"), bands, grid=grid, rules=rules)
        for kind, word in kinds
    )


def of_study(wanted: Wanted, days: Sequence[Day]) -> Iterator[Step]:
    """The blends of the brief, of all scenes of all days, or of each span of time."""
    for section in wanted.brief.all(BlendRules):
        spans: dict[str, list[Path]] = {}
        for day in days:
            spans.setdefault(_span_of(day, section.rules.per), []).extend((*day.inputs, *day.classes))
        for name, files in sorted(spans.items()):
            target = wanted.root / f"{section.name}{'-' if name else ''}{name}.tif"
            yield from steps_of(list(dict.fromkeys(files)), target, wanted.brief.bands, wanted.grid, section.rules)


def _span_of(day: Day, every: str) -> str:
    return _span_name(datetime.fromisoformat(day.date), every) if every else ""


def _spans(section: Section[BlendRules], days: Sequence[Day]) -> list[str]:
    return sorted({_span_of(day, section.rules.per) for day in days})


def _makes(section: Section[BlendRules]) -> list[str]:
    of_one_date = ["-date"] if section.rules.method in PICKS else []
    return [section.name, *(f"{section.name}{word}" for word in ("-count", *of_one_date))]


def by_span(files: Sequence[Path], span: str) -> dict[str, list[Path]]:
    """Files by the span of time that their scenes are in; one without a name for no span.

    Spans are named by their first day, month or year: ``2025-12-19`` (eight days, counted from 1 January as many
    archives do), ``2025-12``, ``2025-12_2026-02`` (December to February, and so on), ``2025``.

    Raises
    ------
    UsageError
        A file does not tell its time.
    """
    if not span:
        return {"": list(files)}
    if span not in SPANS:
        raise UnknownNameError.of("span of time", span, SPANS)
    found: dict[str, list[Path]] = {}
    for path in files:
        found.setdefault(_span_name(_when(path), span), []).append(path)
    return dict(sorted(found.items()))


def _when(path: Path) -> datetime:
    when = time_of(path)
    if when is None:
        raise UsageError(f"{path} does not tell its time.", "Keep the item of each scene beside its files.")
    return when


def _span_name(when: datetime, span: str) -> str:
    if span == "year":
        return f"{when.year}"
    if span == "month":
        return f"{when:%Y-%m}"
    if span == "8d":
        first = datetime(when.year, 1, 1).toordinal()
        days = datetime(when.year, when.month, when.day).toordinal() - first
        return f"{datetime.fromordinal(first + days // 8 * 8):%Y-%m-%d}"
    start = (when.month % 12 // 3 * 3 + 11) % 12 + 1
    year = when.year - (when.month < 3)
    end = (start + 1) % 12 + 1
    return f"{year}-{start:02d}_{year + (end < start)}-{end:02d}"


KIND = Kind(
    BlendRules, (BlendStep, CountStep, DateStep), no_day, of_study, is_several=True, makes=_makes, spans=_spans
)
