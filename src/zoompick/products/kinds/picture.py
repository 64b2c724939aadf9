"""Pictures for people, as the brief wants them: of products of a day, or of all days."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, ClassVar

from zoompick.errors import BriefError
from zoompick.figures.face import Paper
from zoompick.geo.shapes import Shape, geojson_of
from zoompick.products.drawing import COLOURS, Look, Wording, draw
from zoompick.products.extras import RESERVED, Extra
from zoompick.products.kind import Day, Kind, Wanted
from zoompick.products.kinds.blend import names_of_spans
from zoompick.products.step import DrawnStep, Step
from zoompick.settings import BRIEF_NAME


@dataclass(frozen=True)
class PictureStep(DrawnStep):
    """A picture of its first input.

    Attributes
    ----------
    outline : polygon or None
        Longitude/latitude.
    """

    name: ClassVar[str] = "picture"

    title: str = ""
    caption: str = ""
    width_px: int = field(default=1280, kw_only=True)
    dpi: int = field(default=150, kw_only=True)
    colours: str = ""
    limits: tuple[float, float] | None = None
    outline: Shape | None = None

    def options(self) -> dict[str, Any]:
        """Words, size, colours and outline."""
        outline = None if self.outline is None else geojson_of(self.outline)
        return {"title": self.title, "caption": self.caption, "width_px": self.width_px, "dpi": self.dpi,
                "colours": self.colours, "range": self.limits, "outline": outline}  # fmt: skip

    def draw(self, target: Path) -> tuple[int, int]:
        """See :func:`zoompick.products.drawing.draw`."""
        words = Wording(self.title, self.caption, self.outline)
        paper = Paper.of(self.width_px, None, self.dpi)
        return draw(self.inputs[0], target, words, Look(self.colours, self.limits), paper)[1]


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The pictures of products of the day."""
    brief = wanted.brief
    masks = [extra.name for extra in brief.extras if extra.kind == "mask"]
    daily = (*RESERVED, *masks, *brief.composites, *brief.indices)
    for extra in _pictures(wanted):
        if extra["of"] in daily and (extra["of"] != "aligned" or day.is_moved):
            target = day.folder / f"{extra.name}.{extra['format']}"
            yield _step(wanted, extra, day.product(extra["of"]), target, day.date)


def of_study(wanted: Wanted, days: Sequence[Day]) -> Iterator[Step]:
    """The pictures of products of all days together; of a blend of several spans one each."""
    blends = {extra.name: extra for extra in wanted.brief.extras if extra.kind == "blend"}
    own = [extra.name for extra in wanted.brief.extras if extra.kind in ("mosaic", "blend", "compare")]
    for extra in _pictures(wanted):
        base = next((name for name in own if extra["of"] in (name, *(f"{name}{end}" for end in _BESIDE))), "")
        if not base or not days:
            continue
        ending = extra["of"].removeprefix(base)
        spans = names_of_spans(days, blends[base]["every"]) if base in blends else [""]
        for span in spans:
            joint = f"-{span}" if span else ""
            made = wanted.root / f"{base}{joint}{ending}.tif"
            yield _step(wanted, extra, made, wanted.root / f"{extra.name}{joint}.{extra['format']}", span)


_BESIDE = ("-scenes", "-count", "-date", "-difference")


def _pictures(wanted: Wanted) -> list[Extra]:
    return [extra for extra in wanted.brief.extras if extra.kind == "picture"]


def _step(wanted: Wanted, extra: Extra, made: Path, target: Path, when: str) -> PictureStep:
    title = extra["title"] or " ".join(filter(None, (wanted.area.name, extra["of"])))
    return PictureStep(
        (made,), target, title + (f", {when}" if when else ""), extra["caption"], width_px=round(extra["width_px"]),
        dpi=round(extra["dpi"]), colours=extra["colours"], limits=extra["range"],
        outline=wanted.area.polygon if extra["outline"] else None,
    )  # fmt: skip


def needs(wanted: Wanted) -> dict[str, tuple[str, ...]]:
    """No bands; but colours that do not exist are told before anything is fetched.

    Raises
    ------
    BriefError
        Names the line.
    """
    for extra in _pictures(wanted):
        if extra["colours"] and extra["colours"] not in COLOURS:
            line = extra.line("colours")
            raise BriefError(
                f"{BRIEF_NAME}, line {line}: [[picture]] colours = {extra['colours']!r} cannot be used.",
                f"There is {', '.join(COLOURS)}.",
            )
    return {}


KIND = Kind("picture", of_day, of_study, needs)
