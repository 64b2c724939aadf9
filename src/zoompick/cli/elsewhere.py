"""Work on a cluster: the option and setting that ask for it, and the sentence on what travelled."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick import settings
from zoompick.cli import show
from zoompick.events import Noted
from zoompick.files import human_bytes

if TYPE_CHECKING:
    from zoompick.raster.cluster import Cluster


def _asked(context: typer.Context, address: str) -> str:
    """Blocks of this command are computed there, from the first that is due to the end of the command."""
    chosen = address.strip() or settings.text("cluster").strip()
    if chosen and not context.resilient_parsing:
        from zoompick.raster.cluster import refuse_unusable

        refuse_unusable(chosen)
        context.with_resource(_on(chosen))
    return address


Where = Annotated[
    str,
    typer.Option(
        "--cluster", metavar="ADDRESS", help="Compute on a Dask cluster: tcp://HOST:8786, or local:2.",
        callback=_asked,
    ),
]  # fmt: skip


@contextmanager
def _on(address: str) -> Iterator[None]:
    from zoompick.raster import engine
    from zoompick.raster.cluster import on_cluster

    found: list[Cluster] = []
    with ExitStack() as stack:

        def executor() -> Cluster:
            if not found:

                def report(event: object) -> None:
                    if isinstance(event, Noted):
                        show.note(event.text)

                found.append(stack.enter_context(on_cluster(address, report)))
            return found[0]

        with engine.computed_on(executor):
            yield
        for one in found:
            _tell(one)


def _tell(cluster: Cluster) -> None:
    traffic = cluster.traffic
    again = f", {show.counted(traffic.repeated, 'slow one')} given to another worker too" if traffic.repeated else ""
    show.note(
        f"{show.counted(traffic.jobs, 'job')} on {show.counted(cluster.workers, 'worker')} of {cluster.address}: "
        f"{human_bytes(traffic.sent)} went out, {human_bytes(traffic.received)} came back{again}."
    )
