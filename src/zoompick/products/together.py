"""Verbs for Python that take many files: mosaic, blend, mask, align; and those that draw: picture, compare.

What is a raster is computed when it is read or written; see :mod:`zoompick.study.verbs`.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zoompick.area.model import Area
from zoompick.errors import UsageError
from zoompick.figures.face import Paper
from zoompick.files import refuse_existing
from zoompick.products.compare import Compared, compared
from zoompick.products.computed import NOWHERE, built, of_step, step_of
from zoompick.products.drawing import Look, Wording, draw
from zoompick.products.grids import common_grid
from zoompick.products.kinds.align import AlignRules, AlignStep
from zoompick.products.kinds.blend import BlendRules, BlendStep
from zoompick.products.kinds.mask import MaskRules, MaskStep
from zoompick.products.kinds.mosaic import MosaicStep, SceneLayerStep, rules_for
from zoompick.products.kinds.picture import PictureRules
from zoompick.products.mosaic import Mosaic, SceneLayer
from zoompick.products.sidebyside import Comparison
from zoompick.raster.grid import Grid
from zoompick.raster.raster import Raster
from zoompick.scenes.deliveries import open_layers
from zoompick.scenes.opening import open_raster

Files = Sequence[str | Path]


def mosaic(
    files: Files,
    bands: Sequence[str] = (),
    area: Area | None = None,
    grid: Grid | None = None,
    **rules: object,
) -> Raster:
    """Scenes over each other on one grid, each pixel from one scene.

    Parameters
    ----------
    files : sequence of str or Path
        Bands of scenes, their class layers with them.
    bands : sequence of str
        Common names in the wished order; all by default.
    area : Area, optional
        The grid is drawn around it; by default around all files.
    grid : Grid, optional
        In place of one that is drawn.
    **rules
        Fields of :class:`~zoompick.products.kinds.mosaic.MosaicRules`: order, what hides the ground, seams and so on.

    Raises
    ------
    UnknownNameError, UsageError, GridError
    """
    how = rules_for(rules, _paths(files))
    place = grid or grid_for(files, bands, area)
    return built(MosaicStep(_paths(files), NOWHERE, tuple(bands), grid=place, rules=how))


def scene_layer(joined: Raster) -> Raster:
    """For each pixel of a mosaic the number of the scene that it is from, counted from 1; 0 for none.

    Raises
    ------
    UsageError
        The raster is no mosaic that was computed here.
    """
    step = step_of(joined)
    if not isinstance(step, MosaicStep) or not isinstance(joined, Mosaic):
        raise UsageError("Only a mosaic tells which scene a pixel is from.", "Give what `mosaic` returned.")
    layer = SceneLayerStep(step.inputs, NOWHERE, step.bands, grid=step.grid, rules=step.rules)
    return of_step(layer, SceneLayer(joined))


def blend(
    files: Files,
    bands: Sequence[str] = (),
    area: Area | None = None,
    grid: Grid | None = None,
    **rules: object,
) -> Raster:
    """Many dates as one, of what showed the ground; arguments as those of :func:`mosaic`.

    ``by="percentile=90"`` takes the 90th percentile, ``by="highest=ndvi"`` the greenest date; the others are fields
    of :class:`~zoompick.products.kinds.blend.BlendRules`.
    """
    how = BlendRules.from_values(rules)
    place = grid or grid_for(files, bands, area)
    return built(BlendStep(_paths(files), NOWHERE, tuple(bands), grid=place, rules=how))


def mask(files: Files, where: str, bands: Sequence[str] = (), area: Area | None = None, **rules: object) -> Raster:
    """What a rule over bands and classes of one scene names: 1 where it holds, 0 where not, 255 where nothing is.

    Parameters
    ----------
    where : str
        As ``cloud or shadow``, ``nir < 0.1``, ``outside``.
    area : Area, optional
        What ``outside`` means.
    **rules
        Other fields of :class:`~zoompick.products.kinds.mask.MaskRules`: ``apply``, ``grow_m``, ``shrink_m``.

    Raises
    ------
    UsageError
        The rule is none, or the files are of several scenes.
    """
    how = MaskRules.from_values({"where": where, **rules})
    return built(MaskStep(
        _paths(files), NOWHERE, rules=how, grid=grid_for(files, bands), bands=tuple(bands),
        outside=area.polygon if area else None,
    ))  # fmt: skip


def align(file: str | Path, to: str | Path, **rules: object) -> Raster:
    """A raster moved onto a reference by the shift that is measured between them.

    Parameters
    ----------
    **rules
        Fields of :class:`~zoompick.products.kinds.align.AlignRules`: ``band``, ``limit_px``, ``each_band``.

    Raises
    ------
    UsageError
        Parts of the image do not agree on a shift.
    """
    return built(AlignStep((Path(file), Path(to)), NOWHERE, AlignRules.from_values(rules)))


def picture(
    file: str | Path,
    to: str | Path,
    recipe: str = "",
    area: Area | None = None,
    overwrite: bool = False,
    **rules: object,
) -> Path:
    """Draw a raster for people: title, legend, scale bar, north arrow, graticule, dates and sources.

    Parameters
    ----------
    to : path
        Ends in .png, .jpg, .pdf or .svg.
    recipe : str
        Composite of a file with many bands; ``natural`` by default.
    area : Area, optional
        Drawn as an outline.
    **rules
        Fields of :class:`~zoompick.products.kinds.picture.PictureRules`: title, caption, colours, range and
        so on.

    Raises
    ------
    UsageError
        The file exists, or the picture would be too large.
    """
    target, how = Path(to), PictureRules.from_values(rules)
    refuse_existing([target], overwrite)
    words = Wording(how.title, how.caption, area.polygon if area else None)
    draw(Path(file), target, words, Look(how.colours, how.range, recipe), _paper(how))
    return target


def compare(
    before: str | Path,
    after: str | Path,
    to: str | Path,
    index: str = "",
    above: float | None = None,
    change_min: float | None = None,
    area: Area | None = None,
    overwrite: bool = False,
    **rules: object,
) -> Compared:
    """Two dates side by side with the same shades; with a rule how much ground changed, and layers of it as files.

    Parameters
    ----------
    index : str
        Recipe, of files with bands.
    above, change_min : float, optional
        Change is to rise above this or fall below it; to rise or fall by as much.
    area : Area, optional
        Drawn as an outline; ground is counted inside.
    **rules
        As those of :func:`picture`, and ``recipe``.

    Raises
    ------
    UsageError, GridError
        They show different things, or do not lie on each other.
    """
    target, recipe = Path(to), str(rules.pop("recipe", ""))
    how = PictureRules.from_values(rules)
    refuse_existing([target], overwrite)
    shown = recipe, how.colours, how.range, area, how.title, how.caption
    wish = Comparison(Path(before), Path(after), index, above, change_min, *shown)
    return compared(wish, target, None, _paper(how), overwrite)


def _paper(how: PictureRules) -> Paper:
    return Paper.of(round(how.width_px), None, round(how.dpi))


def grid_for(
    files: Files, bands: Sequence[str] = (), area: Area | None = None, crs: str = "", pixel: float | None = None
) -> Grid:
    """The grid that files are laid on: around an area, or around all of those that have the bands."""
    layers = open_layers(_paths(files))
    chosen = [layer for layer in layers if layer.name in bands] or [one for one in layers if not one.is_class]
    return common_grid([layer.raster.grid for layer in chosen or layers], area, pixel, crs or None)


def grid_of(file: str | Path) -> Grid:
    """The grid of a raster, for others to be laid on."""
    return open_raster(Path(file)).grid


def _paths(files: Files) -> tuple[Path, ...]:
    return tuple(map(Path, files))
