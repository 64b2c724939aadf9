"""Which members of a delivery lie where: by the tile index inside it, or by the names of its files."""

from __future__ import annotations

import io
import itertools
import re
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path, PurePosixPath

from zoompick.area import sheets
from zoompick.area.shapefile import read_shapefile
from zoompick.errors import AreaError, ZoomPickError
from zoompick.files import parse_json
from zoompick.geo.shapes import Shape, polygon_of
from zoompick.jsontypes import JsonMap
from zoompick.later import shapely
from zoompick.scenes.archives import Archive, Member

_PARTS = (".shp", ".shx", ".dbf", ".prj", ".cpg")
_MOST_INDEX_BYTES = 64 << 20


def placed(archive: Archive, members: Sequence[Member]) -> tuple[dict[str, Shape], str]:
    """Footprints of members by name, in longitude/latitude, and what told them (for people).

    The index is a GeoJSON or a shapefile among the members one of whose columns names other members. Without one,
    the names of sheets, tiles or frames in the files' names are taken.
    """
    for index, told in _indices(archive, members):
        found = _by_column(told, members)
        if found:
            return found, f"its tile index {index}"
    by_name = {member.name: shape for member in members if (shape := _by_name(member.path)) is not None}
    return by_name, "the names of its files" if by_name else ""


def _indices(archive: Archive, members: Sequence[Member]) -> list[tuple[str, list[tuple[Shape, JsonMap]]]]:
    found = []
    candidates = [m for m in members if m.path.suffix.lower() in (*_PARTS, ".geojson", ".json")]
    candidates = [m for m in candidates if 0 <= m.size <= _MOST_INDEX_BYTES]
    if not candidates:
        return []
    data = read_members(archive, candidates)
    for member in candidates:
        suffix = member.path.suffix.lower()
        try:
            if suffix in (".geojson", ".json"):
                found.append((member.name, _of_geojson(data[member.name])))
            elif suffix == ".shp":
                found.append((member.name, _of_shapefile(member, data)))
        except (ZoomPickError, ValueError, KeyError):
            continue
    return found


def read_members(archive: Archive, members: Sequence[Member]) -> dict[str, bytes]:
    """Bytes of a few small members by name."""
    names, held = {member.name for member in members}, {}

    class Kept(io.BytesIO):
        def __init__(self, name: str) -> None:
            super().__init__()
            self._name = name

        def close(self) -> None:
            held[self._name] = self.getvalue()
            super().close()

    archive.extract(lambda member: Kept(member.name) if member.name in names else None, lambda count: None)
    return held


def _of_geojson(data: bytes) -> list[tuple[Shape, JsonMap]]:
    features = parse_json(data.decode("utf-8-sig"))["features"]
    return [(polygon_of(feature["geometry"]), feature.get("properties") or {}) for feature in features]


def _of_shapefile(member: Member, data: Mapping[str, bytes]) -> list[tuple[Shape, JsonMap]]:
    stem = member.name[: -len(".shp")]
    with tempfile.TemporaryDirectory() as folder:
        for name, content in data.items():
            if name[: -len(PurePosixPath(name).suffix)] == stem and PurePosixPath(name).suffix.lower() in _PARTS:
                (Path(folder) / f"index{PurePosixPath(name).suffix.lower()}").write_bytes(content)
        features, _ = read_shapefile(Path(folder) / "index.shp")
    return [(feature.polygon, feature.attributes) for feature in features]


def _by_column(rows: Sequence[tuple[Shape, JsonMap]], members: Sequence[Member]) -> dict[str, Shape]:
    """The column whose values name most members tells which footprint is whose."""
    names = {member.path.name.lower(): member.name for member in members}
    stems = {member.path.stem.lower(): member.name for member in members if not _is_index(member)}
    best: dict[str, Shape] = {}
    for column in {key for _, row in rows for key in row}:
        found: dict[str, Shape] = {}
        for shape, row in rows:
            word = PurePosixPath(str(row.get(column, "")).replace("\\", "/")).name.lower()
            name = names.get(word) or stems.get(word)
            if name:
                found[name] = shape
        best = found if len(found) > len(best) else best
    return best


def _is_index(member: Member) -> bool:
    return member.path.suffix.lower() in (*_PARTS, ".geojson", ".json")


def _by_name(path: PurePosixPath) -> Shape | None:
    """Ground of a sheet, tile or frame whose name stands in a file's name."""
    words = re.split(r"[_. ]", path.stem.lower())
    joined = [f"{first}-{second}" for word in words for first, second in itertools.pairwise(word.split("-"))]
    pieces = [*words, *joined, *(part for word in words for part in word.split("-"))]
    for piece in pieces:
        try:
            sheet = sheets.named(piece)
        except AreaError:
            continue
        if sheet is not None:
            return sheet.polygon
    return None


def touching(footprints: Mapping[str, Shape], area: Shape) -> set[str]:
    """Names of the members whose ground touches an area; a point touches too."""
    shapely.prepare(area)
    return {name for name, shape in footprints.items() if area.intersects(shape)}
