"""The one table of settings: key, default, unit and help; a file and the environment feed it.

Order of authority: environment (``ZOOMPICK_`` + key in capitals), ``settings.toml`` in the user's configuration
folder, the default below.
"""

from __future__ import annotations

import difflib
import os
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple

import platformdirs

from zoompick.errors import UsageError


class Setting(NamedTuple):
    """One row of the table. ``default`` also fixes the type; numbers lie from ``least`` to ``most``."""

    key: str
    default: int | float | str
    unit: str
    help: str
    least: float = 0
    most: float = 0


TABLE = (
    Setting("workers", 0, "threads", "Threads that read, compute and encode blocks; 0 takes one per core.", 0, 1_024),
    Setting("cluster", "", "address", "Dask cluster for blocks: tcp://HOST:8786, or local:2; empty for none."),
    Setting("parallel_downloads", 4, "files", "Files fetched at the same time from one source.", 1, 64),
    Setting("parallel_requests", 8, "requests", "Small requests made at the same time to one source.", 1, 256),
    Setting("connect_timeout_s", 10.0, "s", "How long to wait for a source to accept a connection.", 0.05, 3_600),
    Setting("read_timeout_s", 120.0, "s", "How long to wait for the next bytes of an answer.", 0.05, 86_400),
    Setting("retries", 4, "attempts", "How often a request that may succeed later is tried again.", 0, 100),
    Setting("retry_wait_max_s", 60.0, "s", "The longest wait between two attempts.", 0, 86_400),
    Setting(
        "unencrypted_logins", 0, "", "1 sends log-ins over plain http to other machines: anybody may read them.", 0, 1
    ),
    Setting(
        "block_cache_mb", 48, "MB", "Memory for decoded blocks of input rasters, all rasters together.", 0, 1_000_000
    ),
    Setting("tile_px", 512, "px", "Side of the tiles in the GeoTIFFs written here.", 16, 8_192),
    Setting("deflate_level", 0, "", "Effort of deflate, 1 (fast) to 12 (small); 0 chooses for each tile.", 0, 12),
    Setting("zstd_level", 3, "", "Effort of zstd, 1 (fast) to 22 (small).", 1, 22),
    Setting("search_max_s", 1800.0, "s", "How long to wait for the pages of one search, all together.", 0, 1_000_000),
    Setting(
        "cache_max_mb",
        20_000,
        "MB",
        "Size of the cache: what was used longest ago is removed beyond it.",
        0,
        1_000_000_000,
    ),
    Setting("cluster_wait_s", 30.0, "s", "How long to wait for workers when the last one has left.", 0, 86_400),
    Setting(
        "instance_credentials", 0, "", "1 lets object storage ask this machine's metadata service for a log-in.", 0, 1
    ),
    Setting("page_lists", 1, "", "1 shows a list longer than the terminal page by page; 0 prints it at once.", 0, 1),
    Setting(
        "rough_datums",
        0,
        "",
        "1 lays rasters on grids of another datum also where that may move pixels unseen.",
        0,
        1,
    ),
    Setting("picture_side_px", 4096, "px", "Longest side of a plain picture (PNG).", 16, 65_000),
)
_KINDS = {int: "a whole number", float: "a number", str: "a text"}
_BY_KEY = {row.key: row for row in TABLE}
_PREFIX = "ZOOMPICK_"
_OTHERS = ("CONFIG", "CACHE", "LOGIN", "COMPLETE")
"""What variables of this program mean beside settings; several log-ins begin with the same word."""


def config_folder() -> Path:
    """Folder of the user's own settings and sources (``ZOOMPICK_CONFIG`` overrides it)."""
    if given := os.environ.get("ZOOMPICK_CONFIG"):
        return Path(given)

    return platformdirs.user_config_path("zoompick")


BRIEF_NAME = "study.toml"
SCHEMA_NAME = "study.schema.json"
"""What editors know a brief by: beside each brief, named in its first line."""


def study_folder(start: Path) -> Path | None:
    """The study that holds ``start``: the nearest folder upward with a brief."""
    here = start.resolve()
    return next((folder for folder in (here, *here.parents) if (folder / BRIEF_NAME).is_file()), None)


_HOME: ContextVar[Path | None] = ContextVar("home", default=None)


@contextmanager
def at(study: Path) -> Iterator[None]:
    """While it lasts, facts of the user's own are this study's, whatever the current folder is.

    Of a study inside the work of another they stay that other's: a batch has one set of facts.
    """
    token = _HOME.set(_HOME.get() or study)
    try:
        yield
    finally:
        _HOME.reset(token)


FACTS = ("guides", "recipes", "classes", "places", "schemes")
"""Folders of facts of the user's own, in a study and in the configuration folder."""


def own_files(kind: str, *endings: str) -> list[Path]:
    """Files of facts of the user's own: those of the study at hand, then those for all studies.

    Parameters
    ----------
    kind : str
        Name of their folder: one of :data:`FACTS`.
    """
    study = _HOME.get() or study_folder(Path.cwd())
    folders = [folder / kind for folder in (study, config_folder()) if folder is not None]
    return [
        path
        for folder in folders
        for path in sorted(folder.glob("*.*"))
        if path.suffix.lower() in (endings or (".toml",))
    ]


def cache_folder() -> Path:
    """Folder of what can be made again at any time (``ZOOMPICK_CACHE`` overrides it)."""
    if given := os.environ.get("ZOOMPICK_CACHE"):
        return Path(given)

    return platformdirs.user_cache_path("zoompick")


@cache
def _file_values(path: Path) -> dict[str, object]:
    try:
        return tomllib.loads(path.read_text(encoding="utf-8-sig"))
    except FileNotFoundError:
        return {}
    except (ValueError, RecursionError) as error:
        raise UsageError(f"The settings file {path} cannot be read: {error}.", "Mend or remove it.") from error


def _raw(key: str) -> tuple[Any, str]:
    """What is told for a setting, and where: ``environment``, ``file`` or ``default``."""
    if (told := os.environ.get(f"ZOOMPICK_{key.upper()}")) is not None:
        return told, "environment"
    values = _file_values(config_folder() / "settings.toml")
    return (values[key], "file") if key in values else (_BY_KEY[key].default, "default")


def every() -> list[tuple[Setting, int | float | str, str]]:
    """Each setting with its value and where that was set: ``environment``, ``file`` or ``default``.

    Raises
    ------
    UsageError
        A value is not of its type, or the file cannot be read.
    """
    return [(row, _value(row.key), _raw(row.key)[1]) for row in TABLE]


def _value(key: str) -> int | float | str:
    row = _BY_KEY[key]
    raw, origin = _raw(key)
    todo = f"{row.help} The default is {row.default}."
    try:
        value: int | float | str = type(row.default)(raw)
    except (TypeError, ValueError, OverflowError) as error:
        raise UsageError(
            f"The setting {key} has the value {raw!r} (from the {origin}), expected {_KINDS[type(row.default)]}.",
            todo,
        ) from error
    # NaN is within no limits.
    if not isinstance(value, str) and not row.least <= value <= row.most:
        raise UsageError(
            f"The setting {key} is {raw} (from the {origin}), and goes from {row.least:g} to {row.most:g}.", todo
        )
    if key == "tile_px" and int(value) % 16:
        raise UsageError(f"The setting tile_px is {raw}: sides of tiles are multiples of 16 (TIFF 6.0).", todo)
    return value


def check() -> None:
    """Look at all settings, before anything starts.

    Raises
    ------
    UsageError
        A value is not of its type or beyond its limits, or a name is none.
    """
    every()
    named = [(name, name.removeprefix(_PREFIX).lower()) for name in os.environ if name.startswith(_PREFIX)]
    strange = [(name, key) for name, key in named if key not in _BY_KEY and not key.upper().startswith(_OTHERS)]
    path = config_folder() / "settings.toml"
    strange += [(f"{key} in {path}", key) for key in _file_values(path) if key not in _BY_KEY]
    if strange:
        name, key = strange[0]
        near = difflib.get_close_matches(key, _BY_KEY, n=1, cutoff=0.5)
        raise UsageError(
            f"{name} is no setting.",
            f"Did you mean {_PREFIX + near[0].upper() if name.startswith(_PREFIX) else near[0]}?"
            if near
            else "'zoompick settings' lists them; take out what is none.",
        )


def whole(key: str) -> int:
    """Value of a whole-number setting."""
    return int(_value(key))


def number(key: str) -> float:
    """Value of a setting that may have a fraction."""
    return float(_value(key))


def text(key: str) -> str:
    """Value of a setting that is a text."""
    return str(_value(key)).strip()


def workers() -> int:
    """Threads to use for blocks of pixels."""
    return whole("workers") or os.cpu_count() or 1
