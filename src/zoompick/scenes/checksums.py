"""Digests that sources publish."""

from __future__ import annotations

import base64
import binascii
import re


def sha256_of_digest(header: str | None) -> str | None:
    """Hexadecimal SHA-256 in a ``Repr-Digest`` header (RFC 9530, section 3), or None when there is none."""
    match = re.search(r"(?:^|[,\s])sha-256=:([A-Za-z0-9+/=]+):", header or "")
    if not match:
        return None
    try:
        digest = base64.b64decode(match[1], validate=True)
    except binascii.Error:
        return None
    return digest.hex() if len(digest) == 32 else None
