"""Which products of a study are what its brief asks for now: told at once where nothing changed, else worked out."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from zoompick.errors import DataError, ZoomPickError
from zoompick.files import read_json, write_json
from zoompick.products.methods import KEY, edition, reason_for
from zoompick.settings import own_files
from zoompick.study.brief import Brief
from zoompick.study.folder import Study, at_home
from zoompick.study.shortlist import shortlist
from zoompick.vouched import Vouched

if TYPE_CHECKING:
    from zoompick.products.step import Step
    from zoompick.scenes.sidecar import Origin

CURRENT, MISSING, OLD, WAITS = "up to date", "not made", "out of date", "needs what is not here"


@at_home
def note_made(study: Study, brief: Brief, steps: Sequence[Step]) -> None:
    """Remember what products were made of, so that a look at the records tells that nothing changed."""
    paths = sorted({path for step in steps for path in (step.output, *step.inputs, *step.companions)})
    rows = {path.relative_to(study.root).as_posix(): _state(path) for path in paths}
    outputs = [step.output.relative_to(study.root).as_posix() for step in steps]
    write_json(_path(study), {"basis": _basis(study, brief), "files": rows, "products": outputs})


@at_home
def product_states(study: Study, brief: Brief) -> dict[str, str]:
    """State of each product by its path in the study, in the order of making; none where none was made yet."""
    from zoompick.study.plan import plan_study

    quick = _unchanged(study, brief)
    if quick is not None:
        return dict.fromkeys(quick, CURRENT)
    if not _path(study).exists() or not study.shortlist_file.exists() or not study.area_file.exists():
        return {}

    try:
        plan = plan_study(study, brief, study.area(), [entry.scene for entry in shortlist(study)])
    except ZoomPickError:
        return {}
    with Vouched(study.vouched_file, keeps=False) as vouched:
        return states_of(study, plan.steps, vouched)


def states_of(study: Study, steps: Sequence[Step], vouched: Vouched) -> dict[str, str]:
    """State of each step's product; a product whose input is made anew is out of date with it."""
    from zoompick.products.current import digest_of, is_current

    digest = vouched.digest
    found: dict[str, str] = {}
    old: set[Path] = set()
    for step in steps:
        name = step.output.relative_to(study.root).as_posix()
        if not all(path.is_file() for path in step.inputs) or not step.inputs:
            waits = any(path not in old and not path.is_file() for path in step.inputs) or not step.inputs
            found[name] = MISSING if not step.output.exists() and not waits else WAITS
            old.add(step.output)
            continue
        try:
            origin = None
            origin = step.origin(lambda path: digest_of(path, digest))
            is_so = not old & set(step.inputs) and is_current(step, origin, digest)
        except DataError:
            is_so = False
        found[name] = CURRENT if is_so else _old(step, origin) if step.output.exists() else MISSING
        if not is_so:
            old.add(step.output)
    return found


def _old(step: Step, origin: Origin | None) -> str:
    """Out of date, with the reason where the program itself makes it otherwise now."""
    reason = reason_for(step.output, origin.options.get(KEY, [])) if origin is not None else ""
    return f"{OLD}: {reason}" if reason else OLD


def _unchanged(study: Study, brief: Brief) -> list[str] | None:
    """Products, when neither brief, area and shortlist nor any file has changed since they were made; else None."""
    try:
        told = read_json(_path(study)) if _path(study).exists() else {}
        if told.get("basis") != _basis(study, brief):
            return None
        if all(_state(study.root / name) == row for name, row in told["files"].items()):
            return [str(name) for name in told["products"]]
    except (DataError, AttributeError, KeyError, TypeError):
        return None
    return None


def _basis(study: Study, brief: Brief) -> str:
    """Changes when anything does that products are made of, files apart."""
    made_of = (
        brief.crs and brief.crs.code, brief.pixel_m, brief.bands, str(brief.folder), brief.name, brief.intermediate,
        [(section.name, section.rules) for section in brief.sections], edition(),
    )  # fmt: skip
    hasher = hashlib.sha256(repr(made_of).encode())
    own = [path for kind in ("guides", "recipes", "classes") for path in own_files(kind)]
    for path in (study.area_file, study.shortlist_file, *own):
        hasher.update(path.read_bytes() if path.exists() else b"")
    return hasher.hexdigest()[:32]


def _state(path: Path) -> list[int]:
    try:
        told = path.stat()
    except OSError:
        return []
    return [told.st_size, told.st_mtime_ns]


def _path(study: Study) -> Path:
    return study.local("made.json")
