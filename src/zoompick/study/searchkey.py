"""A short key of all that decides which scenes a brief chooses: of what is asked for, not of how it is written.

What a brief leaves at its default is not in the key: a condition that a later version knows changes the key of no
study that does not use it.
"""

from __future__ import annotations

import hashlib
import json
from dataclasses import fields, is_dataclass, replace
from datetime import datetime
from typing import TYPE_CHECKING, Any

from zoompick.discovery.criteria import Criteria
from zoompick.geo.shapes import geojson_of
from zoompick.study import needs
from zoompick.study.shortlist import BY_HAND, chosen_by, rename

if TYPE_CHECKING:
    from zoompick.area.model import Area
    from zoompick.study.brief import Brief
    from zoompick.study.folder import Study

_FIELDS_OF_0_1 = (
    "area", "collections", "periods", "cloud_max", "cover_min", "season", "hours", "published", "cloud_land_max",
    "cloud_area_max", "sun_min_deg", "off_nadir_max_deg", "platforms", "instruments", "levels", "pixel_max_m",
    "access", "bands", "versions", "look_inside", "ids", "unknown_cloud", "sort", "most",
)  # fmt: skip
"""In the order in which version 0.1.0 wrote them into its keys."""


def search_key(brief: Brief, area: Area) -> str:
    """Changes when anything does that decides which scenes are chosen."""
    search = replace(brief.search, area=None)
    asked = {
        field.name: _plain(value)
        for field in fields(Criteria)
        if (value := getattr(search, field.name)) != field.default
    }
    facts = {
        "source": brief.source, "search": asked, "cover": float(brief.cover), "bands": _plain(tuple(brief.bands)),
        "crs": needs.study_crs(brief, area).code, "area": geojson_of(area.polygon),
    }  # fmt: skip
    return _key(facts)


def keys(brief: Brief, area: Area) -> tuple[str, str]:
    """The key of now, and the one that an earlier version gave for the same."""
    return search_key(brief, area), _key_of_0_1(brief, area)


def holds(study: Study, brief: Brief, area: Area) -> bool:
    """True when the shortlist is a person's, or was chosen for what the brief asks for."""
    by = chosen_by(study)
    return by == BY_HAND or (bool(by) and by in keys(brief, area))


def bring_up_to_date(study: Study, brief: Brief, area: Area) -> bool:
    """Give a choice that holds its key of now; True when it had that of an earlier version."""
    now, before = keys(brief, area)
    if chosen_by(study) != before:
        return False
    rename(study, now)
    return True


def _plain(value: Any) -> Any:
    """A value as JSON holds it; of several the order means nothing."""
    if isinstance(value, tuple):
        return sorted((_plain(one) for one in value), key=lambda one: json.dumps(one, sort_keys=True))
    if is_dataclass(value):
        return {field.name: _plain(getattr(value, field.name)) for field in fields(value)}
    if isinstance(value, datetime):
        return value.isoformat()
    return float(value) if isinstance(value, int) and not isinstance(value, bool) else value


def _key_of_0_1(brief: Brief, area: Area) -> str:
    """The key that version 0.1.0 would have given."""
    told = ", ".join(f"{name}={getattr(brief.search, name)!r}" for name in _FIELDS_OF_0_1)
    return _key([
        brief.source, f"Criteria({told})", brief.cover, brief.bands, needs.study_crs(brief, area).code,
        geojson_of(area.polygon),
    ])  # fmt: skip


def _key(facts: Any) -> str:
    return hashlib.sha256(json.dumps(facts, sort_keys=True).encode()).hexdigest()[:32]
