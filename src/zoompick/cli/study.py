"""Commands about the study as a whole: new, run."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick.cli import options, show
from zoompick.cli.declared import grouped
from zoompick.files import human_bytes, human_km2, human_time
from zoompick.journal import act
from zoompick.journal import history as acts_of
from zoompick.jsontypes import JsonMap
from zoompick.study.folder import Study

if TYPE_CHECKING:
    from zoompick.study.status import SceneState, StudyState


@grouped
def new(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="Folder of the study; it is made.")],
    name: Annotated[str, typer.Option("--name", help="Name of the study; the folder's by default.")] = "",
    place: options.Place = options.NOWHERE,
    source: options.SourceName = "",
    collection: options.Collections = None,
    dates: options.Dates = None,
    cloud: options.Cloud = None,
    like: Annotated[
        Path | None,
        typer.Option("--like", metavar="STUDY", help="Begin with the brief, area, sources and facts of this study."),
    ] = None,
) -> None:
    """Make a study folder with its brief, study.toml."""
    from zoompick.study.like import study_like
    from zoompick.study.new import NewStudy, new_study

    given = place.area()
    wish = NewStudy(name, given, source, collection or (), dates or (), cloud)
    study = new_study(folder, wish) if like is None else study_like(folder, Study.need(like), wish)
    show.note(f"Made the study {folder}. Its brief is {study.brief_file}.")
    if given is None and study.area_file.exists():
        given = study.area()
    if given is None:
        show.note("Next: 'zoompick area FILE.geojson' in that folder, then 'zoompick search'.")
    else:
        show.note(
            f"Its area has {human_km2(given.size_km2)}. Next, in that folder: 'zoompick search', or 'zoompick run'."
        )


def status(
    free: Annotated[bool, typer.Option("--free", help="Remove what can be freed.")] = False,
    dry_run: options.DryRun = False,
    as_json: options.Json = False,
) -> None:
    """Show how far each scene of the shortlist is, bytes on disk, and what can be freed."""
    from zoompick.study import status as workflow

    study = Study.need(Path.cwd())
    show.old_words(study)
    state = workflow.state_of(study)
    if free and dry_run:
        for path, size in state.can_free.items():
            show.line(f"{human_bytes(size):>9}  {path.relative_to(study.root).as_posix()}")
        total = human_bytes(sum(state.can_free.values()))
        show.note(f"{total} in {len(state.can_free)} places would be freed; nothing was removed.")
        return
    if free:
        with study.locked(), act(study.journal_file, "free") as doing:
            state = workflow.state_of(study)
            doing.note(bytes=workflow.free(state), places=len(state.can_free))
        show.note(f"Freed {human_bytes(sum(state.can_free.values()))} in {len(state.can_free)} places.")
        return
    if as_json:
        freed = [{"path": str(path), "bytes": size} for path, size in state.can_free.items()]
        scenes = [scene.to_json() for scene in state.scenes]
        sizes, products = dict(state.sizes), dict(state.products)
        show.as_json({"scenes": scenes, "bytes": sizes, "can_free": freed, "products": products})
        return
    _show_scenes(state.scenes)
    _show_products(state)
    _show_disk(study, state)


def _show_scenes(scenes: Sequence[SceneState]) -> None:
    if not scenes:
        show.note("Nothing is picked yet: 'zoompick search', then 'zoompick pick'.")
        return
    rows = [
        [
            str(number), one.entry.scene.day, one.entry.scene.id, one.state, f"{one.here} of {one.wanted}",
            human_bytes(one.disk_bytes), one.note,
        ]
        for number, one in enumerate(scenes, 1)
    ]  # fmt: skip
    heads = [
        show.Column("no.", "right"), show.Column("date"), show.Column("scene", flexible=True), show.Column("state"),
        show.Column("files", "right"), show.Column("size", "right"), show.Column("note", flexible=True),
    ]  # fmt: skip
    if not any(row[-1] for row in rows):
        rows, heads = [row[:-1] for row in rows], heads[:-1]
    show.table(heads, rows)


def _show_products(state: StudyState) -> None:
    """How many products are up to date, and which are not."""
    if not state.products:
        return
    old = {name: told for name, told in state.products.items() if told != "up to date"}
    good = len(state.products) - len(old)
    show.note(f"Products: {good} of {len(state.products)} up to date.")
    for told in dict.fromkeys(old.values()):
        names = [name.removeprefix("products/") for name, own in old.items() if own == told]
        more = f" and {len(names) - 6} more" if len(names) > 6 else ""
        show.note(f"{told.capitalize()}: {', '.join(names[:6])}{more}.")
    if old:
        show.note("'zoompick run' makes them.")


def _show_disk(study: Study, state: StudyState) -> None:
    sizes = ", ".join(f"{name} {human_bytes(size)}" for name, size in state.sizes.items()) or "nothing"
    show.note(f"On disk: {sizes}.")
    if state.can_free:
        places = [path.relative_to(study.root).as_posix() for path in state.can_free]
        more = f" and {len(places) - 3} more" if len(places) > 3 else ""
        size = human_bytes(sum(state.can_free.values()))
        show.note(
            f"Can be freed: {size} in {', '.join(places[:3])}{more}: 'zoompick status --free' (--dry-run lists all)."
        )


def history(
    act: Annotated[str, typer.Option("--act", metavar="NAME", help="Only acts whose name begins so.")] = "",
    last: Annotated[int, typer.Option("--last", metavar="N", min=0, help="Only the newest; 0 for all.")] = 0,
    as_json: options.Json = False,
) -> None:
    """Show what was done in this study, when, and how it ended."""
    found = acts_of(Study.need(Path.cwd()).journal_file, act, last)
    if as_json:
        show.as_json(list(found))
        return
    if not found:
        show.note("The journal tells of no such act.")
        return
    rows = [
        [
            str(line.get("time", ""))[:19].replace("T", " "), str(line.get("act", "")), str(line.get("outcome", "")),
            human_time(float(line.get("seconds") or 0)) if (line.get("seconds") or 0) >= 1 else "", _facts_of(line),
        ]
        for line in found
    ]  # fmt: skip
    heads = [
        show.Column("time (UTC)"), show.Column("act"), show.Column("outcome"), show.Column("took", "right"),
        show.Column("what", flexible=True),
    ]  # fmt: skip
    with show.paged(len(rows)):
        show.table(heads, rows)


_SHOWN = (
    "reason", "product", "source", "url", "found", "files", "tiles", "bytes", "saved", "failures", "picked",
    "findings",
)  # fmt: skip


def _facts_of(line: JsonMap) -> str:
    """The most telling facts of an act, in words."""
    words = []
    for key in _SHOWN:
        value = line.get(key)
        if value in (None, "", [], 0):
            continue
        if key in ("bytes", "saved") and isinstance(value, int | float):
            value = human_bytes(value)
        elif isinstance(value, list):
            value = len(value)
        words.append(str(value).rstrip(".") if key in ("reason", "product") else f"{key} {value}")
    return ", ".join(words)
