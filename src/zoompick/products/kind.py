"""What a kind of product is to a study: the steps that its brief asks for."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple, TypeVar

from zoompick.area.model import Area
from zoompick.products.asked import Asked
from zoompick.products.step import Step
from zoompick.raster.grid import Grid
from zoompick.scenes.scene import Scene

Recipe = TypeVar("Recipe")


class Wanted(NamedTuple):
    """What is wanted of a study.

    Attributes
    ----------
    root : Path
        Folder of the products: for those that belong to no day.
    recipe : sequence of object or None
        Recipes asked for in place of the brief's.
    reference : Path or None
        Folder of the day on which the others are laid.
    """

    brief: Asked
    area: Area
    grid: Grid
    root: Path
    recipe: Sequence[object] | None = None
    reference: Path | None = None

    def recipes(self, kind: type[Recipe], named: Callable[[str], Recipe], names: Sequence[str]) -> list[Recipe]:
        """The recipes asked for, else those that the brief names."""
        if self.recipe is not None:
            return [recipe for recipe in self.recipe if isinstance(recipe, kind)]
        return [named(name) for name in names]


class Day(NamedTuple):
    """Scenes of one acquisition day.

    Attributes
    ----------
    folder : Path
        Where its products go.
    inputs : tuple of Path
        Files of the bands of the brief, whether they are here or not.
    classes : tuple of Path
        Class layers of its scenes.
    is_moved : bool
        It is laid on another day.
    """

    date: str
    scenes: tuple[Scene, ...]
    folder: Path
    inputs: tuple[Path, ...]
    classes: tuple[Path, ...] = ()
    is_moved: bool = False

    def product(self, name: str) -> Path:
        """A GeoTIFF of the day by its name."""
        return self.folder / f"{name}.tif"

    @property
    def stack(self) -> Path:
        """The day's bands."""
        return self.product("stack")

    @property
    def whole(self) -> Path:
        """The day's bands where they belong: laid on another day, if the brief wants that."""
        return self.product("aligned") if self.is_moved else self.stack

    @property
    def clip(self) -> Path:
        """The day's bands inside the area: what most products are made of."""
        return self.product("clip")


def _none(wanted: Wanted, days: Sequence[Day]) -> Iterable[Step]:
    return ()


def no_day(wanted: Wanted, day: Day) -> Iterable[Step]:
    """No step for a day alone: of kinds that look at all days together."""
    return ()


def _no_needs(wanted: Wanted) -> Mapping[str, tuple[str, ...]]:
    return {}


class Kind(NamedTuple):
    """A kind of product.

    Attributes
    ----------
    of_day : callable
        Steps for one day.
    of_study : callable
        Steps that look at several days together.
    needs : callable
        Recipe to the bands that it needs.
    is_first : bool
        Made for all days before the others are: one day may be laid on another.
    """

    name: str
    of_day: Callable[[Wanted, Day], Iterable[Step]]
    of_study: Callable[[Wanted, Sequence[Day]], Iterable[Step]] = _none
    needs: Callable[[Wanted], Mapping[str, tuple[str, ...]]] = _no_needs
    is_first: bool = False
