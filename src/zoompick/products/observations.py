"""Scenes laid on one grid, one beside the other: what mosaics, masks and blends choose from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime
from pathlib import Path

from zoompick.arrays import Mask
from zoompick.errors import UnknownNameError, UsageError
from zoompick.later import np
from zoompick.products.stack import build_stack
from zoompick.raster.grid import Grid, Window
from zoompick.raster.part import AtLevel
from zoompick.raster.raster import Raster, fitting_level, notes_of, valid_mask
from zoompick.raster.reach import Reach
from zoompick.raster.warp import resampled_to
from zoompick.raster.ways import BILINEAR, Ways
from zoompick.scenes.deliveries import Layer, OneBand, open_layers
from zoompick.scenes.items import band_files, scene_of
from zoompick.scenes.overpass import days_of
from zoompick.scenes.sidecar import read_sidecar
from zoompick.sensors.classes import MEANINGS, ClassTable
from zoompick.sensors.guide import guide_for_file

HIDDEN = ("cloud", "shadow")
"""Meanings of classes that hide the ground."""
ORDERS = ("given", "newest", "oldest", "clearest", "nearest", "nadir")


@dataclass(frozen=True)
class Clear:
    """Where a scene shows the ground: by its class layer, grown by a margin.

    Attributes
    ----------
    classes : Raster
        One band of codes, on the grid of the observation.
    table : ClassTable
        What its codes mean.
    hide : tuple of str
        Meanings that hide the ground.
    grow_m : float
        So far around what hides the ground is not trusted either.
    """

    classes: Raster
    table: ClassTable
    hide: tuple[str, ...]
    grow_m: float = 0

    def read(self, window: Window) -> Mask:
        """True where nothing hides the ground and it is trusted; where the layer tells nothing it is clear."""
        reach = Reach(self.classes.grid, self.grow_m)
        wide = reach.widened(window)
        codes = self.classes.read(wide)[0]
        hidden = reach.grown(self.table.holds(codes, self.hide), window)
        return np.asarray(~(hidden | self.table.doubts(codes[window.slices_in(wide)])))


@dataclass(frozen=True)
class Observation:
    """One scene, or one file that is already a product, on the common grid.

    Attributes
    ----------
    name : str
        Id of the scene, else the file's name.
    when : datetime or None
    cloud_percent, off_nadir_deg : float or None
        As the catalogue tells.
    raster : Raster
        Its bands in the wished order.
    clear : Clear or None
        None where no class layer tells what hides the ground.
    day : str
        Day of its overpass; empty where nothing tells its time.
    """

    name: str
    when: datetime | None
    cloud_percent: float | None
    off_nadir_deg: float | None
    raster: Raster
    clear: Clear | None = None
    day: str = ""

    @property
    def label(self) -> str:
        """Its day and name, for tables."""
        return f"{self.when:%Y-%m-%d} {self.name}" if self.when else self.name

    @property
    def notes(self) -> tuple[str, ...]:
        """What a person should know of how its bands were read, and of its classes."""
        return (*notes_of(self.raster), *(self.clear.table.told if self.clear is not None else ()))

    def usable(self, window: Window, bands: Sequence[int] | None = None) -> Mask:
        """Pixels with all bands there, and nothing that hides the ground."""
        valid = valid_mask(self.raster.read(window, bands), self.raster.nodata)
        there: Mask = valid[0] if len(valid) == 1 else np.asarray(valid.all(axis=0))
        if self.clear is not None and there.any():
            there &= self.clear.read(window)
        return there


def observations(
    paths: Sequence[Path],
    bands: Sequence[str],
    grid: Grid,
    hide: Sequence[str] = HIDDEN,
    grow_m: float = 0,
    coarse: bool = False,
    ways: Ways = BILINEAR,
) -> list[Observation]:
    """Group files by scene and lay each scene on the grid.

    Parameters
    ----------
    bands : sequence of str
        Wished bands in order; all that every scene has when empty. Class layers are none of them.
    hide : sequence of str
        Meanings of classes that hide the ground: cloud, shadow, snow, water; none for no masking.
    grow_m : float
        Metres around what hides that are not trusted.
    coarse : bool
        Overviews will do: for a look at a grid much coarser than the files.
    ways : Ways
        How bands are resampled.

    Raises
    ------
    UnknownNameError
        A band that no scene has.
    UsageError
        Scenes without a common band, or one that lacks a wished one.
    """
    groups: dict[str, list[Layer]] = {}
    for layer in open_layers(paths):
        groups.setdefault(_scene_key(layer), []).append(_coarse(layer, grid) if coarse else layer)
    plain = {key: [one.name for one in layers if not one.is_class] for key, layers in groups.items()}
    plain = {key: names for key, names in plain.items() if names}
    if not plain:
        raise UsageError("The files hold no bands, only class layers.", "Give the scenes' bands too.")
    wanted = list(bands) or [
        name for name in next(iter(plain.values())) if all(name in own for own in plain.values())
    ]
    every = list(dict.fromkeys(name for names in plain.values() for name in names))
    for name in wanted:
        if name not in every:
            raise UnknownNameError.of("band", name, every, f"The files have {', '.join(every)}.")
    for key, names in plain.items():
        lacking = [name for name in wanted if name not in names]
        if lacking or not wanted:
            what = f"lacks {', '.join(lacking)}" if lacking else "has no band that all others have"
            raise UsageError(f"{_name_of(groups[key])} {what}.", "Leave it out, or name `bands` that all have.")
    found = [_observation(groups[key], wanted, grid, hide, grow_m, ways) for key in plain]
    scenes = {number: scene for number, key in enumerate(plain)
              if (scene := scene_of(groups[key][0].path)) is not None}  # fmt: skip
    days = dict(zip(scenes, days_of(list(scenes.values())), strict=True))
    return [replace(one, day=days.get(number) or (f"{one.when:%Y-%m-%d}" if one.when else ""))
            for number, one in enumerate(found)]  # fmt: skip


def whole_day(raster: Raster, name: str, classes: Sequence[Path]) -> Observation:
    """The bands of a day, as they were put together, and the class layers of its scenes as one.

    Where scenes lie over each other the first that has classes tells them, as the first that has bands gave these.
    """
    layers = [layer for layer in open_layers(classes) if layer.is_class]
    tables = [table for layer in layers if (table := classes_of(layer)) is not None]
    clear = None
    if tables:
        joined = build_stack(layers, [layers[0].name], raster.grid, [layers[0].name])
        clear = Clear(joined, tables[0], MEANINGS)
    return Observation(name, None, None, None, raster, clear)


def _coarse(layer: Layer, grid: Grid) -> Layer:
    """The layer by its coarsest overview that is still as fine as the grid."""
    raster = layer.raster
    if raster.grid.crs.is_geographic != grid.crs.is_geographic:
        return layer
    level = AtLevel(raster, fitting_level(raster.levels, grid.pixel_x))
    return replace(layer, raster=OneBand(level, 0, raster.bands[0], raster.nodata))


def _scene_key(layer: Layer) -> str:
    """What layers of one scene share: several bands in one file are a scene of themselves."""
    return layer.scene if scene_of(layer.path) is not None else f"{layer.scene} {layer.path.parent}"


def _name_of(layers: Sequence[Layer]) -> str:
    scene = scene_of(layers[0].path)
    return scene.id if scene is not None else layers[0].path.stem if len(layers) > 1 else layers[0].path.name


def _observation(
    layers: Sequence[Layer], bands: Sequence[str], grid: Grid, hide: Sequence[str], grow_m: float, ways: Ways
) -> Observation:
    path = layers[0].path
    scene = scene_of(path)
    recorded = None if scene is not None else read_sidecar(path)
    when = scene.when if scene is not None else recorded.when if recorded else None
    name = scene.id if scene is not None else path.stem
    return Observation(
        name,
        when,
        scene.cloud_percent if scene is not None else None,
        scene.off_nadir_deg if scene is not None else None,
        build_stack([layer for layer in layers if not layer.is_class], bands, grid, ways=ways),
        _clear(layers, grid, hide, grow_m) if hide else None,
    )


def _clear(layers: Sequence[Layer], grid: Grid, hide: Sequence[str], grow_m: float) -> Clear | None:
    layer = next((layer for layer in layers if layer.is_class), None)
    table = classes_of(layer) if layer is not None else None
    if layer is None or table is None:
        return None
    return Clear(resampled_to(layer.raster, grid, "class"), table, tuple(hide), grow_m)


def classes_of(layer: Layer) -> ClassTable | None:
    """What the codes of a class layer mean: by the guide that its name fits, the item beside it, or its own words."""
    told = next((band for band in band_files(layer.path) if band.classes), None)
    guide = guide_for_file(layer.path.name)
    if guide is not None and guide.class_band and (guide.class_band == layer.name or told is not None):
        return guide.classes
    if told is not None:
        return ClassTable.from_stac(told.classes)
    own = layer.raster.bands[0].classes
    return ClassTable.of_words(own) if own else None


def in_order(found: Sequence[Observation], rule: str, day: date | None = None) -> list[Observation]:
    """Observations with the one that counts first in front; equal ones stay as given.

    Parameters
    ----------
    rule : str
        ``given``, ``newest``, ``oldest``, ``clearest`` (least cloud told), ``nearest`` (to ``day``), ``nadir`` (least
        off nadir).

    Raises
    ------
    UsageError
        A scene does not tell what the rule asks for.
    """
    if rule not in ORDERS:
        raise UnknownNameError.of("order", rule, ORDERS)
    if rule == "given":
        return list(found)
    asked = {"clearest": "cloud_percent", "nadir": "off_nadir_deg"}.get(rule, "when")
    silent = next((one for one in found if getattr(one, asked) is None), None)
    if silent is not None:
        what = {
            "cloud_percent": "its cloud",
            "off_nadir_deg": "how far off nadir it looked",
            "when": "when it was taken",
        }
        raise UsageError(
            f"{silent.name} does not tell {what[asked]}.", "Give the files in order, with `order` given."
        )
    if rule == "nearest":
        if day is None:
            raise UsageError("Nearest to which day?", "As `order` nearest=2025-12-15.")
        noon = datetime(day.year, day.month, day.day, 12, tzinfo=UTC)
        return sorted(found, key=lambda one: abs((_when(one) - noon).total_seconds()))
    if rule in ("newest", "oldest"):
        return sorted(found, key=_when, reverse=rule == "newest")
    return sorted(found, key=lambda one: float(getattr(one, asked)))


def _when(one: Observation) -> datetime:
    assert one.when is not None
    return one.when if one.when.tzinfo else one.when.replace(tzinfo=UTC)


def scene_rows(found: Sequence[Observation]) -> list[dict[str, str]]:
    """Number, id and moment of each, as a product's record keeps them."""
    return [
        {"number": str(number), "id": one.name} | ({"datetime": one.when.isoformat()} if one.when else {})
        for number, one in enumerate(found, 1)
    ]
