"""The command of the settings: every one with its value and where it was set, the folders, the cache."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from zoompick import cache
from zoompick import settings as table
from zoompick.cli import exits, options, show
from zoompick.cli.findings import show_findings
from zoompick.files import human_bytes
from zoompick.judge import tell
from zoompick.net import wire
from zoompick.scenes.finding import worst
from zoompick.study.doctor import examined
from zoompick.study.folder import Study


def settings(as_json: options.Json = False) -> None:
    """List every setting and where it was set, and the folders.

    A setting is changed by a line in settings.toml (workers = 2) or by a variable (ZOOMPICK_WORKERS=2);
    ZOOMPICK_CONFIG and ZOOMPICK_CACHE move the folders.
    """
    rows = table.every()
    size = cache.size()
    if as_json:
        values = {row.key: {"value": value, "from": origin, "unit": row.unit} for row, value, origin in rows}
        folders = {"config": str(table.config_folder()), "cache": str(table.cache_folder())}
        network = {way.name: way.value for way in wire.ways()}
        show.as_json({"settings": values, "folders": folders, "network": network, "cache_bytes": size})
        return
    show.table(
        [
            show.Column("setting"),
            show.Column("value", "right"),
            show.Column("from"),
            show.Column("what", flexible=True),
        ],
        [[row.key, f"{value} {row.unit}".strip(), origin, row.help] for row, value, origin in rows],
    )
    for way in wire.ways():
        show.line(f"{way.name}: {way.value}")
    show.line(f"settings, sources, log-ins: {table.config_folder()}")
    show.line(f"cache: {table.cache_folder()}")
    show.note(
        f"The cache holds {human_bytes(size)} (cache_max_mb is its limit). "
        "'zoompick doctor --clear-cache' removes it."
    )


def doctor(
    clear_cache: Annotated[
        bool, typer.Option("--clear-cache", help="Remove the cache: all in it can be made again.")
    ] = False,
    as_json: options.Json = False,
) -> int:
    """Look at versions, codecs, room, sources, log-ins (never shown), cache; clear the cache."""
    if clear_cache:
        size = cache.size()
        cache.clear()
        show.note(f"Removed the cache: {human_bytes(size)}.")
    study = Study.find(Path.cwd())
    with show.progress() as report:
        findings = examined(study.root if study else None, report)
    if as_json:
        show.as_json(tell.findings_json(findings))
    else:
        show_findings(findings)
        bad = sum(finding.outcome != "pass" for finding in findings)
        show.note(f"{len(findings)} things looked at, {bad} to look after." if bad else "All is well.")
    return exits.CHECK_FAILED if worst(findings) == "fail" else exits.DONE
