"""From the brief and the shortlist to the steps of a study: a pure decision."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from types import MappingProxyType
from typing import NamedTuple

from zoompick.area.model import Area
from zoompick.errors import BriefError
from zoompick.files import unique_names
from zoompick.products.fused import FusedStep, fused
from zoompick.products.kind import Day, Kind, Wanted
from zoompick.products.kinds.align import AlignRules
from zoompick.products.kinds.table import KINDS
from zoompick.products.step import Step
from zoompick.raster.grid import Grid
from zoompick.scenes.overpass import days_of
from zoompick.scenes.scene import CLASS_BAND, Scene
from zoompick.study.brief import Brief
from zoompick.study.folder import Study, at_home
from zoompick.study.needs import band_paths, study_grid


class StudyPlan(NamedTuple):
    """What is made of a study.

    Attributes
    ----------
    grid : Grid
        The study grid.
    days : mapping
        Acquisition day to its scenes, the one that covers most first.
    steps : tuple of Step
        In the order in which they can be carried out.
    unwritten : tuple of FusedStep
        What is computed on the way, and judged like what is written.
    kinds : mapping
        File of each product to the name of its kind.
    """

    grid: Grid
    days: Mapping[str, tuple[Scene, ...]]
    steps: tuple[Step, ...]
    unwritten: tuple[FusedStep, ...] = ()
    kinds: Mapping[Path, str] = MappingProxyType({})


def by_day(scenes: Sequence[Scene]) -> dict[str, tuple[Scene, ...]]:
    """Scenes grouped by day of acquisition, days ascending, in the given order within a day.

    What was taken in one overpass is of one day, that of its first scene.
    """
    days: dict[str, list[Scene]] = {}
    for day, scene in zip(days_of(scenes), scenes, strict=True):
        days.setdefault(day, []).append(scene)
    return {day: tuple(days[day]) for day in sorted(days)}


@at_home
def plan_study(
    study: Study,
    brief: Brief,
    area: Area,
    scenes: Sequence[Scene],
    only: str = "",
    recipe: Sequence[object] | None = None,
) -> StudyPlan:
    """All steps of a study, for every day in the shortlist and for all days together.

    Parameters
    ----------
    only : str
        One kind of product.
    recipe : sequence of object, optional
        Of that kind, in place of those that the brief names.

    Raises
    ------
    UnknownNameError, BriefError
        A recipe does not exist, or its bands are not in the brief's stack.
    """
    grid, days = study_grid(brief, area), by_day(scenes)
    reference = _reference(brief, list(days))
    folders = folder_names(brief, area, days)
    wanted = Wanted(
        brief, area, grid, study.root / "products", recipe,
        study.products(folders[list(days).index(reference)]) if reference else None, KINDS,
    )  # fmt: skip
    align = brief.one(AlignRules)
    kinds = [kind for kind in KINDS if only in ("", kind.name)]
    for kind in kinds:
        _check_bands(kind.needs(wanted), brief)
    groups = [
        Day(
            day,
            group,
            study.products(name),
            tuple(p for scene in group for p in band_paths(study, scene, brief.bands)),
            tuple(p for scene in group for p in band_paths(study, scene, [CLASS_BAND])),
            bool(align.reference) and (day != reference or align.each_band),
        )
        for name, (day, group) in zip(folders, days.items(), strict=True)
    ]
    if brief.intermediate:
        found = _steps(kinds, wanted, groups)
        return StudyPlan(grid, days, tuple(step for _, step in found), kinds=_kinds(found))
    every = _steps(KINDS, wanted, groups)
    between = [name for kind in KINDS if kind.is_between for name in wanted.made(kind)]
    steps, unwritten = fused([step for _, step in every], between)
    if only:
        # What is asked for by itself is written, whatever it is.
        own = {step.output for name, step in every if name == only}
        rest = [one if one.made_of else one.step for one in unwritten]
        return StudyPlan(grid, days, tuple(step for step in (*rest, *steps) if step.output in own))
    return StudyPlan(grid, days, steps, unwritten, _kinds(every))


def _kinds(steps: Sequence[tuple[str, Step]]) -> dict[Path, str]:
    return {step.output: name for name, step in steps}


def _steps(kinds: Sequence[Kind], wanted: Wanted, days: Sequence[Day]) -> list[tuple[str, Step]]:
    """Steps of some kinds, each with the name of its kind, in the order in which they can be carried out."""
    rounds = [[kind for kind in kinds if kind.is_first is first] for first in (True, False)]
    found = [
        (kind.name, step) for some in rounds for day in days for kind in some for step in kind.of_day(wanted, day)
    ]
    return found + [(kind.name, step) for kind in kinds for step in kind.of_study(wanted, days)]


def _reference(brief: Brief, days: Sequence[str]) -> str:
    """The day on which the others are laid; empty for none."""
    align = brief.one(AlignRules)
    if not align.reference or not days:
        return ""
    day = {"first": days[0], "last": days[-1]}.get(align.reference, align.reference)
    if day not in days:
        raise BriefError(
            f"[align] reference = '{day}': no scene of that day is picked.", f"There is {', '.join(days)}."
        )
    if align.each_band and not align.band:
        raise BriefError("[align] each_band moves each band onto one band, which is not told.", 'As band = "red".')
    return day


def _check_bands(needs: Mapping[str, tuple[str, ...]], brief: Brief) -> None:
    for name, bands in needs.items():
        lacking = [band for band in bands if band not in brief.bands]
        if lacking:
            raise BriefError(
                f"The recipe {name} needs the band {lacking[0]}, which [stack] bands does not list.",
                f'Add it: bands = [… "{lacking[0]}"], or take the recipe out.',
            )


def folder_names(brief: Brief, area: Area, days: Mapping[str, tuple[Scene, ...]]) -> list[str]:
    """Name of the product folder of each day, after the brief's pattern; no two alike."""
    told = []
    for day, group in days.items():
        first = group[0]
        told.append(
            {
                "date": day, "year": day[:4], "month": day[5:7], "day": day[8:], "platform": first.platform,
                "collection": first.collection, "source": first.source, "level": first.level,
                "version": first.version, "study": brief.name, "area": area.name,
            }
        )  # fmt: skip
    return unique_names(brief.folder.filled(fields) for fields in told)
