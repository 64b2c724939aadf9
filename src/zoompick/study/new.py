"""Make a study: everything is checked before the first file is written."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path

from zoompick.area.model import Area
from zoompick.discovery.criteria import Criteria
from zoompick.discovery.filters import BY_FIELD
from zoompick.errors import ZoomPickError
from zoompick.events import ignore
from zoompick.files import json_bytes, write_json
from zoompick.journal import act
from zoompick.scenes import sources
from zoompick.scenes.scene import Scene
from zoompick.study.brief import brief_text
from zoompick.study.folder import Study, refuse_taken


@dataclass(frozen=True)
class NewStudy:
    """What a new study begins with.

    Attributes
    ----------
    name : str
        The folder's when empty.
    dates : sequence of str
        Periods; any time when empty.
    cloud : float or None
        Percent of a scene, at most; None for 20, and for no limit where the collections tell no cloud.
    window : bool
        Fetch only the area's part of each file.
    more : mapping of (section, key) to object
        Other values of the brief in place of those that a new one starts with.
    tail : str
        Sections at its end: products of all days together.
    """

    name: str = ""
    area: Area | None = None
    source: str = ""
    collections: Sequence[str] = ()
    dates: Sequence[str] = ()
    cloud: float | None = None
    window: bool = False
    more: Mapping[tuple[str, str], object] = field(default_factory=dict)
    tail: str = ""


def new_study(folder: Path, options: NewStudy) -> Study:
    """Make the folder of a study, its brief, and its area where one is told.

    Raises
    ------
    UsageError
        A date or the cloud limit cannot be used.
    StudyError
        The folder is a study already, or its place is taken.
    """
    BY_FIELD["periods"].of_person(list(options.dates))
    cloud = options.cloud if options.cloud is not None else 20.0 if _tells_cloud(options) else 100.0
    BY_FIELD["cloud_max"].of_person(cloud)
    given = {
        ("study", "name"): options.name or folder.resolve().name,
        ("search", "source"): options.source,
        ("search", "collections"): list(options.collections),
        ("search", "cloud"): int(cloud) if float(cloud).is_integer() else cloud,
        ("download", "window"): options.window,
    }
    if options.dates:
        given["search", "dates"] = list(options.dates)
    if options.area is not None:
        refuse_taken(folder, {Study(folder).area_file.name: area_bytes(options.area)})
    study = Study.create(folder, brief_text(given | dict(options.more)) + options.tail)
    with act(study.journal_file, "new", study=given["study", "name"]):
        if options.area is not None:
            write_json(study.area_file, options.area.to_feature())
    return study


def area_bytes(area: Area) -> bytes:
    """An area as a study keeps it."""
    return json_bytes(area.to_feature(), 2) + b"\n"


def _tells_cloud(options: NewStudy) -> bool:
    """False only where the source can be asked, and none of a few scenes of the collections tells its cloud."""
    from zoompick.discovery.readers import reader_of
    from zoompick.scenes.session import session

    known = sources.known(None)
    if options.source not in known or not options.collections or options.area is None:
        return True
    try:
        reader = reader_of(known[options.source], session(), ignore)
        criteria = Criteria(options.area.polygon, tuple(options.collections))
        scenes = [Scene.from_item(item) for item in islice(reader.search(criteria), _SAMPLE)]
    except ZoomPickError:
        return True
    return not scenes or any(scene.cloud_percent is not None for scene in scenes)


_SAMPLE = 10
