"""The only door to urllib3: requests with time-outs and retries, errors as ours."""

from __future__ import annotations

import copy
import json
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from typing import Any
from urllib.parse import unquote, urlencode, urljoin, urlsplit

from zoompick import pages, settings
from zoompick.addresses import host_of, origin_of
from zoompick.errors import CancelledError, SourceError
from zoompick.events import Report, Retrying, ignore
from zoompick.files import human_time, parse_json, whole_number
from zoompick.jsontypes import JsonObject
from zoompick.later import urllib3
from zoompick.net import objects, vault, wire
from zoompick.net.answer import Answer, kind_of, limited, refused
from zoompick.net.authority import Authority, Purpose
from zoompick.net.encoding import ACCEPTED, encoding_of
from zoompick.net.login import NOTHING, Carried, Keyring, Login, OneLogin, is_open_wire
from zoompick.net.pace import Pace
from zoompick.net.reach import unreachable
from zoompick.net.refusals import FORBIDDEN, WANTS_LOGIN, AnsweredError, Asked, ExpiredError, TransientError
from zoompick.net.retry import RetryPolicy, seconds_of
from zoompick.net.validators import RemoteState, version_of

_AGENT = "zoompick"
_MOST_REDIRECTS = 5
_REDIRECTS, _SEE_OTHER = (301, 302, 303, 307, 308), 303
_NO_HEAD = (403, 404, 405, 501)
"""Answers to HEAD that say nothing of GET: some servers know only the latter."""
_READING = ("GET", "HEAD")
_FIRST_BYTE = {"Range": "bytes=0-0"}
"""Asks as a download does, so that a refusal says why, and costs nothing."""


@contextmanager
def workers(name: str) -> Iterator[ThreadPoolExecutor]:
    """Threads for many small requests: twice as many as there may be requests, so that some compute meanwhile."""
    with ThreadPoolExecutor(2 * settings.whole("parallel_requests"), thread_name_prefix=f"zoompick-{name}") as pool:
        yield pool


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
    pace : Pace, optional
        How fast bytes may come.
    sources : mapping, optional
        Addresses of the sources that it may speak for, by name.
    own : mapping, optional
        Those that a person keeps for all studies.

    Attributes
    ----------
    authority : Authority or None
        On whose behalf it asks; nobody's at first, so that no log-in goes with anything.
    """

    def __init__(
        self,
        report: Report = ignore,
        stop: threading.Event | None = None,
        pace: Pace | None = None,
        sources: Mapping[str, str] | None = None,
        own: Mapping[str, str] | None = None,
    ) -> None:
        pages.keep_freed()
        self.pace = pace or Pace()
        self.authority: Authority | None = None
        self._sources = dict(sources or {})
        self.keys: Keyring | OneLogin = Keyring(
            named={name: origin_of(address) for name, address in (own or {}).items()}
        )
        self.policy = RetryPolicy(settings.whole("retries"), 0.5, settings.number("retry_wait_max_s"))
        self.stop = stop or threading.Event()
        self._slots = threading.BoundedSemaphore(settings.whole("parallel_requests"))
        self._report = report
        self._lock = threading.Lock()
        self._pools: JsonObject = {}

    def acting(self, authority: Authority | None) -> Client:
        """The same session, asking on somebody's behalf; None for nobody's."""
        other = copy.copy(self)
        other.authority = authority
        return other

    def on_behalf(self, source: str, purpose: Purpose = Purpose.FETCH) -> Client:
        """The same session on behalf of a source by its name; on nobody's for one that is not known."""
        address = self._sources.get(source, "")
        return self.acting(Authority(source, address, purpose) if address else None)

    def _pool(self, url: str) -> Any:
        """Connections for an address: through its proxy, where one is told."""
        proxy = wire.proxy_of(url)
        with self._lock:
            if proxy not in self._pools:
                times = urllib3.Timeout(
                    connect=settings.number("connect_timeout_s"), read=settings.number("read_timeout_s")
                )
                retries = urllib3.Retry(0, respect_retry_after_header=False)
                options = {"maxsize": 16, "timeout": times, "retries": retries, "headers": {"User-Agent": _AGENT}}
                # Its classes are made of the library's, which is loaded here at the earliest.
                from zoompick.net import patience

                self._pools[proxy] = wire.manager(proxy, options)
                self._pools[proxy].pool_classes_by_scheme = patience.POOLS
            return self._pools[proxy]

    def json(self, url: str, body: object = None, method: str = "") -> Any:
        """Get a JSON document, or post one and get the answer; another method where it is named.

        Raises
        ------
        SourceError
            Not reachable, refused, or not JSON; the message holds what the source said.
        """
        return self.again(url, lambda: self._json_once(url, body, method))

    def post_once(self, url: str, body: object) -> Any:
        """Post a JSON document and get the answer, never twice: what may cost money is not repeated.

        Raises
        ------
        SourceError
            A :class:`TransientError` of status 0 leaves open whether the source took it.
        """
        return self._json_once(url, body, "POST")

    def text(self, url: str) -> str:
        """Get a document as text, UTF-8; what is none is replaced.

        Raises
        ------
        SourceError
        """

        def once() -> str:
            accept = {"Accept": "application/xml, application/json, text/xml", "Accept-Encoding": ACCEPTED}
            with self.open(url, accept) as answer:
                return limited(answer).decode("utf-8", "replace")

        return str(self.again(url, once))

    def document(self, url: str) -> tuple[bytes, str]:
        """Get a document of moderate size: its bytes, and the media type that it is announced as.

        Raises
        ------
        SourceError
        """

        def once() -> tuple[bytes, str]:
            with self.open(url, {"Accept-Encoding": ACCEPTED}) as answer:
                return limited(answer), kind_of(answer.headers)

        found: tuple[bytes, str] = self.again(url, once)
        return found

    def settled(self, url: str) -> str:
        """The address that really answers for ``url``, after all redirects.

        Raises
        ------
        SourceError
            It does not answer, or refuses: the message tells what the source wants.
        """

        def once() -> str:
            with self.open(url, _FIRST_BYTE) as answer:
                return answer.url

        return str(self.again(url, once))

    def wants_login(self, url: str) -> bool | None:
        """True when an address refuses who asks for want of a log-in, False when it answers, None when nobody knows.

        Raises
        ------
        SourceError
            It cannot be reached.
        """

        def once() -> bool | None:
            try:
                with self.open(url, _FIRST_BYTE):
                    return False
            except AnsweredError as error:
                return True if error.status == WANTS_LOGIN else None

        found: bool | None = self.again(url, once)
        return found

    def size(self, url: str) -> int | None:
        """Length of a file in bytes, asked without fetching it; None when the source does not tell.

        Raises
        ------
        SourceError
        """
        return self.state(url).size

    def state(self, url: str) -> RemoteState:
        """Length and version of a file, asked without fetching it.

        Raises
        ------
        SourceError
        """

        def told(answer: Answer, size: str | None) -> RemoteState:
            headers = answer.headers
            return RemoteState(whole_number(size), version_of(headers.get("ETag"), headers.get("Last-Modified")))

        def by_head() -> RemoteState:
            with self.open(url, method="HEAD") as answer:
                size = None if encoding_of(answer.headers) else answer.headers.get("Content-Length")
                return told(answer, size)

        def by_first_byte() -> RemoteState:
            with self.open(url, _FIRST_BYTE) as answer:
                if encoding_of(answer.headers):
                    return told(answer, None)
                span = answer.headers.get("Content-Range", "") if answer.status == 206 else ""
                return told(answer, span.rpartition("/")[2] or answer.headers.get("Content-Length"))

        try:
            found: RemoteState = self.again(url, by_head)
        except AnsweredError as error:
            if error.status not in _NO_HEAD:
                raise
            return self.again(url, by_first_byte)
        if not found.size:
            # Some servers answer HEAD with the length of its own empty body.
            with suppress(AnsweredError):
                found = self.again(url, by_first_byte)
        return found

    def _json_once(self, url: str, body: object, method: str) -> Any:
        headers = {"Accept": "application/geo+json, application/json", "Accept-Encoding": ACCEPTED}
        data = None
        if body is not None:
            headers["Content-Type"] = "application/json"
            data = json.dumps(body).encode()
        with self.open(url, headers, method or ("GET" if body is None else "POST"), data) as answer:
            text = limited(answer)
        try:
            return parse_json(text)
        except ValueError as error:
            raise SourceError(
                f"{url} answered with {kind_of(answer.headers)} where JSON was expected.",
                "Check the address: is it the root of a STAC API?",
            ) from error

    def again(self, what: str, action: Any, amount: Callable[[], int] | None = None) -> Any:
        """Run ``action`` until it succeeds, the policy gives up, or a lasting error comes.

        Parameters
        ----------
        amount : callable, optional
            How much is done so far: an attempt that got further begins the counting anew.
        """
        attempt, before = 1, amount() if amount else 0
        while True:
            try:
                return action()
            except TransientError as error:
                if amount and amount() > before:
                    attempt, before = 1, amount()
                wait = self.policy.wait_s(attempt, error.retry_after)
                if wait is None:
                    raise self._given_up(error) from error
                self._report(Retrying(what, error.what, attempt, wait))
                if self.stop.wait(wait):
                    raise CancelledError("Stopped.") from error
                attempt += 1

    def _given_up(self, error: TransientError) -> TransientError:
        """The error with what was waited for, where the source told how long to wait."""
        asked = seconds_of(error.retry_after)
        if asked is None:
            return error
        most = self.policy.longest_wait_s
        return TransientError(
            f"{error.what} It asks to wait {human_time(asked)}.",
            f"Try again then: here at most {human_time(most)} are waited at a time, {self.policy.retries} times "
            "(settings retry_wait_max_s and retries).",
            error.retry_after,
            error.status,
        )

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
        if url.startswith(objects.SCHEME):
            with self._slots, self._stored(method, url, headers) as answer:
                yield answer
            return
        if not _is_web(url):
            raise SourceError(f"'{url}' is no web address.", "Give one that begins with http://, https:// or s3://.")
        url = vault.joined(url, self.authority.source if self.authority else "")
        if vault.is_withheld(url):
            raise ExpiredError(
                f"The address {url} holds a secret that is not kept here.",
                "Search again: the source gives it anew.", FORBIDDEN,
            )  # fmt: skip
        with self._slots, self._followed(method, url, headers, data) as (final, sent, response):
            is_refused = response.status == WANTS_LOGIN
            if not is_refused or not self.keys.renewed(self.authority, method, final, sent, self._post_form):
                yield self._answer(final, response, sent, method)
                return
        with self._slots, self._followed(method, url, headers, data) as (final, sent, response):
            yield self._answer(final, response, sent, method)

    @contextmanager
    def _stored(self, method: str, address: str, headers: Mapping[str, str] | None) -> Iterator[Answer]:
        """An object of storage, asked for at its address of today; no log-in of ours goes there."""
        if method not in _READING:
            raise SourceError(
                f"'{address}' is object storage: it takes no {method}.", "Tell those who run the source."
            )
        url, how = objects.signed(address, "HEAD" if method == "HEAD" else "GET")
        with self._asked(method, url, headers, None, {}) as response:
            stall_s = settings.number("read_timeout_s")
            answer = Answer(response.status, response.headers, address, response, self.pace, self.stop, stall_s)
            if response.status >= 300:
                raise refused(answer, Asked(NOTHING, None, method, how))
            yield answer

    def _answer(self, url: str, response: Any, sent: Carried, method: str) -> Answer:
        stall_s = settings.number("read_timeout_s")
        answer = Answer(response.status, response.headers, url, response, self.pace, self.stop, stall_s)
        if response.status >= 400:
            raise refused(answer, Asked(sent, self.authority, method))
        return answer

    def _post_form(self, url: str, form: Mapping[str, str]) -> Any:
        """Send a log-in form; it goes to nobody else, whatever the answer says."""
        headers = {"Content-Type": "application/x-www-form-urlencoded", "Accept": "application/json"}
        secrets = [form.get(name, "") for name in ("password", "client_secret", "refresh_token")]
        sent = Carried(Login("password", password=secrets[0], client_secret=secrets[1], refresh=secrets[2]))
        with self._asked("POST", url, headers, urlencode(form).encode(), {}) as response:
            answer = self._answer(url, response, sent, "POST")
            try:
                return parse_json(limited(answer))
            except ValueError as error:
                raise SourceError(f"{host_of(url)} answered a log-in with no JSON.", "Check the address.") from error

    @contextmanager
    def _followed(
        self, method: str, url: str, headers: Mapping[str, str] | None, data: bytes | None
    ) -> Iterator[tuple[str, Carried, Any]]:
        """The raw response at the end of all redirects, its address, and what was sent there of who we are.

        Each hop is judged by itself (RFC 9110, section 15.4). What is handed in or dismissed is never carried on to
        another host.
        """
        url, own = _without_user(url)
        seen = [url]
        while True:
            sent = self.keys.carried(self.authority, method, seen[-1], self._post_form)
            if own is not None and len(seen) == 1 and not is_open_wire(url):
                sent = Carried(own)
            with self._asked(method, seen[-1], headers, data, sent.headers) as response:
                target = response.headers.get("Location", "") if response.status in _REDIRECTS else ""
                if not target:
                    yield seen[-1], sent, response
                    return
                if response.status == _SEE_OTHER and method != "HEAD":
                    method, data = "GET", None
            seen.append(_redirected(seen, target))
            if (
                self.authority is not None
                and self.authority.purpose is Purpose.ORDER
                and method not in _READING
                and origin_of(seen[-1]) != origin_of(seen[-2])
            ):
                raise SourceError(
                    f"{host_of(seen[-2])} sends an order on to another host, {host_of(seen[-1])}: it was not handed "
                    "to that.", "Ask the people who run the source.",
                )  # fmt: skip

    @contextmanager
    def _asked(
        self,
        method: str,
        url: str,
        headers: Mapping[str, str] | None,
        data: bytes | None,
        key: Mapping[str, str],
    ) -> Iterator[Any]:
        """The raw response of one request, redirects included."""
        own = {"User-Agent": _AGENT} | dict(key)
        try:
            response = self._pool(url).request(
                method,
                url,
                headers={**own, **(headers or {})},
                body=data,
                preload_content=False,
                redirect=False,
            )
        except urllib3.exceptions.LocationParseError as error:
            raise SourceError(f"'{url}' is no web address.", "Check it for typing errors.") from error
        except urllib3.exceptions.HTTPError as error:
            raise unreachable(url, error) from error
        try:
            yield response
        finally:
            # A body left half read, or an empty one never read, would block the connection for the next request.
            response.close() if response.length_remaining else response.drain_conn()


def _without_user(url: str) -> tuple[str, Login | None]:
    """An address, and the log-in that stands in it (RFC 3986, section 3.2.1), which no request line may carry."""
    parts = urlsplit(url)
    told, at, place = parts.netloc.rpartition("@")
    if not at:
        return url, None
    user, _, password = told.partition(":")
    return parts._replace(netloc=place).geturl(), Login("basic", unquote(user), unquote(password))


def _redirected(seen: Sequence[str], target: str) -> str:
    """Where a redirect leads; SourceError for one that cannot be followed."""
    url, host = seen[-1], host_of(seen[-1])
    try:
        target = urljoin(url, target)
    except ValueError:
        target = "nowhere"
    if not _is_web(target):
        raise SourceError(f"{host} redirects to '{target}', which is no web address.", "Tell the people who run it.")
    if len(seen) > _MOST_REDIRECTS or target in seen:
        what = "in a circle" if target in seen else f"more than {_MOST_REDIRECTS} times"
        raise SourceError(f"{host_of(seen[0])} redirects {what}: from {seen[0]} to {target}.", "Check the address.")
    return target


def _is_web(url: str) -> bool:
    try:
        parts = urlsplit(url)
        return parts.scheme in ("http", "https") and bool(parts.hostname) and parts.port != 0
    except ValueError:
        return False
