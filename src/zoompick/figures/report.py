"""The report of a study: one HTML page that needs nothing else, or Markdown (the only door to Jinja2)."""

from __future__ import annotations

import base64
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from functools import cache
from importlib import resources
from typing import Any

from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import jinja2
from zoompick.outgoing import Code, markdown


@dataclass(frozen=True)
class Image:
    """A picture inside the page.

    Attributes
    ----------
    kind : str
        ``image/png`` or ``image/jpeg``.
    alt : str
        What it shows, for those who do not see it.
    """

    kind: str
    data: bytes = field(repr=False)
    width: int
    height: int
    alt: str

    @property
    def uri(self) -> str:
        """As an address that holds the picture (RFC 2397)."""
        return f"data:{self.kind};base64,{base64.b64encode(self.data).decode()}"


@dataclass(frozen=True)
class Legend:
    """What colours mean: steps of a scale with the values at both ends, or classes with their shares.

    Attributes
    ----------
    steps : tuple of str
        Colours of a scale, from low to high.
    rows : tuple of (str, str, str)
        Colour, name and share of each class.
    """

    label: str = ""
    steps: tuple[str, ...] = ()
    low: str = ""
    high: str = ""
    rows: tuple[tuple[str, str, str], ...] = ()


@dataclass(frozen=True)
class ProductTold:
    """A product: its file, what made it of what, and how it looks."""

    name: str
    step: str
    what: str
    size: str
    valid: str
    made: str
    version: str
    checksum: str
    inputs: tuple[str, ...]
    options: str
    image: Image | None = None
    legend: Legend | None = None
    words: str = ""
    command: str = ""


@dataclass(frozen=True)
class SceneTold:
    """A scene: when and by what it was taken, its cloud, sun and look."""

    id: str
    day: str
    platform: str
    collection: str
    cloud: str
    sun: str
    view: str
    image: Image | None = None


@dataclass(frozen=True)
class Pair:
    """Two dates of one picture."""

    title: str
    before: Image
    after: Image
    labels: tuple[str, str]


@dataclass(frozen=True)
class StudyReport:
    """All that a report tells.

    Attributes
    ----------
    asked : tuple of (str, str)
        What was sought and made.
    credits : tuple of mapping
        Of each collection: title, licence, and whom to name.
    acts : tuple of mapping
        The journal: when, what, how it ended, how long it took.
    findings : tuple of mapping
        As ``verify --json`` tells them.
    """

    name: str
    made: str
    version: str
    summary: str
    outcome: str
    asked: tuple[tuple[str, str], ...]
    map: Image | None
    calendar: Image | None
    scenes: tuple[SceneTold, ...]
    products: tuple[ProductTold, ...]
    pairs: tuple[Pair, ...]
    changes: tuple[str, ...]
    findings: tuple[JsonMap, ...]
    credits: tuple[Mapping[str, str], ...]
    acts: tuple[Mapping[str, str], ...]
    brief: str

    def to_json(self) -> JsonObject:
        """Everything but the pictures, as JSON holds it."""
        return {"shape": 1, **_without_images(asdict(self))}


def _without_images(value: Any) -> Any:
    if isinstance(value, Mapping):
        if "data" in value and "alt" in value:
            return {"alt": value["alt"], "width": value["width"], "height": value["height"]}
        return {key: _without_images(one) for key, one in value.items()}
    return [_without_images(one) for one in value] if isinstance(value, list | tuple) else value


@cache
def _environment(of_markdown: bool) -> jinja2.Environment:
    """Templates; every value is escaped for the form that it goes into."""
    folder = resources.files("zoompick.figures").joinpath("data")
    templates = {name: folder.joinpath(name).read_text(encoding="utf-8") for name in ("report.html", "report.md")}
    made = jinja2.Environment(
        loader=jinja2.DictLoader(templates), autoescape=jinja2.select_autoescape(["html"]), trim_blocks=True,
        lstrip_blocks=True, undefined=jinja2.StrictUndefined, finalize=markdown if of_markdown else None,
    )  # fmt: skip
    made.filters["code"] = Code.of
    return made


_OUTCOMES = ("pass", "not judged", "warn", "fail")


def _grouped(findings: Sequence[JsonMap]) -> list[JsonObject]:
    """Counts of each check, in the order in which they were made first."""
    rows: dict[str, JsonObject] = {}
    for finding in findings:
        row = rows.setdefault(str(finding["check"]), {"check": finding["check"], **dict.fromkeys(_OUTCOMES, 0)})
        row[str(finding["outcome"])] += 1
    return list(rows.values())


def _filled(name: str, report: StudyReport) -> str:
    odd = [finding for finding in report.findings if finding["outcome"] != "pass"]
    return (
        _environment(name.endswith(".md"))
        .get_template(name)
        .render(report=report, grouped=_grouped(report.findings), odd=odd)
    )


def as_html(report: StudyReport) -> str:
    """The page: it asks the network for nothing."""
    return _filled("report.html", report)


def as_markdown(report: StudyReport) -> str:
    """The same in words and tables."""
    return _filled("report.md", report)
