"""Names of tiles, map sheets and track/frames, both ways: a name's ground, and which pieces lie under an area.

The schemes are data (``data/schemes.toml``); this file knows three geometries, not what uses them.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field
from functools import cache, lru_cache
from importlib import resources
from pathlib import Path
from typing import Any, Literal

from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import LONLAT, Crs
from zoompick.geo.shapes import Shape, bounds_of, box_polygon, project
from zoompick.geo.sizes import shares
from zoompick.jsontypes import JsonMap
from zoompick.later import shapely
from zoompick.records import read_facts, refuse
from zoompick.settings import own_files

_EDGE_M = 1000.0


@dataclass(frozen=True, slots=True)
class Sheet:
    """A named piece of ground: the scheme it belongs to, its name, its outline in degrees."""

    scheme: str
    name: str
    polygon: Shape


@dataclass(frozen=True)
class Scheme:
    """One way of naming ground; ``facts`` are the numbers of its geometry."""

    name: str
    kind: str
    pattern: str
    label: str
    facts: JsonMap

    def named(self, text: str) -> Sheet | None:
        """The piece of this name, or None when the scheme has none."""
        match = re.fullmatch(self.pattern, text.strip().lower())
        if not match:
            return None
        wanted = text.strip().lower()
        return next((sheet for sheet in self._pieces() if sheet.name == wanted), None)

    def under(self, area: Shape) -> list[tuple[Sheet, float]]:
        """Pieces that touch an area, with the percent of the area that each covers, largest first."""
        sheets = list(self._pieces(bounds_of(area)))
        percents = 100 * shares(area, [sheet.polygon for sheet in sheets])
        found = [(sheet, float(percent)) for sheet, percent in zip(sheets, percents, strict=True) if percent > 0]
        return sorted(found, key=lambda entry: (-entry[1], entry[0].name))

    def _pieces(self, box: Bounds | None = None) -> Iterator[Sheet]:
        makers = {"squares": self._squares, "degrees": self._degrees, "frames": self._frames}
        yield from makers[self.kind](box)

    def _sheet(self, polygon: Shape, **parts: Any) -> Sheet:
        return Sheet(self.name, self.label.format(**parts), polygon)

    def _squares(self, box: Bounds | None) -> Iterator[Sheet]:
        step, size, wraps = self.facts["step_m"], self.facts["size_m"], self.facts["wraps"]
        whole = Bounds(*self.facts["within"])
        for zone, epsg in self.facts["zones"].items():
            crs = Crs(epsg)
            seen = _both(whole, box)
            if seen is None:
                return
            flat = bounds_of(project(box_polygon(seen), crs))
            for col in range(int((flat.west - size) // step) + 1, int(flat.east // step) + 1):
                for row in range(int((flat.south - size) // step) + 1, int(flat.north // step) + 1):
                    square = shapely.box(col * step, row * step, col * step + size, row * step + size)
                    outline = project(shapely.segmentize(square, _EDGE_M), LONLAT, crs)
                    parts = (col % wraps, row % wraps) if wraps else (col, row)
                    yield self._sheet(outline, zone=zone, col=parts[0], row=parts[1])

    def _degrees(self, box: Bounds | None) -> Iterator[Sheet]:
        facts = self.facts
        for col in range(facts["cols"]):
            for row in range(facts["rows"]):
                west, north = facts["west"] + col * facts["step_lon"], facts["north"] - row * facts["step_lat"]
                edges = (west, north - facts["step_lat"], west + facts["step_lon"], north)
                yield self._sheet(shapely.box(*edges), col="abcdefghijklmnopqrstuvwxyz"[col], row=row + 1)

    def _frames(self, box: Bounds | None) -> Iterator[Sheet]:
        facts, crs = self.facts, Crs(self.facts["epsg"])
        half_width, half_length = facts["width_m"] / 2, facts["length_m"] / 2
        for track in range(facts["tracks"][0], facts["tracks"][1] + 1):
            for frame in range(facts["frames"][0], facts["frames"][1] + 1):
                down = (frame - facts["frame"]) * facts["along_m"]
                x = facts["x_m"] + (track - facts["track"]) * facts["across_m"] - facts["lean"] * down
                y = facts["y_m"] - down
                lean = facts["lean"] * half_length
                corners = [
                    (x + lean - half_width, y + half_length), (x + lean + half_width, y + half_length),
                    (x - lean + half_width, y - half_length), (x - lean - half_width, y - half_length),
                ]  # fmt: skip
                outline = project(shapely.segmentize(shapely.Polygon(corners), _EDGE_M), LONLAT, crs)
                yield self._sheet(outline, track=track, frame=frame)


def _both(first: Bounds, second: Bounds | None) -> Bounds | None:
    if second is None:
        return first
    if not first.intersects(second):
        return None
    return Bounds(
        max(first.west, second.west),
        max(first.south, second.south),
        min(first.east, second.east),
        min(first.north, second.north),
    )


@dataclass(frozen=True)
class _Row:
    """A scheme as a file tells it; which numbers it needs depends on its kind."""

    name: str
    kind: Literal["squares", "degrees", "frames"]
    pattern: str
    label: str
    zones: dict[str, int] = field(default_factory=dict)
    within: tuple[float, ...] = ()
    step_m: float = 0
    size_m: float = 0
    wraps: int = 0
    west: float = 0
    north: float = 0
    step_lon: float = 0
    step_lat: float = 0
    cols: int = 0
    rows: int = 0
    epsg: int = 0
    track: int = 0
    frame: int = 0
    x_m: float = 0
    y_m: float = 0
    across_m: float = 0
    along_m: float = 0
    width_m: float = 0
    length_m: float = 0
    lean: float = 0
    tracks: tuple[int, ...] = ()
    frames: tuple[int, ...] = ()


@dataclass(frozen=True)
class _File:
    scheme: tuple[_Row, ...]


_NEEDED = {
    "squares": ("zones", "within", "step_m", "size_m"),
    "degrees": ("step_lon", "step_lat", "cols", "rows"),
    "frames": ("epsg", "across_m", "along_m", "width_m", "length_m", "tracks", "frames"),
}
"""What each kind cannot do without."""


def schemes() -> tuple[Scheme, ...]:
    """All schemes: those that come with the package, then the user's own.

    Raises
    ------
    FactsError
        One of the user's own cannot be used.
    """
    own = tuple((path, path.stat().st_mtime_ns) for path in own_files("schemes"))
    return (*_shipped(), *_own(own))


@cache
def _shipped() -> tuple[Scheme, ...]:
    with resources.as_file(resources.files("zoompick.area").joinpath("data/schemes.toml")) as path:
        return _read(path)


@lru_cache(maxsize=4)
def _own(files: tuple[tuple[Path, int], ...]) -> tuple[Scheme, ...]:
    return tuple(scheme for path, _ in files for scheme in _read(path))


def _read(path: Path) -> tuple[Scheme, ...]:
    found = []
    for number, row in enumerate(read_facts(path, _File).scheme):
        place = f"$.scheme[{number}]"
        missing = [key for key in _NEEDED[row.kind] if not getattr(row, key)]
        if missing:
            what = f"The scheme {row.name} tells no {missing[0]}."
            raise refuse(path, place, what, f"{row.kind} need {', '.join(_NEEDED[row.kind])}.")
        if row.within and len(row.within) != 4:
            raise refuse(path, f"{place}.within", "An extent has four numbers.", "West, south, east, north.")
        try:
            re.compile(row.pattern)
        except re.error as error:
            what = f"The pattern cannot be read: {error}."
            raise refuse(path, f"{place}.pattern", what, "It is a regular expression.") from error
        found.append(Scheme(row.name, row.kind, row.pattern, row.label, asdict(row)))
    return tuple(found)


def named(text: str) -> Sheet | None:
    """The piece of ground that any scheme calls ``text``, or None."""
    return next((sheet for scheme in schemes() if (sheet := scheme.named(text))), None)


def every_named(text: str) -> list[Sheet]:
    """The pieces of ground that schemes call ``text``, one a scheme, in their order."""
    return [sheet for scheme in schemes() if (sheet := scheme.named(text))]


def scheme_of(text: str) -> Scheme | None:
    """The scheme whose names look like ``text``, whether it has this one or not."""
    return next((scheme for scheme in schemes() if re.fullmatch(scheme.pattern, text.strip().lower())), None)
