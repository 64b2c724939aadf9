"""Band guides: for one instrument, file-name patterns, common names, wavelengths, pixel sizes, class codes."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cache, lru_cache
from importlib import resources
from pathlib import Path

from zoompick.errors import FactsError, UsageError
from zoompick.records import read_facts, refuse
from zoompick.sensors.classes import ClassTable, class_table
from zoompick.settings import own_files


@dataclass(frozen=True, slots=True)
class BandFacts:
    """One band: common name, pixel size in metres, centre wavelength in micrometres if it has one."""

    name: str
    pixel_m: float
    wavelength_um: float | None = None


@dataclass(frozen=True, slots=True)
class BandGuide:
    """What is known of an instrument before any file is opened.

    Without a ``file_pattern`` the names of its files tell no band; without a ``class_band`` it has no class layer.
    ``nodata`` is the value of missing pixels, for files of formats that have no place for one.
    """

    name: str
    collections: tuple[str, ...]
    bands: tuple[BandFacts, ...]
    classes: ClassTable
    file_pattern: str = ""
    class_band: str = ""
    scene_pattern: str = ""
    parts: Mapping[str, str] = field(default_factory=dict)
    nodata: float | None = None

    def parts_of(self, scene_id: str) -> list[tuple[str, str, str]]:
        """Name, text and meaning of each part of a scene's name; none when the name is of another kind."""
        match = re.match(self.scene_pattern, scene_id) if self.scene_pattern else None
        return [(name, match[name], self.parts.get(name, "")) for name in match.groupdict()] if match else []

    @property
    def band_names(self) -> tuple[str, ...]:
        """Common names of the spectral bands, then the class layer."""
        return (*(band.name for band in self.bands), *filter(None, (self.class_band,)))

    def band_of_file(self, file_name: str) -> str | None:
        """Band that a file's name tells, or None when the name is not of this instrument."""
        match = re.match(self.file_pattern, file_name) if self.file_pattern else None
        return match["band"] if match and match["band"] in self.band_names else None


@dataclass(frozen=True)
class _File:
    """A guide as a file tells it; ``classes`` are codes by meaning, or the name of a class table;
    ``bits`` are bits by meaning, where the class layer is one of bit fields."""

    name: str
    collections: tuple[str, ...] = ()
    file_pattern: str = ""
    class_band: str = ""
    scene_pattern: str = ""
    parts: dict[str, str] = field(default_factory=dict)
    band: tuple[BandFacts, ...] = ()
    classes: dict[str, tuple[int, ...]] | str = field(default_factory=dict)
    bits: dict[str, tuple[int, ...]] = field(default_factory=dict)
    nodata: float | None = None


def guides() -> tuple[BandGuide, ...]:
    """All guides: the user's own first, then those that come with the package.

    Raises
    ------
    FactsError
        One of the user's own cannot be used.
    """
    own = tuple((path, path.stat().st_mtime_ns) for path in own_files("guides"))
    return (*_own(own), *_shipped())


@lru_cache(maxsize=4)
def _own(files: tuple[tuple[Path, int], ...]) -> tuple[BandGuide, ...]:
    return tuple(_read(path) for path, _ in files)


@cache
def _shipped() -> tuple[BandGuide, ...]:
    with resources.as_file(resources.files("zoompick.sensors").joinpath("data")) as folder:
        return tuple(_read(path) for path in sorted(folder.glob("*.toml")))


def _read(path: Path) -> BandGuide:
    told = read_facts(path, _File)
    for key in ("file_pattern", "scene_pattern"):
        _compiled(path, key, getattr(told, key))
    if told.file_pattern and "band" not in re.compile(told.file_pattern).groupindex:
        raise refuse(path, "$.file_pattern", "The pattern has no group called band.", "As '^x-(?P<band>[a-z0-9]+)'.")
    return BandGuide(
        told.name, told.collections, told.band, _classes(path, told), told.file_pattern, told.class_band,
        told.scene_pattern, told.parts, told.nodata,
    )  # fmt: skip


def _compiled(path: Path, key: str, pattern: str) -> None:
    try:
        re.compile(pattern)
    except re.error as error:
        raise refuse(
            path, f"$.{key}", f"The pattern cannot be read: {error}.", "It is a regular expression."
        ) from error


def _classes(path: Path, told: _File) -> ClassTable:
    key = "$.bits" if told.bits else "$.classes"
    try:
        if told.bits:
            return ClassTable.of_bits(told.bits)
        return class_table(told.classes) if isinstance(told.classes, str) else ClassTable.of_codes(told.classes)
    except FactsError:
        raise
    except UsageError as error:
        if isinstance(told.classes, str):
            raise
        raise refuse(path, key, error.what, error.todo) from error


def guide_for_collection(collection: str) -> BandGuide | None:
    """Guide of the instrument that a collection holds."""
    return next((guide for guide in guides() if collection in guide.collections), None)


def guide_for_file(file_name: str) -> BandGuide | None:
    """Guide whose pattern the file name fits."""
    return next((guide for guide in guides() if guide.band_of_file(file_name)), None)


def known_bands(extra: Iterable[str] = ()) -> tuple[str, ...]:
    """Band names of all guides and ``extra`` ones, each once, in order."""
    names = [name for guide in guides() for name in guide.band_names]
    return tuple(dict.fromkeys([*names, *extra]))
