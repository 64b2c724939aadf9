"""Changes of the shortlist by hand, each under the study's lock and in its journal."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.journal import act
from zoompick.scenes.scenelist import Entry
from zoompick.study import shortlist as kept
from zoompick.study.folder import Study


def change_shortlist(
    study: Study, add: Sequence[Entry] = (), drop: Sequence[Entry] = (), only: bool = False, verb: str = "pick"
) -> list[Entry]:
    """Change the shortlist under the study's lock; from then on it counts as picked by hand.

    Parameters
    ----------
    add : sequence of Entry
        New ones, and those that are there already with other tags or notes.
    only : bool
        Nothing but what is added stays.
    verb : str
        What the journal calls it.
    """
    gone = {entry.scene.key for entry in drop}
    with study.locked(), act(study.journal_file, verb, scenes=[entry.scene.id for entry in (*add, *drop)]):
        before = [] if only else kept.shortlist(study)
        found = {entry.scene.key: entry for entry in (*before, *add) if entry.scene.key not in gone}
        entries = sorted(found.values(), key=lambda entry: (entry.scene.when, -entry.cover_percent))
        kept.keep(study, entries, kept.BY_HAND)
    return entries


def undo_shortlist(study: Study) -> list[Entry]:
    """The shortlist as it was before its last change."""
    with study.locked(), act(study.journal_file, "undo"):
        return kept.undo(study)
