"""Orders of what sources prepare on request or sell: ask, plan, submit, status, wait, cancel."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from zoompick.cli import exits, options
from zoompick.cli.groups import defaulting, group

if TYPE_CHECKING:
    from zoompick.catalog.scene import Scene
    from zoompick.study.folder import Study
    from zoompick.transfer.queue import Order
    from zoompick.workflow.orders import Desk

order = group(
    defaulting("status", "status"),
    "Order scenes prepared on request or sold: ask, plan, submit, status, wait, cancel.",
)


def _here() -> Study:
    from zoompick.study.folder import Study

    return Study.need(Path.cwd())


@order.command("ask")
def order_ask(
    accept_terms: Annotated[
        str, typer.Option("--accept-terms", metavar="DIGEST", help="Accept the terms with this digest.")
    ] = "",
) -> None:
    """Show the terms of the scenes that are not open, accept them, and tell how the requests stand."""
    from zoompick.cli import show
    from zoompick.errors import NothingFoundError
    from zoompick.workflow import orders

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
    from zoompick.cli import show
    from zoompick.workflow.orders import advance_orders, to_order

    if list(desk.queue):
        advance_orders(study)
    wanted = [scene.id for scene in to_order(scenes) if scene.collection == collection]
    known = desk.queue.by_scene()
    for name in wanted:
        entry = known.get(name)
        show.line(f"{name}: {f'order {entry.number} is {_state(entry)}' if entry else 'not ordered yet'}")
    if any(name not in known for name in wanted):
        show.note("To go on: zoompick order plan")


def _state(entry: Order) -> str:
    return f"{entry.state} {entry.progress} %" if entry.state == "running" else entry.state


@order.command("plan")
def order_plan(as_json: options.Json = False) -> None:
    """Show into which orders the shortlist would be split, and what they cost; nothing is ordered."""
    from zoompick.cli import show
    from zoompick.workflow import orders

    study = _here()
    planned = orders.desk_of(study).plan(orders.picked(study))
    if as_json:
        show.as_json([_row(entry) for entry in planned])
        return
    _table(planned)
    price = _cost(planned)
    cost = f" {'It costs' if len(planned) == 1 else 'They cost'} {price}." if price else ""
    accept = f" --accept-price {price.split()[0]}" if price else ""
    them = "it" if len(planned) == 1 else "them"
    show.note(f"{show.counted(len(planned), 'order')}.{cost} To hand {them} in: zoompick order submit{accept}")


@order.command("submit")
def order_submit(
    accept_price: Annotated[
        float, typer.Option("--accept-price", metavar="MAX", min=0, help="What all may cost together, at most.")
    ] = 0.0,
    dry_run: options.DryRun = False,
    as_json: options.Json = False,
) -> None:
    """Hand in the planned orders, as many as there are slots for; the rest wait in the queue."""
    from zoompick.cli import show
    from zoompick.workflow.orders import submit_orders

    if dry_run:
        order_plan(as_json)
        return
    queue = submit_orders(_here(), accept_price)
    _show(queue, as_json)
    waiting, pending = (sum(entry.state == "planned" for entry in queue), sum(entry.is_pending for entry in queue))
    if not waiting + pending:
        show.note("Nothing is left to hand in.")
        return
    more = f"; {waiting} wait for a slot" if waiting else ""
    show.note(f"{show.counted(pending, 'order')} under way{more}. Next: zoompick order wait")


@order.command("status")
def order_status(as_json: options.Json = False) -> None:
    """Show the whole queue, with the expected end of each order."""
    from zoompick.cli import show
    from zoompick.transfer.queue import Queue

    study = _here()
    if not list(Queue(study.orders_file)):
        if as_json:
            show.as_json([])
        show.note("Nothing has been ordered in this study. 'zoompick order plan' shows what could be.")
        return
    from zoompick.workflow.orders import advance_orders

    _show(advance_orders(study), as_json)


@order.command("wait")
def order_wait(
    every: Annotated[float, typer.Option("--every", metavar="SECONDS", min=0.1, help="Ask so often.")] = 30.0,
    limit: Annotated[
        float, typer.Option("--limit", metavar="MINUTES", min=0, help="Wait no longer; 0: to the end.")
    ] = 0,
    as_json: options.Json = False,
) -> int:
    """Wait for the orders, hand in what waits for a slot, and fetch what is ready."""
    from zoompick.cli import show
    from zoompick.workflow.orders import wait_for_orders

    with show.progress() as report:
        queue, count = wait_for_orders(_here(), every, limit, report)
    _show(queue, as_json)
    bad = [entry for entry in queue if entry.state in ("failed", "lost", "unsure")]
    show.note(
        f"{show.counted(count, 'file')} fetched." + (f" {show.counted(len(bad), 'order')} failed." if bad else "")
    )
    return exits.IN_PART if bad else exits.DONE


@order.command("cancel")
def order_cancel(
    numbers: Annotated[list[int], typer.Argument(metavar="NUMBER …", help="Orders by number; see 'order status'.")],
) -> None:
    """Cancel orders, also those that are under way."""
    from zoompick.workflow.orders import cancel_orders

    _show(cancel_orders(_here(), numbers), False)


def _cost(queue: Sequence[Order]) -> str:
    """Price of some orders together, in the words of the archive; empty when they cost nothing."""
    price = sum(entry.price for entry in queue)
    return f"{price:.2f} {next((e.currency for e in queue if e.currency), '')}".strip() if price else ""


def _row(entry: Order) -> dict[str, Any]:
    from dataclasses import asdict

    return asdict(entry)


def _show(queue: Sequence[Order], as_json: bool) -> None:
    from zoompick.cli import show

    if as_json:
        show.as_json([_row(entry) for entry in queue])
    else:
        _table(queue)


def _table(queue: Sequence[Order]) -> None:
    from datetime import UTC, datetime

    from zoompick.cli import show
    from zoompick.files import human_time
    from zoompick.workflow.orders import expected_end

    now, rows = datetime.now(UTC), []
    for entry in queue:
        end = expected_end(entry, queue, now)
        cost = _cost([entry])
        soon = "" if end is None else f"in {human_time(end)}"
        more = f" and {len(entry.scenes) - 1} more" if len(entry.scenes) > 1 else ""
        piece = f" (piece {entry.part} of {entry.parts})" if entry.parts else ""
        what = entry.message or f"{entry.scenes[0]}{more}{piece}"
        rows.append([str(entry.number), entry.collection, _state(entry), f"{entry.km2:.2f}", cost, soon, what])
    heads = [
        show.Column("number", "right"), show.Column("collection"), show.Column("state"), show.Column("km2", "right"),
        show.Column("cost", "right"), show.Column("ready"), show.Column("scenes", flexible=True),
    ]  # fmt: skip
    show.table(heads, rows)
