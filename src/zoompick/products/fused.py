"""Products without the files between: a step whose inputs are computed while it is made, and never written."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zoompick.jsontypes import JsonObject
from zoompick.products.sources import Sources
from zoompick.products.step import DrawnStep, RasterStep, Step
from zoompick.scenes.traits import Traits

if TYPE_CHECKING:
    from zoompick.raster.raster import Raster
    from zoompick.raster.write import WriteOptions


@dataclass(frozen=True)
class Wrapped(RasterStep):
    """A step that makes the product of another in its own way, which belongs to it as it would to that.

    Attributes
    ----------
    step : RasterStep
        What is written.
    """

    step: RasterStep = field(kw_only=True)

    @property
    def name(self) -> str:  # type: ignore[override]
        """The operation that is written."""
        return self.step.name

    @property
    def traits(self) -> Traits:  # type: ignore[override]
        """Those of what is written."""
        return self.step.traits

    @property
    def words(self) -> str:
        """Those of what is written."""
        return self.step.words

    @property
    def checks(self) -> tuple[str, ...]:  # type: ignore[override]
        """Those of what is written."""
        return self.step.checks

    @property
    def also(self) -> tuple[Path, ...]:
        """Those of what is written."""
        return self.step.also

    def write_options(self, raster: Raster) -> WriteOptions:
        """Those of what is written."""
        return self.step.write_options(raster)

    @property
    def companions(self) -> tuple[Path, ...]:
        """Those of the step that is written."""
        return self.step.companions

    def accompany(self) -> tuple[Path, ...]:
        """As the step that is written does."""
        return self.step.accompany()


@dataclass(frozen=True)
class FusedStep(Wrapped):
    """A step together with those that make what it reads; its inputs are the files at the bottom.

    Attributes
    ----------
    made_of : tuple of RasterStep
        What is not written, in the order in which they are needed.
    """

    made_of: tuple[RasterStep, ...] = field(kw_only=True)

    @classmethod
    def of(cls, step: RasterStep, unwritten: Mapping[Path, RasterStep]) -> FusedStep:
        """A step some inputs of which are not written."""
        chain: dict[Path, RasterStep] = {}
        files: dict[Path, None] = {}
        _gather(step, unwritten, chain, files)
        return cls(tuple(files), step.output, step=step, made_of=tuple(chain.values()))

    @property
    def shown(self) -> tuple[Path, ...]:
        """Files at the bottom of which pixels come in."""
        made = {one.output: one for one in self.made_of}

        def below(step: Step) -> Iterator[Path]:
            for path in step.shown:
                yield from below(made[path]) if path in made else (path,)

        return tuple(dict.fromkeys(below(self.step)))

    def options(self) -> JsonObject:
        """Options of all the steps."""
        return self.step.options() | {"of": [{"step": one.name, "options": one.options()} for one in self.made_of]}

    def build(self, sources: Sources) -> Raster:
        """The last step's raster, over those of the steps before."""
        return self.step.build(_Within(sources, {one.output: one for one in self.made_of}))

    def underlying(self, sources: Sources) -> Raster:
        """What the step that is written reads first."""
        return _Within(sources, {one.output: one for one in self.made_of}).open(self.step.inputs[0])


def _gather(
    step: Step, unwritten: Mapping[Path, RasterStep], chain: dict[Path, RasterStep], files: dict[Path, None]
) -> None:
    for path in step.inputs:
        inner = unwritten.get(path)
        if inner is None:
            files[path] = None
        elif path not in chain:
            _gather(inner, unwritten, chain, files)
            chain[path] = inner


class _Within(Sources):
    """Sources among which some are computed; what several steps of a pass need is built once for all of them."""

    def __init__(self, outer: Sources, made_of: Mapping[Path, RasterStep]) -> None:
        super().__init__(outer.is_shared)
        self._outer, self._made_of = outer, made_of

    def once(self, key: Any, make: Any) -> Any:
        """See :meth:`zoompick.products.sources.Sources.once`."""
        return self._outer.once(key, make)

    def open(self, path: Path) -> Raster:
        """The raster in a file, or of the step that would write it."""
        step = self._made_of.get(path)
        if step is None:
            return self._outer.open(path)
        raster: Raster = self._outer.once(("unwritten", path), lambda: self._computed(step))
        return raster

    def _computed(self, step: RasterStep) -> Raster:
        from zoompick.raster.shared import Shared

        raster = step.build(self)
        return Shared(raster) if self.is_shared else raster


def fused(steps: Sequence[Step], names: Sequence[str]) -> tuple[tuple[Step, ...], tuple[FusedStep, ...]]:
    """Steps without those of some names, into which what they make is computed; and those that are left out.

    What a picture is drawn of stays a file.
    """
    drawn = {path for step in steps if isinstance(step, DrawnStep) for path in step.inputs}
    unwritten = {
        step.output: step
        for step in steps
        if isinstance(step, RasterStep) and step.output.stem in names and step.output not in drawn
    }
    kept: list[Step] = []
    for step in steps:
        if step.output in unwritten:
            continue
        is_over = isinstance(step, RasterStep) and any(path in unwritten for path in step.inputs)
        kept.append(FusedStep.of(step, unwritten) if is_over and isinstance(step, RasterStep) else step)
    return tuple(kept), tuple(FusedStep.of(step, unwritten) for step in unwritten.values())
