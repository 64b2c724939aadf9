"""What the catalogue item beside a file says of it."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from pathlib import Path

from zoompick.addresses import is_remote, restored, without_query
from zoompick.errors import DataError, SourceError, UsageError
from zoompick.files import parse_json, read_json
from zoompick.scenes.bands import BandFile, bands_of, formats_of
from zoompick.scenes.fetched import read as recorded
from zoompick.scenes.fetchplan import local_names
from zoompick.scenes.scene import Scene

ITEM_NAME = "item.json"


def scene_of(path: Path) -> Scene | None:
    """The scene whose item lies beside a file, here or wherever the file is; or None."""
    item = path.parent / ITEM_NAME
    if is_remote(path):
        return _scene_there(restored(item))
    try:
        state = item.stat()
    except OSError:
        return None
    return _scene(item, state.st_size, state.st_mtime_ns)


@lru_cache(maxsize=256)
def _scene_there(address: str) -> Scene | None:
    """The scene of an item elsewhere, asked for once."""
    from zoompick.raster.opening import source_of

    try:
        source = source_of(address)
        return Scene.from_item(parse_json(source.read(0, min(source.size, _MOST_BYTES))))
    except (DataError, SourceError, UsageError, ValueError):
        return None


_MOST_BYTES = 4 << 20


@lru_cache(maxsize=256)
def _scene(item: Path, size: int, mtime_ns: int) -> Scene | None:
    """The scene of one state of an item: each file of a folder asks for it."""
    try:
        return Scene.from_item(read_json(item))
    except SourceError:
        return None


def band_files(path: Path) -> list[BandFile]:
    """What the item beside a file says of the bands in it; nothing when there is no item.

    Which file of the item it is the record of its download tells, else its name.
    """
    scene = scene_of(path)
    if scene is None:
        return []
    came = recorded(path.parent).get(path.name)
    if came is not None and (found := _of_scene(scene, lambda href: without_query(href) == came.url)):
        return found
    names = local_names(scene)
    return _of_scene(scene, lambda href: names.get(href, address_name(href)) == path.name)


def _of_scene(scene: Scene, is_it: Callable[[str], bool]) -> list[BandFile]:
    found = [band for band in scene.bands.values() if is_it(band.href)]
    if found:
        return found
    # The same bands may be offered in other formats too, which a scene does not count twice.
    others = (band for form in formats_of(scene.item) for band in bands_of(scene.item, form).values())
    return [band for band in others if is_it(band.href)]


def address_name(href: str) -> str:
    """Name of the file behind an address."""
    return href.partition("?")[0].rpartition("/")[2]
