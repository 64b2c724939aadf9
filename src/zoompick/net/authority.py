"""On whose behalf a request is made, and for what: by that alone is it decided whether a log-in goes with it.

Sources: RFC 9110, section 9.2.1 (safe methods); OGC 18-062r2 (OGC API - Processes, part 1), sections 7.5 and 7.11
(the paths of processes and jobs).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import Enum
from urllib.parse import unquote, urlsplit

from zoompick.addresses import origin_of

_SAFE = ("GET", "HEAD")


class Purpose(Enum):
    """What a request is made for."""

    SEARCH = "search"
    FETCH = "fetch"
    ORDER = "order"


@dataclass(frozen=True, slots=True)
class Authority:
    """Whose request it is; a request without one carries no log-in at all.

    Attributes
    ----------
    source : str
        Name of the source; empty for an address that a person gave by itself.
    address : str
        The source's own: its origin is where its log-in belongs.
    places : tuple of str
        Of orders: addresses of the source's processes and jobs, on which others hang.
    told : tuple of str
        Addresses that are meant as they are: where a search is posted, as the source's landing page names it; where
        its process takes orders; the job that it named for an order.
    """

    source: str
    address: str
    purpose: Purpose
    places: tuple[str, ...] = ()
    told: tuple[str, ...] = ()

    @classmethod
    def of_address(cls, url: str) -> Authority:
        """That of an address which a person gave by itself: what lies at its own origin may be read."""
        return cls("", url, Purpose.FETCH)

    @property
    def origin(self) -> str:
        """Scheme, host and port of the source."""
        return origin_of(self.address)

    @property
    def name(self) -> str:
        """For people."""
        return self.source or self.address

    def at(self, *places: str) -> Authority:
        """The same with other places; those of another origin are none."""
        return replace(self, places=self._own(places))

    def to(self, *told: str) -> Authority:
        """The same with other addresses that were told; those of another origin are none."""
        return replace(self, told=self._own(told))

    def _own(self, addresses: Iterable[str]) -> tuple[str, ...]:
        return tuple(address for address in addresses if address and self.is_own(address))

    def is_own(self, url: str) -> bool:
        """True for an address of the source's own origin."""
        return bool(self.origin) and origin_of(url) == self.origin

    def lets(self, method: str, url: str) -> bool:
        """Whether the source's log-in may go with a request to its own origin.

        Reading may, but for what hangs on orders, which only orders read. A search is posted to its one address;
        orders are handed in and dismissed at addresses that hang on the source's own processes and jobs: below them,
        or named by them.
        """
        if not self.is_own(url):
            return False
        if method in _SAFE:
            return self.purpose is not Purpose.FETCH or not self._is_of_orders(url)
        if self.purpose is Purpose.FETCH:
            return False
        is_told = any(_place(url) == _place(address) for address in self.told)
        if self.purpose is Purpose.SEARCH:
            return method == "POST" and is_told
        return method in ("POST", "DELETE") and (is_told or any(_is_below(url, place) for place in self.places))

    def _is_of_orders(self, url: str) -> bool:
        base = urlsplit(self.address)._replace(query="", fragment="").geturl().rstrip("/")
        return any(_is_below(url, f"{base}/{word}") for word in ("processes", "jobs"))


def _place(url: str) -> tuple[str, str]:
    parts = urlsplit(url)
    return origin_of(url), parts.path or "/"


def _is_below(url: str, place: str) -> bool:
    """By segments; a path that climbs, or hides how it does, lies below nothing."""
    path, above = urlsplit(url).path, urlsplit(place).path.rstrip("/")
    plain = unquote(path)
    if "\\" in plain or any(segment in (".", "..") for segment in plain.split("/")):
        return False
    return plain.startswith(unquote(above) + "/") and len(plain) > len(unquote(above)) + 1
