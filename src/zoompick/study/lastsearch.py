"""What the last search was about, so that an old list is never taken for a new one."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from zoompick.addresses import public
from zoompick.errors import DataError
from zoompick.files import read_json, write_json
from zoompick.scenes.source import Source
from zoompick.scenes.sources import known
from zoompick.study.folder import Study

_UNENDED = "the last search did not end well"


@contextmanager
def searching(study: Study, sources: Iterable[Source], own_area: bool) -> Iterator[None]:
    """Mark the list of the last search as old until the block ends well.

    Parameters
    ----------
    own_area : bool
        False where another area than the study's was searched.
    """
    write_json(_path(study), {"problem": _UNENDED})
    yield
    facts = {
        "area": area_key(study) if own_area else "",
        "sources": {source.name: public(source.url) for source in sources},
    }
    write_json(_path(study), facts)


def stale(study: Study) -> str:
    """Why the list of the last search is old, in words; empty when it is not, or nobody knows."""
    try:
        told = read_json(_path(study)) if _path(study).exists() else {}
    except DataError:
        return ""
    if not isinstance(told, dict):
        return ""
    if told.get("problem"):
        return str(told["problem"])
    if told.get("area") and told["area"] != area_key(study):
        return "the area has changed since the last search"
    sources = told.get("sources")
    now = known(study.root)
    for name, url in sources.items() if isinstance(sources, dict) else ():
        if name not in now:
            return f"the source {name} is known no more"
        if public(now[name].url) != public(str(url)):
            return f"the source {name} has moved since the last search"
    return ""


def area_key(study: Study) -> str:
    """Changes when the study's area does; empty while there is none."""
    return hashlib.sha256(study.area_file.read_bytes()).hexdigest()[:32] if study.area_file.exists() else ""


def _path(study: Study) -> Path:
    return study.local("found.json")
