"""Makes the products of steps, each with its record, several of the same files in one pass over them."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import replace

from zoompick.errors import StudyError
from zoompick.files import refuse_existing, unnamed
from zoompick.products.current import digest_of, is_current
from zoompick.products.how import Making
from zoompick.products.states import States, refuse_changed, states_of
from zoompick.products.step import DrawnStep, Made, RasterStep, Step
from zoompick.scenes.sidecar import Origin, sidecar_of, write_drawn_sidecar


def make(step: Step, how: Making | None = None) -> Made:
    """Make a product and its sidecar, unless the very same is there.

    Raises
    ------
    StudyError
        The output exists and may not be replaced.
    DataError, UsageError, DiskError
    """
    return make_together([step], how)[0]


def make_together(steps: Sequence[Step], how: Making | None = None) -> list[Made]:
    """Make products that are made of the same files, in one pass over them; those that are there stay.

    Raises
    ------
    StudyError
        An output exists and may not be replaced.
    DataError, UsageError, DiskError
    """
    how = how or Making()
    before = states_of(path for step in steps for path in step.inputs)
    origins = [step.origin(lambda path: digest_of(path, how.digest)) for step in steps]
    if how.compression:
        more = {"compression": how.compression}
        origins = [replace(origin, options={**origin.options, **more}) for origin in origins]
    made = {
        place: Made(step.name, step.output, True)
        for place, (step, origin) in enumerate(zip(steps, origins, strict=True))
        if is_current(step, origin, how.digest, how.codec_of(step))
    }
    wanted = [place for place in range(len(steps)) if place not in made]
    inputs = {path.resolve() for step in steps for path in step.inputs}
    for place in wanted:
        step = steps[place]
        written_too = (step.output, sidecar_of(step.output), *step.companions)
        if used := next((path for path in written_too if path.resolve() in inputs), None):
            raise StudyError(f"{used} is an input too.", "Give another `out`.")
        refuse_existing(written_too, how.may_replace)
    if wanted:
        made |= _made_now(steps, wanted, origins, how, before)
    return [made[place] for place in range(len(steps))]


def _made_now(
    steps: Sequence[Step], wanted: Sequence[int], origins: Sequence[Origin], how: Making, before: States
) -> dict[int, Made]:
    """The products of some places; each has its name only when it is whole."""
    from zoompick.products.writing import facts_of, named, written

    made = {}
    rasters = {place: step for place in wanted if isinstance(step := steps[place], RasterStep)}
    with ExitStack() as unfinished:
        targets = [unfinished.enter_context(unnamed(step.output)) for step in rasters.values()]
        done = written(list(rasters.values()), targets, how)
        refuse_changed(before)
        for place, target, (raster, one) in zip(rasters, targets, done, strict=True):
            named(steps[place], target, raster, replace(one, path=steps[place].output), origins[place], how)
            made[place] = Made(steps[place].name, steps[place].output, False, facts_of(raster, one))
    for place in wanted:
        step = steps[place]
        if isinstance(step, DrawnStep):
            step.output.parent.mkdir(parents=True, exist_ok=True)
            width, height = step.draw(step.output)
            write_drawn_sidecar(step.output, origins[place])
            facts = {"bytes": step.output.stat().st_size, "width": width, "height": height}
            made[place] = Made(step.name, step.output, False, facts)
    return made
