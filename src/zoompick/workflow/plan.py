"""From the brief and the shortlist to the steps of a study: a pure decision."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from zoompick.area.model import Area
from zoompick.catalog.scene import Scene
from zoompick.errors import BriefError
from zoompick.files import unique_names
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import bounds_of, project
from zoompick.imagery import recipes
from zoompick.raster.grid import Grid
from zoompick.study.brief import Brief
from zoompick.study.folder import Study
from zoompick.transfer.plan import local_names
from zoompick.workflow.steps import ClipStep, CompositeStep, IndexStep, StackStep, Step


@dataclass(frozen=True)
class StudyPlan:
    """What is made of a study.

    Attributes
    ----------
    grid : Grid
        The study grid.
    days : mapping
        Acquisition day to its scenes, the one that covers most first.
    steps : tuple of Step
        In the order in which they can be carried out.
    """

    grid: Grid
    days: Mapping[str, tuple[Scene, ...]]
    steps: tuple[Step, ...]

    def only(self, name: str) -> tuple[Step, ...]:
        """Steps of one operation."""
        return tuple(step for step in self.steps if step.name == name)


def study_crs(brief: Brief, area: Area) -> Crs:
    """CRS of the study grid."""
    return brief.crs or area.utm


def study_grid(brief: Brief, area: Area) -> Grid:
    """The study grid: around the area, corners on multiples of the pixel size."""
    crs = study_crs(brief, area)
    pixel = brief.pixel_m if not crs.is_geographic else brief.pixel_m / 111_320
    return Grid.snapped(bounds_of(project(area.polygon, crs)), crs, pixel)


def by_day(scenes: Sequence[Scene]) -> dict[str, tuple[Scene, ...]]:
    """Scenes grouped by day of acquisition, days ascending, in the given order within a day."""
    days: dict[str, list[Scene]] = {}
    for scene in scenes:
        days.setdefault(scene.day, []).append(scene)
    return {day: tuple(days[day]) for day in sorted(days)}


def check_recipes(brief: Brief) -> None:
    """Every recipe exists and its bands are in the brief's stack.

    Raises
    ------
    UnknownNameError, BriefError
    """
    needs: dict[str, tuple[str, ...]] = {name: recipes.composite(name).bands for name in brief.composites}
    needs |= {name: recipes.index(name).formula.bands for name in brief.indices}
    for name, bands in needs.items():
        lacking = [band for band in bands if band not in brief.bands]
        if lacking:
            raise BriefError(
                f"The recipe {name} needs the band {lacking[0]}, which [stack] bands does not list.",
                f'Add it: bands = [… "{lacking[0]}"], or take the recipe out.',
            )


def plan_study(study: Study, brief: Brief, area: Area, scenes: Sequence[Scene]) -> StudyPlan:
    """All steps of a study, for every day in the shortlist."""
    check_recipes(brief)
    grid = study_grid(brief, area)
    days = by_day(scenes)
    steps: list[Step] = []
    for name, group in zip(folder_names(brief, area, days), days.values(), strict=True):
        folder = study.products(name)
        inputs = tuple(path for scene in group for path in band_paths(study, scene, brief.bands))
        steps.append(StackStep(inputs, folder / "stack.tif", brief.bands, grid))
        clip = folder / "clip.tif"
        steps.append(ClipStep((folder / "stack.tif",), clip, area.polygon, brief.touch))
        steps += [
            CompositeStep((clip,), folder / f"{name}.tif", recipes.composite(name), brief.stretch, area.polygon)
            for name in brief.composites
        ]
        steps += [IndexStep((clip,), folder / f"{name}.tif", recipes.index(name)) for name in brief.indices]
    return StudyPlan(grid, days, tuple(steps))


def folder_names(brief: Brief, area: Area, days: Mapping[str, tuple[Scene, ...]]) -> list[str]:
    """Name of the product folder of each day, after the brief's pattern; no two alike."""
    told = []
    for day, group in days.items():
        first = group[0]
        told.append(
            {
                "date": day, "year": day[:4], "month": day[5:7], "day": day[8:], "satellite": first.platform,
                "collection": first.collection, "source": first.source, "level": first.level,
                "version": first.version, "study": brief.name, "area": area.name,
            }
        )  # fmt: skip
    return unique_names(brief.folder.filled(fields) for fields in told)


def band_paths(study: Study, scene: Scene, bands: Sequence[str]) -> list[Path]:
    """Files of a scene's bands, whether they are there or not; bands it was published without are left out."""
    folder = study.scene_folder(scene.source, scene.id)
    names = local_names(scene)
    files = [folder / names[scene.bands[band].href] for band in bands if band in scene.bands]
    return list(dict.fromkeys(files))
