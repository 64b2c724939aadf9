"""A step makes one product and owns what belongs to it: inputs, outputs, how it is written, its checks.

The maker here knows no product by name: it asks the step.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Hashable, Mapping, Sequence
from concurrent.futures import Executor
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zoompick.addresses import is_remote
from zoompick.errors import StudyError
from zoompick.events import Noted, Report, ignore
from zoompick.files import multihash_of, refuse_existing, take_name, unnamed
from zoompick.products.states import refuse_changed, states_of
from zoompick.raster import engine
from zoompick.raster.codec import Codec
from zoompick.raster.part import with_least_nodata
from zoompick.raster.raster import notes_of
from zoompick.raster.shared import Shared
from zoompick.raster.write import Job, WriteOptions, as_told, write_together
from zoompick.scenes import fetched as record
from zoompick.scenes.items import band_files, scene_of
from zoompick.scenes.opening import open_raster, source_of, state_of
from zoompick.scenes.sidecar import (
    Origin,
    item_of,
    read_sidecar,
    scenes_of,
    sidecar_of,
    write_drawn_sidecar,
    write_item_of,
)

if TYPE_CHECKING:
    from zoompick.bytesource import ByteSource
    from zoompick.raster.grid import Grid
    from zoompick.raster.raster import Raster
    from zoompick.raster.write import Written


class Sources:
    """Inputs of steps as rasters: each file is opened once.

    Parameters
    ----------
    executor : Executor, optional
        Where blocks are computed.
    is_shared : bool
        Several steps take them in one pass: each window is read once.
    """

    def __init__(self, executor: Executor | None = None, is_shared: bool = False) -> None:
        self.executor = executor
        self.is_shared = is_shared
        self._opened: dict[Path, Raster] = {}
        self._bytes: dict[Path, ByteSource] = {}
        self._made: dict[Hashable, Any] = {}

    def once(self, key: Hashable, make: Callable[[], Any]) -> Any:
        """What several steps are made of beside files: made at the first call."""
        if key not in self._made:
            self._made[key] = make()
        return self._made[key]

    def open(self, path: Path) -> Raster:
        """The raster in a file."""
        if path not in self._opened:
            self._bytes[path] = source_of(path)
            raster = open_raster(self._bytes[path])
            self._opened[path] = Shared(raster) if self.is_shared else raster
        return self._opened[path]

    def confirm(self) -> None:
        """Look at all inputs again: what was made of them is of these very states.

        Raises
        ------
        DataError, SourceError
            One changed while it was read.
        """
        for source in self._bytes.values():
            source.confirm()


@dataclass(frozen=True)
class Step(ABC):
    """One product to make.

    Attributes
    ----------
    name : str
        The operation.
    checks : tuple of str
        What the product of a study is judged for beside being whole: names in :mod:`zoompick.judge.registry`.
    inputs : tuple of Path
        Files it reads; the first one's acquisition is the product's.
    output : Path
        The file it makes.
    """

    name: ClassVar[str]
    checks: ClassVar[tuple[str, ...]] = ("grid",)

    inputs: tuple[Path, ...]
    output: Path

    @abstractmethod
    def options(self) -> dict[str, Any]:
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
        return Origin(self.name, self.options(), inputs, self._when(), self.scenes())

    def scenes(self) -> list[dict[str, str]]:
        """All scenes in it."""
        return scenes_in(self.shown)

    def _when(self) -> datetime | None:
        """Acquisition of the first input, from the item or the sidecar beside it."""
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
        """The product, no pixel of it computed yet; what has to be measured before is measured on its executor."""

    def write_options(self, raster: Raster) -> WriteOptions:
        """How it is written."""
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
    facts: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Making:
    """How products are made.

    Attributes
    ----------
    may_replace : bool
        Whether a file of that name that was made otherwise may be overwritten.
    executor : Executor or None
        Where blocks are computed; threads of this process by default.
    digest : callable
        Multihash of a file; what remembers it need not read the file again.
    compression : str
        In place of the usual one.
    is_asked : bool
        A person wants files of that name replaced: one that was pressed otherwise than it would be now is another.
    codecs : mapping
        For products that have to be pressed just so, as texts of :class:`~zoompick.raster.codec.Codec`.
    """

    may_replace: bool = False
    report: Report = ignore
    executor: Executor | None = None
    digest: Callable[[Path], str] = multihash_of
    compression: str = ""
    is_asked: bool = False
    codecs: Mapping[Path, str] = field(default_factory=dict)

    def codec_of(self, step: Step) -> Codec | None:
        """The codec that a product must have to count as made; None where any will do."""
        if step.output in self.codecs:
            return Codec.of_text(self.codecs[step.output])
        if not self.is_asked or not isinstance(step, RasterStep):
            return None

        form = as_told(WriteOptions(), self.compression) if self.compression else WriteOptions()
        return Codec.usual(form.compression, form.effort)


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
    rasters = {place: step for place in wanted if isinstance(step := steps[place], RasterStep)}
    with ExitStack() as unfinished:
        targets = [unfinished.enter_context(unnamed(step.output)) for step in rasters.values()]
        done = _written(list(rasters.values()), targets, how)
        refuse_changed(before)
        for place, target, (raster, written) in zip(rasters, targets, done, strict=True):
            _name(steps[place], target, raster, replace(written, path=steps[place].output), origins[place], how)
            made[place] = Made(steps[place].name, steps[place].output, False, _facts(raster, written))
    for place in wanted:
        step = steps[place]
        if isinstance(step, DrawnStep):
            step.output.parent.mkdir(parents=True, exist_ok=True)
            width, height = step.draw(step.output)
            write_drawn_sidecar(step.output, origins[place])
            facts = {"bytes": step.output.stat().st_size, "width": width, "height": height}
            made[place] = Made(step.name, step.output, False, facts)
    return [made[place] for place in range(len(steps))]


def _name(step: Step, target: Path, raster: Raster, written: Written, origin: Origin, how: Making) -> None:
    """Give a product its name together with its record: none is left without the other."""
    if not any(stats.valid_percent for stats in written.statistics):
        how.report(Noted(f"{step.output.name} holds no valid pixel."))
    told = dict(getattr(raster, "record", {}))
    prepared = item_of(raster, written, origin, told)
    take_name(target, step.output)
    try:
        write_item_of(prepared, written.path, step.accompany())
    except BaseException:
        step.output.unlink(missing_ok=True)
        raise


def _written(steps: Sequence[RasterStep], targets: Sequence[Path], how: Making) -> list[tuple[Raster, Written]]:
    """Rasters of steps and what was written of each into a file without a name yet, in one pass over their inputs."""
    if not steps:
        return []

    if how.executor is None:
        engine.refuse_missing(path for step in steps for path in step.inputs)
    sources = Sources(how.executor, len(steps) > 1)
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
    done = list(zip(rasters, write_together(jobs, how.report, how.executor), strict=True))
    sources.confirm()
    return done


def _pressed(form: WriteOptions, codec: str | None) -> WriteOptions:
    """The form with the codec that it has to have."""
    if codec is None:
        return form

    wanted = Codec.of_text(codec)
    return replace(form, compression=wanted.name, effort=wanted.effort)


def _facts(raster: Raster, written: Written) -> dict[str, Any]:
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


def is_current(
    step: Step, origin: Origin, digest: Callable[[Path], str] = multihash_of, codec: Codec | None = None
) -> bool:
    """True when the output and its companions are there, unchanged since they were made in the same way.

    Parameters
    ----------
    codec : Codec, optional
        What the output must be pressed with; with another it shows the same, so that it counts without this.
    """
    recorded = read_sidecar(step.output)
    if recorded is None or recorded.fingerprint != origin.fingerprint:
        return False
    if codec is not None and type(codec).of_text(recorded.codec) != codec:
        return False
    if not all(path.is_file() for path in (step.output, *step.companions)):
        return False
    if step.output.stat().st_size != recorded.size or digest(step.output) != recorded.multihash:
        return False
    return all(digest(path) == recorded.companions.get(path.name) for path in step.companions)


def digest_of(path: Path, digest: Callable[[Path], str] = multihash_of) -> str:
    """Multihash of an input: of a checked download from its record, else computed; of a member its archive's.

    Of what lies elsewhere its state: size and entity tag.
    """
    if is_remote(path):
        return state_of(path)
    outer, mark, _ = str(path).rpartition("#")
    if mark and not path.exists():
        return digest(Path(outer))
    fetched = record.read(path.parent).get(path.name)
    if fetched is not None and record.is_as_recorded(path, fetched):
        return fetched.multihash
    if digest is multihash_of:
        open_raster(path)
    return digest(path)
