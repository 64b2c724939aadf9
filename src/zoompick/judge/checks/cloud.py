"""How much of the area is under cloud, shadow and snow, by class layers, and what the scenes say of it themselves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zoompick.arrays import Floats
from zoompick.geo.shapes import Shape, bounds_of
from zoompick.geo.sizes import area_km2
from zoompick.judge.limits import Limits
from zoompick.judge.subject import Check, Subject
from zoompick.later import np
from zoompick.raster import engine
from zoompick.raster.grid import Grid, Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.pixelsize import pixel_sizes
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.turn import in_same_turn
from zoompick.raster.warp import resampled_to
from zoompick.scenes.finding import Finding, judged
from zoompick.sensors.classes import ClassTable

Coded = tuple[Raster, ClassTable]
_BLOCK_PX, _MEANINGS = 512, ("cloud", "shadow", "snow")


@dataclass(frozen=True)
class Clouds:
    """What hides the ground of an area, in percent of what was seen, and how much of the area was seen."""

    cloud: float
    shadow: float
    snow: float
    seen: float


def clouds_over(layers: Sequence[Coded], area: Shape) -> Clouds | None:
    """Count the pixels of class layers inside an area (longitude/latitude); None when nothing was seen.

    Parameters
    ----------
    layers : sequence of (Raster, ClassTable)
        Class layers that fill each other's gaps, the first on top, each with what its codes mean.
    """
    first = layers[0][0].grid
    _, polygon = in_same_turn(layers[0][0], area)
    grid = Grid.snapped(bounds_of(polygon), first.crs, first.pixel_x)
    laid = tuple((resampled_to(layer, grid, "class"), table) for layer, table in layers)
    counts = np.zeros(1 + len(_MEANINGS))
    with engine.crew_of() as crew:
        for part in engine.each(crew, grid.tiles(_BLOCK_PX), _Counts(laid, PolygonMask(polygon, grid))):
            counts += part
    if not counts[0]:
        return None
    whole = area_km2(area) * 1e6
    cloud, shadow, snow = (100 * float(count) / counts[0] for count in counts[1:])
    return Clouds(cloud, shadow, snow, min(100.0, 100 * counts[0] / whole))


def cloud_share(
    layers: Sequence[Coded],
    area: Shape,
    limits: Limits,
    subject: str,
    told_percent: float | None = None,
) -> list[Finding]:
    """Cloud in an area against its limit, and against what the scenes say of themselves.

    Parameters
    ----------
    told_percent : float, optional
        The scenes' own figure.
    """
    limit = f"at most {limits.cloud:g} %"
    found = clouds_over(layers, area)
    if found is None:
        note = "The class layer has no pixel in the area. Pick scenes that cover it."
        return [judged("cloud in area", subject, False, "nothing seen", limit, note)]
    note = f"Cloud hides {found.cloud:.1f} % of what was seen of the area. Pick a clearer scene."
    figure = f"{found.cloud:.2f} % of what was seen ({found.seen:.0f} % of the area)"
    data = {"shadow_percent": round(found.shadow, 3), "snow_percent": round(found.snow, 3),
            "seen_percent": round(found.seen, 2), "told_percent": told_percent}  # fmt: skip
    rows = [
        judged("cloud in area", subject, found.cloud <= limits.cloud, figure, limit, note, found.cloud, data=data)
    ]
    if told_percent is not None:
        off = abs(found.cloud - told_percent)
        words = (f"The scenes tell {told_percent:.0f} % of cloud, over the area it is {found.cloud:.0f} %: choose "
                 "by the cloud inside the area, 'zoompick search --inside'.")  # fmt: skip
        here, apart = f"{found.cloud:.1f} % here, {told_percent:.1f} % told", f"at most {limits.cloud_differs:g} %"
        is_so = off <= limits.cloud_differs
        rows.append(judged("cloud as told", subject, is_so, here, f"{apart} apart", words, off, bad="warn"))
    return rows


@dataclass(frozen=True)
class _Counts:
    """Ground of a window that was seen in the area, and that of it which is cloud, shadow, snow; square metres."""

    layers: tuple[Coded, ...]
    mask: PolygonMask

    def __call__(self, window: Window) -> Floats:
        inside = self.mask.read(window)
        found, sizes = np.zeros(1 + len(_MEANINGS)), pixel_sizes(self.mask.grid, window).area_m2
        for layer, table in self.layers:
            codes = layer.read(window)[0]
            known = inside & valid_mask(codes, layer.nodata) & ~table.holds(codes, ("fill",))
            inside &= ~known
            known &= ~table.doubts(codes)
            own = [known, *(known & table.holds(codes, (word,)) for word in _MEANINGS)]
            found += [sizes[one].sum() for one in own]
        return found


def _of_layer(subject: Subject) -> list[Finding]:
    assert subject.classes is not None and subject.area is not None
    told = [scene.cloud_percent for scene in subject.scenes if scene.cloud_percent is not None]
    return cloud_share([(subject.raster, subject.classes)], subject.area, subject.limits, subject.label,
                       float(np.mean(told)) if told else None)  # fmt: skip


CHECKS: Sequence[Check] = (
    Check("cloud", "cloud", "cloud in area", "A class layer and an area.",
          "Counts the class layer's pixels in the area: cloud, shadow and snow in percent of what was seen; and "
          "compares the cloud with the mean that the scenes tell of themselves.",
          lambda subject: subject.area is not None and subject.classes is not None, _of_layer, limit="cloud"),
)  # fmt: skip
