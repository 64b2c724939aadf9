"""The only door to urllib3: requests with time-outs and retries, errors as ours."""

from __future__ import annotations

import json
import re
import threading
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any
from urllib.parse import urljoin, urlsplit

import urllib3

from zoompick import settings
from zoompick.errors import CancelledError, SourceError
from zoompick.events import Report, Retrying, ignore
from zoompick.net.retry import TRANSIENT, RetryPolicy

_AGENT = "zoompick"
_CHUNK = 1 << 20
_MOST_JSON = 256 << 20
_MOST_REDIRECTS = 5
_FIRST_BYTE = {"Range": "bytes=0-0"}
"""Asks as a download does, so that a refusal says why, and costs nothing."""


@contextmanager
def workers(name: str) -> Iterator[ThreadPoolExecutor]:
    """Threads for many small requests: twice as many as there may be requests, so that some compute meanwhile."""
    with ThreadPoolExecutor(2 * settings.whole("parallel_requests"), thread_name_prefix=f"zoompick-{name}") as pool:
        yield pool


class TransientError(SourceError):
    """A request failed in a way that may pass: worth trying again."""

    def __init__(self, what: str, todo: str = "", retry_after: str | None = None) -> None:
        super().__init__(what, todo)
        self.retry_after = retry_after


class RefusedError(SourceError):
    """The source did not take the request as it was put (status 400, 405, 422 or 501)."""


@dataclass(frozen=True)
class Answer:
    """A response whose body is still to be read."""

    status: int
    headers: Mapping[str, str]
    _response: Any
    url: str

    @property
    def final_url(self) -> str:
        """Where the last redirect led; may be relative to the address asked."""
        return str(self._response.geturl() or "")

    def chunks(self) -> Iterator[bytes]:
        """The body in pieces of up to a megabyte.

        Raises
        ------
        TransientError
            The connection broke, or fewer bytes came than were announced.
        """
        try:
            yield from self._response.stream(_CHUNK, decode_content=False)
        except urllib3.exceptions.HTTPError as error:
            raise TransientError(
                f"The connection to {_host(self.url)} broke in the middle of a file.", "Try again."
            ) from error


class Client:
    """A session: keeps connections, tries again what may pass.

    Safe to use from several threads; at most ``parallel_requests`` answers are open at a time, however many threads
    there are.

    Parameters
    ----------
    report : callable
        Told of every retry.
    stop : threading.Event, optional
        When set, waits end and requests raise :class:`CancelledError`.
    """

    def __init__(self, report: Report = ignore, stop: threading.Event | None = None) -> None:
        self.policy = RetryPolicy(settings.whole("retries"), 0.5, settings.number("retry_wait_max_s"))
        self.stop = stop or threading.Event()
        self._slots = threading.BoundedSemaphore(settings.whole("parallel_requests"))
        self._report = report
        self._pool = urllib3.PoolManager(
            maxsize=16,
            timeout=urllib3.Timeout(
                connect=settings.number("connect_timeout_s"), read=settings.number("read_timeout_s")
            ),
            retries=urllib3.Retry(
                total=_MOST_REDIRECTS, connect=0, read=0, status=0, other=0, redirect=_MOST_REDIRECTS
            ),
            headers={"User-Agent": _AGENT},
        )

    def json(self, url: str, body: Any = None) -> Any:
        """Get a JSON document, or post one and get the answer.

        Raises
        ------
        SourceError
            Not reachable, refused, or not JSON; the message holds what the source said.
        """
        return self.again(url, lambda: self._json_once(url, body))

    def text(self, url: str) -> str:
        """Get a document as text, UTF-8; what is none is replaced.

        Raises
        ------
        SourceError
        """

        def once() -> str:
            with self.open(url, {"Accept": "application/xml, application/json, text/xml"}) as answer:
                return _limited(answer).decode("utf-8", "replace")

        return str(self.again(url, once))

    def settled(self, url: str) -> str:
        """The address that really answers for ``url``, after all redirects.

        Raises
        ------
        SourceError
            It does not answer, or refuses: the message tells what the source wants.
        """

        def once() -> str:
            with self.open(url, _FIRST_BYTE) as answer:
                return urljoin(url, answer.final_url or url)

        return str(self.again(url, once))

    def _json_once(self, url: str, body: Any) -> Any:
        headers = {"Accept": "application/geo+json, application/json"}
        data = None
        if body is not None:
            headers["Content-Type"] = "application/json"
            data = json.dumps(body).encode()
        with self.open(url, headers, "GET" if body is None else "POST", data) as answer:
            text = _limited(answer)
        try:
            return json.loads(text)
        except ValueError as error:
            raise SourceError(
                f"{url} answered with {_kind(answer.headers)} where JSON was expected.",
                "Check the address: is it the root of a STAC API?",
            ) from error

    def again(self, what: str, action: Any) -> Any:
        """Run ``action`` until it succeeds, the policy gives up, or a lasting error comes."""
        attempt = 1
        while True:
            try:
                return action()
            except TransientError as error:
                wait = self.policy.wait_s(attempt, error.retry_after)
                if wait is None:
                    raise
                self._report(Retrying(what, error.what, attempt, wait))
                if self.stop.wait(wait):
                    raise CancelledError("Stopped.") from error
                attempt += 1

    @contextmanager
    def open(
        self,
        url: str,
        headers: Mapping[str, str] | None = None,
        method: str = "GET",
        data: bytes | None = None,
    ) -> Iterator[Answer]:
        """One request, not repeated; the answer's status is below 400.

        Raises
        ------
        TransientError, SourceError
        """
        if self.stop.is_set():
            raise CancelledError("Stopped.")
        if not _is_web(url):
            raise SourceError(f"'{url}' is no web address.", "Give one that begins with http:// or https://.")
        with self._slots, self._asked(method, url, headers, data) as response:
            answer = Answer(response.status, response.headers, response, url)
            if response.status >= 400:
                raise _refused(answer)
            yield answer

    @contextmanager
    def _asked(self, method: str, url: str, headers: Mapping[str, str] | None, data: bytes | None) -> Iterator[Any]:
        try:
            response = self._pool.request(
                method,
                url,
                headers={"User-Agent": _AGENT, **(headers or {})},
                body=data,
                preload_content=False,
            )
        except urllib3.exceptions.LocationParseError as error:
            raise SourceError(f"'{url}' is no web address.", "Check it for typing errors.") from error
        except urllib3.exceptions.HTTPError as error:
            raise _unreachable(url, error) from error
        try:
            yield response
        finally:
            # A body left half read would block the connection for the next request.
            response.close() if response.length_remaining else response.release_conn()


def _is_web(url: str) -> bool:
    try:
        parts = urlsplit(url)
    except ValueError:
        return False
    return parts.scheme in ("http", "https") and bool(parts.netloc)


def _host(url: str) -> str:
    return urlsplit(url).netloc or url


def _kind(headers: Mapping[str, str]) -> str:
    return headers.get("Content-Type", "something without a type").split(";")[0]


def _limited(answer: Answer) -> bytes:
    parts, size = [], 0
    for part in answer.chunks():
        size += len(part)
        if size > _MOST_JSON:
            raise SourceError(
                f"{answer.url} sends more than {_MOST_JSON >> 20} MB of JSON.", "Ask for smaller pages."
            )
        parts.append(part)
    return b"".join(parts)


def _unreachable(url: str, error: Exception) -> SourceError:
    cause = getattr(error, "reason", None) or error
    text = str(cause)
    if isinstance(cause, urllib3.exceptions.NameResolutionError):
        why, lasting = "its name is not known", True
    elif "refused" in text:
        why, lasting = "nothing listens at this address", True
    elif isinstance(cause, urllib3.exceptions.TimeoutError):
        why, lasting = "it does not answer", False
    elif isinstance(cause, urllib3.exceptions.SSLError):
        why, lasting = "its certificate cannot be trusted", True
    else:
        why, lasting = "the connection broke", False
    what, todo = (
        f"{_host(url)} cannot be reached: {why}.",
        "Check the address with 'zoompick source show', and the network.",
    )
    return SourceError(what, todo) if lasting else TransientError(what, todo)


def _refused(answer: Answer) -> SourceError:
    said = _said(answer)
    what = f"{_host(answer.url)} answered {answer.status}{said} to {answer.url}."
    if answer.status in TRANSIENT:
        return TransientError(what, "Try again later.", answer.headers.get("Retry-After"))
    hints = {
        401: "The source wants a log-in.",
        403: "The source does not allow this.",
        404: "Check the address.",
        410: "The source was closed or has moved: look for its new address.",
    }
    kind = RefusedError if answer.status in (400, 405, 422, 501) else SourceError
    return kind(what, hints.get(answer.status, "Check the request."))


def _said(answer: Answer) -> str:
    """What an error body says, of whatever shape, in a few words."""
    try:
        text = b"".join(answer.chunks())[:4000].decode("utf-8", "replace")
        value = json.loads(text)
    except (ValueError, SourceError):
        return ""
    for key in ("description", "detail", "message", "title", "error"):
        if isinstance(value, dict) and isinstance(value.get(key), str):
            text = re.sub(r"[\x00-\x1f]+", " ", value[key])
            return f" ({text[:160]})"
    return ""
