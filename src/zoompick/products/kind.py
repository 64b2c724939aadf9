"""What a kind of product is to a study: the steps that its brief asks for."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

from zoompick.area.model import Area
from zoompick.products.asked import Asked
from zoompick.products.rules import Rules, Section
from zoompick.products.step import Step
from zoompick.raster.grid import Grid
from zoompick.scenes.scene import Scene

Recipe = TypeVar("Recipe")
ALIGNED = "aligned"
"""The product of a day that is laid on another."""


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
    kinds : sequence of Kind
        All that there are.
    """

    brief: Asked
    area: Area
    grid: Grid
    root: Path
    recipe: Sequence[object] | None = None
    reference: Path | None = None
    kinds: Sequence[Kind] = ()

    def made(self, kind: Kind) -> list[str]:
        """Names of the rasters of a kind, without spans of time."""
        several = self.brief.all(kind.rules) if kind.is_several else [Section(kind.name, self.brief.one(kind.rules))]
        return [name for section in several for name in kind.makes(section)]

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

    def has(self, name: str) -> bool:
        """False for what is made of the other days alone: this one is not moved."""
        return name != ALIGNED or self.is_moved

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
        return self.product(ALIGNED) if self.is_moved else self.stack

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


def _named(section: Section[Any]) -> tuple[str, ...]:
    return (section.name,)


def _whole(section: Section[Any], days: Sequence[Day]) -> list[str]:
    return [""]


class Kind(NamedTuple):
    """A kind of product.

    Attributes
    ----------
    rules : type of Rules
        How it is made: its options, and the section of a brief.
    steps : tuple of type of Step
        All that it makes.
    of_day : callable
        Steps for one day.
    of_study : callable
        Steps that look at several days together.
    needs : callable
        Recipe to the bands that it needs.
    is_first : bool
        Made for all days before the others are: one day may be laid on another.
    own_name : str
        Of its product, where that is not the kind's.
    is_several : bool
        A brief may ask for it as often as wanted; else every study has one section of it.
    makes : callable
        Names of the rasters that a section makes, without spans of time.
    spans : callable
        Names of the spans of time that it is made for; one without a name for all days.
    keeps_bands : callable
        Whether what a section makes holds the bands of the day again: others can be made of it.
    """

    rules: type[Rules]
    steps: tuple[type[Step], ...]
    of_day: Callable[[Wanted, Day], Iterable[Step]]
    of_study: Callable[[Wanted, Sequence[Day]], Iterable[Step]] = _none
    needs: Callable[[Wanted], Mapping[str, tuple[str, ...]]] = _no_needs
    is_first: bool = False
    own_name: str = ""
    is_several: bool = False
    makes: Callable[[Section[Any]], Sequence[str]] = _named
    spans: Callable[[Section[Any], Sequence[Day]], list[str]] = _whole
    keeps_bands: Callable[[Section[Any]], bool] = lambda section: False

    @property
    def name(self) -> str:
        """Of its section and its command."""
        return self.rules.section

    @property
    def is_between(self) -> bool:
        """Others are made of it: written only where the brief wants that."""
        return all(step.traits.is_between for step in self.steps)

    @property
    def is_daily(self) -> bool:
        """Made of each day."""
        return self.of_day is not no_day
