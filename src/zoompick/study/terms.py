"""Licences and credits of the collections that a study's scenes are of, kept beside the shortlist for its report."""

from __future__ import annotations

from collections.abc import Iterable, Set
from pathlib import Path

from zoompick.errors import DataError, ZoomPickError
from zoompick.events import Report, ignore
from zoompick.files import read_json, write_json
from zoompick.jsontypes import JsonMap
from zoompick.net.vault import put_away
from zoompick.scenes import offer, sources
from zoompick.scenes.scene import Scene
from zoompick.scenes.source import Source
from zoompick.study.folder import Study

_NAME = "collections.json"


def keep_terms(study: Study, scenes: Iterable[Scene], report: Report = ignore, anew: bool = False) -> None:
    """Ask sources what they tell of the scenes' collections, and keep it; one that does not answer is no error.

    Parameters
    ----------
    anew : bool
        Collections whose terms are known are asked for again.
    """
    known = told_terms(study)
    wanted: dict[str, set[str]] = {}
    for source, collection in {(scene.source, scene.collection) for scene in scenes}:
        if collection and (anew or _key(source, collection) not in known):
            wanted.setdefault(source, set()).add(collection)
    named = sources.known(study.root)
    for source, collections in sorted(wanted.items()):
        if source in named:
            _ask(study, named[source], collections, report)


def _ask(study: Study, source: Source, wanted: Set[str], report: Report) -> None:
    from zoompick.discovery.readers import reader_of
    from zoompick.scenes.session import session

    try:
        told = reader_of(source, session(report, [source]), report).collections()
    except ZoomPickError:
        return
    # A source that lists no such collection tells nothing of it, and is not asked again.
    rows = {_key(source.name, name): _terms({"id": name}) for name in sorted(wanted)}
    rows |= {_key(source.name, str(one["id"])): _terms(one) for one in told if one.get("id") in wanted}
    write_json(_path(study), put_away(told_terms(study) | rows, source.name))


def _key(source: str, collection: str) -> str:
    return f"{source}/{collection}"


def told_terms(study: Study) -> dict[str, dict[str, str]]:
    """Title, licence and credit of each collection that is known, by ``source/collection``."""
    try:
        told = read_json(_path(study))
    except DataError:
        return {}
    rows = told.items() if isinstance(told, dict) else ()
    return {str(key): {str(k): str(v) for k, v in row.items()} for key, row in rows if isinstance(row, dict)}


def _path(study: Study) -> Path:
    return study.root / _NAME


def _terms(collection: JsonMap) -> dict[str, str]:
    """Whom to name: who licenses or produces it (STAC Collection, Provider Object)."""
    given = collection.get("providers")
    providers = [row for row in given if isinstance(row, dict)] if isinstance(given, list) else []
    named = [str(row.get("name")) for row in providers if {"licensor", "producer"} & set(row.get("roles") or ())]
    given = collection.get("links")
    links = [row for row in given if isinstance(row, dict)] if isinstance(given, list) else []
    told = offer.of_collection(collection)
    return {
        "title": str(collection.get("title") or collection.get("id")),
        "licence": told.licence,
        "credit": str(told.told.get("attribution") or ", ".join(named)),
        "terms": next((str(link.get("href")) for link in links if link.get("rel") == "license"), ""),
    }
