"""What to fetch and what is already here: a pure decision."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Protocol
from urllib.parse import urlsplit

from zoompick.files import unique_names


class OfferedFile(Protocol):
    """A file that a scene offers."""

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
    def bands(self) -> Mapping[str, OfferedFile]:
        """Files by common name of the band."""


@dataclass(frozen=True, slots=True)
class Fetch:
    """One file: where it is, where it goes, what the item says of it (None where it says nothing)."""

    scene: str
    band: str
    url: str
    path: Path
    size: int | None
    sha256: str | None


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
    """

    fetch: tuple[Fetch, ...]
    here: tuple[Fetch, ...]
    lacking: tuple[tuple[str, str], ...]

    @property
    def known_bytes(self) -> int:
        """Bytes to fetch, as far as the items tell."""
        return sum(entry.size or 0 for entry in self.fetch)

    @property
    def unknown(self) -> int:
        """Files to fetch whose size is not told."""
        return sum(entry.size is None for entry in self.fetch)


def plan(
    scenes: Iterable[Offer],
    bands: Sequence[str],
    folders: Mapping[str, Path],
    is_here: Callable[[Fetch], bool],
) -> DownloadPlan:
    """Decide for each scene and band; a file that holds several bands is fetched once.

    Parameters
    ----------
    folders : mapping
        Scene id to the folder for its files.
    is_here : callable
        Tells whether a file is on disk and was checked when it came.
    """
    fetch: list[Fetch] = []
    here: list[Fetch] = []
    lacking: list[tuple[str, str]] = []
    planned: set[tuple[str, Path]] = set()
    for scene in scenes:
        local = local_names(scene)
        for name in bands:
            band = scene.bands.get(name)
            if band is None:
                lacking.append((scene.id, name))
                continue
            path = folders[scene.id] / local[band.href]
            if (scene.id, path) in planned:
                continue
            planned.add((scene.id, path))
            entry = Fetch(scene.id, name, band.href, path, band.size, band.sha256)
            (here if is_here(entry) else fetch).append(entry)
    return DownloadPlan(tuple(fetch), tuple(here), tuple(lacking))


def local_names(scene: Offer) -> dict[str, str]:
    """A safe local name for each file of a scene, by its address; no two alike."""
    hrefs = list(dict.fromkeys(band.href for band in scene.bands.values()))
    names = unique_names(PurePosixPath(urlsplit(href).path).name for href in hrefs)
    return dict(zip(hrefs, names, strict=True))
