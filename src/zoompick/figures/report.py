"""The report of a study: one HTML page that needs nothing else, or Markdown (the only door to Jinja2)."""

from __future__ import annotations

import base64
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

from zoompick.arrays import Pixels
from zoompick.figures import canvas, style
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import jinja2, np
from zoompick.outgoing import Code, markdown

_QUALITY = 80


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

    @classmethod
    def from_png(cls, path: Path, widest_px: int, alt: str) -> Image:
        """A picture on disk, no wider than that, in at most 128 colours."""
        data, width, height = canvas.smaller_png(path, widest_px)
        return cls("image/png", data, width, height, alt)

    @classmethod
    def from_pixels(cls, pixels: Pixels, alt: str, is_flat: bool = False) -> Image:
        """Colours, uint8 of shape (rows, cols, 3) or (rows, cols, 4): JPEG, or PNG for few colours.

        What is transparent, where nothing was seen, is grey: white would look like cloud.
        """
        colours = pixels[..., :3].astype(np.uint8)
        if pixels.shape[2] > colours.shape[2]:
            colours = np.where(pixels[..., 3:] > 0, colours, canvas.rgb(style.NOTHING)).astype(np.uint8)
        data = canvas.few_colours(colours) if is_flat else canvas.jpeg(colours, _QUALITY)
        kind = "image/png" if is_flat else "image/jpeg"
        return cls(kind, data, colours.shape[1], colours.shape[0], alt)

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
class Mark:
    """What a person has to know of a product that is not wholly good: an outcome of checks, and words."""

    outcome: str
    words: str


@dataclass(frozen=True)
class Change:
    """What changed inside the area.

    Attributes
    ----------
    of : str
        The index that was compared; empty for the only band of files.
    figures : tuple of (str, str)
        Name and hectares of each class, those first that people ask for first.
    unseen : str
        Share of the area that could not be seen both times.
    """

    name: str
    of: str
    area: str
    figures: tuple[tuple[str, str], ...]
    unseen: str

    @property
    def sentence(self) -> str:
        """All of it in words."""
        of = f" ({self.of})" if self.of else ""
        told = ", ".join(f"{hectares} {name}" for name, hectares in self.figures)
        return f"{self.name}{of}, inside {self.area}: {told}; {self.unseen} of the area could not be seen both times."


@dataclass(frozen=True)
class ProductTold:
    """A product: its file, what made it of what, how it looks, and what is wrong with it."""

    name: str
    step: str
    what: str = ""
    size: str = ""
    valid: str = ""
    made: str = ""
    version: str = ""
    checksum: str = ""
    inputs: tuple[str, ...] = ()
    options: str = ""
    image: Image | None = None
    legend: Legend | None = None
    words: str = ""
    command: str = ""
    mark: Mark | None = None


@dataclass(frozen=True)
class SceneTold:
    """A scene: when and by what it was taken, its cloud (over all of it, and inside the area), sun and look."""

    id: str
    day: str
    platform: str
    collection: str
    cloud: str
    cloud_area: str
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
    brief, area : str
        The files themselves: TOML, and GeoJSON.
    versions : mapping
        Of this program and of what computes for it.
    lock : str
        Whether somebody else can make the same of it, in a sentence.
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
    changes: tuple[Change, ...]
    findings: tuple[JsonMap, ...]
    credits: tuple[Mapping[str, str], ...]
    acts: tuple[Mapping[str, str], ...]
    brief: str
    area: str
    versions: Mapping[str, str]
    lock: str

    def to_json(self) -> JsonObject:
        """Everything but the pictures, as JSON holds it."""
        told = asdict(self) | {"changes": [asdict(one) | {"sentence": one.sentence} for one in self.changes]}
        return {"shape": 2, **_without_images(told)}


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
