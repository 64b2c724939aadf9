"""Who we are to a web server: log-ins by host, kept in one private file, and how each becomes a header.

A log-in belongs to a source and goes only with what :mod:`zoompick.net.authority` lets it go with.
Sources: RFC 7617 (Basic), RFC 6750 (Bearer), RFC 6749, sections 4.3, 4.4 and 6 (OAuth 2.0 grants and refresh).
"""

from __future__ import annotations

import base64
import json
import netrc
import os
import re
import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, fields, replace
from pathlib import Path
from typing import Any
from urllib.parse import quote, quote_plus, urlsplit

from zoompick import foreign, settings
from zoompick.addresses import is_this_machine, origin_of
from zoompick.errors import DataError, SourceError, UsageError
from zoompick.files import read_json, write_json
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.net.authority import Authority
from zoompick.settings import config_folder

FILE_NAME = "credentials.json"
VARIABLE = "ZOOMPICK_LOGIN"
_EARLY_S = 30
"""A token is renewed this long before it ends."""
_SAFE = ("GET", "HEAD")
_OWN = "own"
"""Scheme of a row that holds no secret: the source's own log-in is used at that origin, too."""
_TOKEN = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")
"""Names of headers (RFC 9110, section 5.1)."""
_RESERVED = ("authorization", "host", "cookie", "content-length", "content-type", "transfer-encoding", "connection",
             "range", "if-range", "accept", "user-agent")  # fmt: skip
LEAST_HIDDEN = 4
"""Signs of a secret that is looked for in what servers say: a shorter one would blot out words."""

Post = Callable[[str, Mapping[str, str]], Any]
"""Sends a form to an address and gives the JSON that comes back."""


@dataclass(frozen=True, slots=True)
class Login:
    """One log-in. What does not belong to its scheme is empty.

    Attributes
    ----------
    scheme : str
        ``bearer`` (a token), ``basic`` (user and password), ``key`` (a token in a header of another name), ``client``
        (OAuth 2.0 client credentials), ``password`` (OAuth 2.0 password grant), or ``own``: the source's own log-in
        is used here, too.
    token_url : str
        Where the OAuth schemes get their tokens.
    token, refresh : str
        Bearer token, and what renews it.
    ends : float
        Unix time at which the token ends; 0 when that is not told.
    source : str
        Name of the source for whose files it is kept, where that is another host's.
    origins : tuple of str
        Origins of the sources that a person allowed to use it here, where that is another host's.
    key_header : str
        Name of the header that carries a key.
    """

    scheme: str
    user: str = ""
    password: str = ""
    token: str = ""
    token_url: str = ""
    client_id: str = ""
    client_secret: str = ""
    refresh: str = ""
    ends: float = 0.0
    source: str = ""
    origins: tuple[str, ...] = ()
    key_header: str = ""

    def __post_init__(self) -> None:
        object.__setattr__(self, "origins", tuple(self.origins))

    def __repr__(self) -> str:
        return f"Login({self.scheme!r}, …)"

    def header(self) -> str:
        """Value of the header that it becomes; empty while there is no token."""
        if self.scheme == "basic":
            pair = f"{self.user}:{self.password}".encode()
            return "Basic " + base64.b64encode(pair).decode()
        if self.token and not re.fullmatch(r"[\x21-\x7e]+", self.token):
            raise UsageError("The token holds signs that no header can carry.", "Copy it anew, without line ends.")
        return "" if not self.token else self.token if self.scheme == "key" else f"Bearer {self.token}"

    def headers(self) -> dict[str, str]:
        """The header by its name; nothing while there is no token.

        Raises
        ------
        UsageError
            A key whose header cannot have that name.
        """
        name = self.key_header if self.scheme == "key" else "Authorization"
        if not _TOKEN.fullmatch(name) or (self.scheme == "key" and name.lower() in _RESERVED):
            raise UsageError(f"'{name}' cannot be the header of a key.", "Give the name that the source tells.")
        value = self.header()
        return {name: value} if value else {}

    @property
    def words(self) -> str:
        """What it is, for people: nothing secret."""
        named = {"basic": f"user {self.user}", "password": f"user {self.user}", "client": f"client {self.client_id}"}
        return named.get(self.scheme) or (f"the key in {self.key_header}" if self.scheme == "key" else "a token")

    def without_secrets(self, text: str) -> str:
        """A text in which a server may have echoed what was sent to it."""
        secrets = [self.password, self.token, self.client_secret, self.refresh, self.header().partition(" ")[2]]
        for secret in sorted({one for one in secrets if len(one) >= LEAST_HIDDEN}, key=len, reverse=True):
            for shown in {secret, quote(secret, safe=""), quote_plus(secret), json.dumps(secret)[1:-1]}:
                text = text.replace(shown, "…")
        return text

    @property
    def is_renewable(self) -> bool:
        """True for the schemes that fetch their tokens."""
        return self.scheme in ("client", "password")

    @property
    def is_stale(self) -> bool:
        """True when a token has to be fetched before the next request."""
        return self.is_renewable and (not self.token or bool(self.ends and time.time() > self.ends - _EARLY_S))

    def renewed(self, post: Post) -> Login:
        """The log-in with a new token: by its refresh token, else by its grant.

        Raises
        ------
        SourceError
        """
        if self.refresh:
            try:
                return self._with(post(self.token_url, self._form("refresh_token", refresh_token=self.refresh)))
            except SourceError:
                return replace(self, refresh="").renewed(post)
        if self.scheme == "client":
            return self._with(post(self.token_url, self._form("client_credentials")))
        return self._with(post(self.token_url, self._form("password", username=self.user, password=self.password)))

    def _form(self, grant: str, **more: str) -> dict[str, str]:
        told = {"client_id": self.client_id, "client_secret": self.client_secret}
        return {"grant_type": grant} | {key: value for key, value in told.items() if value} | more

    def _with(self, answer: JsonMap) -> Login:
        token = answer.get("access_token") if isinstance(answer, dict) else None
        if not isinstance(token, str) or not token:
            raise SourceError("The log-in gave no token.", "Check the address of the tokens, and log in again.")
        lasts = foreign.number(answer.get("expires_in"), 0, 1e10)
        ends = 0.0 if lasts is None else time.time() + lasts
        return replace(self, token=token, refresh=str(answer.get("refresh_token") or self.refresh), ends=ends)


@dataclass(frozen=True, slots=True)
class Carried:
    """What goes with one request of who we are.

    Attributes
    ----------
    login : Login or None
    is_withheld : bool
        A log-in is known for that place, and this request has no authority to use it.
    """

    login: Login | None = None
    is_withheld: bool = False

    @property
    def headers(self) -> Mapping[str, str]:
        """Of the request."""
        return self.login.headers() if self.login is not None else {}

    def without_secrets(self, text: str) -> str:
        """A text that shows nothing of what was sent."""
        return self.login.without_secrets(text) if self.login is not None else text


NOTHING = Carried()


class OneLogin:
    """Stands in for a :class:`Keyring` while a log-in is tried, before it is kept; None is nobody's."""

    def __init__(self, origin: str, login: Login | None) -> None:
        self._origin, self._login = origin, login

    def carried(self, authority: Authority | None, method: str, url: str, post: Post) -> Carried:
        """The log-in for the one origin, for reading alone."""
        is_its = method in _SAFE and origin_of(url) == self._origin
        return Carried(self._login) if self._login is not None and is_its else NOTHING

    def renewed(self, authority: Authority | None, method: str, url: str, used: Carried, post: Post) -> bool:
        """Nothing is renewed while it is tried."""
        return False


class Keyring:
    """Log-ins by origin (scheme, host and port); safe to use from several threads.

    A log-in comes from the environment (variables whose names begin with ``ZOOMPICK_LOGIN``, each with an address
    and, after a space, ``user:password`` or a bearer token), else from the file of this program, else from netrc.
    Whatever it comes from, it goes with requests that :class:`~zoompick.net.authority.Authority` lets it go with, to
    its own origin, and over plain http only to this machine, unless the setting ``unencrypted_logins`` allows more.
    At the origin of another it is used for the files of a source that a person allowed to.

    Parameters
    ----------
    named : mapping, optional
        Origins of the sources that a person keeps for all studies, by name: older versions kept the name alone, and a
        study that is passed on could bring a source of that name.
    """

    def __init__(self, path: Path | None = None, named: Mapping[str, str] | None = None) -> None:
        self.path = path or config_folder() / FILE_NAME
        self._named = named or {}
        self._lock = threading.Lock()
        self._kept: dict[str, Login] | None = None
        self._netrc: dict[str, Login | None] = {}

    def carried(self, authority: Authority | None, method: str, url: str, post: Post) -> Carried:
        """What goes with a request."""
        with self._lock:
            found = self._used(authority, method, url)
            if found is None:
                return Carried(None, self._of(url) is not None)
            place, login = found
            return Carried(self._renew(place, login, post) if login.is_stale else login)

    def renewed(self, authority: Authority | None, method: str, url: str, used: Carried, post: Post) -> bool:
        """After a refusal: try to get a new token; True when another than the one used is there now."""
        with self._lock:
            found = self._used(authority, method, url)
            if found is None or used.login is None or not found[1].is_renewable:
                return False
            place, login = found
            if login.header() == used.login.header():
                login = self._renew(place, login, post)
            return login.header() != used.login.header()

    def _used(self, authority: Authority | None, method: str, url: str) -> tuple[str, Login] | None:
        """The log-in that goes with a request, and the address that it is kept for."""
        if authority is None or is_open_wire(url):
            return None
        if authority.is_own(url):
            place = url if authority.lets(method, url) else ""
        else:
            row = self._table().get(origin_of(url))
            is_allowed = row is not None and method in _SAFE and self._allows(row, authority)
            place = "" if row is None or not is_allowed else authority.address if row.scheme == _OWN else url
        login = self._of(place) if place else None
        return (place, login) if login is not None else None

    def _allows(self, row: Login, authority: Authority) -> bool:
        """Whether a person allowed a source to use what is kept for another host."""
        origins = row.origins or tuple(filter(None, (self._named.get(row.source, ""),)))
        return authority.origin in origins

    def allow(self, authority: Authority, url: str) -> None:
        """Let a source use its own log-in for its files at another origin, or the one that is kept for that."""
        with self._lock:
            known = self._table().get(origin_of(url), Login(_OWN, source=authority.source))
            self._keep(url, replace(known, origins=tuple(sorted({*known.origins, authority.origin}))))

    def _renew(self, url: str, login: Login, post: Post) -> Login:
        renewed = login.renewed(post)
        self._keep(url, renewed)
        return renewed

    def put(self, url: str, login: Login) -> None:
        """Keep a log-in for the origin of an address, in a file that only its owner can read."""
        with self._lock:
            self._keep(url, login)

    def _keep(self, url: str, login: Login) -> None:
        self._write({**self._table(), origin_of(url): login})

    def drop(self, url: str) -> bool:
        """Forget the log-in of an origin; True when there was one in the file."""
        with self._lock:
            table = dict(self._table())
            found = table.pop(origin_of(url), None)
            self._write(table)
            return found is not None

    def others_of(self, source: str) -> list[str]:
        """Origins of other hosts for which a log-in is kept on behalf of a source."""
        return sorted(origin for origin, login in self._table().items() if source and login.source == source)

    def where(self, url: str) -> str:
        """Where the log-in for an address is from: ``environment``, ``file``, ``netrc`` or nothing."""
        if is_open_wire(url):
            return ""
        if _from_environment(url):
            return "environment"
        if self._row(url) is not None:
            return "file"
        return "netrc" if _from_netrc(url) else ""

    def _of(self, url: str) -> Login | None:
        if is_open_wire(url):
            return None
        found = _from_environment(url) or self._row(url)
        if found is None and origin_of(url) not in self._netrc:
            self._netrc[origin_of(url)] = _from_netrc(url)
        return found or self._netrc.get(origin_of(url))

    def _row(self, url: str) -> Login | None:
        """What the file holds for an origin, where that is a log-in."""
        found = self._table().get(origin_of(url))
        return None if found is None or found.scheme == _OWN else found

    def _table(self) -> Mapping[str, Login]:
        if self._kept is None:
            self._kept = _read(self.path)
        return self._kept

    def _write(self, table: Mapping[str, Login]) -> None:
        rows = {origin: _row(login) for origin, login in sorted(table.items())}
        write_json(self.path, rows, private=True)
        self._kept = dict(table)


def is_open_wire(url: str) -> bool:
    """True where a log-in would travel unencrypted to another machine, and nothing allows that."""
    is_plain = url.lower().startswith("http://") and not is_this_machine(url)
    return is_plain and not settings.whole("unencrypted_logins")


def _row(login: Login) -> JsonObject:
    return {key: value for key, value in asdict(login).items() if value}


def _read(path: Path) -> dict[str, Login]:
    if not path.exists():
        return {}
    if os.name == "posix" and path.stat().st_mode & 0o077:
        path.chmod(0o600)
    names = {entry.name for entry in fields(Login)}
    try:
        table = read_json(path)
        return {
            origin: Login(**{key: value for key, value in row.items() if key in names})
            for origin, row in table.items()
        }
    except (AttributeError, TypeError) as error:
        raise DataError(f"{path} does not hold log-ins.", "Remove it and log in again.") from error


def _from_environment(url: str) -> Login | None:
    origin = origin_of(url)
    for name in sorted(os.environ):
        if name.startswith(VARIABLE):
            place, _, secret = os.environ[name].strip().partition(" ")
            secret = secret.strip()
            if not place.startswith(("http://", "https://")) or not origin_of(place) or not secret:
                raise UsageError(
                    f"The variable {name} holds no address with a log-in.",
                    f"Write {name}='https://HOST USER:PASSWORD', or a token after the address.",
                )
            if origin_of(place) == origin:
                user, colon, password = secret.partition(":")
                return Login("basic", user, password) if colon else Login("bearer", token=secret)
    return None


def _from_netrc(url: str) -> Login | None:
    """Only what names the host: a default entry would send a password to anybody.

    Its ``machine`` has no port and no scheme: it stands for https on the default port.
    """
    if not url.lower().startswith("https://") or not origin_of(url).endswith(":443"):
        return None
    path = Path(os.environ.get("NETRC") or Path.home() / ".netrc")
    if not path.is_file():
        return None

    host = urlsplit(url).hostname or ""
    try:
        hosts = netrc.netrc(str(path)).hosts
    except (netrc.NetrcParseError, OSError, UnicodeDecodeError):
        return None
    if host not in hosts:
        return None
    user, _, password = hosts[host]
    return Login("basic", user or "", password or "")
