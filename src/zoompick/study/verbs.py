"""The verbs for plain values, for Python: each takes and gives values, none needs a study, none prints.

``search`` → ``pick`` → ``download`` → ``stack`` → ``to_numpy``. Rasters are computed when they are read or written.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zoompick.area.model import Area
from zoompick.discovery.cover import CoverOptions
from zoompick.discovery.pick import pick_cover
from zoompick.errors import UsageError
from zoompick.events import Report, ignore
from zoompick.geo.shapes import bounds_of, project, turned
from zoompick.products import recipes
from zoompick.products.computed import NOWHERE, built, built_over, write_with_record
from zoompick.products.how import Making
from zoompick.products.kinds.clip import ClipRules, ClipStep
from zoompick.products.kinds.composite import CompositeRules, CompositeStep
from zoompick.products.kinds.index import IndexStep
from zoompick.products.kinds.stack import StackRules, StackStep
from zoompick.products.step import Made
from zoompick.raster.grid import Grid
from zoompick.raster.raster import Raster
from zoompick.scenes.deliveries import Layer, open_layers
from zoompick.scenes.scenelist import Entry
from zoompick.study.download import DownloadRequest
from zoompick.study.download import download as fetch


def pick(
    entries: Sequence[Entry], area: Area, one_pass: bool = True, look: bool = False, report: Report = ignore
) -> list[Entry]:
    """The cheapest scenes that cover an area together: few, and clear.

    Parameters
    ----------
    one_pass : bool
        All of one satellite, within half a day.
    look : bool
        Read the cloud over each piece of the area from the class layers first.

    Raises
    ------
    NothingFoundError
        No scene covers any of it.
    """
    wish = CoverOptions(one_platform=one_pass, within_days=0.5 if one_pass else None)
    return list(pick_cover(entries, area.polygon, wish, look, report).entries)


def download(
    entries: Sequence[Entry],
    bands: Sequence[str],
    to: str | Path,
    area: Area | None = None,
    report: Report = ignore,
) -> list[Path]:
    """Fetch bands of scenes; what is here and unchanged is not fetched again.

    Parameters
    ----------
    bands : sequence of str
        Common names; all bands when empty.
    to : path
        A folder; each scene gets one of its own in it.
    area : Area, optional
        Fetch only this part of each raster.

    Returns
    -------
    list of Path
        All the files, in the order of scenes and bands.

    Raises
    ------
    IncompleteError
        Something did not come; what came stays.
    """
    scenes = [entry.scene for entry in entries]
    request = DownloadRequest.in_folder(Path(to), scenes, bands, area is not None, area)
    with request.alone():
        fetch(request, report)
    return list(request.files())


def stack(
    files: Sequence[str | Path],
    bands: Sequence[str] = (),
    area: Area | None = None,
    pixel: float | None = None,
    **rules: object,
) -> Raster:
    """Bands of files on one grid; files of one band fill each other's gaps in the order given.

    Parameters
    ----------
    bands : sequence of str
        Common names in the wished order; all by default.
    area : Area, optional
        The grid is drawn around it; by default it is the finest file's.
    pixel : float, optional
        Pixel size in units of the files' reference system.
    **rules
        Fields of :class:`~zoompick.products.kinds.stack.StackRules`.

    Raises
    ------
    UnknownNameError
        A band that no file has.
    """
    paths = tuple(map(Path, files))
    grids = [layer.raster.grid for layer in _wanted(open_layers(paths), bands)]
    grid = grid_around(grids, area, pixel)
    return built(StackStep(paths, NOWHERE, tuple(bands), grid, StackRules.from_values(rules)))


def _wanted(layers: Sequence[Layer], bands: Sequence[str]) -> Sequence[Layer]:
    return [layer for layer in layers if layer.name in bands] or layers


def grid_around(grids: Sequence[Grid], area: Area | None, pixel: float | None) -> Grid | None:
    """A grid in the reference system of the finest of some: around an area, with a pixel size; None for neither.

    With the finest's own pixel size it keeps its lattice, so that no pixel is resampled.
    """
    if area is None and pixel is None:
        return None
    finest = min(grids, key=lambda grid: grid.pixel_x)
    flat = None if area is None else project(area.polygon, finest.crs)
    if flat is not None and finest.crs.is_geographic:
        flat = turned(flat, finest.bounds)
    bounds = finest.bounds if flat is None else bounds_of(flat)
    if pixel in (None, finest.pixel_x):
        return finest.around(bounds)
    return Grid.snapped(bounds, finest.crs, pixel)


def clip(raster: Raster, area: Area, touch: bool = False, **rules: object) -> Raster:
    """A raster inside an area, no-data outside; see :class:`zoompick.raster.clip.Clip`.

    Parameters
    ----------
    **rules
        Other fields of :class:`~zoompick.products.kinds.clip.ClipRules`.
    """
    how = ClipRules.from_values({"touch": touch, **rules})
    return built_over(raster, lambda path: ClipStep((path,), NOWHERE, area=area.polygon, rules=how))


def composite(raster: Raster, recipe: str | Sequence[str], area: Area | None = None, **rules: object) -> Raster:
    """A colour picture; where dark and bright lie is measured here.

    Parameters
    ----------
    recipe : str or three band names
    area : Area, optional
        Where it is measured.
    **rules
        Fields of :class:`~zoompick.products.kinds.composite.CompositeRules`: ``stretch`` (``2,98``, ``minmax``,
        ``sigma=2``, ``equalize``, ``local``), ``gamma`` and so on.
    """
    chosen = recipes.composite(recipe) if isinstance(recipe, str) else recipes.own_composite(tuple(recipe))
    tone = CompositeRules.from_values(rules).tone
    ground = None if area is None else area.polygon
    return built_over(raster, lambda path: CompositeStep((path,), NOWHERE, recipe=chosen, tone=tone, area=ground))


def index(raster: Raster, recipe: str = "", area: Area | None = None, formula: str = "") -> Raster:
    """An index as 32-bit floats, NaN for no-data.

    Parameters
    ----------
    recipe : str
        Its name; empty where a formula is given.
    area : Area, optional
        What it is cut to.
    formula : str
        As ``(nir - red) / (nir + red)``.
    """
    if bool(recipe) == bool(formula):
        raise UsageError("An index takes a recipe or a formula.", f"As {recipes.index_names()[0]}; give one of them.")
    chosen = recipes.own_index(formula) if formula else recipes.index(recipe)
    ground = None if area is None else area.polygon
    return built_over(raster, lambda path: IndexStep((path,), NOWHERE, recipe=chosen, area=ground))


def write(raster: Raster, path: str | Path, overwrite: bool = False, report: Report = ignore) -> Made:
    """Write a raster as a Cloud Optimized GeoTIFF with its record, as the commands do; a composite with its pictures.

    The very same raster is not written again. Of a raster that no verb here made the record tells no steps.

    Raises
    ------
    StudyError
        The file exists and is another.
    """
    return write_with_record(raster, Path(path), Making(overwrite, report, is_asked=overwrite))
