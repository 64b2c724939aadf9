"""The state of all that the checks of a study look at."""

from __future__ import annotations

import hashlib

from zoompick.scenes.sidecar import sidecar_of
from zoompick.study.folder import Study
from zoompick.study.plan import StudyPlan


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
        name = path.relative_to(study.root).as_posix()
        try:
            state = path.stat()
        except OSError:
            hasher.update(f"{name} is not there\n".encode())
            continue
        hasher.update(f"{name} {state.st_size} {state.st_mtime_ns}\n".encode())
    return hasher.hexdigest()[:32]
