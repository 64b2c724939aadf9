"""Orders of what sources prepare on request or sell: ask, plan, submit, status, wait, cancel."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick.cli import exits, options, show
from zoompick.cli.groups import defaulting, group
from zoompick.errors import BusyError, NothingFoundError
from zoompick.files import human_km2, human_time
from zoompick.jsontypes import JsonObject
from zoompick.money import words
from zoompick.orders.desk import to_order
from zoompick.orders.queue import Queue, cost_of
from zoompick.study import orders
from zoompick.study.folder import Study
from zoompick.study.orders import (
    adopt_order,
    cancel_orders,
    expected_end,
    plan_orders,
    refresh_orders,
    submit_orders,
    wait_for_orders,
)

if TYPE_CHECKING:
    from zoompick.orders.desk import Desk
    from zoompick.orders.queue import Order
    from zoompick.scenes.scene import Scene
    from zoompick.study.orders import OrderPlan

Every = Annotated[str, typer.Option("--every", metavar="SPAN", help="Ask so often: 30s, 10min.")]

order = group(
    defaulting("status", "status"),
    "Order scenes prepared on request or sold: ask, plan, submit, status, wait, cancel, adopt.",
)


def _here() -> Study:
    return Study.need(Path.cwd())


@order.command("ask")
def order_ask(
    accept_terms: Annotated[
        str, typer.Option("--accept-terms", metavar="DIGEST", help="Accept the terms with this digest.")
    ] = "",
) -> None:
    """Show the terms of the scenes that are not open, accept them, and tell how the requests stand."""
    study = _here()
    if accept_terms:
        accepted = orders.accept_terms(study, accept_terms)
        show.note(f"The terms of {accepted.collection} are accepted: {accepted.sha256}.")
        return
    scenes, desk = orders.picked(study), orders.desk_of(study)
    found = desk.terms(scenes)
    if not found:
        raise NothingFoundError("No scene of the shortlist has terms to accept.", "'zoompick order plan' goes on.")
    for terms in found:
        show.line(f"{terms.collection}: {terms.url}")
        show.line(terms.text.strip() if terms.text else "The document is no text: open its address.")
        show.line(f"digest {terms.sha256}")
        show.line()
        if terms.accepted:
            show.note(f"Accepted on {terms.accepted[:10]}.")
            _follow(study, desk, scenes, terms.collection)
        else:
            show.note(f"To accept: zoompick order ask --accept-terms {terms.sha256[:16]}")


def _follow(study: Study, desk: Desk, scenes: list[Scene], collection: str) -> None:
    """How the requests for scenes of a collection stand now."""
    if list(desk.queue):
        refresh_orders(study)
    wanted = [scene for scene in to_order(scenes) if scene.collection == collection]
    known = desk.queue.by_scene()
    for scene in wanted:
        entry = known.get(scene.key)
        show.line(f"{scene.id}: {f'order {entry.number} is {_state(entry)}' if entry else 'not ordered yet'}")
    if any(scene.key not in known for scene in wanted):
        show.note("To go on: zoompick order plan")


def _state(entry: Order) -> str:
    return f"{entry.state} {entry.progress} %" if entry.state == "running" else entry.state


@order.command("plan")
def order_plan(as_json: options.Json = False) -> None:
    """Show into which orders the shortlist would be split, and what they cost; nothing is ordered."""
    plan = plan_orders(_here())
    planned = plan.orders
    if as_json:
        show.as_json([_row(entry) for entry in planned])
        return
    _table(planned)
    price, accept = _cost(planned), _accepting(planned)
    them = "it" if len(planned) == 1 else "them"
    cost = f", for {price}" if price else ""
    show.note(f"{show.counted(len(planned), 'order')} would be handed in{cost}.{_ground(plan)}")
    if plan.needless:
        adds, it = ("adds", "it is") if len(plan.needless) == 1 else ("add", "they are")
        show.note(
            f"{', '.join(plan.needless)} {adds} no ground to the others of the overpass: {it} not ordered. "
            "'zoompick pick drop' leaves out what is not needed."
        )
    if plan.waiting:
        waits = "One of them waits" if len(plan.waiting) == 1 else f"{len(plan.waiting)} of them wait"
        show.note(f"{waits} in the queue since an earlier 'order submit'.")
    if plan.ordered:
        show.note(
            f"{show.counted(plan.ordered, 'scene')} of the shortlist were ordered before: 'zoompick order status'."
        )
    show.note(f"To hand {them} in: zoompick order submit{accept}")


def _ground(plan: OrderPlan) -> str:
    """How much is bought over how much ground."""
    if not plan.area_km2:
        return f" They hold {human_km2(plan.km2)}, over {human_km2(plan.ground_km2)} of ground."
    share = min(100.0, 100 * plan.ground_km2 / plan.area_km2)
    over = f"{human_km2(plan.ground_km2)} of the area's {human_km2(plan.area_km2)} ({share:.1f} %)"
    return f" {human_km2(plan.km2)} of scenes would come, over {over}."


@order.command("submit")
def order_submit(
    accept_price: Annotated[
        list[str] | None,
        typer.Option(
            "--accept-price",
            metavar="MAX",
            help="What all may cost together: '48.34 crowns', one for each currency; what is free needs none.",
        ),
    ] = None,
    wait: Annotated[
        bool, typer.Option("--wait", help="Wait and fetch, and hand in the rest as slots free up.")
    ] = False,
    every: Every = "30s",
    dry_run: options.DryRun = False,
    as_json: options.Json = False,
) -> int:
    """Hand in the planned orders, as many as there are slots for; the rest wait for the next submit."""
    if dry_run:
        order_plan(as_json)
        return exits.DONE
    queue = submit_orders(_here(), accept_price or ())
    if wait:
        with show.progress() as report:
            queue, count = wait_for_orders(_here(), options.seconds(every, "s", "--every"), 0, report, hand_in=True)
        return _waited(queue, count, as_json)
    _show(queue, as_json)
    waiting, pending = (sum(entry.state == "planned" for entry in queue), sum(entry.is_pending for entry in queue))
    _tell_unsure(queue)
    if not waiting + pending:
        show.note("Nothing is left to hand in.")
        return exits.DONE
    show.note(f"{show.counted(pending, 'order')} under way. Next: zoompick order wait")
    if waiting:
        _tell_waiting(queue)
    return exits.DONE


def _tell_waiting(queue: Sequence[Order]) -> None:
    """What was not handed in yet, and how it is."""
    waiting = [entry for entry in queue if entry.state == "planned"]
    accept = _accepting(waiting)
    what = "1 order waits" if len(waiting) == 1 else f"{len(waiting)} orders wait"
    show.note(f"{what} for a slot: zoompick order submit{accept} (with --wait as slots free up).")


@order.command("status")
def order_status(as_json: options.Json = False) -> None:
    """Show the whole queue, with the expected end of each order."""
    study = _here()
    if not list(Queue(study.orders_file)):
        if as_json:
            show.as_json([])
        show.note("Nothing has been ordered in this study. 'zoompick order plan' shows what could be.")
        return

    try:
        _show(refresh_orders(study), as_json)
    except BusyError:
        _show(list(Queue(study.orders_file)), as_json)
        show.note("As it was last known: another zoompick works in this study, and asks.")


@order.command("wait")
def order_wait(
    every: Every = "30s",
    wait_max: Annotated[
        str, typer.Option("--wait-max", metavar="SPAN", help="Wait no longer than 6h, say; to the end by default.")
    ] = "",
    as_json: options.Json = False,
) -> int:
    """Wait for the orders that are under way, and fetch what is ready; nothing is handed in."""
    longest = options.seconds(wait_max, "min", "--wait-max") if wait_max not in ("", "0") else 0
    with show.progress() as report:
        queue, count = wait_for_orders(_here(), options.seconds(every, "s", "--every"), longest, report)
    return _waited(queue, count, as_json)


def _waited(queue: Sequence[Order], count: int, as_json: bool) -> int:
    """Show the queue after waiting; done when nothing is owed any more."""
    _show(queue, as_json)
    owed = Queue(_here().orders_file).owed()
    show.note(f"{show.counted(count, 'file')} fetched.")
    if any(entry.state == "planned" for entry in owed):
        _tell_waiting(owed)
    _tell_unsure(owed)
    failed = [str(entry.number) for entry in owed if entry.state in ("failed", "lost")]
    if failed:
        show.note(f"Nothing came of {', '.join(failed)}: 'zoompick order plan' orders them again.")
    return exits.IN_PART if owed else exits.DONE


def _tell_unsure(queue: Sequence[Order]) -> None:
    """Which orders the source may have taken."""
    unsure = [str(entry.number) for entry in queue if entry.state == "unsure"]
    if unsure:
        show.note(
            f"Nobody knows yet whether these were taken: {', '.join(unsure)}. They count as bought. "
            "'zoompick order status' asks again; 'zoompick order adopt' or 'order cancel --not-taken' says how it is."
        )


@order.command("cancel")
def order_cancel(
    numbers: Annotated[list[int], typer.Argument(metavar="NUMBER …", help="Orders by number; see 'order status'.")],
    not_taken: Annotated[
        bool, typer.Option("--not-taken", help="The source says that it never took an unsure order.")
    ] = False,
    as_json: options.Json = False,
) -> None:
    """Cancel orders, also those that are under way."""
    _show(cancel_orders(_here(), numbers, not_taken), as_json)


@order.command("adopt")
def order_adopt(
    number: Annotated[int, typer.Argument(metavar="NUMBER", help="Order whose fate is unknown; see 'order status'.")],
    job: Annotated[str, typer.Argument(metavar="JOB", help="Which of the source's jobs it is: id or address.")],
    as_json: options.Json = False,
) -> None:
    """Say which job of the source an order is, whose connection broke while it was handed in."""
    _show(adopt_order(_here(), number, job), as_json)


def _cost(queue: Sequence[Order]) -> str:
    """Price of some orders together, by currency; empty when they cost nothing."""
    return words(cost_of(queue))


def _accepting(queue: Sequence[Order]) -> str:
    """The option that accepts the price of some orders; empty when they cost nothing."""
    return "".join(f" --accept-price '{one}'" for one in cost_of(queue))


def _row(entry: Order) -> JsonObject:
    return asdict(entry)


def _show(queue: Sequence[Order], as_json: bool) -> None:
    if as_json:
        show.as_json([_row(entry) for entry in queue])
    else:
        _table(queue)


def _table(queue: Sequence[Order]) -> None:
    now, rows = datetime.now(UTC), []
    for entry in queue:
        end = expected_end(entry, queue, now)
        cost = _cost([entry])
        soon = "" if end is None else f"in {human_time(end)}"
        more = f" and {len(entry.scenes) - 1} more" if len(entry.scenes) > 1 else ""
        piece = f" (piece {entry.part} of {entry.parts})" if entry.parts else ""
        piece = piece or (" (what others of the overpass do not give)" if entry.piece else "")
        what = entry.message or f"{entry.scenes[0]}{more}{piece}"
        rows.append([str(entry.number), entry.collection, _state(entry), human_km2(entry.km2, ""), cost, soon, what])
    heads = [
        show.Column("number", "right"), show.Column("collection"), show.Column("state"), show.Column("km2", "right"),
        show.Column("cost", "right"), show.Column("ready"), show.Column("scenes", flexible=True),
    ]  # fmt: skip
    show.table(heads, rows)
