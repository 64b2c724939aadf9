"""What a study or a request needs of scenes: which files, where they go, which part of the ground.

Decided out of records alone; nothing is asked of a source, and no large library is loaded for it.
"""

from __future__ import annotations

import hashlib
import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zoompick.errors import NothingFoundError, UnknownNameError
from zoompick.files import distinct_name
from zoompick.geo.crs import METRES_A_DEGREE, Crs
from zoompick.geo.region import Region
from zoompick.geo.shapes import Shape, bounds_of, in_one_turn, outline_of, project
from zoompick.raster.grid import Grid
from zoompick.scenes import fetched as record
from zoompick.scenes.bands import format_called, formats_of
from zoompick.scenes.fetchplan import DownloadPlan, file_of, local_names, plan
from zoompick.scenes.scene import CLASS_BAND, Key, Scene
from zoompick.sensors.guide import known_bands
from zoompick.study.folder import Study

if TYPE_CHECKING:
    from zoompick.area.model import Area
    from zoompick.study.brief import Brief


def folders_in(study: Study, scenes: Sequence[Scene]) -> dict[Key, Path]:
    """Where the files of a study's scenes lie."""
    return {scene.key: study.scene_folder(scene.key) for scene in scenes}


def folders_under(root: Path, scenes: Sequence[Scene]) -> dict[Key, Path]:
    """Where files of scenes go outside a study: a folder each, by id; by collection and id where ids are shared."""
    counts = Counter(distinct_name(scene.id).lower() for scene in scenes)
    return {
        scene.key: root / distinct_name(scene.id)
        if counts[distinct_name(scene.id).lower()] == 1
        else root / distinct_name("-".join(filter(None, scene.key)))
        for scene in scenes
    }


def plan_for(
    scenes: Sequence[Scene],
    bands: Sequence[str],
    folders: Mapping[Key, Path],
    region: Region | None = None,
    area: Region | None = None,
) -> DownloadPlan:
    """Decide what to fetch; all bands when none is named.

    Parameters
    ----------
    bands : sequence of str
        Common names, or keys of assets.
    region : Region, optional
        Fetch only this part of each raster.
    area : Region, optional
        The part for which scenes are ordered that are not open.

    Raises
    ------
    NothingFoundError
        No scene.
    UnknownNameError
        A band that no instrument here has. One that a scene lacks is told in the plan.
    """
    if not scenes:
        raise NothingFoundError("No scene is picked.", "Search, then pick by number: 'zoompick pick 1'.")
    offered = list(dict.fromkeys(name for scene in scenes for name in scene.bands))
    for name in bands:
        if not any(file_of(scene, name) for scene in scenes) and not _is_known(name, offered):
            raise UnknownNameError.of("band", name, offered, f"The scenes have {', '.join(offered)}.")
    return plan(scenes, list(bands) or offered, folders, record.is_here, region, record.size_under_way, area)


def wanted_files(study: Study, brief: Brief, scenes: Sequence[Scene]) -> DownloadPlan:
    """What a study's brief needs of its scenes: what is here and what is still to be fetched."""
    bands = with_classes(brief.bands, scenes)
    return plan_for(scenes, bands, folders_in(study, scenes), region_in(study, brief), area_of(study))


def _is_known(name: str, offered: Sequence[str]) -> bool:
    """True for a band of any instrument that a guide knows."""
    return name in known_bands(offered)


def in_format(scenes: Sequence[Scene], word: str) -> list[Scene]:
    """The scenes, of which the bands are wanted in one of the formats they are offered in.

    Raises
    ------
    UnknownNameError
        No scene is offered in it.
    """
    offered = list(dict.fromkeys(form for scene in scenes for form in formats_of(scene.item)))
    form = format_called(word)
    if scenes and form not in offered:
        raise UnknownNameError(
            f"No scene here is offered as '{word}'.", f"They come as {' and '.join(offered) or 'no known format'}."
        )
    return [replace(scene, form=form) for scene in scenes]


def with_classes(bands: Sequence[str], scenes: Sequence[Scene]) -> list[str]:
    """The bands, and the class layer that checks need, where the scenes have one."""
    has_classes = any(CLASS_BAND in scene.bands for scene in scenes)
    return [*bands, CLASS_BAND] if has_classes and bands and CLASS_BAND not in bands else list(bands)


def study_crs(brief: Brief, area: Area) -> Crs:
    """CRS of the study grid."""
    return brief.crs or area.utm


def study_grid(brief: Brief, area: Area) -> Grid:
    """The study grid: around the area, corners on multiples of the pixel size."""
    crs = study_crs(brief, area)
    pixel = brief.pixel_m / (METRES_A_DEGREE if crs.is_geographic else crs.metres_per_unit)
    flat = project(area.polygon, crs)
    return Grid.snapped(bounds_of(in_one_turn(flat) if crs.is_geographic else flat), crs, pixel)


def region_of(grid: Grid) -> Shape:
    """A grid's outline in longitude/latitude: what a study needs of every scene, in whatever CRS that lies."""
    box = grid.bounds
    return outline_of(box, grid.crs, max(math.hypot(box.width, box.height) / 8, grid.pixel_x))


def region_in(study: Study, brief: Brief, window: bool | None = None) -> Region | None:
    """The part of every scene that a study fetches; None for whole files.

    ``window`` takes the place of what the brief says.
    """
    if not (brief.window if window is None else window):
        return None
    facts = f"{brief.crs or 'auto'} {brief.pixel_m!r} ".encode()
    key = hashlib.sha256(facts + study.area_file.read_bytes()).hexdigest()[:32]
    return Region(key, lambda: region_of(study_grid(brief, study.area())))


def area_of(study: Study) -> Region | None:
    """The study area, where one was set."""
    return Region("", lambda: study.area().polygon) if study.area_file.exists() else None


def band_paths(study: Study, scene: Scene, bands: Sequence[str]) -> list[Path]:
    """Files of a scene's bands, whether they are there or not; bands it was published without are left out."""
    folder = study.scene_folder(scene.key)
    names = local_names(scene)
    files = [folder / names[scene.bands[band].href] for band in bands if band in scene.bands]
    return list(dict.fromkeys(files))
