"""Band guides: for one instrument, file-name patterns, common names, wavelengths, pixel sizes, class codes."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cache
from importlib import resources

from zoompick.sensors.classes import ClassTable


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
    """

    name: str
    collections: tuple[str, ...]
    bands: tuple[BandFacts, ...]
    classes: ClassTable
    file_pattern: str = ""
    class_band: str = ""
    scene_pattern: str = ""
    parts: Mapping[str, str] = field(default_factory=dict)

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


@cache
def guides() -> tuple[BandGuide, ...]:
    """All guides that come with the package."""
    folder = resources.files("zoompick.sensors").joinpath("data")
    return tuple(
        _read(entry.read_text(encoding="utf-8"))
        for entry in sorted(folder.iterdir(), key=lambda entry: entry.name)
        if entry.name.endswith(".toml")
    )


def _read(text: str) -> BandGuide:
    table = tomllib.loads(text)
    return BandGuide(
        name=table["name"],
        collections=tuple(table["collections"]),
        file_pattern=table.get("file_pattern", ""),
        class_band=table.get("class_band", ""),
        bands=tuple(BandFacts(**entry) for entry in table.get("band", ())),
        scene_pattern=table.get("scene_pattern", ""),
        parts=table.get("parts", {}),
        classes=ClassTable(**{role: frozenset(codes) for role, codes in table.get("classes", {}).items()}),
    )


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
