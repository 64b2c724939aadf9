"""What is known of a raster before it is judged: its record, its scenes, what it was made of."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from zoompick.addresses import is_remote
from zoompick.errors import DataError
from zoompick.files import read_json
from zoompick.geo.shapes import Shape
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.judge.limits import Limits
from zoompick.judge.subject import Layer, SceneFacts, SceneFile, Subject
from zoompick.raster.grid import Grid
from zoompick.raster.raster import Raster
from zoompick.scenes.deliveries import open_layers
from zoompick.scenes.items import band_files, scene_of
from zoompick.scenes.opening import open_raster
from zoompick.scenes.scene import Scene
from zoompick.scenes.sidecar import scenes_of, sidecar_of
from zoompick.scenes.traits import UNTOLD, Traits
from zoompick.sensors.classes import ClassTable
from zoompick.sensors.guide import guide_for_file

_DEEPEST = 6
SCENE_LAYER = "-scenes"
_OF_SCENES = ("mosaic", "blend", "count", "day")


@dataclass(frozen=True)
class Expected:
    """What rasters should be; what is empty or None is not judged.

    Attributes
    ----------
    area : polygon or None
        Longitude/latitude.
    wanted : set of str or None
        Names of checks; all when None.
    underlying : Raster or None
        What a product is made of, where that is computed and never written.
    traits_of : callable
        What is so of products by the name of their step, as records tell it.
    named : frozenset of str
        Checks that a person named: what cannot be judged of them is told.
    is_thorough : bool
        Products are made again as a whole, not on a sample.
    """

    grid: Grid | None = None
    bands: Sequence[str] = ()
    area: Shape | None = None
    limits: Limits = field(default_factory=Limits)
    wanted: frozenset[str] | None = None
    reference: Path | None = None
    is_moved: bool = False
    underlying: Raster | None = None
    traits_of: Callable[[str], Traits] = lambda step: Traits() if step else UNTOLD
    named: frozenset[str] = frozenset()
    is_thorough: bool = False

    def shared(self) -> JsonObject:
        """What a subject takes as it is."""
        return {"grid": self.grid, "bands": self.bands, "area": self.area, "limits": self.limits,
                "is_moved": self.is_moved, "underlying": self.underlying,
                "is_thorough": self.is_thorough}  # fmt: skip

    def wants(self, name: str) -> bool:
        """Whether a check is to be made."""
        return self.wanted is None or name in self.wanted


def subject_of(
    path: Path, label: str, expected: Expected, names: Sequence[str] = (), earlier: Path | None = None
) -> Subject:
    """A file, and all that lies beside it.

    Parameters
    ----------
    names : sequence of str
        Checks that its step asks for, in a study.
    earlier : Path, optional
        A product of the same kind of another date.

    Raises
    ------
    DataError
        It cannot be read.
    """
    told, layer = _record(path), scene_layer_of(path)
    inputs = _inputs(path, told)
    step: JsonObject = next(iter(told.get("zoompick:steps", [])), {})
    traits = expected.traits_of(str(step.get("step", "")))
    return Subject(
        label, open_raster(path), path, traits=traits, options=step.get("options", {}), told=told, inputs=inputs,
        scenes=scenes_below(path), classes=class_table(path),
        layers=tuple(_layers(inputs)) if traits.judged == "scenes" else (),
        parts=(lambda: _parts(inputs)) if traits.judged in _OF_SCENES else None,
        tables={one: table for one in inputs if one.is_file() and (table := class_table(one)) is not None},
        scene_layer=open_raster(layer) if layer.is_file() else None,
        earlier=_named(earlier), reference=_named(expected.reference), open=open_raster, names=tuple(names),
        **expected.shared(),
    )  # fmt: skip


def scene_layer_of(path: Path) -> Path:
    """Where the layer of a product's scenes lies, if it has one."""
    return path.with_stem(path.stem + SCENE_LAYER)


def computed(raster: Raster, label: str, expected: Expected, traits: Traits, names: Sequence[str]) -> Subject:
    """A product that is computed on the way and never written."""
    return Subject(label, raster, traits=traits, names=tuple(names), **expected.shared())


def _named(path: Path | None) -> tuple[str, Raster] | None:
    if path is None or not path.is_file():
        return None
    label = f"{path.parent.name}/{path.name}" if path.parent.name else path.name
    return label, open_raster(path)


def _record(path: Path) -> JsonObject:
    """Properties and bands that a product's record tells; nothing without one that can be read."""
    try:
        item = read_json(sidecar_of(path))
        return {
            **item["properties"],
            "bands": item["assets"]["data"].get("bands", []),
            "links": item.get("links", []),
        }
    except (DataError, AttributeError, KeyError, TypeError):
        return {}


def inputs_of(path: Path) -> list[Path]:
    """Files that a product was made of, as its record tells them; none without one."""
    return [Path(os.path.normpath(one)) for one in _inputs(path, _record(path))]


def _inputs(path: Path, told: JsonMap) -> dict[Path, str]:
    found = {}
    for link in told.get("links", []):
        if isinstance(link, dict) and link.get("rel") == "derived_from" and not is_remote(link.get("href")):
            found[path.parent / str(link.get("href", ""))] = str(link.get("file:checksum", ""))
    return found


def scenes_below(path: Path) -> tuple[SceneFacts, ...]:
    """The scenes in a product, as the items beside the files at its bottom tell them; in the record's order."""
    scenes = {scene.id: scene for scene in _scenes_below(path, _DEEPEST)}
    numbered = sorted(scenes_of(path), key=lambda row: int(row.get("number", 0)) if "number" in row else 0)
    ids = [row.get("id", "") for row in numbered] or list(scenes)
    return tuple(_facts_of(scenes[one]) if one in scenes else SceneFacts(one) for one in ids)


def _scenes_below(path: Path, depth: int) -> Iterator[Scene]:
    scene = scene_of(path)
    if scene is not None:
        yield scene
        return
    if depth:
        for one in _inputs(path, _record(path)):
            yield from _scenes_below(one, depth - 1)


def _facts_of(scene: Scene) -> SceneFacts:
    return SceneFacts(scene.id, scene.when, scene.sun_elevation_deg, scene.off_nadir_deg, scene.cloud_percent,
                 scene.footprint if scene.has_footprint() else None)  # fmt: skip


def _layers(inputs: Mapping[Path, str]) -> Iterator[Layer]:
    for path in inputs:
        known = band_files(path) if path.is_file() else []
        if len(known) == 1 and class_table(path) is None:
            told = known[0] if known[0].is_scaled else open_raster(path).bands[known[0].index]
            yield Layer(path, known[0].name, told.scale, told.offset, open_raster)


def _parts(inputs: Mapping[Path, str]) -> list[SceneFile]:
    return [SceneFile(one.scene.rpartition("/")[2], one.name, one.is_class, one.path, one.raster)
            for one in open_layers(path for path in inputs if path.is_file())]  # fmt: skip


def class_table(path: Path) -> ClassTable | None:
    """Codes of a class layer from a band guide, else from the item beside it; None for other files."""
    known, scene = next(iter(band_files(path)), None), scene_of(path)
    guide = guide_for_file(path.name)
    if guide and guide.class_band and guide.band_of_file(path.name) == guide.class_band:
        return guide.classes
    return ClassTable.from_stac(known.classes) if scene is not None and known is not None and known.classes else None
