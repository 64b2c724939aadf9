"""Secrets of addresses: kept apart from them in one private file, and joined again for the requests of their source.

Records, lists and messages hold public addresses alone. What a signature or a key in an address opens is kept here by
the name of the source and the public address; an address that is not kept is asked for again of its source.
"""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from zoompick.addresses import WITHHELD, Secret, redacted, split, whole
from zoompick.errors import DataError
from zoompick.files import read_json, write_json
from zoompick.settings import config_folder

FILE_NAME = "addresses.json"
_MOST = 20_000
"""Addresses that are kept: those of the scenes that were listed last."""
_LASTS_S = 30 * 86400

_lock = threading.Lock()
_Rows = dict[str, dict[str, list[Any]]]


class Sorting:
    """Takes the secrets out of values that are about to be written or printed, and keeps them for one source.

    A context: what was found is written when it ends.

    Parameters
    ----------
    source : str
        Its name; empty for addresses of nobody.
    lasting : bool
        They hold until they are replaced: those of a source itself.
    """

    def __init__(self, source: str, lasting: bool = False) -> None:
        self._source, self._lasting = source, lasting
        self.found: dict[str, Secret] = {}

    def __enter__(self) -> Sorting:
        return self

    def __exit__(self, *failure: object) -> None:
        if self.found:
            _keep(self._source, self.found, self._lasting)

    def public(self, value: Any) -> Any:
        """A JSON value whose addresses show no secrets; those of text in which an address stands are lost."""
        if isinstance(value, str):
            return self._text(value) if "://" in value else value
        if isinstance(value, Mapping):
            return {key: self.public(entry) for key, entry in value.items()}
        if isinstance(value, list | tuple):
            return [self.public(entry) for entry in value]
        return value

    def _text(self, text: str) -> str:
        if any(mark in text for mark in ' \n\t<>"') or not text.partition("://")[0].isalnum():
            return redacted(text)
        shown, secret = split(text)
        if secret is not None:
            self.found[shown.partition("#")[0]] = secret
        return shown


def put_away(value: Any, source: str, lasting: bool = False) -> Any:
    """A JSON value without secrets; they are kept for the requests of a source."""
    with Sorting(source, lasting) as sorting:
        return sorting.public(value)


def typed(word: str) -> str:
    """What a person typed without the secrets of an address in it: this process remembers them, no file does."""
    lead, mark, rest = word.partition("://")
    scheme = re.search(r"(https?|s3)$", lead)
    if not mark or scheme is None:
        return word
    shown, secret = split(f"{scheme[0]}://{rest}")
    if secret is None:
        return word
    _typed[shown.partition("#")[0]] = secret
    return lead[: scheme.start()] + shown


_typed: dict[str, Secret] = {}


def joined(url: str, source: str) -> str:
    """An address with its secrets, as far as they are kept for this source; for nobody's, those that were typed."""
    if split(url)[1] is not None:
        return url
    plain = url.partition("#")[0]
    secret: Any = _read().get(source, {}).get(plain) or (None if source else _typed.get(plain))
    if not secret:
        return url
    try:
        return whole(url, Secret(str(secret[0]), tuple(map(str, secret[1]))))
    except (ValueError, IndexError, TypeError):
        return url


def is_withheld(url: str) -> bool:
    """True for an address in which a secret is missing."""
    return WITHHELD in url


def path() -> Path:
    """The private file."""
    return config_folder() / FILE_NAME


_held: tuple[tuple[int, int], _Rows] | None = None


def _read() -> _Rows:
    """What the file holds; read again when it has changed."""
    global _held
    try:
        state = path().stat()
    except OSError:
        return {}
    stamp = state.st_mtime_ns, state.st_size
    if _held is None or _held[0] != stamp:
        try:
            rows = read_json(path())
        except DataError:
            rows = {}
        good = rows if isinstance(rows, dict) else {}
        _held = stamp, {str(name): row for name, row in good.items() if isinstance(row, dict)}
    return _held[1]


def _keep(source: str, found: Mapping[str, Secret], lasting: bool) -> None:
    now = 0 if lasting else int(time.time())
    with _lock:
        rows = {name: dict(row) for name, row in _read().items()}
        own = rows.setdefault(source, {})
        if all(own.get(url, [None, None])[:2] == [secret.user, list(secret.values)] for url, secret in found.items()):
            return
        own |= {url: [secret.user, list(secret.values), now] for url, secret in found.items()}
        write_json(path(), _trimmed(rows), private=True)


def _trimmed(rows: _Rows) -> _Rows:
    """The newest; what is a source's own stays."""
    dated = sorted((row[2], name, url) for name, table in rows.items() for url, row in table.items() if row[2])
    gone = {entry[1:] for entry in dated[: max(0, len(dated) - _MOST)]}
    gone |= {entry[1:] for entry in dated if entry[0] < time.time() - _LASTS_S}
    return {name: {url: row for url, row in table.items() if (name, url) not in gone} for name, table in rows.items()}
