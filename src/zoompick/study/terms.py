"""Licences and credits of the collections that a study's scenes are of, kept beside the shortlist for its report."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from zoompick.errors import DataError, ZoomPickError
from zoompick.events import Report, ignore
from zoompick.files import read_json, write_json
from zoompick.jsontypes import JsonMap
from zoompick.net.vault import put_away
from zoompick.scenes import offer
from zoompick.scenes.scene import Scene
from zoompick.scenes.source import Source
from zoompick.study.folder import Study

_NAME = "collections.json"


def keep_terms(study: Study, source: Source, scenes: Iterable[Scene], report: Report = ignore) -> None:
    """Ask a source what it tells of the scenes' collections, and keep it; one that does not answer is no error."""
    from zoompick.discovery.readers import reader_of
    from zoompick.scenes.session import session

    wanted = {scene.collection for scene in scenes} - {""}
    if not wanted:
        return
    try:
        told = reader_of(source, session(report, [source]), report).collections()
    except ZoomPickError:
        return
    known = told_terms(study)
    for collection in told:
        if collection.get("id") in wanted:
            known[f"{source.name}/{collection['id']}"] = _terms(collection)
    write_json(_path(study), put_away(known, source.name))


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
