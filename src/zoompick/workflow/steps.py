"""The steps that make products: each knows its inputs, its output, what decides its result, and its Raster."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any, Protocol

from zoompick import settings
from zoompick.catalog.scene import CLASS_BAND
from zoompick.errors import StudyError
from zoompick.events import Report, ignore
from zoompick.files import multihash_of
from zoompick.geo.shapes import Shape, geojson_of, project
from zoompick.imagery import recipes
from zoompick.imagery.clip import Clip
from zoompick.imagery.composite import Composite
from zoompick.imagery.deliveries import open_layers, scene_of
from zoompick.imagery.index import Index
from zoompick.imagery.picture import write_png
from zoompick.imagery.sidecar import Origin, read_sidecar, sidecar_of, write_sidecar
from zoompick.imagery.stack import build_stack
from zoompick.imagery.stretch import percentile_limits
from zoompick.raster.grid import Grid
from zoompick.raster.masks import PolygonMask
from zoompick.raster.opening import open_raster
from zoompick.raster.raster import Raster, band_index
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.transfer import record


class Step(Protocol):
    """One product to make."""

    @property
    def name(self) -> str:
        """The operation."""

    @property
    def inputs(self) -> tuple[Path, ...]:
        """Files it reads."""

    @property
    def output(self) -> Path:
        """File it makes."""

    def options(self) -> dict[str, Any]:
        """What decides the result beside the inputs, as JSON holds it."""

    def build(self) -> Raster:
        """The product, nothing computed yet."""


@dataclass(frozen=True)
class StackStep:
    """Bands of files on one grid."""

    inputs: tuple[Path, ...]
    output: Path
    bands: tuple[str, ...] = ()
    grid: Grid | None = None
    name: str = "stack"

    def options(self) -> dict[str, Any]:
        """Bands and grid."""
        return {"bands": list(self.bands), "grid": _grid_facts(self.grid)}

    def build(self) -> Raster:
        """See :func:`zoompick.imagery.stack.build_stack`."""
        return build_stack(open_layers(self.inputs), self.bands, self.grid, (CLASS_BAND,))


@dataclass(frozen=True)
class ClipStep:
    """A file inside a polygon."""

    inputs: tuple[Path, ...]
    output: Path
    area: Shape
    touch: bool = False
    name: str = "clip"

    def options(self) -> dict[str, Any]:
        """Area and rule for edge pixels."""
        return {"area": geojson_of(self.area), "touch": self.touch}

    def build(self) -> Raster:
        """See :class:`zoompick.imagery.clip.Clip`."""
        return Clip(open_raster(self.inputs[0]), self.area, self.touch)


@dataclass(frozen=True)
class CompositeStep:
    """A colour picture of three bands, as GeoTIFF and PNG."""

    inputs: tuple[Path, ...]
    output: Path
    recipe: recipes.CompositeRecipe
    stretch: tuple[float, float] = (2, 98)
    area: Shape | None = None
    name: str = "composite"

    def options(self) -> dict[str, Any]:
        """Bands, percentiles and the area in which they are taken."""
        area = geojson_of(self.area) if self.area is not None else None
        return {"bands": list(self.recipe.bands), "stretch": list(self.stretch), "area": area}

    def build(self) -> Raster:
        """See :class:`zoompick.imagery.composite.Composite`; the percentiles are measured here."""
        source = open_raster(self.inputs[0])
        bands = [band_index(source, band, self.inputs[0].name) for band in self.recipe.bands]
        mask = None if self.area is None else PolygonMask(project(self.area, source.grid.crs), source.grid)
        return Composite(source, bands, percentile_limits(source, bands, self.stretch, mask))


@dataclass(frozen=True)
class IndexStep:
    """An index of a file's bands."""

    inputs: tuple[Path, ...]
    output: Path
    recipe: recipes.IndexRecipe
    name: str = "index"

    def options(self) -> dict[str, Any]:
        """Name and formula."""
        return {"recipe": self.recipe.name, "formula": self.recipe.formula.text}

    def build(self) -> Raster:
        """See :class:`zoompick.imagery.index.Index`."""
        return Index(open_raster(self.inputs[0]), self.recipe.name, self.recipe.formula, self.inputs[0].name)


def _grid_facts(grid: Grid | None) -> Any:
    return None if grid is None else [str(grid.crs), grid.pixel_x, grid.west, grid.north, grid.width, grid.height]


@dataclass(frozen=True)
class Made:
    """A product on disk.

    Attributes
    ----------
    was_current : bool
        It lay there already, made in the same way of the same inputs.
    facts : mapping
        Size, grid and picture, for people and the journal.
    """

    step: str
    path: Path
    was_current: bool
    facts: Mapping[str, Any] = field(default_factory=dict)


def make(step: Step, may_replace: bool, report: Report = ignore, version: str = "") -> Made:
    """Make a product and its sidecar, unless the very same is there.

    Parameters
    ----------
    may_replace : bool
        Whether a file of that name that was made otherwise may be overwritten.

    Raises
    ------
    StudyError
        The output exists and may not be replaced.
    DataError, UsageError, DiskError
    """
    origin = Origin(step.name, step.options(), {path: digest_of(path) for path in step.inputs}, _when(step.inputs))
    if is_current(step.output, origin):
        return Made(step.name, step.output, True)
    if step.output in step.inputs:
        raise StudyError(f"{step.output} is an input too.", "Give another --out.")
    if step.output.exists() and not may_replace:
        raise StudyError(f"{step.output} exists already.", "Give another --out, or --overwrite.")
    raster = step.build()
    is_rgb = isinstance(step, CompositeStep)
    sidecar_of(step.output).unlink(missing_ok=True)
    is_class = isinstance(step, StackStep) and [band.name for band in raster.bands] == [CLASS_BAND]
    written = write_geotiff(raster, step.output, WriteOptions(is_rgb=is_rgb, is_class=is_class), report)
    pictures = []
    if is_rgb:
        picture = step.output.with_suffix(".png")
        write_png(open_raster(step.output), picture, settings.whole("picture_side_px"))
        pictures.append(picture)
    write_sidecar(raster, written, origin, pictures, version)
    grid = raster.grid
    facts = {
        "bytes": written.size,
        "bands": [band.name for band in raster.bands],
        "width": grid.width,
        "height": grid.height,
        "pixel": grid.pixel_text,
        "crs": str(grid.crs),
        "valid_percent": round(min(stats.valid_percent for stats in written.statistics), 2),
    }
    return Made(step.name, step.output, False, facts)


def is_current(output: Path, origin: Origin) -> bool:
    """True when the output and its picture are there, unchanged since they were made in the same way."""
    recorded = read_sidecar(output)
    if recorded is None or recorded.fingerprint != origin.fingerprint or not output.is_file():
        return False
    if origin.step == "composite" and not output.with_suffix(".png").is_file():
        return False
    return output.stat().st_size == recorded.size and multihash_of(output) == recorded.multihash


def digest_of(path: Path) -> str:
    """Multihash of an input: of a checked download from its record, else computed."""
    fetched = record.read(path.parent).get(path.name)
    if fetched is not None and path.is_file() and path.stat().st_size == fetched.size:
        return fetched.multihash
    open_raster(path)
    return multihash_of(path)


def _when(inputs: Sequence[Path]) -> datetime | None:
    """Acquisition of the first input, from the item or the sidecar beside it."""
    scene = scene_of(inputs[0])
    if scene is not None:
        return scene.when
    recorded = read_sidecar(inputs[0])
    return recorded.when if recorded else None
