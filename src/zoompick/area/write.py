"""Write an area in any open format that is read, where that format can hold it."""

from __future__ import annotations

import io
import os
import zipfile
from collections.abc import Callable
from pathlib import Path

from zoompick.area.geopackage import write_geopackage
from zoompick.area.gpx import gpx_text
from zoompick.area.kml import kml_text
from zoompick.area.model import Area
from zoompick.area.shapefile import write_shapefile
from zoompick.area.wkt import wkt_text
from zoompick.errors import UnknownNameError
from zoompick.files import (
    database_errors,
    refuse_existing,
    take_name,
    temporary_beside,
    write_json,
    write_text,
    writing,
)


def write_area(area: Area, path: Path, overwrite: bool = False) -> None:
    """Write ``area``; the ending of the name says how: .geojson .json .kml .kmz .gpx .wkt .zip .gpkg.

    Raises
    ------
    UsageError
        There is a file already, or the ending is none of these.
    AreaError
        The format cannot hold it (GPX has no holes).
    """
    writer = _WRITERS.get(path.suffix.lower())
    if writer is None:
        raise UnknownNameError.of(
            "area format", path.suffix.lower() or path.name, _WRITERS, "A shapefile goes into a .zip."
        )
    refuse_existing([path], overwrite)
    writer(area, path)


def _kml(area: Area, path: Path) -> None:
    write_text(path, kml_text(area))


def _kmz(area: Area, path: Path) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("doc.kml", kml_text(area))
    with writing(path) as out:
        out.write(packed.getvalue())


def _gpx(area: Area, path: Path) -> None:
    write_text(path, gpx_text(area))


def _wkt(area: Area, path: Path) -> None:
    write_text(path, wkt_text(area))


def _zip(area: Area, path: Path) -> None:
    _through_a_temporary(path, lambda part: write_shapefile(area, part, path.stem))


def _gpkg(area: Area, path: Path) -> None:
    _through_a_temporary(path, lambda part: write_geopackage(area, part))


def _through_a_temporary(path: Path, write: Callable[[Path], None]) -> None:
    """For libraries that want a path of their own: they get one beside the target, which then takes its name."""
    handle, part = temporary_beside(path)
    os.close(handle)
    named = part.with_name(f"{part.name}{path.suffix}")
    try:
        with database_errors(path):
            write(named)
            take_name(named, path)
    finally:
        part.unlink(missing_ok=True)
        named.unlink(missing_ok=True)


_WRITERS: dict[str, Callable[[Area, Path], None]] = {
    ".geojson": lambda area, path: write_json(path, area.to_feature()),
    ".json": lambda area, path: write_json(path, area.to_feature()),
    ".kml": _kml,
    ".kmz": _kmz,
    ".gpx": _gpx,
    ".wkt": _wkt,
    ".zip": _zip,
    ".gpkg": _gpkg,
}
