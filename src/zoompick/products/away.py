"""Products on object storage: made beside here, then put there, the product last; whole or not there at all."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from zoompick.addresses import is_remote, restored
from zoompick.errors import StudyError, UsageError
from zoompick.events import Noted
from zoompick.files import human_bytes, read_json, write_json
from zoompick.net import objects
from zoompick.net.client import Client
from zoompick.net.refusals import NOT_FOUND, AnsweredError
from zoompick.products.how import Making
from zoompick.products.making import make_files
from zoompick.products.step import Made, Step
from zoompick.scenes.sidecar import sidecar_of


def make_anywhere(steps: Sequence[Step], how: Making, journal: Path | None = None) -> list[Made]:
    """Make products of the same plain files; those whose output is ``s3://BUCKET/KEY`` are uploaded.

    Raises
    ------
    UsageError
        Outputs are on a web server, or some here and some elsewhere.
    StudyError
        The object exists and may not be replaced.
    SourceError
        The storage does not take it.
    """
    away = [is_remote(step.output) for step in steps]
    if not any(away):
        return make_files(steps, how, journal)
    addresses = [restored(step.output) for step in steps]
    if not all(address.startswith("s3://") for address in addresses):
        raise UsageError(f"Nothing can be written to {addresses[0]}.", "Give a file, or s3://BUCKET/KEY.")

    with tempfile.TemporaryDirectory(prefix="zoompick-") as folder:
        local = [replace(step, output=Path(folder) / step.output.name) for step in steps]
        # A product comes last: who sees it finds all that belongs to it.
        targets = {
            path: f"{address.rpartition('/')[0]}/{path.name}"
            for step, address in zip(local, addresses, strict=True)
            for path in (*step.companions, sidecar_of(step.output), step.output)
        }
        if not how.may_replace:
            taken = next((target for target in targets.values() if _exists(target)), None)
            if taken:
                raise StudyError(f"{taken} exists already.", "Give another `out`, or `overwrite`.")
        made = make_files(local, how)
        for step in local:
            _without_paths(sidecar_of(step.output))
        for path, target in targets.items():
            objects.upload(path, target)
        size = sum(step.output.stat().st_size for step in local)
    how.report(Noted(f"Put {human_bytes(size)} on {addresses[0].split('/')[2]}."))
    return [replace(one, path=Path(address)) for one, address in zip(made, addresses, strict=True)]


def _exists(address: str) -> bool:
    """Whether there is such an object."""
    try:
        Client().state(address)
    except AnsweredError as error:
        if error.status == NOT_FOUND:
            return False
        raise
    return True


def _without_paths(sidecar: Path) -> None:
    """Where inputs lie on this machine is of no use there: their names and digests stay."""
    item = read_json(sidecar)
    for link in item["links"]:
        if link["rel"] == "derived_from" and not is_remote(link["href"]):
            link["href"] = f"./{Path(link['href']).name}"
    write_json(sidecar, item)
