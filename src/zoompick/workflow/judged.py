"""What was found of a study the last time, and whether it still holds: nothing is judged twice for nothing."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING

from zoompick.area.model import Area
from zoompick.errors import DataError
from zoompick.events import Report, ignore
from zoompick.files import read_json
from zoompick.imagery.sidecar import sidecar_of
from zoompick.study.brief import Brief
from zoompick.study.folder import Study
from zoompick.verification.finding import Finding

if TYPE_CHECKING:
    from zoompick.workflow.plan import StudyPlan


def judge_again(
    study: Study, brief: Brief, area: Area, plan: StudyPlan, report: Report = ignore
) -> tuple[list[Finding], bool]:
    """Findings of a study, those of the last time where nothing changed since; and whether it was judged anew.

    What has the size and the time stamp that it had then is taken for unchanged.
    """
    state, kept = state_of(study, plan), _kept(study)
    if kept is not None and kept[0] == state:
        return kept[1], False
    from zoompick.workflow.verify import judge_and_keep

    return judge_and_keep(study, brief, area, plan, report), True


def _kept(study: Study) -> tuple[str, list[Finding]] | None:
    """State and findings of the last time; None when they cannot be read."""
    try:
        told = read_json(study.checks_file)
        return str(told["state"]), [Finding(**row) for row in told["findings"]]
    except (DataError, KeyError, TypeError):
        return None


def state_of(study: Study, plan: StudyPlan) -> str:
    """Changes when brief, area, shortlist or any file changes that the checks look at."""
    scenes = [scene for group in plan.days.values() for scene in group]
    folders = {study.scene_folder(scene.key) for scene in scenes}
    paths = [study.brief_file, study.area_file, study.shortlist_file]
    paths += [path for folder in sorted(folders) for path in sorted(folder.glob("*"))]
    for step in plan.steps:
        paths += [step.output, sidecar_of(step.output), *step.companions]
    hasher = hashlib.sha256()
    for path in paths:
        try:
            state = path.stat()
        except OSError:
            hasher.update(f"{path} is not there\n".encode())
            continue
        hasher.update(f"{path} {state.st_size} {state.st_mtime_ns}\n".encode())
    return hasher.hexdigest()[:32]
