"""Log in to a source: ask for what is secret, try it, keep it."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from zoompick.addresses import address_parts, host_of, origin_of
from zoompick.discovery.criteria import Criteria
from zoompick.discovery.readers import reader_of
from zoompick.errors import SourceError, UsageError
from zoompick.events import Report, ignore
from zoompick.geo.shapes import lonlat_box
from zoompick.net.authority import Purpose
from zoompick.net.client import Client
from zoompick.net.links import address_of, joined, links_of
from zoompick.net.login import Keyring, Login, OneLogin, is_open_wire
from zoompick.net.refusals import TransientError
from zoompick.net.vault import joined as joined_secret
from zoompick.orders.jobs import JOBS
from zoompick.scenes import offer
from zoompick.scenes.scene import Scene
from zoompick.scenes.session import session
from zoompick.scenes.source import Source

Ask = Callable[[str], str]
"""Asks a person for a secret."""


@dataclass(frozen=True, slots=True)
class Asked:
    """What a person gave; secrets are asked for."""

    token: bool = False
    user: str = ""
    key_header: str = ""
    client_id: str = ""
    token_url: str = ""


@dataclass(frozen=True, slots=True)
class Kept:
    """A log-in that is kept now.

    Attributes
    ----------
    host : str
        What it is for, with its port.
    tried_on : str
        Address that refuses who has none, and let this one in; empty when nothing was found to try it on.
    """

    host: str
    tried_on: str


def keep(place: str, asked: Asked, ask: Ask, source: Source | None = None) -> Kept:
    """Make a log-in, fetch its first token where it has one, try it, and keep it.

    Parameters
    ----------
    source : Source, optional
        Whose it is: what it offers to people with a log-in is what it is tried on.

    Raises
    ------
    UsageError
        More or less was given than one scheme needs, or the address would send secrets unencrypted.
    SourceError
        No token was given for it, or the source does not let it in; nothing is kept.
    """
    parts = address_parts(place)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise UsageError(f"'{place}' is no web address: it needs no log-in.", "")
    for address in filter(None, (place, asked.token_url)):
        if is_open_wire(address) or not address.startswith(("http://", "https://")):
            raise UsageError(
                f"{address} would carry the log-in unencrypted.", "Use its https address: 'zoompick source add'."
            )
    login = _login(replace(asked, token_url=joined_secret(asked.token_url, "")), ask)
    login.headers()
    if login.is_renewable:
        login = login.renewed(Client()._post_form)
    tried_on = _tried_on(place, login, source) if source is not None else ""
    is_elsewhere = source is not None and source.is_web and origin_of(place) != origin_of(source.url)
    if is_elsewhere and source is not None:
        login = replace(login, source=source.name, origins=(origin_of(source.url),))
    Keyring().put(place, login)
    return Kept(host_of(place), tried_on)


def _tried_on(place: str, login: Login, source: Source) -> str:
    """The first address that refuses who has no log-in and lets this one in; empty when none refuses anybody."""
    for address in _locked(place, source):
        stranger, friend = Client(), Client()
        stranger.keys, friend.keys = OneLogin("", None), OneLogin(origin_of(place), login)
        try:
            if stranger.wants_login(address) is True:
                refused = friend.wants_login(address)
                if refused is False:
                    return address
                if refused is True:
                    raise SourceError(
                        f"{host_of(place)} does not accept this log-in: it answered 401 to {address}.",
                        "Nothing was kept. Check the name and the secret, and try again.",
                    )
        except TransientError:
            continue
    return ""


def _locked(place: str, source: Source) -> Iterator[str]:
    """Addresses at the log-in's origin that may be closed to strangers: itself, its orders, a file of its scenes."""
    yield place
    if not source.is_web:
        return
    try:
        landing = Client().json(source.url)
        links = [str(link["href"]) for link in links_of(landing) if str(link.get("rel", "")).endswith(JOBS)]
        reader = reader_of(source, Client(), ignore)
        closed = [
            str(entry.get("id"))
            for entry in reader.collections()
            if offer.of_collection(entry).told["login"] not in (None, "none", False)
        ]
        for link in links:
            yield joined(source.url, link)
        for collection in closed:
            found = reader.search(Criteria(lonlat_box(-180, -90, 180, 90), (collection,)))
            for item in itertools.islice(found, 1):
                bands = Scene.from_item(item, source.name).bands
                yield from (band.href for band in itertools.islice(bands.values(), 1))
    except (SourceError, UsageError):
        return


def _login(asked: Asked, ask: Ask) -> Login:
    ways = (asked.token, asked.user, asked.client_id, asked.key_header)
    if sum(map(bool, ways)) > 1 and not (asked.user and asked.token_url and not asked.key_header):
        raise UsageError(
            "Several ways to log in were given at once.", "Give one: `token`, `user`, `client-id` or `key-header`."
        )
    if asked.key_header:
        return Login("key", token=_secret(ask, "Key"), key_header=asked.key_header)
    if asked.token:
        return Login("bearer", token=_secret(ask, "Token"))
    if asked.user and not asked.token_url:
        return Login("basic", asked.user, _secret(ask, "Password"))
    if not asked.token_url:
        raise UsageError("An OAuth 2.0 client needs an address for its tokens.", "Give `token-url` URL.")
    secret = _secret(ask, "Client secret") if asked.client_id else ""
    if asked.user:
        password = _secret(ask, "Password")
        return Login("password", asked.user, password, "", asked.token_url, asked.client_id, secret)
    return Login("client", token_url=asked.token_url, client_id=asked.client_id, client_secret=secret)


def _secret(ask: Ask, what: str) -> str:
    """A secret without the line end that came with it; UsageError when there is none."""
    secret = ask(what).strip("\r\n\t ") if what in ("Token", "Key") else ask(what).strip("\r\n")
    if not secret:
        raise UsageError(f"{what}: nothing was given.", "Nothing was kept. Type it, or send it as a line by a pipe.")
    return secret


def allow(source: Source, place: str) -> None:
    """Let a source use its own log-in for its files at another host, or the one that is kept for that host.

    Raises
    ------
    UsageError
        No web address, or the log-in would travel unencrypted.
    """
    authority = source.authority(Purpose.FETCH)
    if authority is None or address_parts(place).scheme not in ("http", "https") or not origin_of(place):
        raise UsageError(f"'{place}' is no web address, or {source.name} is none.", "As https://files.example.")
    if is_open_wire(place):
        raise UsageError(f"{place} would carry the log-in unencrypted.", "Give its https address.")
    Keyring().allow(authority, place)


def needs(source: Source, report: Report = ignore) -> tuple[dict[str, object], str]:
    """What an account is needed for, by collection as it tells it (None: not told), and where to get one or empty."""
    reader = reader_of(source, session(report, [source]), report)
    told = {str(entry.get("id")): offer.of_collection(entry).told["login"] for entry in reader.collections()}
    return told, address_of(getattr(reader, "landing", {}), "register")
