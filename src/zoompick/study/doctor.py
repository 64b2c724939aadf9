"""What this installation has and can do: versions, codecs, reference systems, room, sources, log-ins, cache."""

from __future__ import annotations

import platform
import re
import shutil
from collections.abc import Iterator
from importlib import metadata
from pathlib import Path

from zoompick import cache, settings
from zoompick.addresses import is_remote
from zoompick.errors import ZoomPickError
from zoompick.events import Report, ignore
from zoompick.files import human_bytes
from zoompick.geo.crs import LONLAT, Crs, transform
from zoompick.later import np
from zoompick.net import wire
from zoompick.net.authority import Purpose
from zoompick.net.login import Keyring
from zoompick.raster.encode import Encoder
from zoompick.scenes import sources
from zoompick.scenes.finding import Finding, judged
from zoompick.scenes.session import session
from zoompick.scenes.source import Source

_ROOM_BYTES, _LEAST_WORKERS = 2_000_000_000, 1
_EXTRA = re.compile(r"extra == [\"']([^\"']+)[\"']")


def examined(root: Path | None, report: Report = ignore) -> list[Finding]:
    """Look at everything; nothing is changed, no secret is read out.

    Parameters
    ----------
    root : Path or None
        The study's folder, whose sources are asked too.
    """
    found = [*_versions(), *_codecs(), _systems(), *_room(root), *_network()]
    for source in sources.known(root).values():
        found.append(_reached(source, report))
        found.append(_log_in(source))
    return [*found, _cache()]


def _versions() -> Iterator[Finding]:
    yield judged("version", "python", True, platform.python_version(), "3.11 at least", "")
    yield judged("version", "zoompick", True, metadata.version("zoompick"), "any", "")
    for text in metadata.requires("zoompick") or ():
        name, extra = re.split(r"[<>=!;\[ (]", text)[0], _EXTRA.search(text)
        if extra and extra[1] == "test":
            continue
        wanted = text.partition(";")[0].strip().removeprefix(name) or "any"
        try:
            here = metadata.version(name)
            note = f"pip install '{name}{wanted}' brings one that was tried."
            yield judged("version", name, _fits(here, wanted), here, wanted, note, bad="warn")
        except metadata.PackageNotFoundError:
            if extra:
                yield judged("version", name, True, "not here", f"if wanted: zoompick[{extra[1]}]", "")
            elif "python_version" not in text:
                yield judged("version", name, False, "not here", wanted, "pip install --force-reinstall zoompick")


def _fits(version: str, wanted: str) -> bool:
    """Whether a version lies within bounds as ours are: ``>=`` and ``<``."""

    def numbers(text: str) -> list[int]:
        return [int(part) for part in re.findall(r"\d+", text)[:3]]

    return all(
        numbers(version) >= numbers(bound) if sign == ">=" else numbers(version) < numbers(bound)
        for sign, bound in re.findall(r"(>=|<)\s*([\d.]+)", wanted)
    )


def _codecs() -> Iterator[Finding]:
    """Each codec packs and unpacks a few pixels."""
    pixels = np.arange(3 * 64 * 64, dtype=np.uint8).reshape(3, 64, 64) // 3
    for name in ("deflate", "zstd", "lzw", "none", "jpeg", "webp", "lerc"):
        try:
            encoder = Encoder(pixels.dtype, name, 80 if name in ("jpeg", "webp") else 6)
            seen = encoder.seen(bytes(encoder.encode(pixels)), 64, 3)
            close = float(np.abs(seen.astype(int) - pixels).max()) <= (_LOSSY if encoder.loses else 0)
            yield judged("codec", name, close, "works" if close else "other pixels", "the same pixels", _REINSTALL)
        except (RuntimeError, ValueError, ImportError, AttributeError) as error:
            yield judged("codec", name, False, f"{type(error).__name__}", "works", _REINSTALL)


_LOSSY = 40
_REINSTALL = "pip install --force-reinstall imagecodecs"


def _systems() -> Finding:
    """The register of reference systems, by a point whose place is known to the centimetre."""
    try:
        x, y = transform([-15.0], [0.0], LONLAT, Crs(32728))
        good = abs(x[0] - 500_000) < 0.01 and abs(y[0] - 10_000_000) < 0.01
        figure = "works" if good else f"{x[0]:.2f}, {y[0]:.2f}"
    except ZoomPickError as error:
        good, figure = False, error.what
    return judged("reference systems", "EPSG register", good, figure, "to the centimetre",
                  "Another copy of PROJ may be in the way: unset PROJ_DATA and PROJ_LIB.")  # fmt: skip


def _room(root: Path | None) -> Iterator[Finding]:
    for label, folder in (("here", root or Path.cwd()), ("cache", settings.cache_folder())):
        there = next(path for path in (folder, *folder.parents) if path.exists())
        free = shutil.disk_usage(there).free
        yield judged("disk", label, free >= _ROOM_BYTES, f"{human_bytes(free)} free", human_bytes(_ROOM_BYTES),
                     "Scenes need room: 'zoompick status --free', or another disk.", bad="warn")  # fmt: skip
    workers = settings.workers()
    yield judged("workers", "threads", workers >= _LEAST_WORKERS, str(workers), "1 at least", "")


def _reached(source: Source, report: Report) -> Finding:
    if not is_remote(source.url):
        here = Path(source.url).exists()
        return judged("source", source.name, here, "here" if here else "not here", "here", "Give its file again.")
    try:
        session(report, [source]).on_behalf(source.name, Purpose.SEARCH).settled(source.url)
    except ZoomPickError as error:
        return judged(
            "source", source.name, False, "not reached", "answers", f"{error.what} {error.todo}", bad="warn"
        )
    return judged("source", source.name, True, "answers", "answers", "")


def _network() -> Iterator[Finding]:
    """Variables that decide how servers are reached."""
    for way in wire.ways():
        is_file = way.name.endswith(("_FILE", "_BUNDLE"))
        good = not is_file or Path(way.value).exists()
        yield judged("network", way.name, good, way.value, "a file" if is_file else "any",
                     f"There is no file {way.value}: mend the variable, or take it out.")  # fmt: skip


def _log_in(source: Source) -> Finding:
    where = Keyring().where(source.url)
    return judged("log-in", source.name, True, where or "none", "any", "")


def _cache() -> Finding:
    size, limit = cache.size(), settings.whole("cache_max_mb") * 1_000_000
    note = "'zoompick doctor --clear-cache' removes it: all in it can be made again."
    folder = str(settings.cache_folder())
    return judged("cache", folder, size <= 1.1 * limit, human_bytes(size), human_bytes(limit), note, bad="warn")
