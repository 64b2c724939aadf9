"""What has to lie beside a study's lock, so that somebody else makes the same of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from zoompick.scenes import sources
from zoompick.scenes.scene import Scene
from zoompick.settings import FACTS, own_files
from zoompick.study.folder import Study, at_home

_ENDINGS = (".toml", ".csv", ".geojson", ".json")


@dataclass(frozen=True)
class Beside:
    """Files that a study is made by.

    Attributes
    ----------
    own : tuple of str
        In the study's folder: brief, area, sources, facts.
    facts : mapping of str to Path
        Facts of the user's own that all studies share, by the place that they would have in the study.
    sources : tuple of str
        Sources of the scenes that only the user's settings know.
    """

    own: tuple[str, ...]
    facts: dict[str, Path]
    sources: tuple[str, ...]


@at_home
def beside(study: Study, scenes: Sequence[Scene]) -> Beside:
    """Find them; facts are told whether or not the brief uses them."""
    named = {scene.source for scene in scenes}
    here = sources.load(sources.sources_file(study.root))
    shared = sources.load(sources.sources_file(None))
    places = [study.brief_file, study.area_file, *([sources.sources_file(study.root)] if named & set(here) else [])]
    facts = {kind: own_files(kind, *_ENDINGS) for kind in FACTS}
    places += [path for kind in FACTS for path in facts[kind] if path.is_relative_to(study.root)]
    outside = {f"{kind}/{path.name}": path for kind in FACTS for path in reversed(facts[kind])
               if not path.is_relative_to(study.root)}  # fmt: skip
    own = tuple(path.relative_to(study.root).as_posix() for path in places if path.is_file())
    return Beside(
        own,
        {name: path for name, path in sorted(outside.items()) if name not in own},
        tuple(sorted(named & set(shared) - set(here))),
    )
