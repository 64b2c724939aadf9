"""Cloud inside the study area, read from the class layers where they lie: a few kilobytes a scene, by byte ranges."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

from zoompick.arrays import Floats, Mask, Pixels
from zoompick.errors import CancelledError, ClusterError, ZoomPickError
from zoompick.events import Advanced, Finished, Report, Started, ignore
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape, bounds_of, project, turned
from zoompick.geo.sizes import area_km2
from zoompick.later import np
from zoompick.net.authority import Authority
from zoompick.net.client import Client, workers
from zoompick.net.ranges import Cost, RemoteFile
from zoompick.raster import engine
from zoompick.raster.grid import Grid
from zoompick.raster.masks import PolygonMask
from zoompick.raster.pixelsize import pixel_sizes
from zoompick.raster.raster import Raster, fitting_level
from zoompick.scenes.deliveries import band_in
from zoompick.scenes.renewal import renewed
from zoompick.scenes.scene import CLASS_BAND, BandFile, Scene
from zoompick.sensors.classes import ClassTable

TASK = "cloud inside the area"
_PIXELS_WANTED = 96
"""The coarsest overview that still has so many pixels along the area's longer side is read."""


@dataclass(frozen=True, slots=True)
class Inside:
    """Percent of the area's seen pixels under cloud, shadow and snow, and of the area that was seen at all."""

    cloud: float
    shadow: float
    snow: float
    seen: float


@dataclass(frozen=True)
class Looked:
    """What was read: figures by the scene's key (None where a scene does not tell), and what it cost."""

    inside: dict[tuple[str, str, str], Inside | None]
    requests: int
    received_bytes: int
    unread: Mapping[tuple[str, str, str], str] = field(default_factory=dict)

    def problems(self) -> list[str]:
        """How many class layers could not be read and why, a sentence for each cause."""
        causes: dict[str, list[tuple[str, str]]] = {}
        for key, why in self.unread.items():
            causes.setdefault(re.sub(r"\w+://\S+", "…", why), []).append((key[2], why))
        found = []
        for (name, why), *others in causes.values():
            more = f" ({len(others)} more like it)" if others else ""
            found.append(f"The class layer of {name} could not be read{more}: {why}")
        return found


@dataclass(frozen=True)
class _Layer:
    """A scene's class layer, and in whose name it is asked for."""

    band: BandFile
    authority: Authority | None = None
    item: str = ""

    @classmethod
    def of(cls, scene: Scene, client: Client) -> _Layer | None:
        """None for a scene without one."""
        band = scene.bands.get(CLASS_BAND)
        authority = client.on_behalf(scene.source).authority
        if band is None or not band.classes:
            return None
        return cls(band, authority, scene.address)

    def inside(self, area: Shape, client: Client, cost: Cost) -> Inside | str | None:
        """Figures over the area, or why the layer cannot be read; None where it saw nothing of it."""
        try:
            asking = client.acting(self.authority)
            file = RemoteFile(self.band.href, asking, cost, renew=lambda: renewed(self.item, CLASS_BAND, asking))
            return inside_of(band_in(file, self.band), ClassTable.from_stac(self.band.classes), area)
        except (CancelledError, ClusterError):
            raise
        except ZoomPickError as error:
            # One scene that cannot be read says why; the others go on.
            return error.what


@dataclass(frozen=True)
class _There:
    """On a worker elsewhere: a batch of layers, one after the other, so that no source is asked more than it may."""

    area: Shape

    def __call__(self, layers: tuple[_Layer | None, ...]) -> _Told:
        client, cost = Client(), Cost()
        found = [layer.inside(self.area, client, cost) if layer else None for layer in layers]
        return found, cost.requests, cost.received


def look_inside(scenes: Sequence[Scene], area: Shape, client: Client, report: Report = ignore) -> Looked:
    """Read the window of the area out of each scene's class layer, several at a time.

    On the workers of :func:`zoompick.raster.engine.using` where there are some.
    """
    report(Started(TASK, len(scenes), "scenes"))
    layers = [_Layer.of(scene, client) for scene in scenes]
    figures, requests, received = (_elsewhere if engine.elsewhere() else _here)(layers, area, client, report)
    report(Finished(TASK))
    pairs = [(scene.key, figure) for scene, figure in zip(scenes, figures, strict=True)]
    found = {key: None if isinstance(figure, str) else figure for key, figure in pairs}
    return Looked(found, requests, received, {key: figure for key, figure in pairs if isinstance(figure, str)})


def _here(layers: Sequence[_Layer | None], area: Shape, client: Client, report: Report) -> _Told:
    cost = Cost()

    def one(layer: _Layer | None) -> Inside | str | None:
        try:
            return layer.inside(area, client, cost) if layer else None
        finally:
            report(Advanced(TASK, 1))

    with workers("inside") as pool:
        figures = list(pool.map(one, layers))
    return figures, cost.requests, cost.received


def _elsewhere(layers: Sequence[_Layer | None], area: Shape, client: Client, report: Report) -> _Told:
    batches = [tuple(layers[start : start + _BATCH]) for start in range(0, len(layers), _BATCH)]
    figures, requests, received = list[Inside | str | None](), 0, 0
    with engine.crew_of() as crew:
        for found, asked, came in engine.each(crew, batches, _There(area)):
            figures += found
            requests, received = requests + asked, received + came
            report(Advanced(TASK, len(found)))
    return figures, requests, received


_BATCH = 16
_Told = tuple[list[Inside | str | None], int, int]


@dataclass(frozen=True)
class Parts:
    """Figures of one scene over several parts of an area, and what they cost."""

    parts: tuple[Inside | None, ...]
    requests: int
    received_bytes: int
    unread: str = ""


def look_at_parts(scene: Scene, parts: Sequence[Shape], client: Client) -> Parts:
    """Read one class layer over several parts of the area; what was fetched for one serves the others."""
    cost = Cost()
    band = scene.bands.get(CLASS_BAND)
    if band is None or not band.classes:
        return Parts((None,) * len(parts), 0, 0)
    table = ClassTable.from_stac(band.classes)
    try:
        asking = client.on_behalf(scene.source)
        file = RemoteFile(band.href, asking, cost, renew=lambda: renewed(scene.address, CLASS_BAND, asking))
        raster = band_in(file, band)
        figures = tuple(inside_of(raster, table, part) for part in parts)
    except (CancelledError, ClusterError):
        raise
    except ZoomPickError as error:
        return Parts((None,) * len(parts), cost.requests, cost.received, error.what)
    return Parts(figures, cost.requests, cost.received)


def inside_of(raster: Raster, table: ClassTable, area: Shape) -> Inside | None:
    """Figures of one class layer, from a coarse overview; None when it saw nothing of the area."""
    polygon = _flat(area, raster.grid.crs)
    if raster.grid.crs.is_geographic:
        polygon = turned(polygon, raster.grid.bounds)
    box = bounds_of(polygon)
    longest = max(box.width, box.height)
    level = fitting_level(raster.levels, longest / _PIXELS_WANTED)
    grid = raster.levels[level]
    window = grid.window_of(box)
    if window.is_empty:
        return None
    ground, sizes_m2 = _mask(area, grid.part(window))
    counts = np.bincount(_codes(raster.read(window, [0], level)[0][ground]), sizes_m2).astype(np.float64)
    # Ground of the area beyond the scene's edge counts as not seen.
    whole_m2 = max(float(sizes_m2.max(initial=1.0)), area_km2(area) * 1e6)
    seen_m2 = float(counts.sum()) - _ground_of(counts, table, "fill") - _doubted(counts, table)
    if seen_m2 < float(sizes_m2.min(initial=1.0)) / 2:
        return None
    cloud, shadow, snow = (100 * _ground_of(counts, table, word) / seen_m2 for word in ("cloud", "shadow", "snow"))
    return Inside(cloud, shadow, snow, min(100.0, 100 * seen_m2 / whole_m2))


def _codes(values: Pixels) -> Pixels:
    """Values as codes of classes; what can be none, below 0 or far above, becomes one that no table has."""
    known = (values >= 0) & (values < _NO_CODE)
    codes = np.full(values.shape, _NO_CODE, np.int64)
    codes[known] = values[known]
    return codes


_NO_CODE = 65_535


def _ground_of(counts: Floats, table: ClassTable, meaning: str) -> float:
    codes = np.arange(min(len(counts), _NO_CODE))
    return float(counts[codes][table.holds(codes, (meaning,))].sum())


def _doubted(counts: Floats, table: ClassTable) -> float:
    """Ground of pixels that nobody trusts: they are not counted as seen."""
    codes = np.arange(min(len(counts), _NO_CODE))
    return float(counts[codes][table.doubts(codes) & ~table.holds(codes, ("fill",))].sum())


@lru_cache(maxsize=32)
def _flat(area: Shape, crs: Crs) -> Shape:
    """The area on a plane: the same for all scenes of a zone."""
    return project(area, crs)


@lru_cache(maxsize=64)
def _mask(area: Shape, part: Grid) -> tuple[Mask, Floats]:
    """Where the area lies on a piece of a grid, and square metres of its pixels: the same for all scenes."""
    inside = PolygonMask(_flat(area, part.crs), part).read(part.window)
    return inside, pixel_sizes(part, part.window).area_m2[inside]
