"""Sources of scenes: add, list, show, check, log in."""

from __future__ import annotations

import sys
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick.addresses import origin_of, public
from zoompick.cli import exits, facts, known, options, show
from zoompick.cli.groups import group
from zoompick.jsontypes import JsonObject
from zoompick.net.login import VARIABLE, Keyring
from zoompick.scenes import offer, sources
from zoompick.scenes.sourcekinds import KINDS
from zoompick.study.folder import Study

if TYPE_CHECKING:
    from zoompick.scenes.source import Source

source = group(text="Sources of scenes: add, list, show, check, log in, remove.")
Named = Annotated[
    str, typer.Argument(metavar="[NAME]", help="Source; the only one by default.", autocompletion=known.sources)
]


@source.command("add")
def source_add(
    name: Annotated[str, typer.Argument(metavar="NAME", help="Name to call it by.")],
    url: Annotated[
        str, typer.Argument(metavar="URL|FILE", help="Landing page, root of a static catalog, or file of footprints.")
    ],
    kind: Annotated[
        str,
        typer.Option(
            "--kind",
            metavar="KIND",
            help=f"{', '.join(KINDS)}; told by the address.",
            autocompletion=known.one_of(*KINDS),
        ),
    ] = "",
    day: Annotated[
        str, typer.Option("--date", metavar="DATE", help="Date of footprints whose file tells none.")
    ] = "",
    here: Annotated[bool, typer.Option("--here", help="Keep it in this study only.")] = False,
) -> None:
    """Add a source, or change the address of one; studies that use it by name go on with the new one."""
    from zoompick.study.sourcing import add_source

    with show.progress() as report:
        there, replaced = add_source(name, url, kind, day, Study.need(Path.cwd()) if here else None, report)
    added = there.source
    where = "for this study" if here else "for all studies"
    show.note(f"{'Changed' if replaced else 'Added'} the source {name} ({added.kind}) {where}. {there.words}")


def _known_sources() -> dict[str, Source]:
    study = Study.find(Path.cwd())
    return sources.known(study.root if study else None)


@source.command("list")
def source_list(as_json: options.Json = False) -> None:
    """List the sources known here."""
    found = _known_sources()
    if as_json:
        show.as_json([asdict(entry) | {"url": public(entry.url)} for entry in found.values()])
    elif found:
        columns = [show.Column("name"), show.Column("kind"), show.Column("address", flexible=True)]
        show.table(columns, [[entry.name, entry.kind, public(entry.url)] for entry in found.values()])
    else:
        show.note("No source is known yet. Add one: zoompick source add NAME URL.")


@source.command("remove")
def source_remove(
    name: Annotated[str, typer.Argument(metavar="NAME", help="Source to forget.", autocompletion=known.sources)],
) -> None:
    """Forget a source: this study's own, else the one of all studies; what came of it stays."""
    from zoompick.study.sourcing import remove_source

    here = remove_source(name, Study.find(Path.cwd()))
    show.note(f"The source {name} is forgotten {'in this study' if here else 'for all studies'}.")


@source.command("show")
def source_show(
    name: Named = "",
    as_json: options.Json = False,
) -> None:
    """Ask a source what it has: collections, dates, bands, access, limits."""
    from zoompick.discovery.readers import reader_of
    from zoompick.scenes.session import session

    found = sources.named(name, _known_sources())
    with show.progress() as report:
        reader = reader_of(found, session(report, [found]), report)
        collections = reader.collections()
        title = str(getattr(reader, "landing", {}).get("title") or found.name)
    if as_json:
        told = {"name": found.name, "kind": found.kind, "url": found.url, "title": title}
        show.as_json(told | {"collections": collections})
        return
    show.line(f"{found.name}: {title}, {KINDS[found.kind].about}")
    show.line(found.url)
    for entry in collections:
        show.line()
        show.line(f"{entry.get('id')}: {entry.get('title') or ''}")
        for label, text in facts.of_collection(entry):
            show.fact(label, text)
        rows = [
            [b.asset, b.name, b.common_name, b.wavelength_um, b.width_um, b.pixel_m, b.what]
            for b in offer.bands(entry)
        ]
        if rows:
            heads = ("file", "band", "common name", "µm", "width", "pixel m", "what")
            show.table([show.Column(head, *_LOOK.get(head, ())) for head in heads], rows)


_LOOK: JsonObject = {
    "µm": ("right",), "width": ("right",), "pixel m": ("right",), "what": ("left", True),
}  # fmt: skip

Token = Annotated[bool, typer.Option("--token", help="A bearer token, asked for.")]
User = Annotated[str, typer.Option("--user", metavar="NAME", help="User; the password is asked for.")]
ClientId = Annotated[
    str, typer.Option("--client-id", metavar="ID", help="OAuth 2.0 client; its secret is asked for.")
]
TokenUrl = Annotated[str, typer.Option("--token-url", metavar="URL", help="Where OAuth 2.0 tokens come from.")]
Host = Annotated[str, typer.Option("--host", metavar="URL", help="For another host that the source's files lie on.")]
Also = Annotated[
    str,
    typer.Option("--also", metavar="URL", help="Let the source use its log-in for its files at this host, too."),
]
KeyHeader = Annotated[
    str,
    typer.Option("--key-header", metavar="HEADER", help="A key that goes in the header of this name; asked for."),
]
Forget = Annotated[bool, typer.Option("--forget", help="Remove what is kept.")]


@source.command("login")
def source_login(
    name: Named = "",
    token: Token = False,
    user: User = "",
    client_id: ClientId = "",
    token_url: TokenUrl = "",
    host: Host = "",
    also: Also = "",
    key_header: KeyHeader = "",
    forget: Forget = False,
) -> None:
    """Log in to a source: token, user and password, key, or OAuth 2.0; bare, it says what an account is needed for.

    A log-in goes to the source's own host alone: to search and fetch, and with orders. Of another host, where its
    files lie, it is you who says so (--host, --also).
    """
    from zoompick.study import login

    found = sources.named(name, _known_sources())
    place = host or found.url
    if forget:
        places = [place] if host or Keyring().where(place) else Keyring().others_of(found.name) or [place]
        for one in places:
            there = Keyring().drop(one)
            show.note(f"The log-in for {one} is forgotten." if there else f"No log-in for {one} is kept.")
        return
    if also:
        login.allow(found, also)
        show.note(f"{name or found.name} may use its log-in for its files at {also}, too.")
        return
    if not (token or user or client_id or key_header):
        _tell_login(found)
        return
    asked = login.Asked(token=token, user=user, client_id=client_id, token_url=token_url, key_header=key_header)
    kept = login.keep(place, asked, _secret, found)
    if kept.tried_on:
        show.note(f"It works: {kept.tried_on} lets it in.")
    else:
        show.note(f"It could not be tried: nothing was found at {kept.host} that refuses who has no log-in.")
    show.note(f"The log-in for {kept.host} is kept in {Keyring().path}, which only you can read.")


def _secret(words: str) -> str:
    """Ask for a secret without showing it; from a pipe it is the next line."""
    if sys.stdin.isatty():
        return str(typer.prompt(words, hide_input=True, err=True))
    return sys.stdin.readline().rstrip("\r\n")


def _tell_login(found: Source) -> None:
    """What an account is good for, where to get one, and whether there is a log-in now."""
    from zoompick.study import login

    with show.progress() as report:
        told, where = login.needs(found, report)
    rows = [[name, facts.words(need) or "not told"] for name, need in told.items()]
    show.table([show.Column("collection"), show.Column("log-in", flexible=True)], rows)
    if where:
        show.sentence(f"Get an account: {where}")
    known, others = Keyring().where(found.url), Keyring().others_of(found.name)
    for other in others:
        show.note(f"There is a log-in for {other}, where files of {found.name} lie.")
    if known:
        show.note(f"There is a log-in for {found.url}, from the {known}.")
    if known or others:
        return
    ways = f"'zoompick source login {found.name} --user NAME', --token, or --client-id"
    variable = f"{VARIABLE}='{origin_of(found.url)} USER:PASSWORD'"
    show.note(f"There is no log-in yet: {ways}; a variable {variable} and netrc (for https) are read, too.")


@source.command("check")
def source_check(
    name: Named = "",
    as_json: options.Json = False,
) -> int:
    """Test a source: does it answer, what does it conform to, does a search give what was asked for."""
    from zoompick.discovery.check_source import check

    found = sources.named(name, _known_sources())
    with show.progress() as report:
        results = check(found, report)
    if as_json:
        show.as_json([result.to_json() for result in results])
        return exits.SOURCE_FAILED if any(result.outcome == "fail" for result in results) else exits.DONE
    columns = [show.Column("outcome"), show.Column("check"), show.Column("figure", flexible=True)]
    show.table(columns, [[result.outcome, result.check, result.figure] for result in results])
    for result in results:
        if result.note:
            show.sentence(f"{result.outcome}: {result.note}")
    return exits.SOURCE_FAILED if any(result.outcome == "fail" for result in results) else exits.DONE
