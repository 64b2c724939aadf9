"""The session of a study."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zoompick.events import Report, ignore
from zoompick.scenes import sources
from zoompick.study import oldsecrets
from zoompick.study.folder import Study

if TYPE_CHECKING:
    from zoompick.net.client import Client
    from zoompick.net.pace import Pace


def session_of(study: Study | None, report: Report = ignore, pace: Pace | None = None) -> Client:
    """The session of a study: it knows the study's own sources, too."""
    from zoompick.scenes.session import session

    oldsecrets.move(study, report)
    return session(report, sources.known(study.root).values() if study else None, pace)
