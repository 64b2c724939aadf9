"""Links, addresses and roles in documents of a catalogue, whatever stands in their place."""

from __future__ import annotations

import re
from collections.abc import Mapping
from urllib.parse import urljoin

from zoompick.errors import SourceError
from zoompick.jsontypes import JsonMap, JsonObject


def objects_in(document: object, name: str) -> list[JsonObject]:
    """The objects of a document's list; nothing when there is no list."""
    entries = document.get(name) if isinstance(document, Mapping) else None
    return [entry for entry in entries if isinstance(entry, dict)] if isinstance(entries, list) else []


def links_of(document: object, rel: str = "") -> list[JsonObject]:
    """Links of a document that lead somewhere, of one relation when it is named; what is no link is left out."""
    found = [link for link in objects_in(document, "links") if isinstance(link.get("href"), str) and link["href"]]
    return [link for link in found if link.get("rel") == rel] if rel else found


def address_of(document: object, rel: str) -> str:
    """Where the first link of a relation leads, as it is written; empty when there is none."""
    return next((str(link["href"]) for link in links_of(document, rel)), "")


def joined(base: str, href: str) -> str:
    """An address that is relative to ``base``, as an absolute one.

    Raises
    ------
    SourceError
        It is no address.
    """
    try:
        if base.startswith("s3://"):
            # Object storage has paths like the web's, which the standard library does not know.
            found = urljoin("http" + base.removeprefix("s3"), href)
            is_own = not re.match(r"[A-Za-z][A-Za-z0-9+.-]*:", href)
            return "s3" + found.removeprefix("http") if is_own else found
        return urljoin(base, href)
    except ValueError as error:
        raise SourceError(f"'{href}' is no web address: {error}.", "Tell the people who run the source.") from error


def has_role(asset: JsonMap, role: str) -> bool:
    """True when an asset's ``roles`` name this one."""
    roles = asset.get("roles")
    return isinstance(roles, list) and role in roles
