"""Retries, downloads over a bad network, checks of what arrives."""

from __future__ import annotations

import hashlib
import threading
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from pathlib import Path
from typing import ClassVar

import pytest

from badserver import BODY, Handler, serving
from zoompick import files
from zoompick.errors import CancelledError, ChecksumError, DiskError, FormatError, SourceError
from zoompick.events import Retrying
from zoompick.fetch.download import Limits, download
from zoompick.fetch.whole import fetch_whole
from zoompick.files import unique_names
from zoompick.net.client import Client
from zoompick.net.refusals import TransientError
from zoompick.net.retry import RetryPolicy, seconds_of
from zoompick.scenes import fetched as record
from zoompick.scenes.bands import BandFile
from zoompick.scenes.checksums import sha256_of_digest
from zoompick.scenes.fetchplan import DownloadPlan, Fetch, local_names, plan

POLICY = RetryPolicy(3, 1, 10)


@pytest.mark.parametrize(
    ("attempt", "header", "wait"),
    [
        (1, None, 1),
        (2, None, 2),
        (3, None, 4),
        (4, None, None),
        (1, "7", 7),
        (1, "11", None),
        (1, "soon", 1),
        (3, "0", 0),
    ],
)
def test_how_long_to_wait(attempt, header, wait):
    assert POLICY.wait_s(attempt, header, jitter=1) == wait


def test_waits_are_spread_and_dates_understood():
    assert all(0.5 <= POLICY.wait_s(1, None) <= 1 for _ in range(50))
    moment = datetime.now(UTC) + timedelta(seconds=30)
    assert 25 < seconds_of(format_datetime(moment, usegmt=True)) <= 30
    assert seconds_of("Mon, 01 Jan 2001 00:00:00 GMT") == 0


@pytest.mark.parametrize(
    ("header", "digest"),
    [
        ("sha-256=:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=:", hashlib.sha256(b"").hexdigest()),
        ("sha-512=:AAAA:, sha-256=:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=:", hashlib.sha256(b"").hexdigest()),
        ("sha-512=:AAAA:", None), ("sha-256=:AAAA:", None), ("sha-256=47DE", None), ("", None), (None, None),
    ],
)  # fmt: skip
def test_digest_header(header, digest):
    assert sha256_of_digest(header) == digest


def test_multihash_both_ways():
    digest = hashlib.sha256(b"x").hexdigest()
    assert files.sha256_of_multihash(files.multihash(digest)) == digest
    assert files.sha256_of_multihash("1114" + "00" * 20) is None
    assert files.sha256_of_multihash("1220ab") is None


@pytest.fixture
def bad_server():
    with serving() as url:
        yield url


def fetch(url: str, path: Path, size=None, sha256=None) -> Fetch:
    return Fetch("scene", "red", url, path, size, sha256)


def one(entry: Fetch, client: Client, report) -> int:
    return fetch_whole(entry, client, None, report)


LIMITS = Limits(2, {})


WHOLE, HALF = len(BODY), len(BODY) // 2


@pytest.mark.parametrize(
    ("word", "requests", "received"),
    [
        ("good", 1, WHOLE), ("cut", 2, WHOLE), ("norange", 2, HALF + WHOLE), ("changed", 2, HALF + WHOLE),
        ("flaky", 3, WHOLE), ("otherrange", 3, HALF + WHOLE), ("stubborn", 3, HALF + WHOLE), ("dates", 2, WHOLE),
        ("tworounds", 6, WHOLE),
    ],
)  # fmt: skip
def test_a_file_arrives_whole_whatever_happens(bad_server, tmp_path, word, requests, received):
    path = tmp_path / "a.tif"
    entry = fetch(f"{bad_server}/{word}/a.tif", path, len(BODY), hashlib.sha256(BODY).hexdigest())
    assert fetch_whole(entry, Client()) == received
    assert path.read_bytes() == BODY
    assert len(Handler.seen) == requests
    if word == "cut":
        assert Handler.seen[1][1] == f"bytes={len(BODY) // 2}-"
    assert record.read(tmp_path)["a.tif"].checked_by == "item"
    assert record.is_here(entry)


@pytest.mark.parametrize(
    ("word", "size", "sha256", "error"),
    [
        ("good", len(BODY) + 1, None, ChecksumError),
        ("good", None, "00" * 32, ChecksumError),
        ("html", None, None, FormatError),
        ("status/404", None, None, SourceError),
        ("status/401", None, None, SourceError),
    ],
)
def test_what_is_not_the_file_never_takes_its_name(bad_server, tmp_path, word, size, sha256, error):
    with pytest.raises(error):
        fetch_whole(fetch(f"{bad_server}/{word}/a.tif", tmp_path / "a.tif", size, sha256), Client())
    assert list(tmp_path.iterdir()) == []


def test_giving_up_says_how_often_it_tried(bad_server, tmp_path, monkeypatch):
    monkeypatch.setenv("ZOOMPICK_RETRIES", "2")
    events = []
    with pytest.raises(TransientError, match=r"answered 503 .no way."):
        Client(events.append).json(f"{bad_server}/status/503")
    assert [event.attempt for event in events if isinstance(event, Retrying)] == [1, 2]


@pytest.mark.parametrize(
    ("url", "words"),
    [
        ("http://127.0.0.1:9/", "nothing listens"),
        ("ftp://127.0.0.1/", "no web address"),
        ("http://name.invalid/", "its name is not known"),
        ("http://[::1/", "no web address"),
    ],
)
def test_sources_out_of_reach(url, words, monkeypatch):
    monkeypatch.setenv("ZOOMPICK_RETRIES", "0")
    with pytest.raises(SourceError, match=words):
        Client().json(url)


def test_json_is_expected(bad_server):
    with pytest.raises(SourceError, match="JSON was expected"):
        Client().json(f"{bad_server}/html")


def test_a_stopped_client_asks_nothing(bad_server):
    stop = threading.Event()
    stop.set()
    with pytest.raises(CancelledError):
        Client(stop=stop).json(f"{bad_server}/good")
    assert Handler.seen == []


def test_one_failure_does_not_stop_the_others(bad_server, tmp_path):
    entries = tuple(
        fetch(f"{bad_server}/{word}/a.tif", tmp_path / word / "a.tif") for word in ("good", "html", "cut")
    )
    outcome = download(DownloadPlan(entries, (), ()), Client(), one, LIMITS)
    assert {entry.path.parent.name for entry in outcome.done} == {"good", "cut"}
    [(_, error)] = outcome.failed
    assert "a web page" in error.what
    assert outcome.received_bytes == 2 * len(BODY)
    assert not list(tmp_path.rglob("*.part"))


def test_no_room_is_told_before_the_first_byte(bad_server, tmp_path):
    entry = fetch(f"{bad_server}/good/a.tif", tmp_path / "new" / "a.tif", size=10**18)
    with pytest.raises(DiskError, match=r"only .* are free"):
        download(DownloadPlan((entry,), (), ()), Client(), one, LIMITS)
    assert Handler.seen == []


class Offer:
    id, collection, access, key = "s", "c", "open", ("x", "c", "s")
    files: ClassVar = {
        "red": BandFile("red", "http://h/x/red.tif?sig=1", 5), "nir": BandFile("nir", "http://h/x/../../nir.tif"),
    }  # fmt: skip


def test_the_plan_is_a_pure_decision(tmp_path):
    decided = plan([Offer()], ["red", "nir", "swir16"], {Offer.key: tmp_path}, lambda entry: entry.band == "nir")
    assert [entry.path.name for entry in decided.fetch] == ["red.tif"]
    assert [entry.band for entry in decided.here] == ["nir"]
    assert decided.lacking == (("s", "swir16"),)
    assert (decided.known_bytes, decided.unknown) == (5, 0)


@pytest.mark.parametrize(
    ("url", "name"),
    [
        ("http://h/a/b.tif", "b.tif"),
        ("http://h/a/..", "_"),
        ("http://h/a/.hidden", "hidden"),
        ("http://h/a/CON.tif", "_CON.tif"),
        ("http://h/a%2F..%2Fb", "a-2F..-2Fb"),
        ("http://h/", "_"),
    ],
)
def test_names_from_addresses_are_safe(url, name):
    assert local_names(Offered(url)) == {url: name}


@dataclass
class Offered:
    """A scene with a file at each address."""

    first: str
    second: str = ""

    @property
    def files(self):
        return {href: BandFile("red", href) for href in (self.first, self.second) if href}


def test_files_that_are_called_alike_get_names_of_their_own():
    names = local_names(Offered("http://h/red/B.tif", "http://h/nir/b.tif?sign=1"))
    assert list(names.values()) == ["B.tif", "b-2.tif"]
    assert unique_names(["a/b", "a:b", "A b", "con", "x" * 300, "x" * 200], 20) == [
        "a-b", "a-b-2", "A-b-3", "_con", "x" * 20, "x" * 18 + "-2",
    ]  # fmt: skip


def test_a_changed_file_or_item_is_fetched_again(bad_server, tmp_path):
    entry = fetch(f"{bad_server}/good/a.tif", tmp_path / "a.tif")
    assert not record.is_here(entry)
    fetch_whole(entry, Client())
    assert record.is_here(entry)
    assert not record.is_here(fetch(entry.url, entry.path, sha256="11" * 32))
    kept = (tmp_path / record.RECORD).read_text()
    (tmp_path / record.RECORD).write_text(kept.replace('"multihash"', '"digest"'))
    assert record.read(tmp_path) == {} and not record.is_here(entry)
    (tmp_path / record.RECORD).write_text(kept)
    assert record.is_here(entry)
    entry.path.write_bytes(b"short")
    assert not record.is_here(entry)
