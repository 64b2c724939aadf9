"""The verbs for plain values, for Python: each takes and gives values, none needs a study, none prints.

``search`` → ``pick`` → ``download`` → ``stack`` → ``to_numpy``. Rasters are computed when they are read or written.
"""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import Executor
from pathlib import Path

from zoompick.area.model import Area
from zoompick.discovery.cover import CoverWish
from zoompick.discovery.pick import pick_cover
from zoompick.events import Report, ignore
from zoompick.files import refuse_existing
from zoompick.geo.shapes import bounds_of, project, turned
from zoompick.products import recipes
from zoompick.products.composite import Composite
from zoompick.products.index import Index
from zoompick.products.stack import build_stack
from zoompick.products.tone import Tone
from zoompick.raster.clip import Clip
from zoompick.raster.grid import Grid
from zoompick.raster.masks import PolygonMask
from zoompick.raster.raster import Raster, band_index
from zoompick.raster.turn import met
from zoompick.raster.write import WriteOptions, Written, write_geotiff
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
    wish = CoverWish(one_platform=one_pass, within_days=0.5 if one_pass else None)
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
    files: Sequence[str | Path], bands: Sequence[str] = (), area: Area | None = None, pixel: float | None = None
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

    Raises
    ------
    UnknownNameError
        A band that no file has.
    """
    layers = open_layers([Path(file) for file in files])
    grid = grid_around([layer.raster.grid for layer in _wanted(layers, bands)], area, pixel)
    return build_stack(layers, bands, grid)


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


def clip(raster: Raster, area: Area, touch: bool = False) -> Raster:
    """A raster inside an area, no-data outside; see :class:`zoompick.raster.clip.Clip`."""
    return Clip(raster, area.polygon, touch)


def composite(raster: Raster, recipe: str | Sequence[str], area: Area | None = None, stretch: str = "") -> Raster:
    """A colour picture; where dark and bright lie is measured here.

    Parameters
    ----------
    recipe : str or three band names
    area : Area, optional
        Where it is measured.
    stretch : str, optional
        As ``2,98``, ``minmax``, ``sigma=2``, ``equalize`` or ``local``.
    """
    chosen = recipes.composite(recipe) if isinstance(recipe, str) else recipes.own_composite(tuple(recipe))
    bands = [band_index(raster, band, "The raster") for band in chosen.bands]
    mask = None
    if area is not None:
        raster, flat = met(raster, area.polygon)
        mask = PolygonMask(flat, raster.grid)
    tone = Tone.parse(stretch) if stretch else Tone()
    return Composite.measured(raster, bands, tone, mask)


def index(raster: Raster, recipe: str) -> Raster:
    """An index as 32-bit floats, NaN for no-data."""
    chosen = recipes.index(recipe)
    return Index(raster, chosen.name, chosen.formula, "The raster")


def write(
    raster: Raster,
    path: str | Path,
    overwrite: bool = False,
    report: Report = ignore,
    executor: Executor | None = None,
) -> Written:
    """Write a raster as a Cloud Optimized GeoTIFF; three 8-bit bands as a colour picture.

    Raises
    ------
    UsageError
        The file exists.
    """
    target = Path(path)
    refuse_existing([target], overwrite)
    is_rgb = len(raster.bands) == 3 and raster.dtype.name == "uint8"
    return write_geotiff(raster, target, WriteOptions(is_rgb=is_rgb), report, executor)
