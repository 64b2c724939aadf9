"""From files to bands: what each file holds, by common name, with scale and offset."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from zoompick.imagery.items import band_files
from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.grid import Grid, Window
from zoompick.raster.opening import open_raster
from zoompick.raster.raster import Band, Derived, Pixels, Raster
from zoompick.sensors.guide import guide_for_file, known_bands


class OneBand(Derived):
    """One band of a raster as a raster of its own, with a name, scale and offset it may be given."""

    def __init__(self, source: Raster, index: int, band: Band) -> None:
        super().__init__(source)
        self.index = index
        self._band = band

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
        return self.source.read(window, (self.index,), level)

    def coded(self, window: Window, band: int) -> CodedBlock | None:
        """The source's block; see :meth:`zoompick.raster.coded.HasBlocks.coded`."""
        return coded_block(self.source, window, self.index)


@dataclass(frozen=True)
class Layer:
    """A band found in a file."""

    raster: OneBand
    path: Path

    @property
    def name(self) -> str:
        """Common name."""
        return self.raster.bands[0].name


def open_layers(paths: Iterable[Path]) -> list[Layer]:
    """All bands of the files, in the order given.

    The names of bands come from the catalogue item beside the file, else from the file itself, else, for a single
    band, from a guide whose file names fit, else from the last word of the file's name.

    Scale and offset come from the item, else the file.

    Raises
    ------
    DataError, FormatError
    """
    return [layer for path in paths for layer in _layers_of(path)]


def _layers_of(path: Path) -> list[Layer]:
    tiff = open_raster(path)
    known = {band.index: band for band in band_files(path)}
    found = []
    for index, band in enumerate(tiff.bands):
        if index in known and len(known) == len(tiff.bands):
            band = Band(known[index].name, known[index].scale, known[index].offset, band.unit)
        elif band.name == f"band{index + 1}" and len(tiff.bands) == 1:
            band = replace(band, name=_name_from(path))
        found.append(Layer(OneBand(tiff, index, band), path))
    return found


def _name_from(path: Path) -> str:
    """Band that a file's name tells: by a guide's pattern, or by its last word; else the name itself."""
    guide = guide_for_file(path.name)
    if guide is not None:
        return guide.band_of_file(path.name) or path.stem
    word = re.split(r"[-_. ]", path.stem.lower())[-1]
    return word if word in known_bands() else path.stem
