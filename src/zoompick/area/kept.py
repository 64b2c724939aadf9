"""Areas kept by name for all studies, as GeoJSON files in the user's configuration folder."""

from __future__ import annotations

import re
from pathlib import Path

from zoompick.area.model import Area
from zoompick.area.read import read_area
from zoompick.errors import UnknownNameError, UsageError
from zoompick.files import write_json
from zoompick.settings import config_folder


def folder() -> Path:
    """Where they lie."""
    return config_folder() / "areas"


def names() -> list[str]:
    """Names of all kept areas."""
    return sorted(path.stem for path in folder().glob("*.geojson"))


def keep(area: Area, name: str, overwrite: bool = False) -> Path:
    """Keep an area under a name.

    Raises
    ------
    UsageError
        The name cannot be a file's, or is taken.
    """
    if not re.fullmatch(r"[a-z0-9][a-z0-9-]{0,59}", name):
        raise UsageError(f"'{name}' cannot be the name of a kept area.", "Use small letters, digits and hyphens.")
    path = folder() / f"{name}.geojson"
    if path.exists() and not overwrite:
        raise UsageError(f"An area called {name} is kept already.", "Give `overwrite` to replace it.")
    write_json(path, area.renamed(name).to_feature())
    return path


def load(name: str) -> Area:
    """A kept area; UnknownNameError when there is none of this name."""
    if name not in names():
        raise UnknownNameError.of("kept area", name, names())
    return read_area(folder() / f"{name}.geojson")


def forget(name: str) -> None:
    """Remove a kept area."""
    load(name)
    (folder() / f"{name}.geojson").unlink()
