"""JP2 files of the archive, and packages of them."""

from __future__ import annotations

import zipfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from zoompick.raster import jp2write
from zoompick.raster.grid import Grid
from zoompick.raster.raster import Band
from zoompick.standin.lapwing import Plain


def write_jp2(pixels: Any, grid: Grid, path: Path) -> None:
    """Write one band, uint8 or uint16 of shape (rows, cols), without loss."""
    jp2write.write_jp2(Plain(pixels[None], grid, (Band("band1"),), 0), path)


def zipped(files: Mapping[str, Path], target: Path) -> None:
    """Files under their names in a zip, as they are; the bytes do not depend on when it was made."""
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED) as archive:
        for name, path in files.items():
            archive.writestr(zipfile.ZipInfo(name), path.read_bytes())
