"""Products for Python: computed when they are read or written, each with the step that tells where it is from."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import ClassVar

from zoompick.jsontypes import JsonObject
from zoompick.products.fused import FusedStep, Wrapped
from zoompick.products.how import Making
from zoompick.products.maker import make
from zoompick.products.sources import Sources
from zoompick.products.step import Made, RasterStep
from zoompick.raster.opened import Opened
from zoompick.raster.raster import Raster
from zoompick.raster.write import WriteOptions

NOWHERE = Path("the raster")
"""What stands for the file of a product that is none."""


def built(step: RasterStep) -> Raster:
    """The product of a step on files, no pixel of it computed yet."""
    return of_step(step, step.build(Sources()))


def built_over(raster: Raster, step_on: Callable[[Path], RasterStep]) -> Raster:
    """The product of a step on another raster.

    Parameters
    ----------
    step_on : callable
        The step on a file of that path, which stands for the raster.
    """
    inner = step_of(raster)
    if inner is None and not isinstance(raster, Opened):
        # Of a raster that somebody else computed nobody knows where it is from.
        return step_on(NOWHERE).build(Sources.of({NOWHERE: raster}))
    below = list(inner.made_of) if isinstance(inner, FusedStep) else []
    path = Path(str(raster.source.address)) if isinstance(raster, Opened) else Path(f"{NOWHERE} {len(below) + 1}")
    step = step_on(path)
    made = step.build(Sources.of({path: raster}))
    if inner is None:
        return of_step(step, made)
    last = replace(inner.step if isinstance(inner, FusedStep) else inner, output=path)
    unwritten = {one.output: one for one in (*below, last)}
    return of_step(FusedStep.of(step, unwritten), made)


def step_of(raster: Raster) -> RasterStep | None:
    """The step that a raster is of; None for one in a file, or of others."""
    found: RasterStep | None = getattr(raster, "made_by", None)
    return found


def of_step(step: RasterStep, raster: Raster) -> Raster:
    """The raster, which knows now what step it is of."""
    raster.made_by = step  # type: ignore[attr-defined]
    return raster


@dataclass(frozen=True)
class _Untold(RasterStep):
    """A raster of which nobody knows how it was made."""

    name: ClassVar[str] = "computed"

    raster: Raster = field(kw_only=True)

    def options(self) -> JsonObject:
        """None that are known."""
        return {}

    def write_options(self, raster: Raster) -> WriteOptions:
        """Three bands of 8 bits are a colour picture."""
        return WriteOptions(is_rgb=len(raster.bands) == 3 and raster.dtype.name == "uint8")

    def build(self, sources: Sources) -> Raster:
        """The raster as it was given."""
        return self.raster


@dataclass(frozen=True)
class _Built(Wrapped):
    """A step whose product is there to be written."""

    raster: Raster

    def options(self) -> JsonObject:
        """Those of the step."""
        return self.step.options()

    @property
    def shown(self) -> tuple[Path, ...]:
        """Those of the step."""
        return self.step.shown

    def build(self, sources: Sources) -> Raster:
        """The raster as it was given."""
        return self.raster


def write_with_record(raster: Raster, target: Path, how: Making) -> Made:
    """Write a raster and its record: what it was made of and how, where the verbs here made it.

    The same raster is not written a second time: one that was made in another way is replaced only if that is wanted.

    Raises
    ------
    StudyError, UsageError
        The file exists and is another.
    DataError, DiskError
    """
    step = step_of(raster)
    if step is None:
        inputs = (Path(str(raster.source.address)),) if isinstance(raster, Opened) else ()
        step = _Untold(inputs, target, raster=raster)
    if isinstance(step, FusedStep):
        step = replace(step, step=replace(step.step, output=target))
    step = replace(step, output=target)
    return make(_Built(step.inputs, target, step=step, raster=raster), how)
