"""A raster moved by a fraction of a pixel, so that it lies on a reference."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from zoompick.errors import UsageError
from zoompick.given import BAND, FLAG, within, words
from zoompick.jsontypes import JsonObject
from zoompick.products.kind import ALIGNED, Day, Kind, Wanted
from zoompick.products.rules import Rules, asked
from zoompick.products.step import RasterStep, Step
from zoompick.raster.ways import CLASS
from zoompick.scenes.traits import Traits

if TYPE_CHECKING:
    from zoompick.products.shift import Shift
    from zoompick.products.sources import Sources
    from zoompick.raster.raster import Raster


@dataclass(frozen=True)
class AlignRules(Rules):
    """How a raster, or the days of a study, are laid on a reference."""

    section: ClassVar[str] = "align"

    reference: str = asked(
        words(r"|first|last|\d{4}-\d{2}-\d{2}", "first, last or a day, 2025-12-15"), "",
        "the day on which the others are laid: first, last or a date", option="",
    )  # fmt: skip
    band: str = asked(BAND, "", "compared in both; the first that both have by default")
    limit_px: float = asked(within(0, 100, "px"), 0.1, "a smaller shift is left alone", option="shift-min")
    each_band: bool = asked(FLAG, False, "each band is measured and moved by itself")


@dataclass(frozen=True)
class AlignStep(RasterStep):
    """The first input moved onto the second.

    Attributes
    ----------
    leaves_unsure : bool
        What cannot be measured stays where it is, with a sentence; else it is refused.
    """

    name: ClassVar[str] = "align"
    traits: ClassVar[Traits] = Traits(
        "reflectance", is_whole=True, is_of_one_time=True, is_moved=True, is_between=True
    )

    rules: AlignRules = field(default_factory=AlignRules)
    leaves_unsure: bool = False

    def options(self) -> JsonObject:
        """Band, limit, and whether each band moves by itself."""
        more = {"leaves unsure": True} if self.leaves_unsure else {}
        rules = self.rules
        return {"band": rules.band, "limit_px": rules.limit_px, "each": rules.each_band} | more

    @property
    def shown(self) -> tuple[Path, ...]:
        """What is moved: of the reference no pixel comes in."""
        return self.inputs[:1]

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.raster.part.Moved`; the shift is measured here."""
        from zoompick.products.stack import Stack
        from zoompick.raster.ongrid import OnGrid
        from zoompick.raster.part import Moved
        from zoompick.scenes.deliveries import OneBand

        source, reference = (sources.open(path) for path in self.inputs)
        names = [band.name for band in source.bands]
        common = self.rules.band or next((b.name for b in reference.bands if b.name in names), "")
        target = (
            _named(reference, common, self.inputs[1].name) if common else OneBand(reference, 0, reference.bands[0])
        )
        measured = names if self.rules.each_band else [common or names[0]]
        shifts = {name: self._measured(_named(source, name, self.inputs[0].name), target, name) for name in measured}
        parts: list[list[Raster]] = []
        rows: list[JsonObject] = []
        for place, name in enumerate(names):
            shift = shifts.get(name) or next(iter(shifts.values()))
            band = source.bands[place]
            one = OneBand(source, place, band)
            moves = shift.is_sure and shift.size_px > self.rules.limit_px
            if moves:
                moved = Moved(one, shift.cols, shift.rows)
                parts.append([OnGrid(moved, source.grid, CLASS if band.is_class else "bilinear")])
            else:
                parts.append([one])
            rows.append({"band": name, "cols": round(shift.cols, 3), "rows": round(shift.rows, 3),
                         "tiles": shift.tiles, "looked": shift.looked, "spread_px": round(shift.spread_px, 3),
                         "sure": shift.is_sure, "moved": moves})  # fmt: skip
        stack = Stack(source.grid, parts, notes=_sentences(rows, self.rules.limit_px))
        left = self._measured(_named(stack, measured[0], "the result"), target, measured[0])
        stack.record = {"zoompick:aligned": rows, "zoompick:shift_left_px": round(left.size_px, 3)}
        return stack

    def _measured(self, source: Raster, reference: Raster, name: str) -> Shift:
        from zoompick.products.shift import shift_between
        from zoompick.raster.warp import resampled_to

        shift = shift_between(resampled_to(reference, source.grid), source)
        if not shift.is_sure and not self.leaves_unsure:
            agree = (
                f"{shift.tiles} of {shift.looked} tiles agree"
                if shift.looked
                else "they share no ground without gaps"
            )
            raise UsageError(
                f"How {name} of {self.inputs[0].name} lies on {self.inputs[1].name} cannot be told: {agree}.",
                "Compare bands that look alike: `band` NAME.",
            )
        return shift


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The day's bands laid on those of the reference day."""
    if day.is_moved and wanted.reference is not None:
        yield AlignStep(
            (day.stack, wanted.reference / "stack.tif"), day.whole, wanted.brief.one(AlignRules), leaves_unsure=True
        )


def _named(raster: Raster, name: str, where: str) -> Raster:
    from zoompick.raster.raster import band_index
    from zoompick.scenes.deliveries import OneBand

    place = band_index(raster, name, where)
    return OneBand(raster, place, raster.bands[place])


def _sentences(rows: Sequence[JsonObject], limit: float) -> tuple[str, ...]:
    found: dict[str, list[str]] = {}
    for row in rows:
        unsure = "left where it is: too little evidence of a shift" if not row["sure"] else ""
        how = unsure or f"moved by {row['cols']:+.2f} columns, {row['rows']:+.2f} rows" if row["moved"] else (
            f"left alone: the shift is below {limit:g} px"
        )  # fmt: skip
        found.setdefault(f"{how} ({row['tiles']} of {row['looked']} tiles agree)", []).append(row["band"])
    return tuple(f"{', '.join(names)}: {how}." for how, names in found.items())


KIND = Kind(AlignRules, (AlignStep,), of_day, makes=lambda section: (ALIGNED,) if section.rules.reference else ())
