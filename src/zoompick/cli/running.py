"""Carry out a study's process: run, once, for many areas, or again and again; and lock what came of it."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from zoompick.cli import calling, elsewhere, exits, known, made, options, show
from zoompick.cli.declared import grouped
from zoompick.cli.findings import show_problems
from zoompick.cli.show import Branch, counted
from zoompick.errors import UsageError, ZoomPickError
from zoompick.files import human_bytes, human_km2, human_names
from zoompick.orders.queue import Queue, on_order
from zoompick.scenes.finding import NOT_JUDGED, Finding
from zoompick.study import run as workflow
from zoompick.study.folder import Study
from zoompick.study.run import preview
from zoompick.study.stages import ORDER, Stages

if TYPE_CHECKING:
    from zoompick.study.batch import BatchOptions, Outcome
    from zoompick.study.lineage import Node
    from zoompick.study.run import RunOptions, StudyRun
    from zoompick.study.watch import Round, WatchOptions

Plan = Annotated[
    bool, typer.Option("--plan", help="Show as a tree which products would be made of what, and do nothing.")
]
First = Annotated[
    str,
    typer.Option(
        "--from",
        metavar="STAGE",
        help="Begin with this stage: search, download, …",
        autocompletion=known.one_of(*ORDER),
    ),
]
Last = Annotated[
    str,
    typer.Option("--until", metavar="STAGE", help="End with this stage.", autocompletion=known.one_of(*ORDER)),
]
Only = Annotated[
    str,
    typer.Option(
        "--only",
        metavar="STAGES",
        help="These stages alone: index,verify.",
        autocompletion=known.in_list(known.one_of(*ORDER)),
    ),
]
Thorough = Annotated[
    bool, typer.Option("--thorough", help="Hash and judge all files again, whatever their time stamps say.")
]
Locked = Annotated[
    bool,
    typer.Option("--locked", help="Exactly what 'zoompick lock' wrote down, or what has changed."),
]
Each = Annotated[
    Path | None, typer.Option("--each", metavar="LAYER", help="A study for each polygon of this file of areas.")
]
Column = Annotated[str, typer.Option("--column", metavar="COLUMN", help="Attribute that names the areas of --each.")]
EachPeriod = Annotated[
    list[str] | None,
    typer.Option("--each-period", metavar="WHEN", help="A study for each period; may be given again."),
]
To = Annotated[
    Path | None, typer.Option("--to", metavar="FOLDER", help="Where studies of --each go; 'each' by default.")
]
Watch = Annotated[
    str, typer.Option("--watch", metavar="SPAN", help="Look for new scenes so often, and run: 1d, 6h, 30min.")
]
Rounds = Annotated[
    int, typer.Option("--rounds", metavar="N", min=0, help="Watch so many times; 0: until you stop it.")
]
WhenNew = Annotated[
    str,
    typer.Option("--when-new", metavar="COMMAND", help="Run this after a round with news, with JSON on its input."),
]


class Part(NamedTuple):
    """Which part of a run, and how."""

    first: First = ""
    last: Last = ""
    only: Only = ""
    thorough: Thorough = False
    locked: Locked = False


class Many(NamedTuple):
    """Studies of many areas or periods."""

    each: Each = None
    column: Column = ""
    each_period: EachPeriod = None
    to: To = None


class Often(NamedTuple):
    """A run again and again."""

    watch: Watch = ""
    rounds: Rounds = 0
    when_new: WhenNew = ""


WHOLE, ONE, ONCE = Part(), Many(), Often()


@grouped
def run(
    as_json: options.Json = False,
    cluster: elsewhere.Where = "",
    dry_run: options.DryRun = False,
    plan: Plan = False,
    part: Part = WHOLE,
    many: Many = ONE,
    often: Often = ONCE,
) -> int:
    """Carry out the brief of this study, from search to verification."""
    thorough, locked, watch = part.thorough, part.locked, often.watch
    wish = workflow.RunOptions(Stages.of(part.first, part.last, options.names(part.only)), thorough, locked)
    study = Study.need(Path.cwd())
    show.old_words(study)
    if many.each is not None or many.each_period:
        _refuse_both({"--each": True, "--watch": bool(watch), "--locked": locked, "--plan": plan})
        from zoompick.study.batch import BatchOptions

        return _run_each(
            study, BatchOptions(many.each, many.column, many.each_period or (), many.to, wish), as_json, dry_run
        )
    _refuse_alone({"--column": many.column, "--to": many.to}, "--each")
    if watch:
        _refuse_both({"--watch": True, "--locked": locked, "--plan": plan or dry_run})
        from zoompick.study.watch import WatchOptions

        return _watch(study, WatchOptions.of(watch, often.rounds), wish, calling.words_of(often.when_new), as_json)
    _refuse_alone({"--rounds": often.rounds, "--when-new": often.when_new}, "--watch")
    if dry_run or plan:
        parts = {"--from": bool(part.first), "--until": bool(part.last), "--only": bool(part.only)}
        _refuse_both({"--plan" if plan else "--dry-run": True, **parts, "--locked": locked, "--thorough": thorough})
        return _dry_run(study, as_json, plan)
    with show.progress() as report:
        done = workflow.run(study, report, wish)
    if as_json:
        show.as_json(_facts(done))
    else:
        show_run(study, done, thorough)
    return _code_of(done)


def _code_of(done: StudyRun) -> int:
    if done.failed:
        return exits.IN_PART
    has_failed = any(finding.outcome == "fail" for finding in done.findings) or done.differing
    return exits.CHECK_FAILED if has_failed else exits.DONE


def _refuse_both(given: Mapping[str, bool]) -> None:
    """Options that shut each other out."""
    named = [name for name, is_given in given.items() if is_given]
    if len(named) > 1:
        raise UsageError(f"{' and '.join(named)} do not go together.", "Leave one out.")


def _refuse_alone(given: Mapping[str, object], needs: str) -> None:
    """Options that say nothing without another."""
    named = [name for name, value in given.items() if value]
    if named:
        raise UsageError(f"{named[0]} belongs to {needs}.", f"Give {needs} too, or leave {named[0]} out.")


def _run_each(study: Study, wish: BatchOptions, as_json: bool, dry_run: bool) -> int:
    """One brief for many studies, and a table of them."""
    from zoompick.study import batch

    units = batch.units_of(study, wish)
    if dry_run:
        heads = [show.Column("study"), show.Column("area", "right"), show.Column("folder", flexible=True)]
        rows = [[one.name, human_km2(one.area.size_km2), show.place(one.folder)] for one in units]
        if as_json:
            show.as_json([{"name": one.name, "folder": str(one.folder), "area_km2": one.area.size_km2,
                           "period": one.period, "problem": one.problem.what if one.problem else ""}
                          for one in units])  # fmt: skip
        else:
            show.table(heads, rows)
            for one in units:
                if one.problem:
                    show.note(f"{one.name} would fail: {one.problem.what}")
            sound = sum(one.problem is None for one in units)
            show.note(f"{sound} {'study' if sound == 1 else 'studies'} would be run.")
        return exits.DONE
    outcomes = []
    with show.progress() as report:
        for outcome in batch.run_batch(study, units, wish.run, report):
            outcomes.append(outcome)
            batch.write_summary(outcome.unit.folder.parent, outcomes)
    told = [batch.row_of(outcome) for outcome in outcomes]
    if as_json:
        show.as_json(told)
    else:
        _show_each(outcomes, told)
    codes = [exits.IN_PART if one.done is None else _code_of(one.done) for one in outcomes]
    return exits.IN_PART if exits.IN_PART in codes else max(codes)


def _show_each(outcomes: Sequence[Outcome], rows: Sequence[Mapping[str, object]]) -> None:
    from zoompick.study.batch import SUMMARY

    heads = [
        show.Column("study"), show.Column("outcome"), show.Column("scenes", "right"),
        show.Column("products", "right"), show.Column("new", "right"), show.Column("checks passed", "right"),
    ]  # fmt: skip
    told = ("name", "state", "scenes", "products", "made_new")
    show.table(
        heads, [[*(str(row[key]) for key in told), f"{row['checks_passed']} of {row['checks']}"] for row in rows]
    )
    for outcome, row in zip(outcomes, rows, strict=True):
        if row["reason"]:
            show.note(f"{row['name']}: {row['reason']}")
        elif row["checks_passed"] != row["checks"]:
            findings = outcome.done.findings if outcome.done else ()
            counts = Counter(one.outcome for one in findings if one.outcome != "pass")
            where = show.place(Path(str(row["folder"])))
            words = human_names([f"{count} {word}" for word, count in counts.items()])
            show.note(f"{row['name']}: of its checks {words}; 'zoompick verify' in {where} says why.")
    done = sum(one.state == "done" for one in outcomes)
    folder = show.place(outcomes[0].unit.folder.parent)
    show.note(f"{done} of {len(outcomes)} done, no check of theirs failed. The table is in {folder}/{SUMMARY}.")


def _watch(study: Study, wish: WatchOptions, how: RunOptions, command: list[str], as_json: bool) -> int:
    """Round after round, until so many are done or a person stops it."""
    from zoompick.study import watch as workflow

    code = exits.DONE
    with show.progress() as report:
        for one in workflow.watch(study, wish, how, time.sleep, report):
            told = _round_facts(one)
            if as_json:
                show.as_json(told)
            else:
                _show_round(one)
            code = exits.IN_PART if one.done is None else _code_of(one.done)
            if command and one.has_news:
                try:
                    calling.call(command, "What is new was made.", told)
                except ZoomPickError as error:
                    show.error(error)
    return code


def _round_facts(one: Round) -> dict[str, object]:
    told: dict[str, object] = {"round": one.number, "added": [entry.scene.id for entry in one.added]}
    if one.done is not None:
        new = [str(made.path) for made in one.done.made if not made.was_current]
        return told | {"new_products": new} | _facts(one.done)
    return told | {"error": str(one.error)}


def _show_round(one: Round) -> None:
    now = datetime.now(UTC).strftime("%Y-%m-%d %H:%M UTC")
    if one.done is None:
        show.note(f"{now}, round {one.number} failed: {one.error} The next round tries again.")
        return
    new = sum(not made.was_current for made in one.done.made)
    added = ", ".join(entry.scene.id for entry in one.added)
    what = f"added {added}; " if added else "no new scene fits; " if one.number > 1 else ""
    failed = f", {show.counted(len(one.done.failed), 'failure')}" if one.done.failed else ""
    show.note(f"{now}, round {one.number}: {what}{show.counted(new, 'product')} made{failed}.")


def lock(as_json: options.Json = False) -> None:
    """Write down scenes, files and products with their digests, for 'run --locked'."""
    from zoompick.study.beside import beside
    from zoompick.study.locking import lock_study

    study = Study.need(Path.cwd())
    path, made = lock_study(study)
    needed = beside(study, [entry.scene for entry in made.entries])
    if as_json:
        show.as_json({"path": str(path), "scenes": [entry.scene.id for entry in made.entries],
                      "files": len(made.files), "products": len(made.products), "beside": list(needed.own),
                      "elsewhere": [*needed.sources, *needed.facts]})  # fmt: skip
        return
    size = human_bytes(sum(row.size for row in made.files.values()))
    show.note(
        f"{show.counted(len(made.entries), 'scene')}, {show.counted(len(made.files), 'file')} ({size}) and "
        f"{show.counted(len(made.products), 'product')} are locked in {show.place(path)}."
    )
    show.note(f"Keep it with {human_names(needed.own)}: 'zoompick run --locked' makes the same of them.")
    if needed.sources:
        names = human_names(needed.sources)
        show.note(
            f"Only your own settings know {names}: 'zoompick source add NAME URL --here' keeps it in the study."
        )
    if needed.facts:
        names = human_names(list(needed.facts))
        show.note(f"Your own settings hold {names}: what of it the brief uses has to lie in the study's folder, too.")


def _passed(findings: Sequence[Finding]) -> str:
    """How many checks passed, and how many could not look."""
    passed, untold = (sum(finding.outcome == word for finding in findings) for word in ("pass", NOT_JUDGED))
    return f"{passed} of {len(findings)} checks passed" + (f", {untold} not judged" if untold else "")


def show_run(study: Study, done: StudyRun, is_thorough: bool = False) -> None:
    """Products and findings of a run, and one closing line."""
    made.show_made(done.made)
    show_problems(done.findings)
    fetched = (
        f"{done.fetched_files} files fetched"
        + (f" ({human_bytes(done.fetched_bytes)})" if done.fetched_bytes else "")
        if done.fetched_files
        else f"nothing to fetch{'' if is_thorough else ' (by size and time stamp)'}"
    )
    new_products = sum(not made.was_current for made in done.made)
    scenes, products = show.counted(len(done.entries), "scene"), f"{new_products} of {len(done.made)} products"
    show.note(
        f"{scenes}, {fetched}, {products} made new, {_passed(done.findings)}. All lies in {show.place(study.root)}."
    )
    for failed in done.failed:
        name = failed.path.relative_to(study.root).as_posix()
        show.note(f"failed: {name}: {failed.error.what} {failed.error.todo}".strip())
    for one in done.differing:
        show.note(f"not as locked: {one.name} {one.words}.")


def _facts(done: StudyRun) -> dict[str, object]:
    return {
        "scenes": [entry.scene.id for entry in done.entries],
        "searched": done.searched,
        "judged": done.judged,
        "fetched": {"files": done.fetched_files, "bytes": done.fetched_bytes},
        "products": [
            {"step": made.step, "path": str(made.path), "was_current": made.was_current} | dict(made.facts)
            for made in done.made
        ],
        "findings": [finding.to_json() for finding in done.findings],
        "differing": [{"path": one.name, "what": one.words} for one in done.differing],
        "failed": [
            {"path": str(failed.path), "what": failed.error.what, "todo": failed.error.todo} for failed in done.failed
        ],
    }


def _dry_run(study: Study, as_json: bool, as_tree: bool) -> int:
    with show.progress() as report:
        found = preview(study, report)
    grid, plan = found.grid, found.download
    if as_json:
        show.as_json({
            "scenes": [entry.scene.id for entry in found.entries], "search": found.searched,
            "fetch": len(plan.fetch), "bytes": plan.known_bytes, "order": [list(row) for row in plan.on_order],
            "outlook": found.outlook.to_json() if found.outlook else None,
            "products": found.products,
        } | ({"trees": [asdict(node) for node in found.trees]} if as_tree else {}))  # fmt: skip
        return exits.DONE
    show.note(f"Study grid: {grid.width} x {grid.height} px of {grid.pixel_text}, {grid.crs}.")
    scenes = show.counted(len(found.entries), "scene")
    show.note(f"{scenes} would be chosen by a search." if found.searched else f"{scenes} picked.")
    here = f" {show.counted(len(plan.here), 'file')} {'is' if len(plan.here) == 1 else 'are'} here."
    ahead = found.outlook
    show.note(f"{ahead.words() if ahead and plan.fetch else 'Nothing to fetch.'}{here if plan.here else ''}")
    if plan.on_order:
        bought = f" {ahead.bought}" if ahead and ahead.bought and not plan.fetch else ""
        for sentence in on_order([scene for scene, _ in plan.on_order], Queue(study.orders_file)):
            show.note(sentence)
        show.note(f"A run buys nothing.{bought}")
    if as_tree:
        show.tree([_branch(node, found.products) for node in found.trees])
        return exits.DONE
    rows = [[name, "to be made" if state != "up to date" else state, "" if state == "up to date" else state]
            for name, state in found.products.items()]  # fmt: skip
    show.table([show.Column("product"), show.Column("what"), show.Column("now", flexible=True)], rows)
    return exits.DONE


def _branch(node: Node, states: Mapping[str, str]) -> Branch:
    state = states.get(f"products/{node.name}", "")
    files = [counted(node.files, "file") + " of scenes"] if node.files else []
    made_of = ", ".join([*files, *node.made_of])
    words = f"{node.name}  {node.step}" + (f" of {made_of}" if made_of else "")
    mark = "" if state == "up to date" else f"  ({state})"
    return Branch(words + mark, tuple(_branch(one, states) for one in node.below))
