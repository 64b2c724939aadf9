"""The only door to obstore: files on S3-compatible object storage, by ``s3://BUCKET/KEY``.

Credentials, region and another endpoint than the provider's are those of the environment that every program for such
storage reads: ``AWS_ACCESS_KEY_ID``, ``AWS_SECRET_ACCESS_KEY``, ``AWS_REGION``, ``AWS_ENDPOINT_URL``.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zoompick.bytesource import Identity
from zoompick.errors import MissingFileError, SourceError, UsageError
from zoompick.later import later

if TYPE_CHECKING:
    import obstore
else:
    obstore = later("obstore")

SCHEME = "s3://"
_PART_BYTES, _AT_ONCE = 8 << 20, 4


class ObjectFile:
    """An object as a byte source; each read is one range request."""

    def __init__(self, address: str, known: Identity | None = None) -> None:
        self._address = address
        self._store, self._key = _store_of(address)
        self._identity = known or self._asked()

    def __reduce__(self) -> tuple[Any, ...]:
        return ObjectFile, (self._address, self._identity)

    def _asked(self) -> Identity:
        with _our_errors(self._address):
            told = obstore.head(self._store, self._key)
        return Identity(self._address, int(told["size"]), str(told["e_tag"] or told["last_modified"]))

    @property
    def address(self) -> str:
        """``s3://BUCKET/KEY``."""
        return self._address

    @property
    def size(self) -> int:
        """Length in bytes."""
        return self._identity.size

    @property
    def identity(self) -> Identity:
        """Address, size and entity tag when it was first looked at."""
        return self._identity

    def read(self, offset: int, length: int) -> bytes:
        """Exactly ``length`` bytes, fewer only at the end.

        Raises
        ------
        SourceError
            The storage does not answer, or the object was replaced.
        """
        stop = min(offset + length, self.size)
        if stop <= offset:
            return b""
        with _our_errors(self._address):
            got = obstore.get(self._store, self._key, options={"range": (offset, stop)})
            if (tag := got.meta["e_tag"]) and tag != self._identity.stamp:
                raise SourceError(f"{self._address} was replaced while it was read.", "Begin again.")
            data = bytes(got.bytes())
        if len(data) != stop - offset:
            raise SourceError(f"{self._address} gave {len(data)} of {stop - offset} bytes.", "Try again.")
        return data

    def confirm(self) -> None:
        """Raise :class:`SourceError` when the object was replaced since it was looked at."""
        if self._asked() != self._identity:
            raise SourceError(f"{self._address} was replaced while it was read.", "Begin again.")


def upload(path: Path, address: str) -> None:
    """Put a file in place of whatever is there; in parts, of which nothing is left when one fails.

    The object is there whole, or as it was before (S3: a multipart upload shows nothing until it is completed).

    Raises
    ------
    SourceError
        The storage does not take it.
    """
    store, key = _store_of(address)
    with _our_errors(address):
        obstore.put(store, key, path, chunk_size=_PART_BYTES, max_concurrency=_AT_ONCE)


def exists(address: str) -> bool:
    """Whether there is such an object.

    Raises
    ------
    SourceError
    """
    try:
        ObjectFile(address)
    except MissingFileError:
        return False
    return True


@lru_cache(maxsize=32)
def _bucket(name: str, endpoint: str) -> Any:
    from obstore.store import S3Store

    is_plain = endpoint.startswith("http://")
    return S3Store(name, client_options={"allow_http": True} if is_plain else None)


def _store_of(address: str) -> tuple[Any, str]:
    bucket, _, key = address.removeprefix(SCHEME).partition("/")
    if not bucket or not key:
        raise UsageError(f"'{address}' names no object.", "As s3://BUCKET/FOLDER/FILE.tif.")
    try:
        return _bucket(bucket, os.environ.get("AWS_ENDPOINT_URL", "")), key
    except ImportError as error:
        raise UsageError(
            f"Object storage needs obstore, which is not here: {error}.", "pip install 'zoompick[s3]'."
        ) from error
    except (ValueError, obstore.exceptions.BaseError) as error:
        raise UsageError(f"{address} cannot be used: {_first_line(error)}", "Check the bucket's name.") from error


@contextmanager
def _our_errors(address: str) -> Iterator[None]:
    try:
        yield
    except FileNotFoundError as error:
        raise MissingFileError(
            f"There is no {address}.", "Check bucket and key, and that the bucket is one of AWS_ENDPOINT_URL."
        ) from error
    except PermissionError as error:
        raise SourceError(
            f"{address} is not for these credentials.", "Check AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY."
        ) from error
    except (OSError, obstore.exceptions.BaseError) as error:
        raise SourceError(f"The storage of {address} does not answer: {_first_line(error)}", "Try again.") from error


def _first_line(error: BaseException) -> str:
    return str(error).split("\n", 1)[0].strip()
