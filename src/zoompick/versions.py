"""Versions of this program, of Python, and of the packages that compute: bytes of products may depend on them."""

from __future__ import annotations

import platform
from collections.abc import Mapping
from functools import cache
from importlib import metadata

_COMPUTING = ("numpy", "scipy", "opencv-python-headless", "imagecodecs", "pyproj", "shapely")


def versions() -> dict[str, str]:
    """What computes here."""
    known = {name: metadata.version(name) for name in ("zoompick", *_COMPUTING)}
    return {"python": platform.python_version()} | known


@cache
def version_here() -> str:
    """Of this program."""
    return metadata.version("zoompick")


def differing(told: Mapping[str, str]) -> list[str]:
    """What has another version there than here, in words."""
    here = versions()
    return [f"{name} {told.get(name, 'none')} (here {version})"
            for name, version in here.items() if told.get(name) != version]  # fmt: skip
