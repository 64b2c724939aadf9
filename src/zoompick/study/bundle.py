"""Pack a study's report with all that somebody else needs to repeat it; no pixels of scenes, and nothing secret."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from zoompick.addresses import public, redacted
from zoompick.figures.report import StudyReport, as_html
from zoompick.files import safe_name, writing
from zoompick.scenes import sources
from zoompick.scenes.sidecar import ENDING
from zoompick.settings import SCHEMA_NAME
from zoompick.study.beside import Beside, beside
from zoompick.study.folder import Study
from zoompick.study.lock import NAME as LOCK
from zoompick.study.shortlist import shortlist

_WHEN = (1980, 1, 1, 0, 0, 0)
"""Time stamp of every member: the same study is the same file."""
_ENDINGS = {"image/png": "png", "image/jpeg": "jpg"}


@dataclass(frozen=True)
class Bundle:
    """What was packed.

    Attributes
    ----------
    names : tuple of str
        Members, by their path in the folder that is packed.
    is_locked : bool
        A lock is in it, so that the same scenes and files are taken.
    absent : tuple of str
        What is not in it and has to be had elsewhere, a sentence each.
    """

    path: Path
    names: tuple[str, ...]
    is_locked: bool
    absent: tuple[str, ...]


def write_bundle(study: Study, report: StudyReport, path: Path) -> Bundle:
    """Pack page, brief, area, lock, sources, facts, records, small pictures and credits into one zip."""
    scenes = [entry.scene for entry in shortlist(study)]
    needed = beside(study, scenes)
    known, used = sources.known(study.root), sorted({scene.source for scene in scenes})
    places = {name: known[name] for name in used if name in known and known[name].is_web}
    absent = [f"The source {name} is a file, which is not packed." for name in used if name not in places]
    members = dict(_members(study, report, needed))
    rows = {name: {"url": public(one.url), "kind": one.kind, "day": one.day} for name, one in places.items()}
    members["sources.json"] = _json(rows)
    is_locked = LOCK in members
    members["README.md"] = _readme(report, is_locked, absent, sorted({*members, "README.md"})).encode()
    folder = safe_name(report.name)
    with writing(path) as out, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in sorted(members):
            archive.writestr(_entry(f"{folder}/{name}"), members[name], zipfile.ZIP_DEFLATED)
    return Bundle(path, tuple(sorted(members)), is_locked, tuple(absent))


def _entry(name: str) -> zipfile.ZipInfo:
    made = zipfile.ZipInfo(name, _WHEN)
    made.external_attr = 0o644 << 16
    return made


def _members(study: Study, report: StudyReport, needed: Beside) -> Iterator[tuple[str, bytes]]:
    yield "report.html", as_html(report).encode()
    kept = [study.root / name for name in (*needed.own, LOCK, SCHEMA_NAME, "collections.json")]
    for path in (*kept, study.shortlist_file):
        if path.is_file():
            yield path.relative_to(study.root).as_posix(), _clean(path)
    for name, path in needed.facts.items():
        yield name, _clean(path)
    products = study.root / "products"
    for path in sorted(products.rglob(f"*{ENDING}")):
        yield f"records/{path.relative_to(products).as_posix()}", _clean(path)
    if study.checks_file.is_file():
        yield "records/checks.json", _clean(study.checks_file)
    yield "credits.json", _json(report.credits)
    for product in report.products:
        if product.image is not None:
            yield f"pictures/{product.name}.{_ENDINGS[product.image.kind]}", product.image.data


def _clean(path: Path) -> bytes:
    """A text without secrets in its addresses."""
    return redacted(path.read_text(encoding="utf-8-sig")).encode()


def _json(value: object) -> bytes:
    return (json.dumps(value, ensure_ascii=False, indent=1) + "\n").encode()


def _readme(report: StudyReport, is_locked: bool, absent: Sequence[str], names: Sequence[str]) -> str:
    command = "zoompick run --locked" if is_locked else "zoompick run"
    repeat = (
        "It takes the scenes and files that were locked, and tells every one that its source has changed since."
        if is_locked
        else "The study was not locked: the scenes that were picked are taken, as their source has them now."
    )
    lines = [
        f"# {report.name}", "", f"Made {report.made} with zoompick {report.version}. {report.summary}", "",
        *[f"{change.sentence}\n" for change in report.changes],
        "Open report.html: it holds all that it shows.", "", "## To make it again", "",
        "Unpack this folder, go into it, and give:", "", f"    {command}", "", repeat,
        "Where the source asks for a log-in: 'zoompick source login NAME'. No password is in here.", *absent, "",
        "## Whom to name", "", *[f"- {_credit(row)}" for row in report.credits], "", "## What is in here", "",
        *[f"- {name}: {what}" for name, what in _CONTENTS if any(one.startswith(name) for one in names)],
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def _credit(row: Mapping[str, str]) -> str:
    return f"{row['title']} ({row['source']}): licence {row['licence']}; credit {row['credit']}"


_CONTENTS = (
    ("report.html", "the study as a page"),
    ("study.toml", "the brief"),
    ("area.geojson", "the study area"),
    ("sources.json", "where the scenes are"),
    (LOCK, "scenes, files and products with their digests"),
    ("shortlist.json", "the scenes that were picked"),
    ("collections.json", "licences and credits of their collections"),
    ("credits.json", "whom to name, as the report says it"),
    ("records/", "how each product was made, and what the checks found"),
    ("pictures/", "each product, small"),
)
