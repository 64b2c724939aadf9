"""From files to bands: what each file holds, by common name, with scale and offset."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from zoompick.arrays import Pixels
from zoompick.bytesource import ByteSource
from zoompick.errors import UnknownNameError
from zoompick.later import np
from zoompick.raster.chosen import parted
from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.grid import Grid, Window
from zoompick.raster.hdf5 import is_hdf, variables_of
from zoompick.raster.opening import open_raster, source_of
from zoompick.raster.raster import Band, Derived, Raster, put_on
from zoompick.raster.ways import CLASS
from zoompick.scenes.bands import BandFile
from zoompick.scenes.identity import Told, disagreements, identified
from zoompick.scenes.items import band_files, scene_of
from zoompick.sensors.guide import BandGuide, guide_for_collection, guide_for_file, known_bands

OPTION = "option"


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
    def notes(self) -> tuple[str, ...]:
        """Those of the source, and what item and file tell otherwise of the band."""
        return (*super().notes, *disagreements(self._band))

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

    def flagged(self, is_class: bool, who: str = OPTION) -> Layer:
        """The layer, as one of classes where it is known to be; who told it."""
        band = self.raster.bands[0]
        if band.is_class or not is_class:
            return self
        raster, told = self.raster, (*band.told_by, ("classes", who))
        flagged = replace(band, is_class=True, told_by=told)
        return replace(self, raster=OneBand(raster.source, raster.index, flagged, raster.nodata))


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
        bare = Path(parted(str(path))[0])
        return [_in_container(raster, bare) for raster in variables_of(source, is_weighted)]
    raster, scene = open_raster(path), _scene_name(path)
    guide = guide_for_file(path.name)
    known = {band.index: band for band in band_files(path)}
    found = []
    for index, band in enumerate(raster.bands):
        item = known.get(index) if len(known) == len(raster.bands) else None
        is_bare = item is None and band.name == f"band{index + 1}" and len(raster.bands) == 1
        told = Told(item, guide or _guide_of_item(path), name_from(path) if is_bare else "")
        missing = known[index].nodata if index in known else guide.nodata if guide else None
        found.append(Layer(OneBand(raster, index, identified(band, told), missing), path, scene))
    return found


def band_in(source: ByteSource, file: BandFile) -> OneBand:
    """One band of a file, wherever that lies; of a container no more is read than its header and the band's chunks.

    Raises
    ------
    UnknownNameError
        The container has no variable of any name by which the item knows the band.
    """
    if not is_hdf(source.read(0, 8)):
        raster = open_raster(source)
        return OneBand(raster, file.index, raster.bands[file.index], file.nodata)
    found = {raster.bands[0].name: raster for raster in variables_of(source)}
    name = next((name for name in (file.own, file.name, file.key) if name in found), "")
    if not name:
        raise UnknownNameError.of("variable", file.own or file.name, list(found), f"It has {', '.join(found)}.")
    return OneBand(found[name], 0, found[name].bands[0], file.nodata)


def _in_container(raster: Raster, path: Path) -> Layer:
    """A variable of an HDF5 or netCDF file; what the item beside tells of its band takes precedence."""
    band = raster.bands[0]
    item = next((one for one in band_files(path) if band.name in (one.own, one.name)), None)
    named = identified(band, Told(item, guide_for_file(path.name) or _guide_of_item(path)))
    return Layer(OneBand(raster, 0, named, item.nodata if item else None), path, _scene_name(path))


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
