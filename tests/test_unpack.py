"""Deliveries: every form of archive, hostile ones, members by place, archives on a web server."""

from __future__ import annotations

import bz2
import gzip
import io
import json
import lzma
import tarfile
import zipfile

import imagecodecs
import pytest
import shapely

from badserver import Handler, serving
from zoompick.area import sheets
from zoompick.area.model import Area
from zoompick.area.shapefile import write_shapefile
from zoompick.errors import DataError, NothingFoundError, StudyError, UsageError, ZoomPickError
from zoompick.fetch import unpack as workflow
from zoompick.fetch.unpack import Choice, choose, opened, unpack
from zoompick.scenes.archives import parts_of

FILES = {"a/red.tif": b"red" * 5000, "a/b/nir.tif": b"nir" * 7000, "note.txt": b"hello"}


def tar_bytes(files: dict[str, bytes] = FILES, **more) -> bytes:
    held = io.BytesIO()
    with tarfile.open(fileobj=held, mode="w", **more) as archive:
        for name, data in files.items():
            info = tarfile.TarInfo(name)
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    return held.getvalue()


def zip_bytes(files: dict[str, bytes] = FILES, how: int = zipfile.ZIP_DEFLATED) -> bytes:
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", how) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return held.getvalue()


def unpacked(where, folder, choice: Choice | None = None, **more):
    with opened(str(where)) as archive:
        return unpack(archive, choice or Choice(), folder, **more)


FORMS = {
    "x.zip": zip_bytes(), "x.tar": tar_bytes(), "x.tar.gz": gzip.compress(tar_bytes()),
    "x.tgz": gzip.compress(tar_bytes()), "x.tar.bz2": bz2.compress(tar_bytes()),
    "x.tar.xz": lzma.compress(tar_bytes()),
    "x.tar.zst": imagecodecs.zstd_encode(tar_bytes()),
}  # fmt: skip


@pytest.mark.parametrize("name", FORMS)
def test_every_form_gives_the_same_files(tmp_path, name):
    (tmp_path / name).write_bytes(FORMS[name])
    done = unpacked(tmp_path / name, tmp_path / "out")
    assert {path.relative_to(tmp_path / "out").as_posix(): path.read_bytes() for path in done.files} == FILES
    assert done.written == sum(map(len, FILES.values()))
    with pytest.raises(StudyError, match="exists already"):
        unpacked(tmp_path / name, tmp_path / "out")
    unpacked(tmp_path / name, tmp_path / "out", overwrite=True)
    only = unpacked(tmp_path / name, tmp_path / "only", Choice(only="*.tif"))
    assert {path.name for path in only.files} == {"red.tif", "nir.tif"}
    assert not list((tmp_path / "out").glob(".unpack*"))


@pytest.mark.parametrize(
    ("name", "data"),
    [
        ("s.tif.gz", gzip.compress(b"one")), ("s.tif.bz2", bz2.compress(b"one")),
        ("s.tif.xz", lzma.compress(b"one")), ("s.tif.zst", imagecodecs.zstd_encode(b"one")),
        # Two frames, one after the other (RFC 8878, section 3.1).
        ("s.tif.zst", imagecodecs.zstd_encode(b"on") + imagecodecs.zstd_encode(b"e")),
    ],
    # The time stands in what gzip writes: as a name of a test it would differ from process to process.
    ids=["gz", "bz2", "xz", "zst", "frames"],
)  # fmt: skip
def test_a_single_file_loses_its_compression(tmp_path, name, data):
    (tmp_path / name).write_bytes(data)
    [path] = unpacked(tmp_path / name, tmp_path / "out").files
    assert (path.name, path.read_bytes()) == ("s.tif", b"one")


@pytest.mark.parametrize(
    "names",
    [
        ("x.tar.001", "x.tar.002", "x.tar.003"),
        ("x.part1.tar", "x.part2.tar", "x.part3.tar"),
        ("x.tar.aa", "x.tar.ab", "x.tar.ac"),
    ],
)
def test_a_delivery_in_parts_is_one(tmp_path, names):
    data = tar_bytes()
    third = len(data) // 3
    for number, name in enumerate(names):
        (tmp_path / name).write_bytes(data[number * third : (number + 1) * third if number < 2 else None])
    assert parts_of(tmp_path / names[1]) == [tmp_path / name for name in names]
    done = unpacked(tmp_path / names[0], tmp_path / "out")
    assert {path.name: path.read_bytes() for path in done.files}["nir.tif"] == FILES["a/b/nir.tif"]
    if names[0][-1].isdigit():
        (tmp_path / names[1]).unlink()
        with pytest.raises(UsageError, match="Part 2"):
            unpacked(tmp_path / names[0], tmp_path / "out2")


def test_a_number_in_a_name_is_no_part(tmp_path):
    for name in ("siskin-w302-f071-20251215.tar.gz", "scene-001", "b-2.zip"):
        (tmp_path / name).write_bytes(b"")
        assert parts_of(tmp_path / name) == [tmp_path / name]


def with_link(kind: bytes) -> bytes:
    held = io.BytesIO()
    with tarfile.open(fileobj=held, mode="w") as archive:
        info = tarfile.TarInfo("ok.txt")
        archive.addfile(info, io.BytesIO())
        info = tarfile.TarInfo("link")
        info.type, info.linkname = kind, "/etc/passwd"
        archive.addfile(info)
    return held.getvalue()


def zip_with_link() -> bytes:
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w") as archive:
        info = zipfile.ZipInfo("link")
        info.external_attr = 0o120777 << 16
        archive.writestr(info, "/etc/passwd")
    return held.getvalue()


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("x.tar", tar_bytes({"ok": b"1", "../out.txt": b"x"}), "would leave"),
        ("x.tar.gz", gzip.compress(tar_bytes({"ok": b"1", "a/../../out.txt": b"x"})), "would leave"),
        ("x.zip", zip_bytes({"ok": b"1", "/etc/out.txt": b"x"}), "would leave"),
        ("x.zip", zip_bytes({"ok": b"1", "..\\out.txt": b"x"}), "would leave"),
        ("x.zip", zip_bytes({"C:\\out.txt": b"x"}), "would leave"),
        ("x.tar", with_link(tarfile.SYMTYPE), "a link or a device"),
        ("x.tar.gz", gzip.compress(with_link(tarfile.LNKTYPE)), "a link or a device"),
        ("x.tar", with_link(tarfile.CHRTYPE), "a link or a device"),
        ("x.zip", zip_with_link(), "a link or a device"),
        ("x.tar.gz", gzip.compress(tar_bytes())[:-50], "damaged or cut short"),
        ("x.tar.zst", imagecodecs.zstd_encode(tar_bytes())[:-50], "damaged or cut short"),
        ("x.tif.zst", b"\x28\xb5\x2f\xfd" + bytes(200), "damaged or cut short"),
        ("x.tar", tar_bytes()[:9000], "damaged or cut short"),
        ("x.zip", zip_bytes()[:-40], "damaged or cut short"),
        ("x.zip", zip_bytes(how=zipfile.ZIP_STORED).replace(b"redred", b"redRED", 1), "damaged or cut short"),
        ("x.zip", b"just text", "no archive"),
    ],
)  # fmt: skip
def test_hostile_and_broken_archives_leave_nothing(tmp_path, name, data, words):
    (tmp_path / name).write_bytes(data)
    with pytest.raises(ZoomPickError, match=words):
        unpacked(tmp_path / name, tmp_path / "out")
    assert [path.name for path in tmp_path.rglob("*") if path.is_file()] == [name]


@pytest.mark.parametrize("name", ["x.zip", "x.tar.gz"])
def test_bombs_are_seen_before_they_fill_the_disk(tmp_path, monkeypatch, name):
    monkeypatch.setattr("zoompick.scenes.archives._BOMB_BYTES", 1 << 20)
    files = {"zeros.tif": bytes(5 << 20)}
    (tmp_path / name).write_bytes(zip_bytes(files) if name == "x.zip" else gzip.compress(tar_bytes(files)))
    with pytest.raises(DataError, match="looks like a bomb"):
        unpacked(tmp_path / name, tmp_path / "out")
    assert not list((tmp_path / "out").glob("**/*.tif"))


def test_absurd_names_become_plain_and_stay_apart(tmp_path):
    names = ["con.tif", "a\x01b?.tif", "A-B-.tif", "x" * 300 + ".tif", "Red.tif", "red.tif"]
    (tmp_path / "x.tar").write_bytes(tar_bytes({name: name.encode() for name in names}))
    done = unpacked(tmp_path / "x.tar", tmp_path / "out")
    assert len(done.files) == len(names)
    assert {"_con.tif", "Red.tif", "red-2.tif"} <= {path.name for path in done.files}


SHEETS = [sheet for scheme in sheets.schemes() if scheme.name == "curlew sheet" for sheet, _ in scheme.under(
    shapely.box(-12.10, -38.64, -12.04, -38.60))][:30]  # fmt: skip


def delivery(index: str, tmp_path) -> dict[str, bytes]:
    """Thirty sheets, and an index of them."""
    called = {
        sheet.name: f"img_{number:03d}" if index else f"curlew-2025-{sheet.name}"
        for number, sheet in enumerate(SHEETS)
    }
    files = {f"tiles/{called[sheet.name]}.tif": sheet.name.encode() * 4000 for sheet in SHEETS}
    if index == "geojson":
        rows = [
            {"type": "Feature", "geometry": shapely.geometry.mapping(sheet.polygon),
             "properties": {"sheet": sheet.name, "location": f"tiles/{called[sheet.name]}.tif"}} for sheet in SHEETS
        ]  # fmt: skip
        files["index.geojson"] = json.dumps({"type": "FeatureCollection", "features": rows}).encode()
    if index == "shapefile":
        first = SHEETS[0]
        write_shapefile(Area(called[first.name], first.polygon), tmp_path / "index.zip", "index")
        with zipfile.ZipFile(tmp_path / "index.zip") as archive:
            files |= {name: archive.read(name) for name in archive.namelist()}
    return files


@pytest.mark.parametrize("index", ["geojson", "shapefile", ""])
def test_members_that_touch_a_place(tmp_path, index):
    (tmp_path / "x.tar").write_bytes(tar_bytes(delivery(index, tmp_path)))
    point = SHEETS[0].polygon.representative_point()
    with opened(str(tmp_path / "x.tar")) as archive:
        chosen = choose(archive, Choice(point))
        with pytest.raises(NothingFoundError, match="is wanted"):
            choose(archive, Choice(shapely.Point(100, 10)))
    over = [sheet.name for sheet in SHEETS if sheet.polygon.intersects(point)]
    if index == "shapefile":
        over = over[:1]
    assert len(chosen.members) == len(over)
    assert chosen.told_by.startswith("its tile index index" if index else "the names")
    done = unpacked(tmp_path / "x.tar", tmp_path / "out", Choice(point))
    assert {path.read_bytes()[: len(name)].decode() for path in done.files for name in over} >= set(over)


def test_without_an_index_or_sheet_names_a_place_cannot_choose(tmp_path):
    (tmp_path / "x.zip").write_bytes(zip_bytes())
    with opened(str(tmp_path / "x.zip")) as archive, pytest.raises(NothingFoundError, match="no tile index"):
        choose(archive, Choice(shapely.Point(0, 0)))


@pytest.mark.parametrize("form", ["tar", "zip"])
def test_of_a_remote_archive_only_the_members_come(tmp_path, form):
    files = {f"m{number:03d}.tif": bytes([number % 251]) * 60_000 for number in range(100)}
    wanted = [f"m{number:03d}.tif" for number in (0, 20, 40, 60, 80)]
    how = {"tar": lambda: tar_bytes(files), "zip": lambda: zip_bytes(files, zipfile.ZIP_STORED)}
    with serving() as url:
        Handler.files[f"/file/x.{form}"] = how[form]()
        with opened(f"{url}/file/x.{form}") as archive:
            done = unpack(archive, Choice(only="m0[02468]0.tif"), tmp_path / "out")
    assert {path.name: path.read_bytes() for path in done.files} == {name: files[name] for name in wanted}
    headers = 100 * 1024 if form == "tar" else 20_000
    assert done.received <= sum(len(files[name]) for name in wanted) + headers
    assert done.size > 6_000_000


def test_a_compressed_whole_on_a_server_is_refused(tmp_path):
    with serving() as url:
        Handler.files["/file/x.tar.gz"] = gzip.compress(tar_bytes())
        with pytest.raises(ZoomPickError, match="Download it first"), opened(f"{url}/file/x.tar.gz"):
            pass


def test_the_command(program, tmp_path):
    (tmp_path / "d.tar").write_bytes(tar_bytes(delivery("geojson", tmp_path)))
    inside = SHEETS[0].polygon.representative_point()
    listed = program("unpack", "d.tar", "--at", f"{-inside.y:.5f}S {-inside.x:.5f}W", "--list")
    assert listed.code == 0, listed.err
    assert "tiles/img_000.tif" in listed.out and "of 31 members, by its tile index" in listed.err
    assert len(program("unpack", "d.tar", "--list", "--json").json) == 31
    done = program("unpack", "d.tar", "--remove")
    assert done.code == 0 and not (tmp_path / "d.tar").exists() and "31 files" in done.err
    assert len(list((tmp_path / "d" / "tiles").glob("*.tif"))) == 30
    assert program("unpack", "no.tar").code == 2
    (tmp_path / "x.zip").write_bytes(zip_bytes({"../x": b"1"}))
    bad = program("unpack", "x.zip")
    assert bad.code == 1 and "would leave the folder" in bad.err
    both = program("unpack", "x.zip", "--at", "38S 12W", "--box", 1, 1, 2, 2)
    assert both.code == 2 and "more than one way" in both.err
    assert workflow.Choice().is_all
