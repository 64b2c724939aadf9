"""Pixels of steps on their way to files: in one pass over what they are made of, each named with its record."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from zoompick.events import Noted
from zoompick.files import take_name
from zoompick.jsontypes import JsonObject
from zoompick.products.how import Making
from zoompick.products.sources import Sources
from zoompick.products.step import RasterStep, Step
from zoompick.raster import engine
from zoompick.raster.codec import Codec
from zoompick.raster.part import with_least_nodata
from zoompick.raster.raster import Raster, notes_of
from zoompick.raster.write import Job, WriteOptions, Written, as_told, write_together
from zoompick.scenes.sidecar import Origin, item_of, write_item_of


def named(step: Step, target: Path, raster: Raster, written: Written, origin: Origin, how: Making) -> None:
    """Give a product its name together with its record: none is left without the other."""
    if not any(stats.valid_percent for stats in written.statistics):
        how.report(Noted(f"{step.output.name} holds no valid pixel."))
    for sentence in getattr(raster, "afterwards", ()):
        how.report(Noted(sentence))
    told = dict(getattr(raster, "record", {}))
    prepared = item_of(raster, written, origin, told)
    take_name(target, step.output)
    try:
        write_item_of(prepared, written.path, step.accompany())
    except BaseException:
        step.output.unlink(missing_ok=True)
        raise


def written(steps: Sequence[RasterStep], targets: Sequence[Path], how: Making) -> list[tuple[Raster, Written]]:
    """Rasters of steps and what was written of each into a file without a name yet, in one pass over their inputs."""
    if not steps:
        return []

    engine.refuse_missing(path for step in steps for path in step.inputs)
    sources = Sources(len(steps) > 1)
    rasters = [step.build(sources) for step in steps]
    for note in dict.fromkeys(note for raster in rasters for note in notes_of(raster)):
        how.report(Noted(note))
    forms = [step.write_options(raster) for step, raster in zip(steps, rasters, strict=True)]
    if how.compression:
        forms = [as_told(form, how.compression) for form in forms]
        rasters = [with_least_nodata(raster) if form.compression == "lerc" else raster
                   for raster, form in zip(rasters, forms, strict=True)]  # fmt: skip
    forms = [_pressed(form, how.codecs.get(step.output)) for step, form in zip(steps, forms, strict=True)]
    jobs = [Job(raster, target, form) for target, raster, form in zip(targets, rasters, forms, strict=True)]
    done = list(zip(rasters, write_together(jobs, how.report), strict=True))
    sources.confirm()
    return done


def _pressed(form: WriteOptions, codec: str | None) -> WriteOptions:
    """The form with the codec that it has to have."""
    if codec is None:
        return form

    wanted = Codec.of_text(codec)
    return replace(form, compression=wanted.name, effort=wanted.effort)


def facts_of(raster: Raster, written: Written) -> JsonObject:
    """Size, grid and bands, for people and the journal."""
    grid = raster.grid
    return {
        "bytes": written.size,
        "bands": [band.name for band in raster.bands],
        "width": grid.width,
        "height": grid.height,
        "pixel": grid.pixel_text,
        "crs": grid.crs.code,
        "valid_percent": round(min(stats.valid_percent for stats in written.statistics), 2),
    }
