"""The scenes that a product was made of, on its grid: their values, what hides their ground, which comes first."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

from zoompick.arrays import Floats, Mask, Pixels
from zoompick.jsontypes import JsonMap
from zoompick.judge.subject import SceneFile, Subject
from zoompick.later import ndimage, np
from zoompick.raster.grid import Window
from zoompick.raster.pixelsize import middle_sizes_m
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.warp import resampled_to
from zoompick.raster.ways import Ways
from zoompick.sensors.classes import ClassTable


@dataclass(frozen=True)
class Owner:
    """A scene in a product: its bands by name on the product's grid, and what hides its ground."""

    bands: Mapping[str, Raster]
    classes: Raster | None
    table: ClassTable | None
    hide: tuple[str, ...]
    grow_m: float

    def values(self, name: str, window: Window) -> Floats:
        """Physical values of a band, NaN where they are missing."""
        raster = self.bands[name]
        (band,) = raster.bands
        stored = raster.read(window)[0]
        return np.where(
            valid_mask(stored, raster.nodata), stored.astype(np.float64) * band.scale + band.offset, np.nan
        )

    def there(self, names: Sequence[str], window: Window) -> Mask:
        """Where each of some bands has a pixel, shape (bands, rows, cols)."""
        rasters = [self.bands[name] for name in names]
        return np.stack([valid_mask(raster.read(window)[0], raster.nodata) for raster in rasters])

    def hidden(self, window: Window) -> tuple[Mask, Mask]:
        """What is hidden for sure, and what may be: a pixel about the edge is left to either."""
        if self.classes is None or self.table is None or not self.hide:
            none = np.zeros((window.height, window.width), bool)
            return none, none
        across, down = middle_sizes_m(self.classes.grid, window)
        reach = int(np.ceil(self.grow_m / min(across, down))) + 2
        wide = Window(window.col - reach, window.row - reach, window.width + 2 * reach, window.height + 2 * reach)
        codes = self.classes.read(wide)[0]
        hit, doubt = self.table.holds(codes, self.hide), self.table.doubts(codes)
        away = (
            ndimage.distance_transform_edt(~hit, sampling=(down, across)) if hit.any() else np.full(hit.shape, np.inf)
        )
        inner = window.slices_in(wide)
        step = max(across, down)
        least, most = (away <= self.grow_m - step) | hit, away <= self.grow_m + step
        return (least | doubt)[inner], (most | doubt)[inner]


class MadeOf:
    """All scenes of a product, in the order of its record."""

    def __init__(self, subject: Subject) -> None:
        self._subject = subject

    @cached_property
    def found(self) -> tuple[Owner, ...]:
        """Those whose files are here; none where one is missing."""
        subject, groups = self._subject, dict[str, list[SceneFile]]()
        if subject.parts is None or any(not path.is_file() for path in subject.inputs):
            return ()
        for one in subject.parts():
            groups.setdefault(one.scene, []).append(one)
        ids = [str(row.get("id", "")) for row in self.rows]
        if not ids or any(one not in groups for one in ids):
            return ()
        return tuple(self._scene(groups[one]) for one in ids)

    @cached_property
    def names(self) -> tuple[str, ...]:
        """Bands that must all be there: those that were asked for, else the product's, else (of layers) all."""
        subject = self._subject
        asked = tuple(str(name) for name in subject.options.get("bands", []))
        if asked or subject.traits.holds == "reflectance":
            return asked or tuple(band.name for band in subject.raster.bands)
        each = [list(scene.bands) for scene in self.found]
        return tuple(name for name in (each[0] if each else ()) if all(name in other for other in each))

    @property
    def rows(self) -> list[JsonMap]:
        """As the record lists them."""
        told = self._subject.told.get("zoompick:scenes", [])
        rows = [row for row in told if isinstance(row, dict)] if isinstance(told, list) else []
        return sorted(rows, key=lambda row: int(row.get("number", 0)))

    def _scene(self, layers: Sequence[SceneFile]) -> Owner:
        subject, grid = self._subject, self._subject.raster.grid
        ways = Ways.parse(str(subject.options.get("kernel", "")))
        bands = {one.band: resampled_to(one.raster, grid, ways.of(one.band, False))
                 for one in layers if not one.is_class}  # fmt: skip
        flagged = next((one for one in layers if one.is_class), None)
        table = subject.tables.get(flagged.path) if flagged is not None else None
        classes = None
        if flagged is not None and table is not None:
            classes = resampled_to(flagged.raster, grid, ways.of(flagged.band, True))
        hide = tuple(str(one) for one in subject.options.get("hide", []))
        return Owner(bands, classes, table, hide, float(subject.options.get("grow_m") or 0))


def first_clear(
    scenes: Sequence[Owner], names: Sequence[str], window: Window, clear_only: bool
) -> tuple[Pixels, Pixels]:
    """Number of the first scene that shows the ground, else has all bands, else any; edges may lie either way."""
    both = [np.zeros((window.height, window.width), int) for _ in range(2)]
    later: list[tuple[int, Mask]] = []
    last: list[tuple[int, Mask]] = []
    for place, scene in enumerate(scenes, 1):
        there = scene.there(names, window)
        whole, some, hidden = np.all(there, axis=0), np.any(there, axis=0), scene.hidden(window)
        for number, own in zip(both, hidden, strict=True):
            number[(number == 0) & whole & ~own] = place
        later.append((place, np.asarray(whole)))
        last.append((place, np.asarray(some)))
    for place, mask in [] if clear_only else [*later, *last]:
        for number in both:
            number[(number == 0) & mask] = place
    return both[0], both[1]


def shown_by_day(
    scenes: Sequence[Owner], days: Sequence[str], names: Sequence[str], window: Window
) -> tuple[list[Pixels], list[Pixels]]:
    """For each day the number of the scene that shows the ground there, 0 for none; edges may lie either way."""
    both: tuple[dict[str, Pixels], dict[str, Pixels]] = ({}, {})
    for place, (scene, day) in enumerate(zip(scenes, days, strict=True), 1):
        whole, hidden = np.all(scene.there(names, window), axis=0), scene.hidden(window)
        for found, own in zip(both, hidden, strict=True):
            owner = found.setdefault(day, np.zeros(whole.shape, int))
            owner[(owner == 0) & whole & ~own] = place
    return list(both[0].values()), list(both[1].values())


def of_owner(scenes: Sequence[Owner], owner: Pixels, name: str, window: Window) -> Floats:
    out = np.full(owner.shape, np.nan)
    for place, scene in enumerate(scenes, 1):
        if (owner == place).any():
            out = np.where(owner == place, scene.values(name, window), out)
    return out
