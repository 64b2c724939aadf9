"""A log-in goes where its source and purpose let it, nowhere else: against a hostile catalogue, desk and files."""

from __future__ import annotations

import json
from contextlib import ExitStack

import pytest

from strangers import OGC, stranger
from zoompick.errors import SourceError
from zoompick.net.authority import Authority, Purpose
from zoompick.net.client import Client
from zoompick.net.login import Keyring, Login
from zoompick.net.refusals import ExpiredError
from zoompick.orders.jobs import OrderDesk
from zoompick.orders.queue import Order

BASIC = "Basic YW5uOmh1c2gtaHVzaA=="
WHERE = ("--box", -12.15, -38.65, -12.05, -38.55)


@pytest.fixture
def two():
    """A catalogue and another source's shop, with a log-in for the shop; both on this machine, at two origins."""
    with ExitStack() as stack:
        catalogue, shop = stack.enter_context(stranger()), stack.enter_context(stranger())
        Keyring().put(shop.url, Login("basic", "ann", "hush-hush"))
        yield catalogue, shop
        for origin in (catalogue.url, shop.url):
            Keyring().drop(origin)


@pytest.mark.parametrize(
    ("purpose", "method", "path", "is_let"),
    [
        (Purpose.SEARCH, "GET", "/any/where", True),
        (Purpose.SEARCH, "POST", "/stac/search", True),
        (Purpose.SEARCH, "POST", "/stac/search?page=2", True),
        (Purpose.SEARCH, "POST", "/stac/search/", False),
        (Purpose.SEARCH, "POST", "/stac/processes/p/execution", False),
        (Purpose.SEARCH, "DELETE", "/stac/search", False),
        (Purpose.FETCH, "GET", "/data/a.tif", True),
        (Purpose.FETCH, "HEAD", "/data/a.tif", True),
        (Purpose.FETCH, "POST", "/stac/search", False),
        (Purpose.FETCH, "GET", "/stac/jobs/1/results", False),
        (Purpose.FETCH, "GET", "/stac/processes/p", False),
        (Purpose.FETCH, "GET", "/stac/jobsite/a.tif", True),
        (Purpose.ORDER, "GET", "/stac/jobs/1", True),
        (Purpose.ORDER, "POST", "/stac/processes/p/execution", True),
        (Purpose.ORDER, "DELETE", "/stac/jobs/1", True),
        (Purpose.ORDER, "POST", "/buy", True),
        (Purpose.ORDER, "POST", "/buy/more", False),
        (Purpose.ORDER, "DELETE", "/stac/jobs", False),
        (Purpose.ORDER, "POST", "/stac/search", False),
        (Purpose.ORDER, "DELETE", "/stac/jobs/../files/1", False),
        (Purpose.ORDER, "DELETE", "/stac/jobs/%2e%2e/files/1", False),
        (Purpose.ORDER, "DELETE", "/stac/jobs/..\\files", False),
    ],
)
def test_what_a_purpose_lets_a_log_in_go_with(purpose, method, path, is_let):
    authority = Authority("s", "https://h/stac", purpose)
    if purpose is Purpose.SEARCH:
        authority = authority.to("https://h/stac/search")
    else:
        authority = authority.at("https://h/stac/processes", "https://h/stac/jobs").to("https://h/buy")
    assert authority.lets(method, f"https://h{path}") is is_let
    for other in ("http://h", "https://h:8443", "https://h.other", "https://u@other"):
        assert not authority.lets(method, f"{other}{path}")


def test_places_at_another_origin_are_none():
    authority = Authority("s", "https://h/stac", Purpose.ORDER).at("https://other/processes", "")
    assert authority.places == () and authority.to("https://other/x").told == ()


def test_a_search_buys_nothing_elsewhere(two, program, tmp_path):
    """The next link of a page is another source's order desk, by POST, with an order in it."""
    catalogue, shop = two
    catalogue.catalogue([catalogue.item()])
    shop.desk()
    shop.paths["/processes/p/execution"] = {"type": "FeatureCollection", "features": [], "links": []}
    order = {"inputs": {"collection": "c", "items": ["x"]}}
    catalogue.paths["/search"]["links"] = [
        {"rel": "next", "href": f"{shop.url}/processes/p/execution", "method": "POST", "body": order}
    ]
    for name, at in (("cat", catalogue), ("shop", shop)):
        program("source", "add", name, f"{at.url}/", "--kind", "stac-api")
    program("search", *WHERE, "--source", "cat")
    [posted] = shop.asked("POST", "/processes")
    assert posted.key == ""
    for name in ("cat", "shop"):
        program("source", "remove", name)


def test_a_search_is_posted_with_its_log_in_and_its_pages_elsewhere_without(two):
    from zoompick.discovery.criteria import Criteria
    from zoompick.discovery.find import search_all
    from zoompick.geo.shapes import lonlat_box
    from zoompick.scenes.source import Source

    catalogue, _ = two
    Keyring().put(catalogue.url, Login("bearer", token="ours-alone"))
    catalogue.catalogue([catalogue.item()])
    catalogue.paths["/search"]["links"] = [
        {"rel": "next", "href": f"{catalogue.url}/more", "method": "POST", "body": {}}
    ]
    catalogue.paths["/more"] = {"type": "FeatureCollection", "features": [], "links": []}
    search_all([Source("cat", f"{catalogue.url}/")], Criteria(lonlat_box(-12.15, -38.65, -12.05, -38.55)))
    assert {one.key for one in catalogue.asked("POST", "/search")} == {"Bearer ours-alone"}
    assert {one.key for one in catalogue.asked("POST", "/more")} == {""}
    assert {one.key for one in catalogue.asked("GET", "/")} == {"Bearer ours-alone"}


def test_files_elsewhere_are_fetched_with_a_log_in_only_where_a_person_said_so(two, program, tmp_path):
    catalogue, shop = two
    Keyring().put(catalogue.url, Login("bearer", token="ours-alone"))
    body = b"II*\0" + bytes(2000)
    shop.paths["/s1.bin"] = body
    catalogue.catalogue([catalogue.item(href=f"{shop.url}/s1.bin")])
    program("source", "add", "cat", f"{catalogue.url}/", "--kind", "stac-api")
    found = program("search", *WHERE, "--source", "cat", "--json").out

    def download(folder: str) -> set[str]:
        shop.seen.clear()
        program("download", "-", "--to", folder, stdin=found)
        return {one.key for one in shop.seen}

    assert download("a") == {""}
    said = program("source", "login", "cat", "--also", shop.url)
    assert said.code == 0 and "may use its log-in" in said.err
    # The log-in that is kept for that host itself comes before the source's own.
    assert download("b") == {BASIC}
    Keyring().drop(shop.url)
    program("source", "login", "cat", "--also", shop.url)
    assert download("c") == {"Bearer ours-alone"}
    # Another source that names the same host was not allowed anything.
    with stranger() as third:
        third.catalogue([third.item(href=f"{shop.url}/s1.bin")])
        program("source", "add", "third", f"{third.url}/", "--kind", "stac-api")
        found = program("search", *WHERE, "--source", "third", "--json").out
        assert download("d") == {""}
    assert program("source", "login", "cat", "--forget").code == 0
    program("source", "remove", "cat")
    program("source", "remove", "third")


def test_a_study_that_is_passed_on_is_let_use_nothing(two, tmp_path, program):
    """Its own source bears the name of one that a person allowed a host to, and lies elsewhere."""
    catalogue, shop = two
    keys = Keyring()
    keys.allow(Authority("files", "https://files.example/", Purpose.FETCH), shop.url)
    fake = Authority("files", f"{catalogue.url}/", Purpose.FETCH)
    assert keys.carried(fake, "GET", f"{shop.url}/a.tif", None).headers == {}
    # A row of an older version knew the name alone: it holds for the source of that name that a person keeps.
    keys.put(shop.url, Login("basic", "ann", "hush-hush", source="files"))
    assert Keyring().carried(fake, "GET", f"{shop.url}/a.tif", None).headers == {}
    known = Keyring(named={"files": "https://files.example:443"})
    true = Authority("files", "https://files.example/", Purpose.FETCH)
    assert known.carried(true, "GET", f"{shop.url}/a.tif", None).headers == {"Authorization": BASIC}


ORDER = Order(1, "cat", "c1", ("s1",), 1.0, 5.0, "crowns", job="", state="planned")


def desk_at(server, *links):
    """The desk of the source ``cat``, with the links of its landing page."""
    return OrderDesk("cat", f"{server.url}/", links or server.desk(), Client())


def test_jobs_of_another_source_are_never_dismissed(two):
    catalogue, shop = two
    desk = desk_at(catalogue)
    catalogue.paths["/processes/p/execution"] = {
        "status": "accepted", "jobID": "1", "links": [{"rel": "self", "href": f"{shop.url}/jobs/paid"}]}  # fmt: skip
    with pytest.raises(SourceError, match=rf"cat names a job at another host, {shop.url[7:]}"):
        desk.submit(ORDER, None, "", 5.0)
    for job in (f"{shop.url}/jobs/paid", f"{catalogue.url}/jobs/", f"{catalogue.url}/", f"{catalogue.url}/jobs/../x"):
        for act in (desk.cancel, desk.status, desk.results):
            with pytest.raises(SourceError, match="names a job"):
                act(Order(1, "cat", "c1", ("s1",), 1.0, 5.0, job=job, state="running"))
    assert shop.seen == []
    assert not catalogue.asked("DELETE", "/")


@pytest.mark.parametrize("rel", ["processes", "job-list"])
def test_a_desk_at_another_host_is_refused_by_name(two, rel):
    catalogue, shop = two
    links = [
        link if not link["rel"].endswith(rel) else link | {"href": f"{shop.url}/{rel}"} for link in catalogue.desk()
    ]
    with pytest.raises(SourceError, match=rf"an order desk at another host, {shop.url[7:]}"):
        desk_at(catalogue, *links)


@pytest.mark.parametrize("href", ["SHOP/processes/p/execution", "//SHOP/processes/p/execution"])
def test_orders_are_handed_in_at_the_own_processes_alone(two, href):
    catalogue, shop = two
    desk = desk_at(catalogue)
    href = href.replace("//SHOP", shop.url[5:]).replace("SHOP", shop.url)
    catalogue.paths["/processes"] = {"processes": [{"links": [{"rel": f"{OGC}execute", "href": href}]}]}
    with pytest.raises(SourceError, match="takes orders at another host"):
        desk.submit(ORDER, None, "", 5.0)
    assert not shop.seen and not catalogue.asked("POST", "/")


@pytest.mark.parametrize("status", [302, 307, 308])
def test_an_order_is_not_carried_on_to_another_host(two, status):
    catalogue, shop = two
    desk = desk_at(catalogue)
    target = f"{shop.url}/processes/p/execution"
    catalogue.route = lambda seen: (
        (status, {"Location": target}, b"") if seen.method in ("POST", "DELETE") else NotImplemented
    )
    with pytest.raises(SourceError, match="sends an order on to another host"):
        desk.submit(ORDER, None, "", 5.0)
    with pytest.raises(SourceError, match="sends an order on to another host"):
        desk.cancel(Order(1, "cat", "c1", ("s1",), 1.0, 5.0, job=f"{catalogue.url}/jobs/1", state="running"))
    assert shop.seen == []


def test_results_of_another_host_are_refused_and_files_there_get_no_log_in(two, tmp_path):
    catalogue, shop = two
    desk = desk_at(catalogue)
    job = Order(1, "cat", "c1", ("s1",), 1.0, 5.0, job=f"{catalogue.url}/jobs/1", state="successful")
    link = {"rel": f"{OGC}results", "href": f"{shop.url}/jobs/9/results"}
    catalogue.paths["/jobs/1"] = {"status": "successful", "links": [link]}
    with pytest.raises(SourceError, match="keeps results at another host"):
        desk.results(job)
    catalogue.paths["/jobs/1"] = {"status": "successful", "links": []}
    catalogue.paths["/jobs/1/results"] = {"files": [{"href": f"{shop.url}/jobs/9/files/a.tif", "title": "s1"}]}
    [file] = desk.results(job)
    shop.paths["/jobs/9/files/a.tif"] = b"x"
    with desk.client.open(file.url):
        pass
    assert [one.key for one in shop.seen] == [""]


def test_a_key_goes_in_the_header_of_its_name(two, program):
    catalogue, _ = two
    catalogue.catalogue([catalogue.item()])
    catalogue.route = lambda seen: NotImplemented if seen.headers.get("X-Place-Key") == "S3CRET-KEY" else (
        401, {}, {"detail": f"no good key {seen.headers.get('X-Place-Key', '')}"})  # fmt: skip
    program("source", "add", "cat", f"{catalogue.url}/", "--kind", "stac-api")
    wants = program("search", *WHERE, "--source", "cat")
    assert wants.code == 4 and "wants a log-in: 'zoompick source login cat'" in " ".join(wants.err.split())
    good = program("source", "login", "cat", "--key-header", "X-Place-Key", stdin="S3CRET-KEY\n")
    assert good.code == 0 and "It works" in good.err, good.err
    assert program("search", *WHERE, "--source", "cat").code == 0
    bad = program("source", "login", "cat", "--key-header", "Host", stdin="S3CRET-KEY\n")
    assert bad.code == 2 and "cannot be the header of a key" in bad.err
    # What a server echoes of a secret is not shown.
    Keyring().put(catalogue.url, Login("key", token="OTHER-KEY", key_header="X-Place-Key"))
    refused = program("search", *WHERE, "--source", "cat")
    words = " ".join(refused.err.split())
    assert "OTHER-KEY" not in words and "no good key …" in words
    assert "does not accept the log-in that was sent (the key in X-Place-Key)" in words
    program("source", "remove", "cat")


@pytest.mark.parametrize(
    ("login", "challenge", "said"),
    [
        (None, "", "wants a log-in"),
        (Login("bearer", token="t0ken-t0ken"), "Bearer", r"does not accept the log-in that was sent \(a token\)"),
        (Login("bearer", token="t0ken-t0ken"), 'Bearer error="invalid_token", error_description="The token expired"',
         r"The log-in that was sent \(a token\) has ended"),
        (Login("basic", "ann", "hush-hush"), "Basic", r"does not accept the log-in that was sent \(user ann\)"),
    ],
)  # fmt: skip
def test_refused_missing_and_ended_read_differently(two, login, challenge, said):
    catalogue, _ = two
    catalogue.route = lambda seen: (401, {"WWW-Authenticate": challenge} if challenge else {}, {"detail": seen.key})
    if login:
        Keyring().put(catalogue.url, login)
    with pytest.raises(SourceError, match=said) as caught:
        Client().acting(Authority("cat", catalogue.url, Purpose.SEARCH)).json(f"{catalogue.url}/x")
    assert "t0ken" not in str(caught.value) and "aHVzaA" not in str(caught.value)


@pytest.mark.parametrize(
    ("query", "body"),
    [("Expires=1600000000&Signature=abc", b""), ("X-Any-Signature=abc", b"<Message>Request has expired</Message>"),
     ("se=1600000000&sig=abc", b"")],
)  # fmt: skip
def test_a_signed_address_that_has_expired_is_told_as_such(two, query, body):
    catalogue, _ = two
    catalogue.route = lambda seen: (403, {}, body)
    with pytest.raises(ExpiredError, match="the address was signed for a time that is over") as caught:
        Client().json(f"{catalogue.url}/a.tif?{query}")
    assert "abc" not in str(caught.value)


def test_a_log_in_form_goes_to_its_address_alone(two):
    """The place of tokens answers with a redirect to a stranger; a secret that it echoes is hidden."""
    catalogue, shop = two
    login = Login("client", token_url=f"{catalogue.url}/token", client_id="tool", client_secret="cl13nt-secret")
    Keyring().put(catalogue.url, login)
    catalogue.route = lambda seen: (307, {"Location": f"{shop.url}/token"}, b"")
    asking = Client().acting(Authority("cat", catalogue.url, Purpose.FETCH))
    with pytest.raises(SourceError):
        asking.json(f"{catalogue.url}/x")
    assert shop.seen == []
    catalogue.route = lambda seen: (400, {}, {"error_description": f"bad {seen.body.decode()}"})
    with pytest.raises(SourceError) as caught:
        asking.json(f"{catalogue.url}/x")
    assert "cl13nt-secret" not in str(caught.value)


def test_what_travels_to_a_worker_keeps_its_authority(two):
    import pickle

    from zoompick.net.ranges import RemoteFile

    catalogue, _ = two
    authority = Authority("cat", catalogue.url, Purpose.FETCH)
    file = RemoteFile(f"{catalogue.url}/a.tif", Client().acting(authority))
    assert pickle.loads(pickle.dumps(file))._client.authority == authority
    assert json.dumps(authority.source) == '"cat"'
