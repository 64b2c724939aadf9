"""Deliveries as archives send them: a scene in a tar.gz, sheets in a tar of two parts, a file in bz2."""

from __future__ import annotations

import bz2
import gzip
import io
import json
import shutil
import tarfile
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from zoompick.geo.shapes import geojson_of


def tar_gz(files: Iterable[Path], target: Path, folder: str) -> None:
    """Files in one folder; the bytes do not depend on when it was made."""
    with (
        target.open("wb") as raw,
        gzip.GzipFile(filename="", fileobj=raw, mode="wb", mtime=0, compresslevel=1) as packed,
        tarfile.open(fileobj=packed, mode="w") as archive,
    ):
        for path in sorted(files):
            _add(archive, f"{folder}/{path.name}", path.read_bytes())


def tar_of_sheets(sheets: Mapping[str, tuple[Path, Any]], target: Path, parts: int = 2) -> list[Path]:
    """Sheets by name, each a file and its ground, with a tile index at the end, cut into numbered parts."""
    whole = target.with_name(f".{target.name}")
    with tarfile.open(whole, "w") as archive:
        rows = []
        for name, (path, ground) in sheets.items():
            _add(archive, f"sheets/{path.name}", path.read_bytes())
            told = {"sheet": name, "location": f"sheets/{path.name}"}
            rows.append({"type": "Feature", "properties": told, "geometry": geojson_of(ground)})
        index = json.dumps({"type": "FeatureCollection", "features": rows}).encode()
        _add(archive, "tile-index.geojson", index)
    size = -(-whole.stat().st_size // parts)
    found = []
    with whole.open("rb") as stream:
        for number in range(1, parts + 1):
            part = target.with_name(f"{target.name}.{number:03d}")
            with part.open("wb") as out:
                out.write(stream.read(size))
            found.append(part)
    whole.unlink()
    return found


def compressed(path: Path, target: Path) -> None:
    """One file in bzip2."""
    with path.open("rb") as source, bz2.open(target, "wb", compresslevel=1) as out:
        shutil.copyfileobj(source, out)


def _add(archive: tarfile.TarFile, name: str, data: bytes) -> None:
    info = tarfile.TarInfo(name)
    info.size = len(data)
    archive.addfile(info, io.BytesIO(data))
