"""Make a study: everything is checked before the first file is written."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from zoompick.area.model import Area
from zoompick.catalog.filters import BY_FIELD
from zoompick.files import write_json
from zoompick.study.brief import brief_text
from zoompick.study.folder import Study
from zoompick.study.journal import act


@dataclass(frozen=True)
class NewStudy:
    """What a new study begins with.

    Attributes
    ----------
    name : str
        The folder's when empty.
    dates : sequence of str
        Periods; any time when empty.
    cloud : float
        Percent of a scene, at most.
    window : bool
        Fetch only the area's part of each file.
    """

    name: str = ""
    area: Area | None = None
    source: str = ""
    collections: Sequence[str] = ()
    dates: Sequence[str] = ()
    cloud: float = 20
    window: bool = False


def new_study(folder: Path, wish: NewStudy) -> Study:
    """Make the folder of a study, its brief, and its area where one is told.

    Raises
    ------
    UsageError
        A date or the cloud limit cannot be used.
    StudyError
        The folder is a study already, or its place is taken.
    """
    BY_FIELD["periods"].of_person(list(wish.dates))
    BY_FIELD["cloud_max"].of_person(wish.cloud)
    given = {
        ("study", "name"): wish.name or folder.resolve().name,
        ("search", "source"): wish.source,
        ("search", "collections"): list(wish.collections),
        ("search", "cloud"): int(wish.cloud) if float(wish.cloud).is_integer() else wish.cloud,
        ("download", "window"): wish.window,
    }
    if wish.dates:
        given["search", "dates"] = list(wish.dates)
    study = Study.create(folder, brief_text(given))
    with act(study.journal_file, "new", study=given["study", "name"]):
        if wish.area is not None:
            write_json(study.area_file, wish.area.to_feature())
    return study
