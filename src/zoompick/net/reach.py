"""Why a server cannot be reached, as an error of ours: its name, its door, its certificate, a proxy."""

from __future__ import annotations

from zoompick.addresses import host_of, public
from zoompick.errors import SourceError
from zoompick.later import urllib3
from zoompick.net import wire
from zoompick.net.refusals import TransientError, UnreachableError


def unreachable(url: str, error: Exception) -> SourceError:
    """The error for a request that got no answer: lasting, or worth trying again."""
    cause = getattr(error, "reason", None) or error
    text = str(cause)
    if isinstance(cause, urllib3.exceptions.ProxyError):
        proxy = public(wire.proxy_of(url))
        what = f"{host_of(url)} cannot be reached: the proxy {proxy} does not let through, or does not answer."
        return UnreachableError(what, "Check HTTP_PROXY, HTTPS_PROXY and NO_PROXY: 'zoompick settings' shows them.")
    if isinstance(cause, urllib3.exceptions.NameResolutionError):
        why, lasting = "its name is not known", True
    elif "refused" in text:
        why, lasting = "nothing listens at this address", True
    elif isinstance(cause, urllib3.exceptions.TimeoutError):
        why, lasting = "it does not answer", False
    elif isinstance(cause, urllib3.exceptions.SSLError):
        return UnreachableError(*_untrusted(url, text))
    else:
        why, lasting = "the connection broke", False
    what, todo = (
        f"{host_of(url)} cannot be reached: {why}.",
        "Check the address with 'zoompick source list', and the network.",
    )
    return UnreachableError(what, todo) if lasting else TransientError(what, todo)


def _untrusted(url: str, why: str) -> tuple[str, str]:
    """A certificate that cannot be trusted: which are trusted, and how others would be."""
    trusted = wire.bundle()
    which = f"those of {trusted.name} ({trusted.value})" if trusted else "those of this machine"
    said = next((f": {words}" for mark, words in _CERTIFICATES.items() if mark in why.lower()), "")
    return (
        f"{host_of(url)} cannot be reached: its certificate is not trusted{said}. Trusted are {which}.",
        "Where a company's own certificates are needed: SSL_CERT_FILE or REQUESTS_CA_BUNDLE names their file.",
    )


_CERTIFICATES = {
    "expired": "its time is over",
    "mismatch": "it is of another name",
    "doesn't match": "it is of another name",
    "self-signed": "nobody but itself vouches for it",
    "self signed": "nobody but itself vouches for it",
    "unable to get local issuer": "its issuer is not known here",
    "wrong version": "there is none, for the server does not speak TLS",
    "wrong_version": "there is none, for the server does not speak TLS",
}
