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

from zoompick.errors import DataError, SourceError
from zoompick.files import read_json, write_json
from zoompick.settings import config_folder

FILE_NAME = "credentials.json"
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

    def __repr__(self) -> str:
        return f"Login({self.scheme!r}, …)"

    def header(self) -> str:
        """Value of the Authorization header; empty while there is no token."""
        if self.scheme == "basic":
            pair = f"{self.user}:{self.password}".encode()
            return "Basic " + base64.b64encode(pair).decode()
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


class Keyring:
    """Log-ins by origin (scheme, host and port); safe to use from several threads.

    A log-in comes from the environment (``ZOOMPICK_LOGIN_`` and the host with its port, other signs than letters and
    digits as ``_``: ``user:password``, or a bearer token), else from the file of this program, else from netrc.
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

    def where(self, url: str) -> str:
        """Where the log-in for an address is from: ``environment``, ``file``, ``netrc`` or nothing."""
        if _from_environment(url):
            return "environment"
        if origin_of(url) in self._table():
            return "file"
        return "netrc" if _from_netrc(url) else ""

    def _of(self, url: str) -> Login | None:
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


def origin_of(url: str) -> str:
    """Scheme, host and port of an address, the port always told."""
    parts = urlsplit(url)
    port = parts.port or {"https": 443, "http": 80}.get(parts.scheme, 0)
    return f"{parts.scheme}://{(parts.hostname or '').lower()}:{port}"


def variable_of(url: str) -> str:
    """Name of the environment variable that holds the log-in for an address."""
    parts = urlsplit(url)
    host = parts.hostname or ""
    place = f"{host}_{parts.port}" if parts.port else host
    return "ZOOMPICK_LOGIN_" + re.sub(r"[^A-Za-z0-9]", "_", place).upper()


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
    text = os.environ.get(variable_of(url), "")
    if not text:
        return None
    user, colon, password = text.partition(":")
    return Login("basic", user, password) if colon else Login("bearer", token=text)


def _from_netrc(url: str) -> Login | None:
    """Only what names the host: a default entry would send a password to anybody."""
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
