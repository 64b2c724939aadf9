"""What is judged, what it should be, and what a check is."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import NamedTuple

from zoompick.geo.shapes import Shape, bounds_of
from zoompick.jsontypes import JsonMap
from zoompick.judge.gauges import gauges_for
from zoompick.judge.held import Held, held_by
from zoompick.judge.limits import Limits
from zoompick.judge.sweep import Sweep, sweep
from zoompick.raster.grid import Grid
from zoompick.raster.masks import PolygonMask
from zoompick.raster.raster import Raster
from zoompick.raster.turn import in_same_turn
from zoompick.scenes.finding import Finding
from zoompick.scenes.traits import UNTOLD, Traits
from zoompick.sensors.classes import ClassTable


@dataclass(frozen=True)
class SceneFacts:
    """A scene in a product, as the catalogue tells it; None and empty for what it does not tell.

    Attributes
    ----------
    footprint : polygon or None
        Longitude/latitude.
    """

    id: str
    when: datetime | None = None
    sun_elevation_deg: float | None = None
    off_nadir_deg: float | None = None
    cloud_percent: float | None = None
    footprint: Shape | None = None


@dataclass(frozen=True)
class Layer:
    """A file that a product was stacked of: one band, with the scale and offset that its item tells."""

    path: Path
    band: str
    scale: float
    offset: float
    open: Callable[[Path], Raster]

    def opened(self) -> Raster | None:
        """The file as a raster; None where it is not here."""
        return self.open(self.path) if self.path.is_file() else None


class SceneFile(NamedTuple):
    """A band, or a class layer, of a scene that a product was made of."""

    scene: str
    band: str
    is_class: bool
    path: Path
    raster: Raster


@dataclass(frozen=True)
class Subject:
    """A raster, and what is known of it; what is empty or None is not judged.

    Attributes
    ----------
    traits : Traits
        What is so of all that the step makes which made it.
    options : mapping
        Of that step, as its record tells them; ``told`` what was found while it was made.
    inputs : mapping
        Files that it is made of and their multihashes, as recorded.
    grid, bands, area
        What it should lie on, hold, and cover (longitude/latitude).
    classes : ClassTable or None
        Of a class layer.
    layers : sequence of Layer
        Files of bands that it was stacked of.
    parts : callable or None
        All bands of the scenes in a mosaic or a blend; None for other products.
    tables : mapping
        Class layers among its inputs and their codes.
    scene_layer : Raster or None
        Which scene each pixel is of, counted from 1.
    earlier : pair of str and Raster, or None
        A product of the same kind of another date.
    reference : pair of str and Raster, or None
        What the user trusts.
    open : callable
        A raster by its path.
    names : tuple of str
        Checks that a study asks for; all that apply when empty.
    is_moved : bool
        Another product is this one laid where it belongs: here shifts are no fault.
    underlying : Raster or None
        What it was made of, where that is computed and was never written.
    is_thorough : bool
        It is made again as a whole, not on a sample.
    """

    label: str
    raster: Raster
    path: Path | None = None
    traits: Traits = UNTOLD
    options: JsonMap = field(default_factory=dict)
    told: JsonMap = field(default_factory=dict)
    inputs: Mapping[Path, str] = field(default_factory=dict)
    scenes: Sequence[SceneFacts] = ()
    grid: Grid | None = None
    bands: Sequence[str] = ()
    area: Shape | None = None
    classes: ClassTable | None = None
    layers: Sequence[Layer] = ()
    parts: Callable[[], Sequence[SceneFile]] | None = None
    tables: Mapping[Path, ClassTable] = field(default_factory=dict)
    scene_layer: Raster | None = None
    earlier: tuple[str, Raster] | None = None
    reference: tuple[str, Raster] | None = None
    limits: Limits = field(default_factory=Limits)
    open: Callable[[Path], Raster] | None = None
    names: Sequence[str] = ()
    is_moved: bool = False
    underlying: Raster | None = None
    is_thorough: bool = False

    @cached_property
    def flat_area(self) -> tuple[Raster, Shape] | None:
        """The raster and its area in one turn of the globe and one system."""
        return None if self.area is None else in_same_turn(self.raster, self.area)

    @cached_property
    def mask(self) -> PolygonMask | None:
        """The area on the raster's grid; None for none, and for one across the edge of the raster's turn."""
        if self.flat_area is None or self.flat_area[0] is not self.raster:
            return None
        return PolygonMask(self.flat_area[1], self.raster.grid)

    @cached_property
    def sweep(self) -> Sweep:
        """The one pass over all blocks; made when the first check asks for it."""
        return sweep(self.raster, gauges_for(self.raster, self.mask))

    @property
    def read(self) -> Sequence[Path]:
        """Files that its own step read; none where that read what was computed on the way and never written."""
        return () if self.options.get("of") else tuple(self.inputs)

    @property
    def around_area(self) -> Grid:
        """The raster's lattice about the whole area."""
        assert self.flat_area is not None
        return self.raster.grid.around(bounds_of(self.flat_area[1]))

    @cached_property
    def held(self) -> tuple[Held, ...]:
        """What each band holds; nothing but measures in indices, differences, counts and the like."""
        if self.traits.holds != "reflectance":
            return tuple("codes" if band.is_class else "measure" for band in self.raster.bands)
        sample = self.sweep.totals["sample"]
        return tuple(held_by(band, self.raster.dtype, sample.values_of(place))
                     for place, band in enumerate(self.raster.bands))  # fmt: skip

    def places(self, *held: Held) -> tuple[int, ...]:
        """Places of the bands of a step on scenes that hold one of some things; none in products of other kinds."""
        if self.traits.holds != "reflectance":
            return ()
        return tuple(place for place, one in enumerate(self.held) if one in held)

    @property
    def reflecting(self) -> tuple[int, ...]:
        """Places of the bands that hold what ground reflects."""
        return self.places("reflectance")

    @property
    def seen(self) -> tuple[int, ...]:
        """Places of the bands that vary as the ground does, whatever their scale: all but codes and counts."""
        if self.traits.holds in _COMPUTED:
            return tuple(place for place, one in enumerate(self.held) if one != "codes")
        return self.places("reflectance", "unscaled", "measure", "unknown")

    @property
    def is_made_here(self) -> bool:
        """True where a record tells the step that made it."""
        return self.traits != UNTOLD

    @property
    def holds_ground(self) -> bool:
        """True when every pixel of the area should be there: nothing was taken out on purpose."""
        return self.traits.is_whole


_COMPUTED = ("index", "difference", "picture")


@dataclass(frozen=True)
class Check:
    """A check.

    Attributes
    ----------
    name : str
        As people ask for it: ``alignment``.
    group : str
        ``files``, ``place``, ``bands``, …
    title : str
        What a finding calls it.
    needs, measures : str
        A sentence each.
    source : str
        Paper or standard; empty for plain counts.
    limit : str
        Name of its limit in :class:`Limits`; empty for none.
    applies : callable
        Whether there is something to judge.
    judge : callable
        Its findings.
    in_study : bool
        Made of every product of a study; else only of those whose step asks for it.
    """

    name: str
    group: str
    title: str
    needs: str
    measures: str
    applies: Callable[[Subject], bool]
    judge: Callable[[Subject], Sequence[Finding]]
    source: str = ""
    limit: str = ""
    in_study: bool = True
