"""Sections of the brief that may stand there several times: ``[[mask]]``, ``[[mosaic]]``, ``[[blend]]`` and so on.

Masks and pictures are made of each day, the others of all the study's days together. What the words of a value may be
is told here, so that a complaint has its line before anything is computed.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from zoompick.errors import BriefError, UsageError
from zoompick.given import COUNT, FLAG, LIMIT, METRES, NAME, RANGE, TEXT, Value, listed, one_of, within, words

_ORDERS = r"given|newest|oldest|clearest|nadir|nearest=\d{4}-\d{2}-\d{2}"
_WAYS = r"median|mean|clearest|newest|percentile=\d+(\.\d+)?|highest=[a-z][a-z0-9-]*"
_HIDDEN = ("fill", "clear", "shadow", "cloud", "snow", "water")
_RECIPE = r"[a-z][a-z0-9-]*"
RESERVED = ("stack", "aligned", "clip")
"""Products of each day that every study has."""


@dataclass(frozen=True)
class Extra:
    """One such section, its values checked and complete.

    Attributes
    ----------
    kind : str
        ``mask``, ``mosaic``, ``blend``, ``compare`` or ``picture``.
    values : tuple of (str, object)
    lines : mapping
        Line in the brief of each key; of the section where the key is not there.
    """

    kind: str
    values: tuple[tuple[str, Any], ...]
    lines: Mapping[str, int] = field(default_factory=dict, compare=False, repr=False)

    def __getitem__(self, key: str) -> Any:
        """The value of a key."""
        return dict(self.values)[key]

    @property
    def name(self) -> str:
        """Of its products."""
        return str(self["name"])

    def line(self, key: str) -> int:
        """Line of a key in the brief."""
        return self.lines.get(key, 0)


class Key(NamedTuple):
    """A key of such a section: how it is read, its default, and what it is for."""

    read: Value
    default: object
    words: str


_HIDE = Key(listed(_HIDDEN), ["cloud", "shadow"], "what hides the ground, by the class layers")
_GROW = Key(METRES, 0, "so far around it nothing is trusted either")
KEYS: dict[str, dict[str, Key]] = {
    "mask": {
        "name": Key(NAME, "mask", "of the product"),
        "where": Key(
            TEXT, "cloud or shadow or outside", "a rule over bands, classes, saturated, bright_cloud and outside"
        ),
        "grow_m": Key(METRES, 0, "widen what holds by this"),
        "shrink_m": Key(METRES, 0, "narrow it first, so that specks go"),
        "apply": Key(FLAG, False, "the bands without it, in place of a layer that tells it"),
    },
    "mosaic": {
        "name": Key(NAME, "mosaic", "of the product"),
        "order": Key(
            words(_ORDERS, "newest, oldest, clearest, nadir or nearest=2025-12-15"), "newest",
            "which scene counts first: newest, oldest, clearest, nadir, nearest=DAY",
        ),
        "hide": _HIDE, "grow_m": _GROW,
        "clear_only": Key(FLAG, False, "no data where no scene shows the ground, in place of its cloud"),
        "feather_m": Key(METRES, 0, "soften seams over this width"),
        "match": Key(FLAG, False, "bring scenes to the brightness of the first, by their overlaps"),
    },
    "blend": {
        "name": Key(NAME, "blend", "of the product"),
        "by": Key(
            words(_WAYS, "median, mean, percentile=90, clearest, newest or highest=ndvi"), "median",
            "median, mean, percentile=90, clearest, newest, highest=ndvi",
        ),
        "every": Key(words(r"|8d|month|season|year", "8d, month, season or year"), "", "8d, month, season or year"),
        "hide": _HIDE, "grow_m": _GROW, "least": Key(COUNT, 1, "dates that a pixel needs"),
    },
    "compare": {
        "name": Key(NAME, "change", "of the product"),
        "index": Key(words(_RECIPE, "an index recipe, as ndwi"), "ndwi", "what is compared, first day and last"),
        "above": Key(LIMIT, None, "change is to rise above this, or fall below it"),
        "by": Key(LIMIT, None, "change is to rise or fall by as much"),
        "of": Key(TEXT, "clip", "the bands: clip, or a mask that is applied"),
        "show": Key(words(f"|{_RECIPE}", "a composite recipe, as natural, or nothing"), "",
                    "composite of a picture of both dates and the change"),
    },
    "picture": {
        "name": Key(NAME, "picture", "of the picture"),
        "of": Key(TEXT, "natural", "the product to show"),
        "title": Key(TEXT, "", "above it; area and product by default"), "caption": Key(TEXT, "", "below it"),
        "format": Key(one_of("png", "jpg", "pdf", "svg"), "png", "png, jpg, pdf or svg"),
        "width_px": Key(within(200, 60_000), 1280, "width in pixels"),
        "dpi": Key(within(30, 2400), 150, "dots an inch"),
        "colours": Key(TEXT, "", "viridis, cividis, magma, grey, brown-green or red-blue"),
        "range": Key(RANGE, [], "values at both ends of the colours"),
        "outline": Key(FLAG, True, "the study area as a line"),
    },
}  # fmt: skip
"""By section and key."""


def extras_of(table: Mapping[str, Any], line: Callable[[str, int, str], int], where: str) -> tuple[Extra, ...]:
    """All such sections of a brief, in the order of KEYS.

    Parameters
    ----------
    line : callable
        Line of a key in the n-th section of a kind.

    Raises
    ------
    BriefError
        Names the line, the key, the value and what is expected.
    """
    found = []
    for kind, keys in KEYS.items():
        given = table.get(kind, [])
        for place, entry in enumerate([given] if isinstance(given, dict) else given):
            lines = {key: line(kind, place, key) for key in keys}
            found.append(Extra(kind, tuple(_values(kind, entry, lines, where).items()), lines))
            if kind == "compare" and (found[-1]["above"] is None) == (found[-1]["by"] is None):
                raise BriefError(
                    f"{where}, line {line(kind, place, '')}: [[compare]] takes `above` or `by`, one of them.",
                    "As above = 0, or by = 0.2.",
                )
    _refuse_twins(found, where)
    applied = ["clip", *(one.name for one in found if one.kind == "mask" and one["apply"])]
    for one in found:
        if one.kind == "compare" and one["of"] not in applied:
            raise _unusable(one, "of", f"It must be {' or '.join(applied)}.", where)
    return tuple(found)


def _values(kind: str, entry: Mapping[str, Any], lines: Mapping[str, int], where: str) -> dict[str, Any]:
    values = {}
    for key, row in KEYS[kind].items():
        value = entry.get(key, row.default)
        try:
            values[key] = row.read(value)
        except UsageError as error:
            raise BriefError(
                f"{where}, line {lines[key]}: [[{kind}]] {key} = {value!r} cannot be used.", str(error)
            ) from error
    return values


_OF_ONE_DATE = ("clearest", "newest", "highest")
"""Ways to blend by which each pixel is of one date."""


def check_pictures(extras: Sequence[Extra], made: Sequence[str], where: str) -> None:
    """Refuse a picture of what the brief does not make.

    Parameters
    ----------
    made : sequence of str
        What is made of each day, beside these sections.

    Raises
    ------
    BriefError
        Lists what there is.
    """
    known = list(made)
    known += [name for one in extras if one.kind != "picture" for name in _products(one)]
    for one in extras:
        if one.kind == "picture" and one["of"] not in known:
            raise _unusable(one, "of", f"The brief makes {', '.join(known)}.", where)


def _products(one: Extra) -> list[str]:
    """Rasters that a section makes, without spans of time."""
    more = {"compare": ["-difference"], "mosaic": ["-scenes"], "blend": ["-count"]}
    if one.kind == "blend" and one["by"].partition("=")[0] in _OF_ONE_DATE:
        more["blend"].append("-date")
    return [one.name, *(f"{one.name}{word}" for word in more.get(one.kind, ()))]


def _unusable(one: Extra, key: str, todo: str, where: str) -> BriefError:
    return BriefError(f"{where}, line {one.line(key)}: [[{one.kind}]] {key} = {one[key]!r} cannot be used.", todo)


def _refuse_twins(found: Sequence[Extra], where: str) -> None:
    names: dict[str, Extra] = {}
    for extra in found:
        if extra.name in names:
            raise BriefError(
                f"{where}, line {extra.line('name')}: two products are called '{extra.name}'.",
                'Give one another: name = "…".',
            )
        names[extra.name] = extra
