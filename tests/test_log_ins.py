"""Logging in: what is asked for, what is refused before any secret leaves, what is kept and how."""

from __future__ import annotations

import json
import time
from dataclasses import replace

import pytest

from badserver import Handler, serving
from zoompick.errors import SourceError, UsageError
from zoompick.net.client import Client
from zoompick.net.login import Keyring, Login, variable_of
from zoompick.workflow.login import Asked, keep

FAR = "https://far.example"


@pytest.fixture
def server():
    with serving() as url:
        yield url
        Keyring().drop(url)


class Person:
    """Someone who answers every question with the same secret, and remembers what was asked."""

    def __init__(self, secret: str = "hush") -> None:
        self.secret, self.asked = secret, []

    def __call__(self, what: str) -> str:
        self.asked.append(what)
        return self.secret


@pytest.mark.parametrize(
    ("asked", "questions", "scheme", "header"),
    [
        (Asked(token=True), ["Token"], "bearer", "Bearer hush"),
        (Asked(user="ann"), ["Password"], "basic", "Basic YW5uOmh1c2g="),
    ],
)
def test_each_way_asks_for_its_own_secret_only(server, asked, questions, scheme, header):
    person = Person()
    assert keep(server, asked, person) == server.removeprefix("http://")
    assert person.asked == questions
    assert Keyring().authorization(server, None) == header
    [row] = [row for origin, row in json.loads(Keyring().path.read_text()).items() if origin == server]
    assert row["scheme"] == scheme and Keyring().path.stat().st_mode & 0o777 == 0o600
    assert Handler.seen == []


@pytest.mark.parametrize(
    ("asked", "grant"),
    [
        (Asked(client_id="tool", token_url="TOKENS"),
         "grant_type=client_credentials&client_id=tool&client_secret=hush"),
        (Asked(user="ann", token_url="TOKENS"), "grant_type=password&username=ann&password=hush"),
        (Asked(user="ann", client_id="tool", token_url="TOKENS"),
         "grant_type=password&client_id=tool&client_secret=hush&username=ann&password=hush"),
    ],
)  # fmt: skip
def test_a_grant_is_tried_before_it_is_kept(server, asked, grant):
    keep(server, replace(asked, token_url=f"{server}/token"), Person())
    assert [form for _, form in Handler.seen] == [grant]
    assert Keyring().authorization(server, None) == "Bearer token-1"
    # What is sent to the place of tokens is never sent to the source itself.
    with Client().open(f"{server}/good/a.tif"):
        pass
    assert Handler.keys[-1] == ("/good/a.tif", "Bearer token-1")


@pytest.mark.parametrize(
    ("place", "asked", "said"),
    [
        ("folder/of/files", Asked(token=True), "is no web address"),
        ("http://far.example/stac", Asked(token=True), "unencrypted"),
        (FAR, Asked(user="ann", token_url="http://far.example/token"), "unencrypted"),
        (FAR, Asked(token=True, user="ann"), "Several ways"),
        (FAR, Asked(token=True, client_id="tool", token_url=f"{FAR}/token"), "Several ways"),
        (FAR, Asked(client_id="tool"), "needs an address for its tokens"),
        (FAR, Asked(), "needs an address for its tokens"),
    ],
)
def test_what_cannot_be_is_refused_before_a_secret_is_asked_for(place, asked, said):
    person = Person()
    with pytest.raises(UsageError, match=said):
        keep(place, asked, person)
    assert person.asked == [] and Keyring().where(FAR) == ""


@pytest.mark.parametrize("path", ["status/400", "html", "to/far.example/token"])
def test_a_log_in_that_gives_no_token_is_not_kept(server, path, monkeypatch):
    """A redirect is not followed: the secret would go to another host."""
    monkeypatch.setattr(Handler, "do_POST", Handler.do_GET)
    with pytest.raises(SourceError):
        keep(server, Asked(client_id="tool", token_url=f"{server}/{path}"), Person())
    assert Keyring().where(server) == ""
    assert [seen for seen, _ in Handler.seen] == [f"/{path}"]


class Tokens:
    """A place of tokens whose answers are told."""

    def __init__(self, *answers) -> None:
        self.answers, self.forms = list(answers), []

    def __call__(self, url, form):
        self.forms.append((url, dict(form)))
        answer = self.answers.pop(0)
        if isinstance(answer, Exception):
            raise answer
        return answer


CLIENT = Login("client", token_url=f"{FAR}/token", client_id="tool", client_secret="hush")


def test_a_token_is_renewed_a_little_before_it_ends(tmp_path):
    tokens = Tokens({"access_token": "one", "expires_in": 3600}, {"access_token": "two", "expires_in": 10})
    keys = Keyring(tmp_path / "keys.json")
    keys.put(FAR, CLIENT)
    assert keys.authorization(FAR, tokens) == keys.authorization(f"{FAR}/elsewhere", tokens) == "Bearer one"
    assert keys.authorization("https://other.example", tokens) == ""
    kept = Keyring(tmp_path / "keys.json")
    assert kept.authorization(FAR, tokens) == "Bearer one" and len(tokens.forms) == 1
    kept.put(FAR, replace(CLIENT, token="one", ends=time.time() + 20))
    assert kept.authorization(FAR, tokens) == "Bearer two"


def test_a_refresh_that_is_refused_falls_back_to_the_grant(tmp_path):
    tokens = Tokens(
        {"access_token": "one", "refresh_token": "again"}, SourceError("no", ""), {"access_token": "three"}
    )
    keys = Keyring(tmp_path / "keys.json")
    keys.put(FAR, CLIENT)
    assert keys.authorization(FAR, tokens) == "Bearer one"
    assert keys.renew(FAR, "Bearer one", tokens)
    assert [form["grant_type"] for _, form in tokens.forms] == ["client_credentials", "refresh_token",
                                                                "client_credentials"]  # fmt: skip
    assert keys.authorization(FAR, tokens) == "Bearer three"
    # Another thread has renewed it meanwhile: no token is fetched again.
    assert keys.renew(FAR, "Bearer one", Tokens())


@pytest.mark.parametrize("answer", [{}, [], {"access_token": 5}, {"access_token": ""}, "token"])
def test_an_answer_without_a_token_is_an_error(answer):
    with pytest.raises(SourceError, match="gave no token"):
        CLIENT.renewed(Tokens(answer))


def test_a_fixed_log_in_is_never_renewed_nor_shown(tmp_path):
    keys = Keyring(tmp_path / "keys.json")
    keys.put(FAR, Login("bearer", token="hush"))
    assert not keys.renew(FAR, "Bearer hush", Tokens())
    assert "hush" not in repr(keys._of(FAR)) and "hush" not in str(CLIENT)


@pytest.mark.parametrize(
    ("url", "name"),
    [("https://data.far-away.example", "ZOOMPICK_LOGIN_DATA_FAR_AWAY_EXAMPLE"),
     ("http://127.0.0.1:8638/stac", "ZOOMPICK_LOGIN_127_0_0_1_8638")],
)  # fmt: skip
def test_names_of_variables(url, name, monkeypatch):
    assert variable_of(url) == name
    monkeypatch.setenv(name, "ann:se:cret")
    assert Keyring()._of(url) == Login("basic", "ann", "se:cret")
