"""Secrets in addresses: in a private file alone, joined again for the requests of their source, shown nowhere."""

from __future__ import annotations

import json
import re
import urllib.error
import urllib.request
from pathlib import Path
from urllib.parse import urlsplit

import pytest

from strangers import Stranger, stranger
from zoompick.addresses import Secret, split, whole
from zoompick.net import vault
from zoompick.net.client import Client
from zoompick.net.login import Keyring, Login
from zoompick.net.refusals import ExpiredError

KEY, SIGN = "k3y-k3y-k3y-k3y-k3y", "s1gn-s1gn-s1gn-s1gn"
ASKED = ("--source", "guarded", "--collection", "lapwing-l2", "--dates", "2025-12", "--cloud", "20")
FEN = ("--area", "38.615S 12.055W", "--around", "700m")


@pytest.mark.parametrize(
    ("url", "shown", "secret"),
    [
        ("https://h/a.tif", "https://h/a.tif", None),
        ("https://h/a.tif?size=5#part", "https://h/a.tif?size=5#part", None),
        ("https://ann:pw@h/a?sig=a%3D&n=1&token=b#x", "https://h/a?sig=…&n=1&token=…#x",
         Secret("ann:pw", ("a%3D", "b"))),
        ("https://ann@h:81", "https://h:81", Secret("ann")),
        ("s3://bucket/key?X-Any-Signature=aa", "s3://bucket/key?X-Any-Signature=…", Secret("", ("aa",))),
        ("https://h/?aB3dE5fG7hI9jK1lM3nO5pQ7", "https://h/?…", Secret("", ("aB3dE5fG7hI9jK1lM3nO5pQ7",))),
        ("https://h/?id=lapwing-a-20251215t111724-28s9845", "https://h/?id=lapwing-a-20251215t111724-28s9845", None),
        ("https://h/?q=0b7c7ba4-39a1-4a5e-8e3f-1d1c5b6d7e8f", "https://h/?q=…",
         Secret("", ("0b7c7ba4-39a1-4a5e-8e3f-1d1c5b6d7e8f",))),
    ],
)  # fmt: skip
def test_addresses_are_split_and_joined_again(url, shown, secret):
    assert split(url) == (shown, secret)
    assert split(shown) == (shown, None), "what is public is split no more"
    if secret is not None:
        assert whole(shown, secret) == url
        with pytest.raises(ValueError, match="another"):
            whole(shown + "&sig=…", secret)


def test_they_are_joined_for_their_source_alone():
    item = {"a": [{"href": f"https://h/a?sig={SIGN}"}], "note": f"see https://h/b?key={KEY} there", "n": 5}
    shown = vault.put_away(item, "one")
    assert shown == {"a": [{"href": "https://h/a?sig=…"}], "note": "see https://h/b?key=… there", "n": 5}
    assert vault.path().stat().st_mode & 0o777 == 0o600
    assert vault.joined("https://h/a?sig=…", "one") == f"https://h/a?sig={SIGN}"
    assert vault.joined("https://h/a?sig=…#part", "one") == f"https://h/a?sig={SIGN}#part"
    for source in ("two", ""):
        assert vault.joined("https://h/a?sig=…", source) == "https://h/a?sig=…"
    # An address that has secrets of its own is newer than what is kept.
    assert vault.joined("https://h/a?sig=new", "one") == "https://h/a?sig=new"
    with pytest.raises(ExpiredError, match="holds a secret that is not kept here"):
        Client().json("https://h/a?sig=…")


def test_the_store_keeps_what_is_newest_and_what_is_a_source_itself(monkeypatch):
    monkeypatch.setattr(vault, "_MOST", 3)
    vault.put_away("https://first/?key=a1", "s", lasting=True)
    for number in range(5):
        vault.put_away(f"https://h/{number}?sig=x{number}", "s")
    kept = [number for number in range(5) if vault.joined(f"https://h/{number}?sig=…", "s").endswith(f"x{number}")]
    assert len(kept) == 3 and vault.joined("https://first/?key=…", "s") == "https://first/?key=a1"
    vault.path().write_text("[")
    assert vault.joined("https://first/?key=…", "s") == "https://first/?key=…"
    vault.path().unlink()


def test_a_user_in_an_address_is_a_log_in_for_it_alone():
    with stranger() as server, stranger() as other:
        server.paths["/a.json"] = {"n": 1}
        server.paths["/b.json"] = {"n": 2}
        server.route = lambda seen: (
            (302, {"Location": f"{other.url}/a.json"}, b"") if seen.path == "/to" else NotImplemented
        )
        other.paths["/a.json"] = {"n": 3}
        address = server.url.replace("//", "//ann:hush%2Dhush@")
        assert Client().json(f"{address}/a.json") == {"n": 1}
        assert Client().json(f"{address}/to") == {"n": 3}
        assert [one.key for one in server.seen] == ["Basic YW5uOmh1c2gtaHVzaA=="] * 2
        assert [one.key for one in other.seen] == [""]
        vault.put_away(f"{address}/b.json", "")
        assert Client().json(f"{server.url}/b.json") == {"n": 2} and server.seen[-1].key


def guarded(server: Stranger, archive: str) -> None:
    """The archive behind a guard: its root wants a key in the address, files and jobs a signature of their own."""

    def route(seen):
        parts = urlsplit(seen.path)
        is_signed = any(word in parts.path for word in ("/assets/", "/files/", "/jobs", "/tiles"))
        wanted = f"sig={SIGN}" if is_signed else f"key={KEY}"
        if wanted not in parts.query and not (seen.method == "POST" and "/search" in parts.path):
            return 403, {}, {"detail": f"not with {parts.query or 'nothing'}; try {wanted}"}
        query = "&".join(part for part in parts.query.split("&") if not part.startswith(("key=", "sig=")))
        asked = urllib.request.Request(f"{archive}{parts.path}{f'?{query}' if query else ''}", seen.body or None,
                                       method=seen.method)  # fmt: skip
        for name in ("Range", "Content-Type", "Authorization", "If-Range"):
            if name in seen.headers:
                asked.add_header(name, seen.headers[name])
        try:
            answer = urllib.request.urlopen(asked)
        except urllib.error.HTTPError as error:
            answer = error
        body = answer.read()
        kept = ("content-type", "content-range", "etag", "last-modified", "accept-ranges")
        told = {name: value for name, value in answer.headers.items() if name.lower() in kept}
        if seen.method == "HEAD":
            return answer.status, told | {"Content-Length": answer.headers["Content-Length"]}, b""
        if "json" in told.get("content-type", "") or "xml" in told.get("content-type", ""):
            body = re.sub(rf'{archive}[^"<\s]*', lambda found: signed(found[0]), body.decode()).encode()
        return answer.status, told, body

    def signed(url: str) -> str:
        here = url.replace(archive, server.url)
        is_signed = any(word in url for word in ("/assets/", "/files/", "/jobs", "/tiles"))
        return f"{here}{'&' if '?' in here else '?'}{f'sig={SIGN}' if is_signed else f'key={KEY}'}"

    server.route = route


def told(folder: Path, config: Path) -> list[str]:
    """Files that hold a secret, but for the private ones."""
    private = {config / "addresses.json", config / "credentials.json"}
    for path in private:
        assert not path.exists() or path.stat().st_mode & 0o777 == 0o600
    return [
        str(path.relative_to(folder)) for path in folder.rglob("*")
        if path.is_file() and path not in private
        and any(secret.encode() in path.read_bytes() for secret in (KEY, SIGN, "hush-hush"))
    ]  # fmt: skip


@pytest.mark.slow
def test_no_command_tells_a_secret(program, archive, tmp_path):
    """The archive behind a guard that signs every address: each command is run, all that comes back is searched."""
    config, said = tmp_path / "config", []
    own = {"ZOOMPICK_CONFIG": str(config), "ZOOMPICK_RETRIES": "0"}
    study = tmp_path / "study"

    def run(*given, cwd=study, stdin="", fails=False):
        done = program(*given, cwd=cwd, stdin=stdin, env=own)
        words = " ".join((done.out + done.err).split())
        assert "Traceback" not in words, (given, words)
        for secret in (KEY, SIGN, "hush-hush"):
            assert secret not in done.out + done.err, (given, words)
        assert fails or done.code in (0, 1, 5), (given, words)
        assert told(tmp_path, config) == [], given
        said.append(given[0])
        return done

    with stranger() as server:
        guarded(server, archive)
        source = f"{server.url}/?key={KEY}"
        run("new", study, *FEN, *ASKED, cwd=tmp_path)
        run("source", "add", "guarded", source, "--kind", "stac-api")
        maps = f"{server.url}/tiles/natural/tilejson.json?sig={SIGN}"
        run("source", "add", "maps", maps, "--kind", "tiles")
        for name in ("list", "show", "check"):
            run("source", name, *(("guarded",) if name != "list" else ()))
            run("source", name, *(("guarded",) if name != "list" else ()), "--json")
        run("search")
        found = run("search", "--json").out
        for form in ("csv", "geojson", "parquet"):
            run("search", "--out", f"found.{form}", "--overwrite")
        run("search", "--inside")
        run("scene", "1")
        run("scene", "1", "--json")
        run("look", "--limit", "2", "--out", "look.png")
        run("look", "--bands", "red", "--limit", "1", "--out", "bands.png")
        run("look", "--map", "--out", "map.png")
        run("calendar", "--out", "calendar.png")
        run("pick", "--cover", "--inside")
        run("pick", "list", "--json")
        run("pick", "export", "picked.csv")
        run("pick", "export", "picked.json")
        run("pick", "import", "picked.json")
        run("download", "--dry-run")
        run("download", "--dry-run", "--json")
        run("run", "--dry-run", "--json")
        # A pipe carries public addresses, and the secrets are joined here again.
        piped = run("download", "-", "--bands", "red", "--to", "piped", stdin=found)
        assert "failed" not in piped.err, piped.err
        assert run("run").code == 0
        run("run", "--json")
        run("status", "--json")
        run("history", "--json")
        run("verify", "--online", "--full")
        run("verify", "--json")
        run("report")
        run("lock")
        run("run", "--locked")
        run("run", "--watch", "1d", "--rounds", 1)
        remote = json.loads(found)["features"][0]["assets"]["red"]["href"].replace("sig=…", f"sig={SIGN}")
        assert SIGN in remote
        run("bands", remote, "--json")
        run("clip", remote, *FEN, "--out", "clip.tif")
        run("stack", remote, "--out", "stack.tif")
        run("picture", "clip.tif", "--out", "clip.png")
        run("tiles", "plan", *FEN, "--source", "maps", "--zoom", "13")
        run("tiles", "get", *FEN, "--source", "maps", "--zoom", "13", "--store", "store.mbtiles")
        run("tiles", "join", "--store", "store.mbtiles", *FEN, "--out", "tiles.tif")
        run("unpack", f"{server.url}/files/nothing.tar?sig={SIGN}", "--list", fails=True)
        run("settings", "--json")
        run("doctor", "--json")
        log = tmp_path / "log.txt"
        run("--log", log, "--verbose", "source", "check", "guarded")
        # What is refused echoes what it was asked with.
        server.route = lambda seen: (
            (403, {}, {"detail": f"not {seen.path}, {SIGN}"}) if "/files/" in seen.path else NotImplemented
        )
        run("download", "-", "--bands", "nir", "--to", "refused", stdin=found, fails=True)
        assert len(set(said)) > 20


def test_an_order_of_a_signing_source_keeps_its_job_apart(program, archive, tmp_path, monkeypatch):
    config = tmp_path / "config"
    monkeypatch.setenv("ZOOMPICK_CONFIG", str(config))
    own = {"ZOOMPICK_CONFIG": str(config)}
    study = tmp_path / "study"
    with stranger() as server:
        guarded(server, archive)
        Keyring().put(server.url, Login("basic", "visitor", "ostrell"))

        def run(*given, cwd=study):
            done = program(*given, cwd=cwd, env=own)
            assert KEY not in done.out + done.err and SIGN not in done.out + done.err, given
            assert told(tmp_path, config) == [], given
            return done

        run("new", study, "--box", -12.056, -38.611, -12.0545, -38.61, "--source", "guarded", "--collection",
            "gannet-vhr", "--dates", "2025-11/2025-12", "--cloud", 100, cwd=tmp_path)  # fmt: skip
        run("source", "add", "guarded", f"{server.url}/?key={KEY}", "--kind", "stac-api")
        assert run("search").code == 0 and run("pick", "1").code == 0
        digest = re.search(r"--accept-terms (\w+)", run("order", "ask").err)[1]
        run("order", "ask", "--accept-terms", digest)
        handed = run("order", "submit", "--accept-price", "99 crowns")
        assert handed.code == 0, handed.err
        done = run("order", "wait", "--every", 0.3)
        assert done.code == 0, done.err
        assert "sig=…" in (study / "orders.json").read_text()
        assert len(list(study.glob("scenes/*/*/*/*.tif"))) == 1


def test_secrets_of_older_records_are_moved_and_told_once(program, archive, tmp_path, monkeypatch):
    config = tmp_path / "config"
    monkeypatch.setenv("ZOOMPICK_CONFIG", str(config))
    own = {"ZOOMPICK_CONFIG": str(config)}
    study = tmp_path / "study"
    with stranger() as server:
        guarded(server, archive)

        def run(*given, cwd=study):
            return program(*given, cwd=cwd, env=own)

        run("new", study, *FEN, *ASKED, cwd=tmp_path)
        run("source", "add", "guarded", f"{server.url}/?key={KEY}", "--kind", "stac-api", "--here")
        run("search")
        run("pick", "1")
        # As an older version left it: whole addresses in the list, the shortlist, the sources and the item.
        kept = json.loads((config / "addresses.json").read_text())["guarded"]
        (config / "addresses.json").unlink()
        (study / ".local" / "addresses.json").unlink(missing_ok=True)
        for name in ("found.json", "shortlist.json", "sources.json", "study.toml"):
            text = (study / name).read_text()
            for shown, (user, values, _) in sorted(kept.items(), key=lambda entry: -len(entry[0])):
                text = text.replace(f'"{shown}"', f'"{whole(shown, Secret(user, tuple(values)))}"')
            (study / name).write_text(text)
        assert {Path(one).name for one in told(tmp_path, config)} == {"found.json", "shortlist.json", "sources.json"}
        first = run("download", "--bands", "red")
        assert first.code == 0, first.err
        assert "3 files of an older version held keys in addresses" in " ".join(first.err.split())
        assert told(tmp_path, config) == []
        again = run("download", "--bands", "red")
        assert again.code == 0 and "older version" not in again.err
