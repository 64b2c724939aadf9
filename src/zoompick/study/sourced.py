"""What only the sources can tell of a study: whether their files are what they were, and what their licences ask."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.errors import ZoomPickError
from zoompick.events import Report
from zoompick.judge.checks.licences import licence_allows
from zoompick.scenes import fetched as record
from zoompick.scenes.fetchplan import local_names
from zoompick.scenes.finding import Finding, judged
from zoompick.scenes.scene import Scene
from zoompick.study.folder import Study
from zoompick.study.session import session_of
from zoompick.study.terms import told_terms


def online(study: Study, scene: Scene, report: Report) -> list[Finding]:
    """Files of a scene are at its source as they were fetched, by size and by entity tag or date."""
    client = session_of(study, report).on_behalf(scene.source)
    names, changed, asked = local_names(scene), list[str](), 0
    rows = record.read(study.scene_folder(scene.key))
    for band in scene.bands.values():
        fetched = rows.get(names[band.href])
        if fetched is None:
            continue
        asked += 1
        try:
            now = client.state(band.href)
        except ZoomPickError as error:
            note = f"{error.what} {error.todo}".strip()
            return [Finding("at its source", scene.label, "warn", "not answered", "unchanged", note)]
        has_other_size = now.size is not None and now.size != (fetched.whole_size or fetched.size)
        if has_other_size or (now.version and fetched.version and now.version != fetched.version):
            changed.append(names[band.href])
    what = changed[0] if changed else ""
    note = f"{what} is another at its source now, by size, entity tag or date. Search and download again."
    return [judged("at its source", scene.label, not changed, f"{asked - len(changed)} of {asked}", "unchanged", note,
                   bad="warn")]  # fmt: skip


def licences(study: Study, scenes: Sequence[Scene]) -> list[Finding]:
    """Each collection that is used: whether products of it may be handed on, and whom they have to name."""
    told = told_terms(study)
    used = dict.fromkeys(f"{scene.source}/{scene.collection}" for scene in scenes)
    return [licence_allows(name, told.get(name)) for name in used]
