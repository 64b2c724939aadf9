"""Log in to a source: ask for what is secret, try it, keep it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from urllib.parse import urlsplit

from zoompick.catalog import offer
from zoompick.catalog.links import address_of
from zoompick.catalog.sourcekinds import reader_of
from zoompick.catalog.sources import Source
from zoompick.errors import UsageError
from zoompick.events import Report, ignore
from zoompick.net.client import Client
from zoompick.net.login import Keyring, Login

Ask = Callable[[str], str]
"""Asks a person for a secret."""


@dataclass(frozen=True, slots=True)
class Asked:
    """What a person gave; secrets are asked for."""

    token: bool = False
    user: str = ""
    client_id: str = ""
    token_url: str = ""


def keep(place: str, asked: Asked, ask: Ask) -> str:
    """Make a log-in, fetch its first token where it has one, and keep it; returns the host it is for.

    Raises
    ------
    UsageError
        More or less was given than one scheme needs, or the address would send secrets unencrypted.
    SourceError
        No token was given for it; nothing is kept.
    """
    parts = urlsplit(place)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise UsageError(f"'{place}' is no web address: it needs no log-in.", "")
    for address in filter(None, (place, asked.token_url)):
        where = urlsplit(address)
        if where.scheme != "https" and where.hostname not in ("127.0.0.1", "localhost", "::1"):
            raise UsageError(
                f"{address} would carry the log-in unencrypted.", "Use its https address: 'zoompick source add'."
            )
    login = _login(asked, ask)
    if login.is_renewable:
        login = login.renewed(Client()._post_form)
    Keyring().put(place, login)
    return parts.netloc


def _login(asked: Asked, ask: Ask) -> Login:
    if sum(map(bool, (asked.token, asked.user, asked.client_id))) > 1 and not (asked.user and asked.token_url):
        raise UsageError("Several ways to log in were given at once.", "Give one: `token`, `user` or `client-id`.")
    if asked.token:
        return Login("bearer", token=ask("Token"))
    if asked.user and not asked.token_url:
        return Login("basic", asked.user, ask("Password"))
    if not asked.token_url:
        raise UsageError("An OAuth 2.0 client needs an address for its tokens.", "Give `token-url` URL.")
    secret = ask("Client secret") if asked.client_id else ""
    if asked.user:
        password = ask("Password")
        return Login("password", asked.user, password, "", asked.token_url, asked.client_id, secret)
    return Login("client", token_url=asked.token_url, client_id=asked.client_id, client_secret=secret)


def needs(source: Source, report: Report = ignore) -> tuple[dict[str, object], str]:
    """What an account is needed for, by collection as it tells it (None: not told), and where to get one or empty."""
    reader = reader_of(source, Client(report), report)
    told = {str(entry.get("id")): offer.of_collection(entry).told["login"] for entry in reader.collections()}
    return told, address_of(getattr(reader, "landing", {}), "register")
