"""Commands that judge: verify."""

from __future__ import annotations

from collections.abc import Sequence, Set
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from zoompick.cli import elsewhere, exits, known, options, show
from zoompick.cli.declared import grouped
from zoompick.cli.findings import show_findings, show_problems
from zoompick.cli.show import Column, table
from zoompick.errors import MissingFileError, UsageError
from zoompick.files import refuse_existing
from zoompick.judge import registry, tell
from zoompick.scenes.finding import NOT_JUDGED, OUTCOMES, worst
from zoompick.study.folder import Study
from zoompick.study.verify import CheckOptions, judge_study, pictures_of, verify_files

if TYPE_CHECKING:
    from zoompick.scenes.finding import Finding


_CHECKS = known.in_list(
    known.one_of(*dict.fromkeys(name for check in registry.CHECKS for name in (check.group, check.name)))
)

Judged = Annotated[
    list[Path] | None, typer.Argument(metavar="[FILE …]", help="GeoTIFFs; the whole study by default.")
]
Valid = Annotated[
    float | None,
    typer.Option(
        "--valid",
        metavar="PERCENT",
        help="Valid pixels in the area, at least. [98]",
        parser=options.percent("share of valid pixels"),
    ),
]
Only = Annotated[
    str,
    typer.Option(
        "--checks", metavar="CHECKS", help="Checks or groups to make: spectra,alignment.", autocompletion=_CHECKS
    ),
]
Skip = Annotated[
    str, typer.Option("--skip", metavar="CHECKS", help="Checks or groups to leave out.", autocompletion=_CHECKS)
]
Limit = Annotated[
    list[str] | None,
    typer.Option("--threshold", metavar="NAME=NUMBER", help="Another limit: shift_px=0.3; repeat for more."),
]
Reference = Annotated[
    Path | None, typer.Option("--reference", metavar="FILE", help="A raster that you trust, to compare with.")
]
Online = Annotated[bool, typer.Option("--online", help="Ask the sources whether their files have changed.")]
Thorough = Annotated[bool, typer.Option("--thorough", help="Make products again as a whole, not on nine windows.")]
Strict = Annotated[bool, typer.Option("--strict", help="A warning counts as a failure.")]
Explain = Annotated[
    str,
    typer.Option(
        "--explain", metavar="CHECK", help="Tell how a check measures; 'all' lists them.", autocompletion=_CHECKS
    ),
]
Pictures = Annotated[
    Path | None,
    typer.Option("--pictures", metavar="FOLDER", help="Draw shifts, scatters and seams into this folder."),
]
Holes = Annotated[
    Path | None, typer.Option("--holes", metavar="FILE", help="Write patches without pixels as GeoJSON.")
]
Junit = Annotated[
    Path | None, typer.Option("--junit", metavar="FILE", help="Write findings as JUnit XML, for CI systems.")
]
Full = Annotated[bool, typer.Option("--full", help="List each finding, however many there are.")]


class Judging(NamedTuple):
    """What is judged, and by which limits."""

    only: Only = ""
    skip: Skip = ""
    limit: Limit = None
    reference: Reference = None
    online: Online = False
    thorough: Thorough = False

    def wish(self) -> CheckOptions:
        """As the judge takes it; names that there are not are refused."""
        if self.reference is not None and not self.reference.is_file():
            raise MissingFileError(f"There is no file {self.reference}.", "Give the reference's path.")
        limits = tuple(self.limit or ())
        wish = CheckOptions(
            options.names(self.only), options.names(self.skip), limits, self.reference, self.online, self.thorough
        )
        wish.checked()
        return wish


class Files(NamedTuple):
    """What is written beside."""

    pictures: Pictures = None
    holes: Holes = None
    junit: Junit = None


BY_USE, NONE = Judging(), Files()


@grouped
def verify(
    files: Judged = None,
    bands: options.Bands = "",
    place: options.Place = options.NOWHERE,
    valid: Valid = None,
    judging: Judging = BY_USE,
    strict: Strict = False,
    explain: Explain = "",
    beside: Files = NONE,
    overwrite: options.Overwrite = False,
    full: Full = False,
    as_json: options.Json = False,
    cluster: elsewhere.Where = "",
) -> int:
    """Measure what can go wrong, from blocks to seams, and say why and what to do.

    The exit code is 1 when a check fails, 5 when nothing was judged, or a check named by --checks was not.
    """
    if explain:
        return _explained(explain, as_json)
    refuse_existing([path for path in (beside.holes, beside.junit) if path], overwrite)
    wish = judging.wish()
    told = (bands and "--bands", place.option, "--valid" if valid is not None else "")
    if not files and (named := next(filter(None, told), "")):
        raise UsageError(f"{named} needs a file.", "Of a study the brief decides: change study.toml, or name files.")
    if folder := next((path for path in files or () if path.is_dir()), None):
        raise UsageError(
            f"{folder} is a folder.", "Name files; to judge a study, go into it and run 'zoompick verify'."
        )
    findings = _of_files(files, bands, place, 98.0 if valid is None else valid, wish) if files else _of_study(wish)
    _shown(findings, full, as_json)
    _written(findings, beside, strict, Path() if files else Study.need(Path.cwd()).root)
    bad = ("fail", "warn") if strict else ("fail",)
    if worst(findings) in bad:
        return exits.CHECK_FAILED
    return exits.IN_PART if is_partly_judged(findings, wish.named()) else exits.DONE


def _shown(findings: Sequence[Finding], full: bool, as_json: bool) -> None:
    if as_json:
        show.as_json(tell.findings_json(findings))
        return
    if full or len(findings) <= _MOST_ROWS:
        show_findings(findings)
    else:
        show_summary(findings)
    show.note(_closing(findings))


def is_partly_judged(findings: Sequence[Finding], named: Set[str]) -> bool:
    """True when nothing was judged, or a check that a person named was not."""
    if worst(findings) == NOT_JUDGED:
        return True
    return any(finding.outcome == NOT_JUDGED and finding.key in named for finding in findings)


def _written(findings: Sequence[Finding], beside: Files, strict: bool, root: Path) -> None:
    pictures, holes, junit = beside
    if junit is not None:
        tell.write_junit(findings, junit, strict)
        show.note(f"{junit}: {len(findings)} findings.")
    if holes is not None:
        show.note(f"{holes}: {tell.write_holes(findings, holes)} patches without pixels.")
    if pictures is not None:
        drawn = pictures_of(findings, pictures, root)
        show.note(
            f"{pictures}: {show.counted(len(drawn), 'picture')}."
            if drawn
            else "Nothing to draw: no shift, reference or seam was measured."
        )


def _explained(name: str, as_json: bool) -> int:
    chosen = registry.explained(name)
    if as_json:
        show.as_json({"checks": [registry.facts(check) for check in chosen]})
        return exits.DONE
    if len(chosen) > 1:
        rows = [[check.name, check.group, check.title, check.needs] for check in chosen]
        table([Column("check"), Column("group"), Column("in findings"), Column("needs", flexible=True)], rows)
        return exits.DONE
    for key, value in registry.facts(chosen[0]).items():
        if value:
            show.fact(key, value)
    return exits.DONE


def _of_files(files: list[Path], bands: str, place: options.Place, least: float, wish: CheckOptions) -> list[Finding]:
    given = place.area()
    names, polygon = options.names(bands), given.polygon if given else None
    with show.progress() as report:
        return verify_files(files, names, polygon, least, report, options=wish)


def _of_study(wish: CheckOptions) -> list[Finding]:
    study = Study.need(Path.cwd())
    show.old_words(study)
    with show.progress() as report:
        return judge_study(study, report, wish)


_MOST_ROWS = 60


def show_summary(findings: Sequence[Finding]) -> None:
    """A line for each check, then a line for each finding that did not pass."""
    groups = {check.name: (check.group, check.title) for check in registry.explained("all")}
    keys = [key for key in groups if any(finding.key == key for finding in findings)]
    rows = []
    for key in keys:
        own = [finding.outcome for finding in findings if finding.key == key]
        rows.append([*groups[key], str(len(own)), *(str(own.count(word) or "") for word in OUTCOMES)])
    heads = (Column(word, "right") for word in ("findings", *OUTCOMES))
    table([Column("group"), Column("check"), *heads], rows)
    show_problems(findings)
    show.note("'--full' lists each finding, '--explain CHECK' tells how a check measures.")


def _closing(findings: Sequence[Finding]) -> str:
    if not findings:
        return "Nothing was judged: none of these checks has what it needs."
    counts = {outcome: sum(f.outcome == outcome for f in findings) for outcome in OUTCOMES}
    untold = f", {counts[NOT_JUDGED]} not judged" if counts[NOT_JUDGED] else ""
    return (
        f"{show.counted(counts['pass'], 'check')} passed, {counts['warn']} warned, {counts['fail']} failed{untold}."
    )
