"""Areas that are kept for all studies, places by name, and the sheets an area lies on."""

from __future__ import annotations

from pathlib import Path

from zoompick.area import kept as areas
from zoompick.area import places
from zoompick.area.model import Area
from zoompick.area.places import Place
from zoompick.study.areas import Under, where


def keep_area(area: Area, name: str, overwrite: bool = False) -> Path:
    """Keep an area under a name, for all studies; :func:`kept_area` gives it back."""
    return areas.keep(area, name, overwrite)


def kept_area(name: str) -> Area:
    """The area that is kept under a name."""
    return areas.load(name)


def kept_areas() -> list[str]:
    """Names of all areas that are kept."""
    return areas.names()


def forget_area(name: str) -> None:
    """Keep an area no longer."""
    areas.forget(name)


def places_called(name: str) -> Place:
    """A place of the gazetteers by its name; UnknownNameError tells near ones."""
    return places.named(name)


def sheets_under(area: Area) -> list[Under]:
    """Map sheets and tiles of all schemes that an area lies on."""
    return where(area)
