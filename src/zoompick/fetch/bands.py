"""The bands of a delivery: found in files, folders, containers and archives, without unpacking."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path, PurePosixPath

from zoompick.addresses import is_remote
from zoompick.errors import FormatError, NothingFoundError, SourceError, UsageError, ZoomPickError
from zoompick.events import ignore
from zoompick.fetch.unpack import opened
from zoompick.files import files_below, refuse_existing, safe_name
from zoompick.raster.raster import Derived, Raster
from zoompick.raster.variables import Variable
from zoompick.raster.write import Job, WriteOptions, write_together
from zoompick.scenes.deliveries import Layer, OneBand, name_from, open_layers
from zoompick.scenes.items import scene_of
from zoompick.scenes.opening import open_raster
from zoompick.sensors.guide import BandGuide, guide_for_collection, guide_for_file

_RASTERS = (".tif", ".tiff", ".jp2", ".j2k", ".h5", ".hdf5", ".he5", ".nc", ".nc4", ".hdf", ".hdf4")
_ARCHIVES = (".zip", ".tar", ".tgz", ".gz", ".bz2", ".xz", ".zst")
_MOST = 5000


@dataclass(frozen=True)
class Found:
    """One band.

    Attributes
    ----------
    address : str
        File, or member of an archive.
    key : str
        What its file calls it: its name there, or the file's.
    wavelength_um : float or None
        As guide, item or file tell.
    """

    address: str
    key: str
    layer: Layer
    wavelength_um: float | None


@dataclass(frozen=True)
class Delivery:
    """What was found, and what not.

    Attributes
    ----------
    guide : BandGuide or None
        Of the instrument, where the item or the file names tell it.
    missing : tuple of str
        Bands that the guide expects.
    unread : tuple of str
        Sentences about files that cannot be read.
    """

    bands: tuple[Found, ...]
    guide: BandGuide | None
    missing: tuple[str, ...]
    unread: tuple[str, ...]


def bands_of(address: str) -> Delivery:
    """Find the bands of a file, a folder and all below it, an archive, or a file on a web server.

    Raises
    ------
    NothingFoundError
        There is no raster.
    """
    found: list[Found] = []
    unread: list[str] = []
    problems: list[ZoomPickError] = []
    for one in _addresses(address):
        try:
            found += [_found(one, layer) for layer in _layers(one)]
        except SourceError:
            # Nobody looked into it: that says nothing of what it holds.
            raise
        except ZoomPickError as error:
            unread.append(error.what)
            problems.append(error)
    if not found and len(problems) == 1 and not Path(address).is_dir():
        raise problems[0]
    if not found:
        raise NothingFoundError(
            f"{address} holds no raster that can be read.",
            unread[0] if unread else f"Looked for {', '.join(_RASTERS)}.",
        )
    guide = next((guide for one in found if (guide := _guide(one.address)) is not None), None)
    have = {one.layer.name for one in found}
    missing = tuple(name for name in guide.band_names if name not in have) if guide else ()
    facts = {band.name: band.wavelength_um for band in guide.bands} if guide else {}
    told = tuple(
        one if one.wavelength_um else Found(one.address, one.key, one.layer, facts.get(one.layer.name))
        for one in found
    )
    return Delivery(told, guide, missing, tuple(unread))


def _addresses(address: str) -> Iterator[str]:
    if address.startswith(("http://", "https://", "s3://")) or Path(address).is_file():
        if address.lower().endswith(_ARCHIVES):
            yield from _members(address)
        else:
            yield address
        return
    outer, mark, _ = address.rpartition("#")
    if mark and Path(outer).is_file():
        yield address
        return
    folder = Path(address)
    if not folder.is_dir():
        raise NothingFoundError(f"There is no {address}.", "Give a file, a folder, an archive or an address.")
    paths = [path for path in files_below(folder) if path.suffix.lower() in _RASTERS]
    if len(paths) > _MOST:
        raise UsageError(f"{len(paths)} rasters lie below {address}.", f"{_MOST} are the most: give a folder below.")
    yield from map(str, paths)


def _members(address: str) -> Iterator[str]:
    """Rasters in an archive, as addresses that are read in place."""
    with opened(address, ignore) as archive:
        for member in archive.members():
            if PurePosixPath(member.name).suffix.lower() in _RASTERS:
                yield f"{address}#{member.name}"


def _layers(address: str) -> list[Layer]:
    if is_remote(address):
        raster = open_raster(address)
        path = Path(re.split(r"[/#]", address)[-1])
        bands = list(raster.bands)
        if len(bands) == 1 and bands[0].name == "band1":
            guide, name = guide_for_file(path.name), name_from(path)
            is_class = bands[0].is_class or bool(guide and guide.class_band == name)
            bands = [replace(bands[0], name=name, is_class=is_class)]
        return [Layer(OneBand(raster, place, band), path) for place, band in enumerate(bands)]
    return open_layers([Path(address)])


def _guide(address: str) -> BandGuide | None:
    scene = None if "#" in address or "://" in address else scene_of(Path(address))
    by_item = guide_for_collection(scene.collection) if scene is not None else None
    return by_item or guide_for_file(PurePosixPath(address.rpartition("#")[2]).name)


def _found(address: str, layer: Layer) -> Found:
    source = layer.raster.source
    told = _variable_of(source)
    key = told.key if told is not None else PurePosixPath(address.rpartition("#")[2]).name
    if told is None and len(source.bands) > 1:
        key += f", band {layer.raster.index + 1}"
    return Found(address, key, layer, layer.raster.bands[0].wavelength_um)


def _variable_of(raster: Raster) -> Variable | None:
    """The variable of a container that a raster shows, also one that is resampled as it is read."""
    found = getattr(raster, "variable", None)
    below = getattr(raster, "source", None) if isinstance(raster, Derived) else None
    return found if found is not None or below is None else _variable_of(below)


def guess_guide(folder: Path, name: str = "") -> str:
    """A draft of a band guide for files of an unknown instrument, as the text of a guide file.

    The part of the file names that differs between bands is taken for the band; the user completes the rest.

    Raises
    ------
    NothingFoundError
        No rasters lie there.
    UsageError
        The names do not tell the bands apart.
    """
    paths = [path for path in files_below(folder) if path.suffix.lower() in _RASTERS]
    if not paths:
        raise NothingFoundError(f"No raster lies in {folder}.", f"Looked for {', '.join(_RASTERS)}.")
    place, words = _varying([path.name for path in paths])
    pattern = "".join(
        "(?P<band>[A-Za-z0-9]+)" if number == place else _generalised(word) for number, word in enumerate(words[0])
    )
    bands = dict.fromkeys(row[place] for row in words)
    sizes: dict[str, float] = {}
    for row, path in zip(words, paths, strict=True):
        try:
            sizes.setdefault(row[place], open_raster(path).grid.pixel_x)
        except ZoomPickError:
            continue
    lines = [
        "# A draft, made from file names: complete it, and name bands as others do (red, nir, swir16 …).",
        "",
        f'name = "{name or folder.name}"',
        "collections = []",
        f"file_pattern = '^{pattern}$'",
    ]
    for band in bands:
        lines += ["", "[[band]]", f'name = "{band}"', f"pixel_m = {sizes.get(band, 0):g}", "# wavelength_um = "]
    return "\n".join(lines) + "\n"


def _varying(names: Sequence[str]) -> tuple[int, list[list[str]]]:
    """Which part of the names tells the band, and the names in parts, signs between them included."""
    every = [re.split(r"([-_. ])", name) for name in names]
    usual = Counter(len(row) for row in every).most_common(1)[0][0]
    words = [row for row in every if len(row) == usual]
    if len(words) < len(every):
        raise UsageError(
            "The file names are not built alike.", "Give a folder with the bands of one instrument alone."
        )
    counts = {place: len({row[place] for row in words}) for place in range(0, usual - 2 + (usual == 1), 2)}
    differing = {place: count for place, count in counts.items() if count > 1}
    if not differing:
        raise UsageError("The file names do not tell bands apart.", "A guide needs a word in them that differs.")
    # Words that make a set of files complete: as often as there are files, or repeated in each scene.
    place = max(differing, key=lambda number: (not words[0][number][:4].isdigit(), number))
    return place, words


def _generalised(word: str) -> str:
    """A part of a name as a pattern: digits may be others."""
    return re.sub(r"\d+", lambda m: rf"\d{{{len(m[0])}}}", re.escape(word).replace(r"\-", "-"))


def split(path: Path, folder: Path, overwrite: bool = False) -> list[Path]:
    """Write each band of a container or a multi-band file into a file of its own, in one pass where grids are alike.

    Raises
    ------
    UsageError
        A file exists, or there is only one band.
    """
    layers = open_layers([path])
    if len(layers) < 2:
        raise UsageError(f"{path.name} has one band only.", "There is nothing to split.")
    targets = [folder / safe_name(f"{path.stem}-{layer.name}.tif") for layer in layers]
    if len(set(targets)) < len(targets):
        raise FormatError(f"Bands of {path.name} have the same name.", "Name them in a guide first.")
    refuse_existing(targets, overwrite)
    folder.mkdir(parents=True, exist_ok=True)
    jobs = [
        Job(layer.raster, target, WriteOptions(is_class=layer.is_class))
        for layer, target in zip(layers, targets, strict=True)
    ]
    groups: dict[object, list[Job]] = {}
    for job in jobs:
        groups.setdefault(job.raster.grid, []).append(job)
    for group in groups.values():
        write_together(group)
    return targets
