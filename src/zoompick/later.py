"""Large libraries, each loaded when something of it is first asked for, so that commands that only read records start
at once.

Whoever needs one takes it from here: ``from zoompick.later import np, shapely``.
"""

from __future__ import annotations

import importlib
from types import ModuleType
from typing import TYPE_CHECKING, Any

__all__ = [
    "Image", "ImageDraw", "ImageFont", "affinity", "compute", "cv2", "distributed", "filelock", "gpxpy", "h5py",
    "imagecodecs", "jinja2", "msgspec", "ndimage", "np", "npt", "obstore", "optimize", "parquet", "pyarrow",
    "pyproj", "request", "saxutils", "scipy_io", "shapefile", "shapely", "spatial", "sqlite3", "tarfile", "tifffile",
    "urllib3",
]  # fmt: skip


class _Later(ModuleType):
    """A module that becomes the real one when something of it is asked for; safe to use from several threads."""

    def __getattr__(self, name: str) -> Any:
        found = getattr(importlib.import_module(self.__name__), name)
        setattr(self, name, found)
        return found


if TYPE_CHECKING:
    import sqlite3
    import tarfile
    from urllib import request
    from xml.sax import saxutils

    import cv2
    import distributed
    import filelock
    import gpxpy
    import h5py
    import imagecodecs
    import jinja2
    import msgspec
    import numpy as np
    import numpy.typing as npt
    import obstore
    import pyarrow
    import pyproj
    import shapefile
    import shapely
    import tifffile
    import urllib3
    from PIL import Image, ImageDraw, ImageFont
    from pyarrow import compute, parquet
    from scipy import io as scipy_io
    from scipy import ndimage, optimize, spatial
    from shapely import affinity
else:
    _ELSEWHERE = {
        "affinity": "shapely.affinity", "np": "numpy", "npt": "numpy.typing", "compute": "pyarrow.compute",
        "parquet": "pyarrow.parquet", "request": "urllib.request", "saxutils": "xml.sax.saxutils",
        "scipy_io": "scipy.io",
        **{name: f"scipy.{name}" for name in ("ndimage", "optimize", "spatial")},
        **{name: f"PIL.{name}" for name in ("Image", "ImageDraw", "ImageFont")},
    }  # fmt: skip
    globals().update({name: _Later(_ELSEWHERE.get(name, name)) for name in __all__})
