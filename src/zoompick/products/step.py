"""A step makes one product and owns what belongs to it: inputs, outputs, how it is written, its checks.

It is a declaration: what computes its pixels is loaded when it is built. :mod:`zoompick.products.maker` knows no
product by name, it asks the step.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.products.methods import KEY, methods_of
from zoompick.scenes.items import band_files, scene_of
from zoompick.scenes.sidecar import Origin, read_sidecar, scenes_of
from zoompick.scenes.traits import Traits

if TYPE_CHECKING:
    from zoompick.products.sources import Sources
    from zoompick.raster.grid import Grid
    from zoompick.raster.raster import Raster
    from zoompick.raster.write import WriteOptions


@dataclass(frozen=True)
class Step(ABC):
    """One product to make.

    Attributes
    ----------
    name : str
        The operation.
    traits : Traits
        What is so of all that it makes.
    checks : tuple of str
        What the product of a study is judged for beside being whole: names in :mod:`zoompick.judge.registry`.
    inputs : tuple of Path
        Files it reads; the first one's acquisition is the product's.
    output : Path
        The file it makes.
    """

    name: ClassVar[str]
    traits: ClassVar[Traits] = Traits()
    checks: ClassVar[tuple[str, ...]] = ("grid",)

    inputs: tuple[Path, ...]
    output: Path

    @abstractmethod
    def options(self) -> JsonObject:
        """What decides the result beside the inputs, as JSON holds it."""

    @property
    def shown(self) -> tuple[Path, ...]:
        """Inputs of which pixels come in."""
        return self.inputs

    @property
    def also(self) -> tuple[Path, ...]:
        """Files that count beside the inputs, where they are here."""
        return ()

    @property
    def words(self) -> str:
        """What its product shows, and what colours or values mean; empty where its name tells enough."""
        return ""

    @property
    def companions(self) -> tuple[Path, ...]:
        """Files that are made of the product and belong to it: pictures."""
        return ()

    def accompany(self) -> tuple[Path, ...]:
        """Make the companions of the product, which is there, and tell them."""
        return self.companions

    def origin(self, digest: Callable[[Path], str]) -> Origin:
        """Where it is from: equal origins mean equal products.

        Parameters
        ----------
        digest : callable
            Multihash of an input.
        """
        inputs = {path: digest(path) for path in self.inputs}
        inputs |= {path: digest(path) for path in self.also if path.is_file()}
        options = self.options()
        methods = methods_of(options, (*self.inputs, *self.also))
        options |= {KEY: methods} if methods else {}
        return Origin(self.name, options, inputs, self._when(), self.scenes())

    def scenes(self) -> list[dict[str, str]]:
        """All scenes in it."""
        return scenes_in(self.shown)

    def _when(self) -> datetime | None:
        """Acquisition of the first input, from the item or the sidecar beside it; None where nothing tells."""
        if not self.inputs:
            return None

        scene = scene_of(self.inputs[0])
        if scene is not None:
            return scene.when
        recorded = read_sidecar(self.inputs[0])
        return recorded.when if recorded else None


@dataclass(frozen=True)
class RasterStep(Step):
    """A product that is a GeoTIFF."""

    @abstractmethod
    def build(self, sources: Sources) -> Raster:
        """The product, no pixel of it computed yet; what has to be measured before is measured here."""

    def write_options(self, raster: Raster) -> WriteOptions:
        """How it is written."""
        from zoompick.raster.write import WriteOptions

        return WriteOptions()


@dataclass(frozen=True)
class DrawnStep(Step):
    """A picture for people, drawn of products."""

    @abstractmethod
    def draw(self, target: Path) -> tuple[int, int]:
        """Draw it into a file; its width and height in pixels."""


def scenes_in(paths: Sequence[Path]) -> list[dict[str, str]]:
    """Scenes that files are of, from the items or the sidecars beside them, each once."""
    found: dict[tuple[str, ...], dict[str, str]] = {}
    for path in paths:
        scene = scene_of(path)
        rows = scenes_of(path) if scene is None else [
            {"id": scene.id, "collection": scene.collection, "datetime": _text(scene.when)}
        ]  # fmt: skip
        for row in rows:
            found.setdefault((row.get("collection", ""), row.get("id", "")), row)
    return list(found.values())


def grid_facts(grid: Grid) -> list[Any]:
    """A grid as a step's options hold it."""
    return [grid.crs.code, grid.pixel_x, grid.west, grid.north, grid.width, grid.height]


def units_told(paths: Sequence[Path], bands: Sequence[str] = ()) -> dict[str, list[float | None]]:
    """Scale, offset and no-data value that the items beside files tell of their bands, or of those that are named."""
    told = {one.name: [one.scale, one.offset, one.nodata] for path in paths for one in band_files(path)}
    return {name: unit for name, unit in told.items() if not bands or name in bands}


def _text(moment: datetime) -> str:
    """RFC 3339, as STAC writes moments."""
    return moment.isoformat(timespec="microseconds" if moment.microsecond else "seconds").replace("+00:00", "Z")


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
    facts: JsonMap = field(default_factory=dict)
