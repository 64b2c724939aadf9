"""Who we are to a web server: log-ins by host, kept in one private file, and how each becomes a header.

Sources: RFC 7617 (Basic), RFC 6750 (Bearer), RFC 6749, sections 4.3, 4.4 and 6 (OAuth 2.0 grants and refresh).
"""

from __future__ import annotations

import base64
import os
import re
import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, fields, replace
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from zoompick import settings
from zoompick.addresses import is_this_machine, origin_of
from zoompick.errors import DataError, SourceError, UsageError
from zoompick.files import read_json, write_json
from zoompick.settings import config_folder

FILE_NAME = "credentials.json"
VARIABLE = "ZOOMPICK_LOGIN"
_EARLY_S = 30
"""A token is renewed this long before it ends."""

Post = Callable[[str, Mapping[str, str]], Any]
"""Sends a form to an address and gives the JSON that comes back."""


@dataclass(frozen=True, slots=True)
class Login:
    """One log-in. What does not belong to its scheme is empty.

    Attributes
    ----------
    scheme : str
        ``bearer`` (a token), ``basic`` (user and password), ``client`` (OAuth 2.0 client credentials) or ``password``
        (OAuth 2.0 password grant).
    token_url : str
        Where the OAuth schemes get their tokens.
    token, refresh : str
        Bearer token, and what renews it.
    ends : float
        Unix time at which the token ends; 0 when that is not told.
    source : str
        Name of the source for whose files it is kept, where that is another host's.
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

    def __repr__(self) -> str:
        return f"Login({self.scheme!r}, …)"

    def header(self) -> str:
        """Value of the Authorization header; empty while there is no token."""
        if self.scheme == "basic":
            pair = f"{self.user}:{self.password}".encode()
            return "Basic " + base64.b64encode(pair).decode()
        if self.token and not re.fullmatch(r"[\x21-\x7e]+", self.token):
            raise UsageError("The token holds signs that no header can carry.", "Copy it anew, without line ends.")
        return f"Bearer {self.token}" if self.token else ""

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

    def _with(self, answer: Mapping[str, Any]) -> Login:
        token = answer.get("access_token") if isinstance(answer, dict) else None
        if not isinstance(token, str) or not token:
            raise SourceError("The log-in gave no token.", "Check the address of the tokens, and log in again.")
        lasts = answer.get("expires_in")
        ends = time.time() + float(lasts) if isinstance(lasts, int | float) else 0.0
        return replace(self, token=token, refresh=str(answer.get("refresh_token") or self.refresh), ends=ends)


class OneLogin:
    """Stands in for a :class:`Keyring` while a log-in is tried, before it is kept; None is nobody's."""

    def __init__(self, origin: str, login: Login | None) -> None:
        self._origin, self._login = origin, login

    def authorization(self, url: str, post: Post) -> str:
        """Value of the header, for the one origin."""
        return self._login.header() if self._login and origin_of(url) == self._origin else ""

    def renew(self, url: str, used: str, post: Post) -> bool:
        """Nothing is renewed while it is tried."""
        return False


class Keyring:
    """Log-ins by origin (scheme, host and port); safe to use from several threads.

    A log-in comes from the environment (variables whose names begin with ``ZOOMPICK_LOGIN``, each with an address
    and, after a space, ``user:password`` or a bearer token), else from the file of this program, else from netrc.
    Whatever it comes from, it is sent to its origin alone, and over plain http only to this machine, unless the
    setting ``unencrypted_logins`` allows more.
    """

    def __init__(self, path: Path | None = None) -> None:
        self.path = path or config_folder() / FILE_NAME
        self._lock = threading.Lock()
        self._kept: dict[str, Login] | None = None
        self._netrc: dict[str, Login | None] = {}

    def authorization(self, url: str, post: Post) -> str:
        """Value of the header for a request; empty when nothing is known of this host."""
        with self._lock:
            login = self._of(url)
            if login is not None and login.is_stale:
                login = self._renew(url, login, post)
            return "" if login is None else login.header()

    def renew(self, url: str, used: str, post: Post) -> bool:
        """After a refusal: try to get a new token; True when another header than ``used`` is there now."""
        with self._lock:
            login = self._of(url)
            if login is None or not login.is_renewable:
                return False
            if login.header() == used:
                login = self._renew(url, login, post)
            return login.header() != used

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
        if origin_of(url) in self._table():
            return "file"
        return "netrc" if _from_netrc(url) else ""

    def _of(self, url: str) -> Login | None:
        if is_open_wire(url):
            return None
        found = _from_environment(url) or self._table().get(origin_of(url))
        if found is None and origin_of(url) not in self._netrc:
            self._netrc[origin_of(url)] = _from_netrc(url)
        return found or self._netrc.get(origin_of(url))

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


def _row(login: Login) -> dict[str, Any]:
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
    import netrc

    host = urlsplit(url).hostname or ""
    try:
        hosts = netrc.netrc(str(path)).hosts
    except (netrc.NetrcParseError, OSError, UnicodeDecodeError):
        return None
    if host not in hosts:
        return None
    user, _, password = hosts[host]
    return Login("basic", user or "", password or "")
