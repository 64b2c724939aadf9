"""Coordinates as people paste them: degrees with or without minutes and letters, UTM, pieces of web addresses.

A pair without letters is read as latitude, longitude, which is what map programs and web addresses show. Where that
is impossible it is turned around, and said; where it is unlikely it is questioned.
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from zoompick.errors import AreaError, UsageError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import LONLAT, Crs, is_far_outside, transform, utm_zone

FORMS = (
    "Give a point as 38.61S 12.02W, as -38.61, -12.02 (latitude first), in degrees, minutes and seconds, "
    "in UTM: 28S 760000 5724000, or in a system: EPSG:32728 760000 5724000."
)
_NUMBER = r"[-+−]?\d+(?:\.\d+)?"
_UTM = re.compile(
    rf"(?i)^\s*(?:utm\s*)?(?:zone\s*)?(\d{{1,2}})\s*([c-hj-np-x])\s+({_NUMBER})\s*m?\s*e?[\s,/]+({_NUMBER})\s*m?\s*n?\s*$"
)
_DEGREES = rf"""
    (?P<deg>{_NUMBER}) \s* (?:[°ºd]|deg)? \s*
    (?: (?P<min>\d+(?:\.\d+)?) \s* ['′’m] \s* )?
    (?: (?P<sec>\d+(?:\.\d+)?) \s* (?:"|″|”|''|s(?=\s|$)) \s* )?
"""
_LETTER_FIRST = re.compile(rf"(?ix) (?P<letter>[nsew]) \s* {_DEGREES}")
_LETTER_LAST = re.compile(rf"(?ix) {_DEGREES} (?P<letter>[nsew](?![a-z]))?")
_SPACED = re.compile(r"(?i)(\d+)[\s:]+(\d+)[\s:]+(\d+(?:\.\d+)?)\s*([nsew])\b")
_MINUTES = re.compile(r"(?i)(?<![\d.])(\d{1,3})[\s:]+(\d{1,2}\.\d+)\s*([nsew])\b")
_MINUTES_LAST = re.compile(
    r"(?i)([nsew])\s*(\d{1,3})[\s:]+(\d{1,2}(?:\.\d+)?)(?:[\s:]+(\d{1,2}(?:\.\d+)?))?(?![\d.])"
)
_METRES = re.compile(r"(?i)\s*(?:epsg|srid)\s*[:=]?\s*(\d{4,6})\s*[;,:]?\s+(.+)", re.DOTALL)
_SIDES = re.compile(rf"(?i)(?:^|[?&#;\s])(north|south|east|west)\s*=\s*({_NUMBER})")
_COMMA = re.compile(r"(?<![\d.,])([-+−]?\d{1,3}),(\d+)(?![\d.,])")
_GEO = re.compile(r"(?i)\s*geo:([-+]?[\d.]+),([-+]?[\d.]+)(?:,[-+]?[\d.]+)?(?:;.*)?\s*")
_KEY = re.compile(r"(?i)\b(lon|lng|long|longitude|x|lat|latitude|y)\s*[=:]\s*([-+−]?\d+(?:[.,]\d+)?)")
_BOX = re.compile(
    rf"(?i).*\bbbox\s*=\s*\[?({_NUMBER})(?:,|%2C)({_NUMBER})(?:,|%2C)({_NUMBER})(?:,|%2C)({_NUMBER})\]?.*"
)
_MOST_TEXT = 200_000
_SEPARATORS = " \t,;/_@&+"
_NEAR_DEG = 5.0


@dataclass(frozen=True, slots=True)
class Point:
    """A place in degrees (WGS 84); ``note`` says what had to be supposed, empty when nothing had."""

    lon: float
    lat: float
    note: str = ""


@dataclass(frozen=True, slots=True)
class _Angle:
    value: float
    axis: str
    """``lat``, ``lon``, or nothing when no letter tells."""


def parse_point(text: str, likely: Sequence[Bounds] = ()) -> Point:
    """Read one point.

    Parameters
    ----------
    likely : sequence of Bounds
        Where the person's work lies, in degrees: a point far from all of it, but inside when turned around, is
        questioned in the note.

    Raises
    ------
    AreaError
        Not a point, or not on the globe.
    """
    named = _keyed(text)
    if named is not None:
        return named
    metres = _in_metres(text)
    if len(metres) == 1:
        return metres[0]
    utm = _UTM.match(text)
    if utm:
        return _from_utm(int(utm[1]), utm[2].upper(), _float(utm[3]), _float(utm[4]), text)
    angles = _angles(text)
    if len(angles) != 2:
        raise AreaError(f"'{text.strip()}' is not a point.", FORMS)
    return _pair(angles[0], angles[1], text, likely)


def _keyed(text: str) -> Point | None:
    """A point whose axes are named: ``lon=-12.02&lat=-38.61``, or a geo address; None for any other text.

    Source: RFC 5870, section 3.3 (latitude first).
    """
    geo = _GEO.fullmatch(text)
    if geo:
        return _checked(float(geo[2]), float(geo[1]), text)
    found = {key.lower()[:3]: _float(value.replace(",", ".")) for key, value in _KEY.findall(text)}
    lon = next((found[key] for key in ("lon", "lng", "x") if key in found), None)
    lat = next((found[key] for key in ("lat", "y") if key in found), None)
    return None if lon is None or lat is None else _checked(lon, lat, text)


def _checked(lon: float, lat: float, text: str) -> Point:
    if abs(lat) > 90 or abs(lon) > 180:
        raise AreaError(f"'{text.strip()}' is not on the globe (latitude {lat:g}, longitude {lon:g}).", FORMS)
    return Point(lon, lat)


def parse_box(text: str) -> tuple[float, float, float, float] | None:
    """West, south, east and north of ``bbox=-12.1,-38.7,-12,-38.6`` or ``north=…&south=…``; None for others."""
    sides = {side.lower(): _float(number) for side, number in _SIDES.findall(text[:2000])}
    if len(sides) == 4:
        return sides["west"], sides["south"], sides["east"], sides["north"]
    match = _BOX.fullmatch(text.strip()) if len(text) < 2000 else None
    return None if match is None else (_float(match[1]), _float(match[2]), _float(match[3]), _float(match[4]))


def four_numbers(text: str) -> list[str]:
    """The numbers of a text that is nothing but four of them; else none."""
    is_plain = len(text) < 200 and re.fullmatch(r"[\s\d.,;+\-−]+", text)
    found = re.findall(_NUMBER, text) if is_plain else []
    return found if len(found) == 4 else []


def parse_corners(text: str, likely: Sequence[Bounds] = ()) -> list[Point]:
    """Read a list of points: one a line, or parted by semicolons, or numbers in pairs.

    Raises
    ------
    AreaError
        A corner that is no point, or fewer than three.
    """
    points = _in_metres(text)
    pieces = [piece for piece in re.split(r"[;\n]+", text) if piece.strip()]
    if not points and len(pieces) == 1:
        angles = _angles(text)
        if len(angles) % 2:
            raise AreaError(f"{len(angles)} numbers do not make corners.", "A corner has two: latitude, longitude.")
        points = _pairs([(angles[n], angles[n + 1]) for n in range(0, len(angles), 2)], text, likely)
    elif not points:
        points = _of_pieces(pieces, text, likely)
    if len(points) < 3:
        raise AreaError(f"{len(points)} corners do not make an area.", "Give three or more, parted by semicolons.")
    return points


def is_list(text: str) -> bool:
    """True for a text of three pairs of numbers or more."""
    if (metres := _METRES.fullmatch(text)) is not None:
        return len(re.findall(_NUMBER, metres[2])) >= 6
    return "://" not in text and not _UTM.match(text) and len(re.findall(r"[-+−]?\d+\.\d+", text)) >= 6


def _of_pieces(pieces: Sequence[str], text: str, likely: Sequence[Bounds]) -> list[Point]:
    """Points one a piece; where all are plain pairs they are read in one order."""
    try:
        angles = [_angles(piece) for piece in pieces]
    except AreaError:
        angles = []
    if angles and all(len(pair) == 2 for pair in angles) and not any(_keyed(piece) for piece in pieces):
        return _pairs([(first, second) for first, second in angles], text, likely)
    return [parse_point(piece, likely) for piece in pieces]


def _pairs(pairs: Sequence[tuple[_Angle, _Angle]], text: str, likely: Sequence[Bounds]) -> list[Point]:
    """Corners of one list, all read in one order: latitude first, unless letters or the whole list tell otherwise."""
    lettered = any(angle.axis for pair in pairs for angle in pair)
    if not lettered:
        shown = text.strip() if len(text) < 80 else f"{text.strip()[:60]} …"
        impossible = any(abs(first.value) > 90 for first, _ in pairs)
        is_far = all(is_unlikely(second.value, first.value, likely) for first, second in pairs)
        if (impossible or is_far) and all(abs(second.value) <= 90 for _, second in pairs):
            why = "the first of a pair cannot be a latitude" if impossible else (
                "the other way round it would lie far from all you work with")  # fmt: skip
            note = f"'{shown}' was read as longitude, latitude: {why}."
            return [replace(_pair(second, first, text, ()), note=note) for first, second in pairs]
    return [_pair(first, second, text, likely) for first, second in pairs]


def _in_metres(text: str) -> list[Point]:
    """Points of a system that is named in front: ``EPSG:32728 756000 5715000``; nothing of another text.

    Raises
    ------
    AreaError
        A system that is not known, numbers that make no pairs, or lie outside it.
    """
    match = _METRES.fullmatch(text)
    if match is None or len(text) > _MOST_TEXT:
        return []
    numbers = [_float(number) for number in re.findall(_NUMBER, match[2])]
    if not numbers or len(numbers) % 2:
        raise AreaError(f"The numbers in '{text.strip()[:80]}' make no pairs.", "Give pairs: easting, northing.")
    try:
        system = Crs.parse(match[1])
    except UsageError as error:
        raise AreaError(f"'{text.strip()[:80]}' names a system that is not known: {match[1]}.", error.todo) from error
    found = []
    for east, north in zip(numbers[::2], numbers[1::2], strict=True):
        lon, lat = (float(value) for value in transform(east, north, system, LONLAT))
        if not (math.isfinite(lon) and math.isfinite(lat)) or is_far_outside(system, lon, lat):
            raise AreaError(
                f"{east:.10g}, {north:.10g} lies far outside EPSG:{system.epsg}.", "The easting comes first."
            )
        found.append(Point(lon, lat))
    return found


def looks_like_coordinates(text: str) -> bool:
    """True when a text can only be meant as numbers: names have other letters. A web address may hold some."""
    if len(text) > _MOST_TEXT:
        return False
    if (
        _METRES.fullmatch(text)
        or _GEO.fullmatch(text)
        or parse_box(text)
        or len({key.lower()[:2] for key, _ in _KEY.findall(text)}) == 2
    ):
        return True
    if "://" in text:
        return len(_fractions(text)) >= 2
    plain = re.sub(r"(?i)\b(deg|utm|zone)\b", "", text)
    if _UTM.match(plain):
        return True
    return bool(re.fullmatch(r"(?i)[\s\d.,;:/@+\-−°º'′’\"″”dmnsew]+", plain)) and len(re.findall(_NUMBER, plain)) >= 2


def _fractions(address: str) -> list[str]:
    """Numbers with a fraction in a web address, behind its host, which may be numbers too."""
    return re.findall(r"[-+−]?\d+\.\d+", re.sub(r"^\s*[a-zA-Z][\w+.-]*://[^/?#]*", "", address))


def _float(text: str) -> float:
    return float(text.replace("−", "-"))


def _angles(text: str) -> list[_Angle]:
    """All angles of a text, in order; AreaError when something between them is no part of one."""
    if len(text) > _MOST_TEXT:
        raise AreaError(f"A text of {len(text)} signs is no list of corners.", FORMS)
    rest = _SPACED.sub(lambda m: f"{m[1]}°{m[2]}'{m[3]}\"{m[4]}", _with_points(text.strip()))
    rest = _MINUTES.sub(lambda m: f"{m[1]}°{m[2]}'{m[3]}", rest)
    if re.match(r"(?i)[nsew]\s*\d", rest) and not re.search(r"(?i)[\d'\"]\s*[nsew]$", rest):
        # Letters in front: what follows degrees are minutes, and then seconds.
        rest = _MINUTES_LAST.sub(lambda m: f"{m[1]}{m[2]}°{m[3]}'" + (f'{m[4]}"' if m[4] else ""), rest)
    if "://" in rest:
        # Out of a web address: the first two numbers with a fraction are the place, later ones the zoom.
        rest = " ".join(_fractions(rest)[:2])
    found = []
    while rest:
        match = _LETTER_FIRST.match(rest) or _LETTER_LAST.match(rest)
        if not match or not match[0].strip():
            raise AreaError(f"'{rest}' in '{text.strip()}' is no coordinate.", FORMS)
        found.append(_angle(match))
        rest = rest[match.end() :].lstrip(_SEPARATORS)
    return found


def _with_points(text: str) -> str:
    """A text whose fractions have points: where two have decimal commas, and nothing else parts numbers by commas."""
    found = _COMMA.findall(text)
    apart = _COMMA.sub(" ", text)
    if len(found) >= 2 and len(found) % 2 == 0 and "." not in text and "," not in apart and len(text.split()) >= 2:
        return _COMMA.sub(r"\1.\2", text)
    return text


def _angle(match: re.Match[str]) -> _Angle:
    degrees = _float(match["deg"])
    minutes, seconds = float(match["min"] or 0), float(match["sec"] or 0)
    if minutes >= 60 or seconds >= 60:
        raise AreaError(f"'{match[0].strip()}' has 60 or more minutes or seconds.", FORMS)
    value = math.copysign(abs(degrees) + minutes / 60 + seconds / 3600, degrees if degrees else 1)
    if match["deg"].lstrip().startswith(("-", "−")):
        value = -abs(value)
    letter = (match["letter"] or "").lower()
    if letter in ("s", "w"):
        value = -abs(value)
    return _Angle(value, {"n": "lat", "s": "lat", "e": "lon", "w": "lon"}.get(letter, ""))


def _pair(first: _Angle, second: _Angle, text: str, likely: Sequence[Bounds]) -> Point:
    shown = text.strip()
    if first.axis and first.axis == second.axis:
        raise AreaError(f"'{shown}' names the same axis twice.", FORMS)
    if first.axis == "lon" or second.axis == "lat":
        first, second = second, first
    lettered = bool(first.axis or second.axis)
    lat, lon = first.value, second.value
    note = ""
    if abs(lat) > 90 and abs(lon) <= 90 and not lettered:
        lat, lon = lon, lat
        note = f"'{shown}' was read as longitude, latitude: {first.value:g} cannot be a latitude."
    if abs(lat) > 90 or abs(lon) > 180:
        raise AreaError(f"'{shown}' is not on the globe (latitude {lat:g}, longitude {lon:g}).", FORMS)
    if not lettered and not note and is_unlikely(lon, lat, likely):
        note = (
            f"'{shown}' was read as latitude {lat:g}, longitude {lon:g}, far from all you work with; "
            f"turned around it would lie near it. With letters there is no doubt: 38.61S 12.02W."
        )
    return Point(lon, lat, note)


def is_unlikely(lon: float, lat: float, likely: Sequence[Bounds]) -> bool:
    """True for a point far from all of some boxes that lies near one of them when it is turned around."""

    def near(x: float, y: float) -> bool:
        return any(
            box.west - _NEAR_DEG <= x <= box.east + _NEAR_DEG and box.south - _NEAR_DEG <= y <= box.north + _NEAR_DEG
            for box in likely
        )

    return abs(lon) <= 90 and near(lat, lon) and not near(lon, lat)


def _from_utm(zone: int, letter: str, easting: float, northing: float, text: str) -> Point:
    """A UTM position. The letter is a hemisphere (N, S) or a latitude band (C to X); S and N may be either."""
    if not 1 <= zone <= 60:
        raise AreaError(f"There is no UTM zone {zone} in '{text.strip()}'.", "Zones run from 1 to 60.")
    if not (100_000 <= easting <= 1_000_000 and 0 <= northing <= 10_000_000):
        raise AreaError(
            f"Easting {easting:g}, northing {northing:g} in '{text.strip()}' lie outside a UTM zone.",
            "Eastings run from 100000 to 1000000, northings from 0 to 10000000; the easting comes first.",
        )
    is_north = letter >= "N" and letter != "S"
    note = ""
    if letter == "S" and 3_540_000 <= northing <= 4_430_000:
        note = f"The S of {zone}S was read as south of the equator, not as latitude band S."
    lon, lat = transform(easting, northing, utm_zone(zone, is_north), LONLAT)
    if not (math.isfinite(float(lon)) and math.isfinite(float(lat))):
        raise AreaError(f"'{text.strip()}' lies outside its UTM zone.", FORMS)
    return Point(float(lon), float(lat), note)
