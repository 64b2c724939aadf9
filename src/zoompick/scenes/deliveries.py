"""From files to bands: what each file holds, by common name, with scale and offset."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from zoompick.arrays import Pixels
from zoompick.later import np
from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.grid import Grid, Window
from zoompick.raster.hdf5 import is_hdf, variables_of
from zoompick.raster.opening import open_raster, source_of
from zoompick.raster.raster import Band, Derived, Raster, put_on
from zoompick.raster.ways import CLASS
from zoompick.scenes.items import band_files, scene_of
from zoompick.scenes.scene import CLASS_BAND
from zoompick.sensors.guide import BandGuide, guide_for_collection, guide_for_file, known_bands


class OneBand(Derived):
    """One band of a raster as a raster of its own, with a name, scale and offset it may be given."""

    def __init__(self, source: Raster, index: int, band: Band, nodata: float | None = None) -> None:
        if band.is_class and not source.bands[index].is_class:
            # A turned image is resampled as it is read, and knows no more of its bands than the file tells.
            source = put_on(source, source.grid, CLASS) or source
        super().__init__(source)
        self.index = index
        self._band = band
        self._nodata = nodata if source.nodata is None else source.nodata

    @property
    def nodata(self) -> float | None:
        """The source's no-data value; where it has none, the one it was given."""
        return self._nodata

    @property
    def bands(self) -> tuple[Band, ...]:
        """The one band."""
        return (self._band,)

    @property
    def levels(self) -> tuple[Grid, ...]:
        """The source's overviews: no pixel is changed."""
        return self.source.levels

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of the one band."""
        pixels = self.source.read(window, (self.index,), level)
        if self.source.nodata is None and self._nodata is not None:
            _blank_outside(pixels, window, self.source.levels[level], self._nodata)
        return pixels

    def put_on(self, grid: Grid, way: str = "bilinear") -> OneBand | None:
        """See :func:`zoompick.raster.raster.put_on`."""
        carried = put_on(self.source, grid, way)
        return None if carried is None else OneBand(carried, self.index, self._band, self._nodata)

    def coded(self, window: Window, band: int) -> CodedBlock | None:
        """The source's block; see :meth:`zoompick.raster.coded.HasBlocks.coded`."""
        return coded_block(self.source, window, self.index)


def _blank_outside(pixels: Pixels, window: Window, grid: Grid, nodata: float) -> None:
    """Pixels of a window that lie off a raster which knows no no-data value become it."""
    inside = window.intersect(grid.window)
    if inside == window:
        return
    outside = np.ones(pixels.shape[1:], bool)
    if not inside.is_empty:
        outside[inside.slices_in(window)] = False
    pixels[:, outside] = nodata


@dataclass(frozen=True)
class Layer:
    """A band found in a file.

    Attributes
    ----------
    scene : str
        What layers of one scene share: the item beside their files, else what is left of the file's name without the
        band.
    """

    raster: OneBand
    path: Path
    scene: str = ""

    @property
    def name(self) -> str:
        """Common name."""
        return self.raster.bands[0].name

    @property
    def is_class(self) -> bool:
        """True when it holds classes."""
        return self.raster.bands[0].is_class

    def flagged(self, is_class: bool) -> Layer:
        """The layer, as one of classes where it is known to be."""
        band = self.raster.bands[0]
        if band.is_class or not is_class:
            return self
        raster = self.raster
        return replace(self, raster=OneBand(raster.source, raster.index, replace(band, is_class=True), raster.nodata))


def open_layers(paths: Iterable[Path], is_weighted: bool = False) -> list[Layer]:
    """All bands of the files, in the order given.

    The names of bands come from the catalogue item beside the file, else from the file itself, else, for a single
    band, from a guide whose file names fit, else from the last word of the file's name.

    Scale and offset come from the item, else the file.

    Parameters
    ----------
    is_weighted : bool
        Pixels of swaths are means by inverse distance of those about them; else the nearest counts.

    Raises
    ------
    DataError, FormatError
    """
    return [layer for path in paths for layer in _layers_of(path, is_weighted)]


def _layers_of(path: Path, is_weighted: bool) -> list[Layer]:
    source = source_of(path)
    if is_hdf(source.read(0, 8)):
        return [_in_container(raster, path) for raster in variables_of(source, is_weighted)]
    tiff, guide, scene = open_raster(path), guide_for_file(path.name), _scene_name(path)
    optics_of = guide or _guide_of_item(path)
    class_band = guide.class_band if guide else ""
    known = {band.index: band for band in band_files(path)}
    found = []
    for index, band in enumerate(tiff.bands):
        missing = known[index].nodata if index in known else guide.nodata if guide else None
        if index in known and len(known) == len(tiff.bands):
            told = known[index]
            is_class = band.is_class or bool(told.classes)
            optics = (told.wavelength_um or band.wavelength_um, told.width_um or band.width_um)
            band = Band(told.name, told.scale, told.offset, band.unit, is_class, *optics)
        elif band.name == f"band{index + 1}" and len(tiff.bands) == 1:
            band = replace(band, name=name_from(path))
        if band.name in (CLASS_BAND, class_band):
            band = replace(band, is_class=True)
        found.append(Layer(OneBand(tiff, index, _as_guided(band, optics_of), missing), path, scene))
    return found


def _as_guided(band: Band, guide: BandGuide | None) -> Band:
    """A band with the wavelength that a guide tells, which counts before what item and file tell."""
    told = next((one.wavelength_um for one in guide.bands if one.name == band.name), None) if guide else None
    return band if told is None else replace(band, wavelength_um=told)


def _in_container(raster: Raster, path: Path) -> Layer:
    """A variable of an HDF5 or netCDF file; what the item beside tells of its band takes precedence."""
    band = raster.bands[0]
    told = next((one for one in band_files(path) if band.name in (one.own, one.name)), None)
    if told is not None:
        scaled = (told.scale, told.offset) if (told.scale, told.offset) != (1.0, 0.0) else (band.scale, band.offset)
        band = replace(
            band, name=told.name, scale=scaled[0], offset=scaled[1], is_class=band.is_class or bool(told.classes),
            wavelength_um=told.wavelength_um or band.wavelength_um, width_um=told.width_um or band.width_um,
        )  # fmt: skip
    band = replace(band, is_class=band.is_class or band.name == CLASS_BAND)
    return Layer(OneBand(raster, 0, band, told.nodata if told else None), path, _scene_name(path))


def _guide_of_item(path: Path) -> BandGuide | None:
    """Of the collection of the item beside a file."""
    scene = scene_of(path)
    return guide_for_collection(scene.collection) if scene is not None else None


def _scene_name(path: Path) -> str:
    """What files of one scene share."""
    scene = scene_of(path)
    if scene is not None:
        return "/".join(scene.key)
    words = re.split(r"([-_. ])", path.stem)
    left = [word for word in words if word.lower() not in known_bands()]
    return f"{path.parent}/{''.join(left if len(left) < len(words) else words).strip('-_. ')}"


def name_from(path: Path) -> str:
    """Band that a file's name tells: by a guide's pattern, or by its last word; else the name itself."""
    guide = guide_for_file(path.name)
    if guide is not None:
        return guide.band_of_file(path.name) or path.stem
    word = re.split(r"[-_. ]", path.stem.lower())[-1]
    return word if word in known_bands() else path.stem
