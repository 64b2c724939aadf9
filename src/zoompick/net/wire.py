"""The way to the network as this machine is set up: proxies and trusted certificates, by variables in common use.

Sources: HTTP_PROXY, HTTPS_PROXY, ALL_PROXY and NO_PROXY, of which small letters come first; SSL_CERT_FILE (OpenSSL,
X509_get_default_cert_file_env) and REQUESTS_CA_BUNDLE.
"""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from zoompick.addresses import public
from zoompick.errors import UsageError
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import request, urllib3

_BUNDLES = ("SSL_CERT_FILE", "REQUESTS_CA_BUNDLE")
_PROXIES = ("http", "https", "all")


@dataclass(frozen=True, slots=True)
class Way:
    """A variable of the environment that decides how servers are reached: its name, and its value without secrets."""

    name: str
    value: str


def ways() -> list[Way]:
    """All variables that count, for people."""
    proxies = request.getproxies_environment()
    found = [Way(f"{scheme.upper()}_PROXY", public(proxies[scheme])) for scheme in _PROXIES if scheme in proxies]
    if found and proxies.get("no"):
        found.append(Way("NO_PROXY", proxies["no"]))
    return found + [Way(name, os.environ[name]) for name in _BUNDLES if os.environ.get(name)]


def bundle() -> Way | None:
    """The file of certificates that are trusted in place of the system's.

    Raises
    ------
    UsageError
        There is no such file.
    """
    found = next((Way(name, os.environ[name]) for name in _BUNDLES if os.environ.get(name)), None)
    if found is not None and not Path(found.value).exists():
        raise UsageError(
            f"{found.name} names {found.value}, and there is no such file of certificates.",
            "Mend the variable, or take it out.",
        )
    return found


def proxy_of(url: str) -> str:
    """The proxy for an address, with its user and password; empty for none."""
    proxies = request.getproxies_environment()
    parts = urlsplit(url)
    host = parts.netloc.rpartition("@")[2]
    if not proxies or request.proxy_bypass_environment(host, proxies):  # type: ignore[attr-defined]
        return ""
    told = proxies.get(parts.scheme) or proxies.get("all") or ""
    return told if not told or "://" in told else f"http://{told}"


def manager(proxy: str, options: JsonMap) -> Any:
    """A pool of connections, through a proxy or without one.

    Raises
    ------
    UsageError
        The proxy's address is none.
    """
    found = bundle()
    trust: JsonObject = {}
    if found is not None:
        trust = {"ca_cert_dir" if Path(found.value).is_dir() else "ca_certs": found.value}
    if not proxy:
        return urllib3.PoolManager(**options, **trust)
    parts = urlsplit(proxy)
    user = unquote(parts.username or ""), unquote(parts.password or "")
    headers = urllib3.make_headers(proxy_basic_auth=":".join(user)) if any(user) else None
    plain = parts._replace(netloc=parts.netloc.rpartition("@")[2]).geturl()
    try:
        return urllib3.ProxyManager(plain, proxy_headers=headers, **options, **trust)
    except (urllib3.exceptions.HTTPError, ValueError) as error:
        raise UsageError(
            f"The proxy {public(plain)} cannot be used: its address is none.",
            "Mend HTTP_PROXY or HTTPS_PROXY: http://HOST:PORT.",
        ) from error
