"""Pictures for people, as the brief wants them: of products of a day, or of all days."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import ClassVar

from zoompick.figures.colours import COLOURS
from zoompick.geo.shapes import Shape, geojson_of
from zoompick.given import FLAG, RANGE, SHOWN, TEXT, one_of, within
from zoompick.jsontypes import JsonObject
from zoompick.products.kind import Day, Kind, Wanted
from zoompick.products.rules import Rules, asked
from zoompick.products.step import DrawnStep, Step
from zoompick.scenes.traits import Traits


@dataclass(frozen=True)
class PictureRules(Rules):
    """What a picture for people shows, and how."""

    section: ClassVar[str] = "picture"

    of: str = asked(SHOWN, "natural", "the product to show", option="")
    title: str = asked(TEXT, "", "above it; what it shows, by default")
    caption: str = asked(TEXT, "", "below it")
    format: str = asked(one_of("png", "jpg", "pdf", "svg"), "png", "png, jpg, pdf or svg", option="")
    width_px: float = asked(within(200, 60_000, "px"), 1280, "width in pixels")
    dpi: float = asked(within(30, 2400), 150, "dots an inch")
    colours: str = asked(replace(one_of("", *COLOURS), metavar="NAME", offer=tuple(COLOURS)), "", ", ".join(COLOURS))
    range: tuple[float, float] | None = asked(RANGE, [], "values at both ends of the colours")
    outline: bool = asked(FLAG, True, "the study area as a line", option="")


@dataclass(frozen=True)
class PictureStep(DrawnStep):
    """A picture of its first input.

    Attributes
    ----------
    outline : polygon or None
        Longitude/latitude.
    """

    name: ClassVar[str] = "picture"
    traits: ClassVar[Traits] = Traits("picture")

    title: str = ""
    caption: str = ""
    width_px: int = field(default=1280, kw_only=True)
    dpi: int = field(default=150, kw_only=True)
    colours: str = ""
    limits: tuple[float, float] | None = None
    outline: Shape | None = None

    def options(self) -> JsonObject:
        """Words, size, colours and outline."""
        outline = None if self.outline is None else geojson_of(self.outline)
        return {"title": self.title, "caption": self.caption, "width_px": self.width_px, "dpi": self.dpi,
                "colours": self.colours, "range": self.limits, "outline": outline}  # fmt: skip

    def draw(self, target: Path) -> tuple[int, int]:
        """See :func:`zoompick.products.drawing.draw`."""
        from zoompick.figures.face import Paper
        from zoompick.products.drawing import Look, Wording, draw

        words = Wording(self.title, self.caption, self.outline)
        paper = Paper.of(self.width_px, None, self.dpi)
        return draw(self.inputs[0], target, words, Look(self.colours, self.limits), paper)[1]


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The pictures of products of the day."""
    daily = [name for kind in wanted.kinds if kind.is_daily for name in wanted.made(kind)]
    for section in wanted.brief.all(PictureRules):
        rules = section.rules
        if rules.of in daily and day.has(rules.of):
            target = day.folder / f"{section.name}.{rules.format}"
            yield _step(wanted, rules, day.product(rules.of), target, day.date)


def of_study(wanted: Wanted, days: Sequence[Day]) -> Iterator[Step]:
    """The pictures of products of all days together; of those made for several spans of time one each."""
    shared = [
        (kind, own, name)
        for kind in wanted.kinds if not kind.is_daily
        for own in wanted.brief.all(kind.rules)
        for name in kind.makes(own)
    ]  # fmt: skip
    for section in wanted.brief.all(PictureRules) if days else ():
        rules = section.rules
        for kind, own, name in shared:
            if name == rules.of:
                for span in kind.spans(own, days):
                    joint = f"-{span}" if span else ""
                    made = wanted.root / f"{own.name}{joint}{name.removeprefix(own.name)}.tif"
                    yield _step(wanted, rules, made, wanted.root / f"{section.name}{joint}.{rules.format}", span)


def _step(wanted: Wanted, rules: PictureRules, made: Path, target: Path, when: str) -> PictureStep:
    title = rules.title or " ".join(filter(None, (wanted.area.name, rules.of)))
    return PictureStep(
        (made,), target, title + (f", {when}" if when else ""), rules.caption, width_px=round(rules.width_px),
        dpi=round(rules.dpi), colours=rules.colours, limits=rules.range,
        outline=wanted.area.polygon if rules.outline else None,
    )  # fmt: skip


KIND = Kind(PictureRules, (PictureStep,), of_day, of_study, is_several=True, makes=lambda section: ())
