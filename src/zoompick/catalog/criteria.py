"""The query as a value: where, when, how cloudy, of what kind; and each of its filters as a test of its own."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

from zoompick.catalog.period import Hours, Period, Season, span
from zoompick.catalog.scene import Scene, footprints_of
from zoompick.errors import UsageError
from zoompick.geo.shapes import Shape
from zoompick.geo.sizes import shares

UNTOLD = "none tells"
ACCESS = ("open", "ask", "priced")


def cloud_limit(value: float) -> float | None:
    """A limit as a person gives it: 100 is none at all, so that scenes pass that tell no cloud.

    Raises
    ------
    UsageError
        Not a percentage.
    """
    limit = percent(value, "cloud limit")
    return None if limit == 100 else limit


def percent(value: float, what: str) -> float:
    """Check a percentage given by a person."""
    if not 0 <= value <= 100:
        raise UsageError(f"The {what} {value:g} is not between 0 and 100.", "It is a percentage: 20, say.")
    return float(value)


@dataclass(frozen=True, slots=True)
class Filter:
    """One condition in force.

    Attributes
    ----------
    name : str
        Its option without dashes: ``cloud``.
    words : str
        As a person reads it: ``at most 20 % cloud``.
    passes : callable
        Scene to bool; a scene that does not tell does not pass.
    best : callable
        Scenes to a few words on how near they come, for the explanation of an empty list; empty text when none.
    """

    name: str
    words: str
    passes: Callable[[Scene], bool]
    best: Callable[[Sequence[Scene]], str] = lambda scenes: ""


@dataclass(frozen=True)
class Criteria:
    """What a scene must be. Empty and None mean no condition.

    Attributes
    ----------
    area : Shape
        Longitude/latitude; scenes must touch it.
    periods : tuple of Period
        Of acquisition; any of them.
    published : tuple of Period
        Of publication; any of them.
    cloud_max, cloud_land_max, cloud_area_max : float or None
        Percent over the scene, over its land, and inside the area (read from the class layers, after all else).
    cover_min : float
        Percent of the area that the footprint must cover; 100 for footprints that cover all of it.
    bands : tuple of str
        A scene must have all of these.
    look_inside : bool
        Read the cloud inside the area even without a limit on it.
    versions : str
        ``newest`` keeps one of reprocessed twins, ``all`` both.
    """

    area: Shape
    collections: tuple[str, ...] = ()
    periods: tuple[Period, ...] = ()
    cloud_max: float | None = None
    cover_min: float = 0.0
    season: Season | None = None
    hours: Hours | None = None
    published: tuple[Period, ...] = ()
    cloud_land_max: float | None = None
    cloud_area_max: float | None = None
    sun_min_deg: float | None = None
    off_nadir_max_deg: float | None = None
    platforms: tuple[str, ...] = ()
    instruments: tuple[str, ...] = ()
    levels: tuple[str, ...] = ()
    pixel_max_m: float | None = None
    access: tuple[str, ...] = ()
    bands: tuple[str, ...] = ()
    versions: str = "newest"
    look_inside: bool = False

    def covers(self, scenes: Sequence[Scene]) -> list[float]:
        """Percent of the area that each scene's footprint covers; 0 without a usable footprint."""
        grounds = footprints_of(scenes)
        placed = [number for number, ground in enumerate(grounds) if ground is not None]
        found = [0.0] * len(scenes)
        for number, part in zip(placed, shares(self.area, [grounds[n] for n in placed]), strict=True):
            found[number] = 100 * float(part)
        return found

    def span(self) -> Period | None:
        """One period around all periods of acquisition."""
        return span(self.periods)

    def in_time(self, scene: Scene) -> bool:
        """True when the scene was taken in one of the periods, in season and at the hours."""
        return all(test.passes(scene) for test in self._of_time())

    def filters(self) -> list[Filter]:
        """All conditions on what an item tells, in the order in which they are explained; the area is apart."""
        return list(self._filters)

    @cached_property
    def _filters(self) -> tuple[Filter, ...]:
        return (*self._of_time(), *self._of_kind(), *self._of_view(), *self._of_cloud())

    def fits(self, scene: Scene) -> bool:
        """True when a scene passes every filter but the cover and the cloud inside the area."""
        return all(test.passes(scene) for test in self._filters)

    def _is_in_a_period(self, scene: Scene) -> bool:
        return any(period.meets(scene.when, scene.until) for period in self.periods)

    def _of_time(self) -> list[Filter]:
        found = []
        if self.periods:
            words = "dates " + " and ".join(map(str, self.periods))
            found.append(
                Filter("dates", words, lambda s: any(p.meets(s.when, s.until) for p in self.periods), _dates)
            )
        if self.season:
            found.append(
                Filter(
                    "season",
                    f"season {self.season}",
                    lambda s: bool(self.season and self.season.holds(s.when)),
                    _dates,
                )
            )
        if self.hours:
            found.append(
                Filter(
                    "hours", f"hours {self.hours}", lambda s: bool(self.hours and self.hours.holds(s.when)), _times
                )
            )
        if self.published:
            words = "published " + " and ".join(map(str, self.published))
            found.append(Filter("published", words, self._was_published))
        return found

    def _was_published(self, scene: Scene) -> bool:
        return scene.published is not None and any(period.holds(scene.published) for period in self.published)

    def _of_kind(self) -> list[Filter]:
        found = []
        for name, wanted, told in (
            ("collection", self.collections, lambda s: (s.collection,)),
            ("platform", self.platforms, lambda s: (s.platform,)),
            ("instrument", self.instruments, lambda s: s.instruments),
            ("level", self.levels, lambda s: (s.level,)),
            ("access", self.access, lambda s: (s.access,)),
        ):
            if wanted:
                found.append(_one_of(name, wanted, told))
        if self.bands:
            words = f"bands {', '.join(self.bands)}"
            found.append(Filter("has", words, lambda s: all(band in s.bands for band in self.bands), self._lacking))
        return found

    def _lacking(self, scenes: Sequence[Scene]) -> str:
        absent = [band for band in self.bands if not any(band in scene.bands for scene in scenes)]
        return f"none has {', '.join(absent)}" if absent else "each lacks one of them"

    def _of_view(self) -> list[Filter]:
        found = []
        if self.pixel_max_m is not None:
            found.append(_limit("pixel", "pixels of at most {} m", self.pixel_max_m, lambda s: s.pixel_m, "finest"))
        if self.sun_min_deg is not None:
            words = "sun at least {}° high"
            found.append(_limit("sun", words, self.sun_min_deg, lambda s: s.sun_elevation_deg, "highest", least=True))
        if self.off_nadir_max_deg is not None:
            found.append(
                _limit(
                    "off-nadir", "off nadir at most {}°", self.off_nadir_max_deg, lambda s: s.off_nadir_deg, "nearest"
                )
            )
        return found

    def _of_cloud(self) -> list[Filter]:
        found = []
        if self.cloud_max is not None:
            found.append(_limit("cloud", "at most {} % cloud", self.cloud_max, lambda s: s.cloud_percent, "clearest"))
        if self.cloud_land_max is not None:
            found.append(
                _limit(
                    "cloud-land",
                    "at most {} % cloud over land",
                    self.cloud_land_max,
                    lambda s: s.cloud_land_percent,
                    "clearest",
                )
            )
        return found

    def in_force(self) -> list[str]:
        """All conditions in words, as the output says them."""
        words = [entry.words for entry in self.filters()]
        if self.cloud_area_max is not None:
            words.append(f"at most {self.cloud_area_max:g} % cloud inside the area")
        if self.cover_min:
            words.append(f"cover at least {self.cover_min:g} %")
        if self.versions == "all":
            words.append("all processing versions")
        return words


def _one_of(name: str, wanted: tuple[str, ...], told: Callable[[Scene], tuple[str, ...]]) -> Filter:
    def there(scenes: Sequence[Scene]) -> str:
        names = sorted({value for scene in scenes for value in told(scene) if value})
        return f"they are of {name} {', '.join(names[:6])}" if names else f"none tells its {name}"

    lower = {value.lower() for value in wanted}
    return Filter(name, f"{name} {' or '.join(wanted)}", lambda s: any(v.lower() in lower for v in told(s)), there)


def _limit(
    name: str, words: str, limit: float, told: Callable[[Scene], float | None], superlative: str, least: bool = False
) -> Filter:
    def passes(scene: Scene) -> bool:
        value = told(scene)
        return value is not None and (value >= limit if least else value <= limit)

    def best(scenes: Sequence[Scene]) -> str:
        known = [(value, scene) for scene in scenes if (value := told(scene)) is not None]
        if not known:
            return UNTOLD
        value, scene = (max if least else min)(known, key=lambda entry: entry[0])
        return f"the {superlative} has {value:.4g}: {scene.id}"

    return Filter(name, words.format(f"{limit:g}"), passes, best)


def _dates(scenes: Sequence[Scene]) -> str:
    return f"they are from {min(s.day for s in scenes)} to {max(s.day for s in scenes)}"


def _times(scenes: Sequence[Scene]) -> str:
    times = sorted(scene.when.strftime("%H:%M") for scene in scenes)
    return f"they were taken between {times[0]} and {times[-1]} UTC"
