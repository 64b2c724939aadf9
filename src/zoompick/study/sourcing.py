"""Sources of scenes: which are known, add, remove, what one has, is it sound, log in."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.discovery import check_source as checking
from zoompick.discovery.readers import reader_of
from zoompick.errors import UnknownNameError
from zoompick.events import Report, ignore
from zoompick.journal import act
from zoompick.jsontypes import JsonMap
from zoompick.scenes import sources
from zoompick.scenes.finding import Finding
from zoompick.scenes.period import Period
from zoompick.scenes.session import session
from zoompick.scenes.source import Source
from zoompick.study.folder import Study
from zoompick.study.login import Asked, Kept, keep


def known_sources(study: Study | None = None) -> dict[str, Source]:
    """Sources by name: those of all studies, and a study's own before them."""
    return sources.known(study.root if study else None)


def add_source(
    name: str, url: str, kind: str = "", day: str = "", study: Study | None = None, report: Report = ignore
) -> tuple[checking.There, bool]:
    """Add a source, or change the address of one.

    Parameters
    ----------
    kind : str
        One of :data:`zoompick.scenes.sourcekinds.KINDS`; found out when empty.
    day : str
        Date of footprints whose file tells none.
    study : Study, optional
        Keep it in this study only.

    Returns
    -------
    (There, bool)
        The source as it was kept and what was found at its address; whether one of this name was replaced.

    Raises
    ------
    UsageError, FormatError
    """
    if day:
        Period.parse(day)
    added = sources.checked(name, url, kind, day)
    if added.kind == "footprints":
        # Indexed now, so that a file that cannot be read is told now.
        reader_of(added, session(report, [added]), report)
    there = checking.look_there(added, bool(kind), report)
    with act(study.journal_file if study else None, "source add", source=name, url=url):
        replaced = sources.add(there.source, sources.sources_file(study.root if study else None))
    return there, replaced


def remove_source(name: str, study: Study | None = None) -> bool:
    """Forget a source, a study's own first; True when it was the study's. What came of it stays.

    Raises
    ------
    UnknownNameError
    """
    here = study is not None and sources.remove(name, sources.sources_file(study.root))
    if not here and not sources.remove(name, sources.sources_file(None)):
        raise UnknownNameError.of("source", name, known_sources(study))
    with act(study.journal_file if study else None, "source remove", source=name):
        return here


def collections_of(source: Source, report: Report = ignore) -> Sequence[JsonMap]:
    """What a source has: its collections as STAC tells them (STAC specification, Collection)."""
    return reader_of(source, session(report, [source]), report).collections()


def check_source(source: Source, report: Report = ignore) -> list[Finding]:
    """Test a source: does it answer, what does it conform to, does a search give what was asked for."""
    return checking.check(source, report)


def log_in(
    source: Source, secret: str, user: str = "", client_id: str = "", token_url: str = "", host: str = ""
) -> Kept:
    """Keep a log-in for a source: a bearer token, a user's password, or the secret of an OAuth 2.0 client.

    Parameters
    ----------
    secret : str
        Token, password or client secret, by what is named beside it.
    host : str
        Another host that the source's files lie on.
    """
    asked = Asked(token=not (user or client_id), user=user, client_id=client_id, token_url=token_url)
    return keep(host or source.url, asked, lambda _: secret, source)
