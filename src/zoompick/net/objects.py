"""The only door to obstore: S3-compatible object storage, by ``s3://BUCKET/KEY``.

Reading goes over the same client as the web: an address is signed here, for a quarter of an hour, and asked for like
any other, with the same ranges, validators, retries and sentences. Credentials, region and another endpoint than the
provider's are those of the environment that every program for such storage reads: ``AWS_ACCESS_KEY_ID``,
``AWS_SECRET_ACCESS_KEY``, ``AWS_REGION``, ``AWS_ENDPOINT_URL``, ``AWS_SKIP_SIGNATURE``, ``AWS_REQUEST_PAYER``.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from functools import lru_cache
from pathlib import Path
from typing import Any, Literal, NamedTuple

from zoompick import settings
from zoompick.errors import MissingFileError, SourceError, UsageError
from zoompick.jsontypes import JsonObject
from zoompick.later import obstore

SCHEME = "s3://"
_PART_BYTES, _AT_ONCE = 8 << 20, 4
_LASTS = timedelta(minutes=15)
_YES = ("1", "true", "yes", "on")
_GIVEN = ("AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY")
_SERVICES = (
    "AWS_WEB_IDENTITY_TOKEN_FILE", "AWS_CONTAINER_CREDENTIALS_RELATIVE_URI", "AWS_CONTAINER_CREDENTIALS_FULL_URI",
)  # fmt: skip
_READ = (
    *_GIVEN, *_SERVICES, "AWS_SESSION_TOKEN", "AWS_ENDPOINT_URL", "AWS_REGION", "AWS_DEFAULT_REGION",
    "AWS_SKIP_SIGNATURE", "AWS_REQUEST_PAYER", "AWS_REQUESTER_PAYS", "AWS_VIRTUAL_HOSTED_STYLE_REQUEST",
)  # fmt: skip
"""Variables that decide what a store is made of."""


class Credentials(NamedTuple):
    """Who we are to the storage.

    Attributes
    ----------
    words : str
        For people.
    is_signed : bool
        False for requests without a signature, as public buckets take them.
    """

    words: str
    is_signed: bool


def credentials() -> Credentials:
    """Those of the environment; none where it tells none.

    No address of this machine's own is asked for a log-in unless the setting ``instance_credentials`` allows that.
    """
    if os.environ.get("AWS_SKIP_SIGNATURE", "").lower() in _YES:
        return Credentials("without a signature, as AWS_SKIP_SIGNATURE wants", False)
    if all(os.environ.get(name) for name in _GIVEN):
        return Credentials("with the key of AWS_ACCESS_KEY_ID", True)
    if settings.whole("instance_credentials"):
        return Credentials("with the log-in of this machine's metadata service", True)
    return Credentials("without a signature, for AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY are not both set", False)


class Signed(NamedTuple):
    """An object's address on the web.

    Attributes
    ----------
    url : str
    how : str
        Who we are there, for people.
    """

    url: str
    how: str


def signed(address: str, method: Literal["GET", "HEAD"] = "GET") -> Signed:
    """The address at which an object can be asked for now.

    Raises
    ------
    UsageError
        No object is named, or obstore is not installed.
    SourceError
        No log-in could be had.
    """
    who = credentials()
    store, key = _store_of(address)
    with _our_errors(address):
        url = str(obstore.sign(store, method, key, _LASTS))
    return Signed(url if who.is_signed else url.partition("?")[0], who.words)


def refused(address: str, status: int, said: str, how: str) -> tuple[str, str]:
    """What a refusal of the storage means, and what to do."""
    if status == 404:
        return f"There is no {address}.", "Check bucket and key, and that the bucket is one of AWS_ENDPOINT_URL."
    what = f"The storage answered {status}{said} to {address}. It was asked {how}."
    if status in (301, 307, 400):
        return what, "The bucket may lie in another region: check AWS_REGION and AWS_ENDPOINT_URL."
    return what, (
        "Check the key. A public bucket is read with AWS_SKIP_SIGNATURE=true, one whose readers pay for it with "
        "AWS_REQUEST_PAYER=true: that costs you."
    )


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


@lru_cache(maxsize=32)
def _bucket(name: str, is_signed: bool, told: tuple[str, ...]) -> Any:
    """A bucket under some environment; without credentials it never looks for any."""
    from obstore.store import S3Store

    is_plain = os.environ.get("AWS_ENDPOINT_URL", "").startswith("http://")
    options: JsonObject = {"client_options": {"allow_http": True}} if is_plain else {}
    if not is_signed:
        options |= {"access_key_id": "nobody", "secret_access_key": "nobody", "skip_signature": False}
    return S3Store(name, **options)


def _store_of(address: str) -> tuple[Any, str]:
    bucket, _, key = address.removeprefix(SCHEME).partition("/")
    key = key.partition("#")[0]
    if not bucket or not key or "@" in bucket:
        raise UsageError(f"'{address}' names no object.", "As s3://BUCKET/FOLDER/FILE.tif.")
    told = tuple(os.environ.get(name, "") for name in _READ)
    try:
        return _bucket(bucket, credentials().is_signed, told), key
    except ImportError as error:
        raise UsageError(
            f"Object storage needs obstore, which is not here: {error}.", "pip install 'zoompick[s3]'."
        ) from error
    except (ValueError, obstore.exceptions.BaseError) as error:
        raise UsageError(
            f"{address} cannot be used: its bucket's name or the AWS_ variables are none that storage knows.",
            "Check the bucket's name, AWS_REGION and AWS_ENDPOINT_URL.",
        ) from error


@contextmanager
def _our_errors(address: str) -> Iterator[None]:
    """Errors of the library as ours, in our words."""
    try:
        yield
    except FileNotFoundError as error:
        raise MissingFileError(
            f"There is no {address}.", "Check bucket and key, and that the bucket is one of AWS_ENDPOINT_URL."
        ) from error
    except (
        PermissionError,
        obstore.exceptions.PermissionDeniedError,
        obstore.exceptions.UnauthenticatedError,
    ) as error:
        raise SourceError(*refused(address, 403, "", credentials().words)) from error
    except (OSError, obstore.exceptions.BaseError) as error:
        raise SourceError(
            f"The storage of {address} does not answer, or refuses; it was asked {credentials().words}.",
            "Check AWS_ENDPOINT_URL and the network, and try again.",
        ) from error
