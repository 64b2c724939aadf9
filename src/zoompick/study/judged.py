"""What was found of a study the last time, and whether it still holds: nothing is judged twice for nothing."""

from __future__ import annotations

from zoompick.area.model import Area
from zoompick.errors import DataError
from zoompick.events import Report, ignore
from zoompick.files import read_json
from zoompick.scenes.finding import Finding
from zoompick.study.brief import Brief
from zoompick.study.checkstate import state_of
from zoompick.study.folder import JUDGED, Study
from zoompick.study.plan import StudyPlan


def judge_again(
    study: Study, brief: Brief, area: Area, plan: StudyPlan, report: Report = ignore
) -> tuple[list[Finding], bool]:
    """Findings of a study, those of the last time where nothing changed since; and whether it was judged anew.

    What has the size and the time stamp that it had then is taken for unchanged.
    """
    state, kept = state_of(study, plan), _kept(study)
    if kept is not None and kept[0] == state:
        return kept[1], False
    from zoompick.study.verify import judge_and_keep

    return judge_and_keep(study, brief, area, plan, report), True


def _kept(study: Study) -> tuple[str, list[Finding]] | None:
    """State and findings of the last time; None when they cannot be read."""
    try:
        told, judged = read_json(study.checks_file), study.local(JUDGED)
        state = read_json(judged)["state"] if judged.exists() else told["state"]
        return str(state), [Finding.from_json(row) for row in told["findings"]]
    except (DataError, KeyError, TypeError):
        return None
