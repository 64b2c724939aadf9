"""The one table of what scenes can be sought by: every filter has a row, and all that names filters comes out of it.

A row tells the field of :class:`~zoompick.discovery.criteria.Criteria`, the option, the key of a brief, the name in
rules, the unit, how a person's value is read, what a scene tells, the property a server is asked by, and the words.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Literal, NamedTuple

from zoompick.errors import UnknownNameError, UsageError
from zoompick.given import number, percent, pixel, text
from zoompick.scenes.period import Hours, Period, Season
from zoompick.scenes.scene import Scene

UNTOLD = "none tells"
ACCESS = ("open", "ask", "priced")
SORTS = ("newest", "oldest", "clearest", "cover")


class Filter(NamedTuple):
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
    mend : str
        What a person can do when it leaves nothing.
    """

    name: str
    words: str
    passes: Callable[[Scene], bool]
    best: Callable[[Sequence[Scene]], str]
    mend: str


Make = Callable[["Row", Any], Filter]


class Row(NamedTuple):
    """One row.

    Attributes
    ----------
    field : str
        In ``Criteria``; empty for what scenes are only picked by.
    option : str
        On the command line, without dashes; empty for none.
    key : str
        In ``[search]`` of a brief; empty for none.
    rule : str
        In rules of ``pick``; empty for none.
    unit : str
        ``PERCENT``, ``DEGREES``, ``METRES``, ``NAME``, ``WHEN``, …; empty for a flag.
    help : str
        Of the option.
    check : callable
        A value of whatever type to one of the right type, or UsageError.
    read : callable or None
        The same of a value that a person gave, where that means something else.
    told : callable or None
        What a scene tells; None when it does not.
    make : callable or None
        The filter of this row and a checked value; None for what is not tested scene by scene.
    query : (str, str) or None
        Property and operator by which servers filter (core extensions of STAC).
    is_basic : bool
        Shown among the first options.
    """

    field: str
    option: str
    key: str
    rule: str
    unit: str
    help: str
    check: Callable[[Any], Any] = lambda value: value
    read: Callable[[Any], Any] | None = None
    told: Callable[[Scene], Any] | None = None
    make: Make | None = None
    query: tuple[str, Literal["<=", ">="]] | None = None
    words: str = ""
    superlative: str = ""
    mend: str = ""
    is_basic: bool = False

    @property
    def is_number(self) -> bool:
        """True for limits."""
        return self.unit in ("PERCENT", "DEGREES", "METRES", "SIZE")

    @property
    def repeats(self) -> bool:
        """True when the option may be given again."""
        return self.unit in ("NAME", "ID", "WHEN")

    @property
    def is_least(self) -> bool:
        """True for a limit from below."""
        return self.query is not None and self.query[1] == ">="

    def of_person(self, value: object) -> Any:
        """A person's value, checked; None for none at all."""
        return (self.read or self.check)(value)


def cloud_limit(value: object) -> float | None:
    """A limit as a person gives it: 100 is none at all, so that scenes pass that tell no cloud."""
    limit = percent(value, "cloud limit")
    return None if limit == 100 else limit


def names(value: object) -> tuple[str, ...]:
    """Check a list of names; a text is split at its commas."""
    given = [part.strip() for part in value.split(",")] if isinstance(value, str) else value
    if not isinstance(given, list | tuple) or not all(isinstance(entry, str) for entry in given):
        raise UsageError('It must be a list of names: ["red", "nir"], say.')
    found = tuple(entry for entry in given if entry)
    twice = next((name for name in found if found.count(name) > 1), None)
    if twice:
        raise UsageError(f"{twice} is named twice.", "Name each once.")
    return found


def periods(value: object) -> tuple[Period, ...]:
    """Check periods, or texts of them."""
    given = [value] if isinstance(value, str | Period) else value
    if not isinstance(given, list | tuple) or not all(isinstance(entry, str | Period) for entry in given):
        raise UsageError("It must be a text or a list of texts.")
    return tuple(
        period for entry in given for period in ([entry] if isinstance(entry, Period) else Period.parse_all(entry))
    )


def season(value: object) -> Season:
    """Check a season."""
    return value if isinstance(value, Season) else Season.parse(text(value))


def hours(value: object) -> Hours:
    """Check hours of the day."""
    return value if isinstance(value, Hours) else Hours.parse(text(value))


def access(value: object) -> tuple[str, ...]:
    """Check classes of access."""
    found = names(value)
    for name in found:
        if name not in ACCESS:
            raise UnknownNameError.of("access class", name, ACCESS)
    return found


def versions(value: object) -> str:
    """Check which processings of one acquisition are wanted."""
    if value is True:
        return "all"
    if value not in ("newest", "all"):
        raise UnknownNameError.of("choice of versions", text(value), ("newest", "all"))
    return str(value)


def unknown_cloud(value: object) -> str:
    """Check what becomes of scenes that tell no cloud."""
    if value not in ("keep", "drop"):
        raise UnknownNameError.of("choice for unknown cloud", str(value), ("keep", "drop"))
    return str(value)


def sorting(value: object) -> str:
    """Check an order of scenes."""
    if value not in SORTS:
        raise UnknownNameError.of("order", str(value), SORTS)
    return str(value)


def count(value: object) -> int:
    """Check a number of scenes."""
    if isinstance(value, bool) or not isinstance(value, int) or value < 1:
        raise UsageError("It must be a whole number, 1 or more.")
    return value


def _limit(row: Row, limit: float) -> Filter:
    def told(scene: Scene) -> float | None:
        assert row.told is not None
        value: float | None = row.told(scene)
        return value

    def passes(scene: Scene) -> bool:
        value = told(scene)
        return value is not None and (value >= limit if row.is_least else value <= limit)

    def best(scenes: Sequence[Scene]) -> str:
        known = [(value, scene) for scene in scenes if (value := told(scene)) is not None]
        if not known:
            return UNTOLD
        value, scene = (max if row.is_least else min)(known, key=lambda entry: entry[0])
        return f"the {row.superlative} has {value:.4g}: {scene.id}"

    mend = row.mend or f"{'Lower' if row.is_least else 'Raise'} `{row.option}`."
    return Filter(row.option, row.words.format(f"{limit:g}"), passes, best, mend)


def _one_of(row: Row, wanted: tuple[str, ...]) -> Filter:
    def told(scene: Scene) -> tuple[str, ...]:
        assert row.told is not None
        value = row.told(scene)
        return value if isinstance(value, tuple) else (value,)

    def there(scenes: Sequence[Scene]) -> str:
        found = sorted({value for scene in scenes for value in told(scene) if value})
        return f"they are of {row.option} {', '.join(found[:6])}" if found else f"none tells its {row.option}"

    lower = {value.lower() for value in wanted}
    words = f"{row.option} {' or '.join(wanted)}"
    mend = row.mend or f"Leave `{row.option}` out, or name another."
    return Filter(row.option, words, lambda scene: any(v.lower() in lower for v in told(scene)), there, mend)


def _all_of(row: Row, wanted: tuple[str, ...]) -> Filter:
    def lacking(scenes: Sequence[Scene]) -> str:
        absent = [band for band in wanted if not any(band in scene.band_words for scene in scenes)]
        return f"none has {', '.join(absent)}" if absent else "each lacks one of them"

    passes = lambda scene: scene.band_words.issuperset(wanted)  # noqa: E731
    return Filter(row.option, f"bands {', '.join(wanted)}", passes, lacking, row.mend)


def _taken(row: Row, wanted: tuple[Period, ...]) -> Filter:
    words = "dates " + " and ".join(map(str, wanted))
    passes = lambda scene: any(p.meets(scene.when, scene.until) for p in wanted)  # noqa: E731
    return Filter(row.option, words, passes, _dates, row.mend)


def _published(row: Row, wanted: tuple[Period, ...]) -> Filter:
    def passes(scene: Scene) -> bool:
        return scene.published is not None and any(period.holds(scene.published) for period in wanted)

    words = "published " + " and ".join(map(str, wanted))
    return Filter(row.option, words, passes, lambda scenes: "", row.mend)


def _in_season(row: Row, wanted: Season) -> Filter:
    passes = lambda scene: any(map(wanted.holds, scene.months))  # noqa: E731
    return Filter(row.option, f"season {wanted}", passes, _dates, row.mend)


def _at_hours(row: Row, wanted: Hours) -> Filter:
    return Filter(row.option, f"hours {wanted}", lambda scene: wanted.holds(scene.when), _times, row.mend)


def _dates(scenes: Sequence[Scene]) -> str:
    return f"they are from {min(s.day for s in scenes)} to {max(s.day for s in scenes)}"


def _times(scenes: Sequence[Scene]) -> str:
    times = sorted(scene.when.strftime("%H:%M") for scene in scenes)
    return f"they were taken between {times[0]} and {times[-1]} UTC"


_MORE_CLOUD = "Raise the cloud limit (`cloud`) or widen the dates (`dates`)."
ROWS: tuple[Row, ...] = (
    Row("periods", "dates", "dates", "", "WHEN",
        "A day, month, year or START/END, to the end of the last day or second told; may be given again.", periods,
        make=_taken, mend="Choose dates in there.", is_basic=True),
    Row("cloud_max", "cloud", "cloud", "cloud", "PERCENT", "Cloud over the scene, at most.",
        lambda value: percent(value, "cloud limit"), cloud_limit, lambda scene: scene.cloud_percent, _limit,
        ("eo:cloud_cover", "<="), "at most {} % cloud", "clearest", _MORE_CLOUD, is_basic=True),
    Row("ids", "id", "", "id", "ID", "Only this scene; may be given again.", names,
        told=lambda scene: scene.id, make=_one_of, is_basic=True),
    Row("unknown_cloud", "unknown-cloud", "unknown_cloud", "", "keep|drop",
        "Scenes that tell no cloud, where cloud is limited.", unknown_cloud),
    Row("sort", "sort", "sort", "", "ORDER", f"{', '.join(SORTS)} first.", sorting),
    Row("most", "limit", "limit", "", "COUNT", "So many scenes at most, the first in order.", count),
    Row("collections", "collection", "collections", "collection", "ID", "Collection to search; may be given again.",
        names, told=lambda scene: scene.collection, make=_one_of, is_basic=True),
    Row("cover_min", "cover-min", "cover_min", "cover", "PERCENT", "Share of the area a scene covers, at least.",
        lambda value: percent(value, "share of the area")),
    Row("cloud_area_max", "cloud-area", "cloud_area", "cloud-area", "PERCENT",
        "Cloud inside the area, at most; read from the class layers.", lambda value: percent(value, "cloud limit")),
    Row("cloud_land_max", "cloud-land", "cloud_land", "cloud-land", "PERCENT",
        "Cloud over the scene's land, at most.", lambda value: percent(value, "cloud limit"), cloud_limit,
        lambda scene: scene.cloud_land_percent, _limit, words="at most {} % cloud over land", superlative="clearest",
        mend="Raise `cloud-land` or widen the dates (`dates`)."),
    Row("season", "season", "season", "", "MONTHS", "Months of any year: dec-feb.", season, make=_in_season,
        mend="Choose other months, or leave `season` out."),
    Row("hours", "hours", "hours", "", "HH-HH", "Time of day, UTC: 10-13.", hours, make=_at_hours,
        mend="Choose other hours, or leave `hours` out."),
    Row("published", "published", "published", "", "WHEN", "Dates of publication.", periods, make=_published,
        mend="Leave `published` out."),
    Row("sun_min_deg", "sun", "sun", "sun", "DEGREES", "Sun elevation, at least.", number,
        told=lambda scene: scene.sun_elevation_deg, make=_limit, query=("view:sun_elevation", ">="),
        words="sun at least {}° high", superlative="highest"),
    Row("off_nadir_max_deg", "off-nadir", "off_nadir", "off-nadir", "DEGREES", "View off nadir, at most.", number,
        told=lambda scene: scene.off_nadir_deg, make=_limit, query=("view:off_nadir", "<="),
        words="off nadir at most {}°", superlative="nearest"),
    Row("pixel_max_m", "pixel-max", "pixel_max", "pixel", "METRES", "Pixel size, at most.", pixel,
        told=lambda scene: scene.pixel_m, make=_limit, query=("gsd", "<="), words="pixels of at most {} m",
        superlative="finest", mend="Allow larger pixels with `pixel-max`."),
    Row("platforms", "platform", "platforms", "platform", "NAME", "Platform, a satellite; may be given again.", names,
        told=lambda scene: scene.platform, make=_one_of),
    Row("instruments", "instrument", "instruments", "instrument", "NAME", "Instrument; may be given again.",
        names, told=lambda scene: scene.instruments, make=_one_of),
    Row("levels", "level", "levels", "level", "NAME", "Processing level; may be given again.", names,
        told=lambda scene: scene.level, make=_one_of),
    Row("access", "access", "access", "access", "NAME", "open, ask or priced; may be given again.", access,
        told=lambda scene: scene.access, make=_one_of),
    Row("bands", "has", "has", "", "A,B,C", "Bands a scene must have.", names, make=_all_of,
        mend="Ask for fewer bands."),
    Row("versions", "all-versions", "versions", "", "", "Reprocessed twins too.", versions),
    Row("look_inside", "inside", "", "", "", "Read the cloud inside the area.", bool),
    Row("", "", "", "date", "DATE", "Day of acquisition.", told=lambda scene: scene.day),
    Row("", "", "", "time", "HH:MM", "Time of acquisition, UTC.", told=lambda scene: f"{scene.when:%H:%M}"),
    Row("", "", "", "source", "NAME", "Where it was found.", told=lambda scene: scene.source),
    Row("", "", "", "size", "SIZE", "Bytes of its bands: 20MB.", told=lambda scene: scene.size),
    Row("", "", "", "tile", "NAME", "Tile, sheet or frame.", told=lambda scene: scene.tile),
    Row("", "", "", "tag", "NAME", "A word of yours."),
)  # fmt: skip
"""In the order in which options are listed."""

BY_FIELD = {row.field: row for row in ROWS if row.field}
BY_KEY = {row.key: row for row in ROWS if row.key}
BY_RULE = {row.rule: row for row in ROWS if row.rule}
ALSO = {"satellite": "platform", "in-area": "cloud-area", "in area": "cloud-area", "marks": "tag", "bytes": "size"}
"""Headings of tables, and the rules they go by."""

_TESTED = (
    "periods", "season", "hours", "published", "ids", "collections", "platforms", "instruments", "levels", "access",
    "bands", "pixel_max_m", "sun_min_deg", "off_nadir_max_deg", "cloud_max", "cloud_land_max",
)  # fmt: skip
"""Fields in the order in which an empty list is explained: time, kind, view, cloud."""


def in_force(values: Callable[[str], Any], of_time: bool = False) -> list[Filter]:
    """Filters of all fields that have a value; those on the time of acquisition alone, where that is asked for."""
    found = []
    for field in _TESTED[:4] if of_time else _TESTED:
        row, value = BY_FIELD[field], values(field)
        if value not in (None, ()) and row.make is not None:
            made = row.make(row, value)
            found.append(_lenient(made, row) if field in OF_CLOUD and values("unknown_cloud") == "keep" else made)
    return found


OF_CLOUD = ("cloud_max", "cloud_land_max")
"""Fields whose figure many archives do not tell."""


def _lenient(made: Filter, row: Row) -> Filter:
    """A limit that lets scenes pass which do not tell."""
    told = row.told
    assert told is not None
    return made._replace(
        passes=lambda scene: told(scene) is None or made.passes(scene), words=f"{made.words} or unknown"
    )
