"""What to fetch, what is already here, what has to be ordered: a pure decision."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path, PurePosixPath
from typing import Protocol

from zoompick.addresses import address_parts
from zoompick.files import unique_names
from zoompick.geo.region import Region

SceneKey = tuple[str, str, str]
RECORD, ITEM = "downloads.json", "item.json"
"""Names in a scene's folder that no file of the scene may take: what was fetched, and the scene's item."""


class OfferedFile(Protocol):
    """A file that a scene offers."""

    @property
    def key(self) -> str:
        """Key of its asset."""

    @property
    def href(self) -> str:
        """Address."""

    @property
    def size(self) -> int | None:
        """Bytes, where the catalogue tells."""

    @property
    def sha256(self) -> str | None:
        """Hexadecimal digest, where the catalogue tells."""


class Offer(Protocol):
    """What a scene offers: files by band."""

    @property
    def id(self) -> str:
        """Its id."""

    @property
    def key(self) -> SceneKey:
        """Its source, collection and id."""

    @property
    def collection(self) -> str:
        """Its collection."""

    @property
    def access(self) -> str:
        """``open``, or what stands before a download: ``ask``, ``priced``."""

    @property
    def files(self) -> Mapping[str, OfferedFile]:
        """All its files: by common name of the band, and by key of the asset for what holds no band."""


@dataclass(frozen=True, slots=True)
class Fetch:
    """One file: where it is, where it goes, what the item says of it (None where it says nothing).

    Attributes
    ----------
    key : tuple of str
        Source, collection and id of the scene.
    region : Region or None
        Only this part of a raster is wanted.
    under_way : int
        Bytes that an earlier run left.
    cut : str
        Of an ordered scene the ground that was bought, as well-known text, where others give the rest of the region.
    is_estimate : bool
        The size is what a server said when it was asked ahead, not what the catalogue published.
    """

    scene: str
    band: str
    url: str
    path: Path
    size: int | None
    sha256: str | None
    collection: str = ""
    region: Region | None = None
    under_way: int = 0
    key: SceneKey = ("", "", "")
    cut: str = ""
    is_estimate: bool = False


@dataclass(frozen=True)
class DownloadPlan:
    """The decision.

    Attributes
    ----------
    fetch : tuple of Fetch
        Still to be fetched.
    here : tuple of Fetch
        Already on disk and checked.
    lacking : tuple of (scene id, band)
        Bands that a scene was never published with.
    on_order : tuple of (scene id, access)
        Scenes that are given on request or for a price only.
    """

    fetch: tuple[Fetch, ...]
    here: tuple[Fetch, ...]
    lacking: tuple[tuple[str, str], ...]
    on_order: tuple[tuple[str, str], ...] = ()

    @property
    def known_bytes(self) -> int:
        """Bytes of the files to fetch, as far as they are told."""
        return sum(entry.size or 0 for entry in self.fetch)

    @property
    def under_way_bytes(self) -> int:
        """Bytes of them that are here from an earlier run."""
        return sum(entry.under_way for entry in self.fetch)

    @property
    def unknown(self) -> int:
        """Files to fetch whose size is not told."""
        return sum(entry.size is None for entry in self.fetch)

    def with_sizes(self, sizes: Mapping[Path, int]) -> DownloadPlan:
        """The plan with the sizes that the sources told when asked."""
        fetch = tuple(
            replace(entry, size=sizes[entry.path], is_estimate=True) if entry.path in sizes else entry
            for entry in self.fetch
        )
        return replace(self, fetch=fetch)


def plan(
    scenes: Iterable[Offer],
    bands: Sequence[str],
    folders: Mapping[SceneKey, Path],
    is_here: Callable[[Fetch], bool],
    region: Region | None = None,
    under_way: Callable[[Path], int] = lambda path: 0,
    ordered: Region | None = None,
) -> DownloadPlan:
    """Decide for each scene and band; a file that holds several bands is fetched once.

    Parameters
    ----------
    bands : sequence of str
        Common names, or keys of assets.
    folders : mapping
        Key of a scene to the folder for its files.
    is_here : callable
        Tells whether a file is on disk and was checked when it came.
    region : Region, optional
        Fetch only this part of each raster.
    under_way : callable
        Bytes that an earlier run left of a file.
    ordered : Region, optional
        The part for which scenes are ordered that are not open.
    """
    fetch: list[Fetch] = []
    here: list[Fetch] = []
    lacking: list[tuple[str, str]] = []
    on_order: list[tuple[str, str]] = []
    planned: set[Path] = set()
    for scene in scenes:
        local = local_names(scene)
        for name in bands:
            file = file_of(scene, name)
            if file is None:
                lacking.append((scene.id, name))
                continue
            path = folders[scene.key] / local[file.href]
            if path in planned:
                continue
            planned.add(path)
            must_order = scene.access != "open" and file.key not in _FREE
            part = ordered if must_order else region
            entry = Fetch(
                scene.id, name, file.href, path, file.size, file.sha256, scene.collection, part, 0, scene.key
            )
            if is_here(entry):
                here.append(entry)
            elif must_order:
                on_order.append((scene.id, scene.access))
            else:
                fetch.append(replace(entry, under_way=under_way(path)))
    return DownloadPlan(tuple(fetch), tuple(here), tuple(lacking), tuple(dict.fromkeys(on_order)))


_FREE = ("quicklook", "thumbnail", "overview", "metadata")
"""Keys of assets that archives give away even of scenes that they sell (names in common use)."""


def file_of(scene: Offer, name: str) -> OfferedFile | None:
    """A scene's file by the band in it, else by the key of its asset; None when there is none."""
    return scene.files.get(name) or next((file for file in scene.files.values() if file.key == name), None)


def local_names(scene: Offer) -> dict[str, str]:
    """A safe local name for each file of a scene, by its address; no two alike."""
    hrefs = list(dict.fromkeys(file.href for file in scene.files.values()))
    plain = (PurePosixPath(address_parts(href).path).name for href in hrefs)
    names = unique_names(plain, reserved=(RECORD, ITEM))
    return dict(zip(hrefs, names, strict=True))
