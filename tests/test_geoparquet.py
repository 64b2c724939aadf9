"""GeoParquet searched by the statistics of its row groups: the same hits as testing every row, of few groups."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow
import pytest
import shapely
from pyarrow import parquet

from zoompick.area.model import Area
from zoompick.discovery import geoparquet
from zoompick.discovery.criteria import Criteria
from zoompick.discovery.footprintfile import FootprintFile
from zoompick.discovery.geoparquet import Covered
from zoompick.errors import FormatError, UnknownNameError, UsageError
from zoompick.net.client import Client
from zoompick.net.ranges import RemoteFile
from zoompick.raster.source import LocalFile
from zoompick.scenes.period import Period
from zoompick.scenes.source import Source
from zoompick.scenes.sources import checked

COUNT = 20_000
BOXES = [
    (10, 20, 13, 22),
    (-180, -90, 180, 90),
    (179.5, -20, 180, 20),
    (-180, -20, -179.5, 20),
    (60, 60, 60.01, 60.01),
]


def items(count: int = COUNT) -> list[dict]:
    rng = np.random.default_rng(8)
    rows = []
    for number in range(count):
        west, south = rng.uniform(-180, 179.9), rng.uniform(-85, 84)
        east = min(180.0, west + rng.uniform(0.05, 0.4))
        when = datetime.fromtimestamp(1.5e9 + rng.random() * 2e8, UTC)
        properties = {
            "datetime": when.strftime("%Y-%m-%dT%H:%M:%SZ"),
            "eo:cloud_cover": round(rng.uniform(0, 100), 1),
        }
        if number % 50 == 0:
            properties.pop("eo:cloud_cover")
        rows.append({"id": f"s{number}", "collection": "even" if number % 2 == 0 else "odd", "properties": properties,
                     "geometry": shapely.geometry.mapping(shapely.box(west, south, east, south + 0.2)),
                     "assets": {"data": {"href": f"f{number}.tif"}}})  # fmt: skip
    return rows


@pytest.fixture(scope="module")
def given() -> list[dict]:
    return items()


@pytest.fixture(scope="module")
def file(tmp_path_factory, given) -> Path:
    path = tmp_path_factory.mktemp("parquet") / "many.parquet"
    geoparquet.write(given, path)
    return path


@pytest.fixture(scope="module")
def boxes(given) -> Any:
    """The box around each item."""
    return shapely.box(*np.array([shapely.geometry.shape(item["geometry"]).bounds for item in given]).T)


def brute(given: list[dict], boxes: Any, box, period: Period | None, cloud: float | None) -> set[str]:
    """Every row tested: boxes meet, in time, clear enough or untold."""
    found = set()
    for item, meets in zip(given, shapely.intersects(shapely.box(*box), boxes), strict=True):
        when = datetime.fromisoformat(item["properties"]["datetime"])
        told = item["properties"].get("eo:cloud_cover")
        in_time = period is None or (period.start <= when <= period.end)
        if meets and in_time and (cloud is None or told is None or told <= cloud):
            found.add(item["id"])
    return found


@pytest.mark.parametrize("box", BOXES)
@pytest.mark.parametrize(("dates", "cloud"), [(None, None), ("2019", 30.0), ("2020-02", None)])
def test_the_hits_are_those_of_testing_every_row(file, given, boxes, box, dates, cloud):
    period = Period.parse(dates) if dates else None
    criteria = Criteria(Area.from_box(*box).polygon, (), (period,) if period else (), cloud_max=cloud)
    found = [item["id"] for item in FootprintFile(Source("f", str(file), "footprints"), LocalFile).search(criteria)]
    assert len(found) == len(set(found)) and set(found) == brute(given, boxes, box, period, cloud)


def test_few_groups_are_read_and_items_come_back_whole(file, given, monkeypatch):
    table = parquet.ParquetFile(file)
    about = json.loads(table.schema_arrow.metadata[b"geo"])
    assert about["version"] == "1.1.0" and table.num_row_groups == 3
    assert about["columns"]["geometry"]["covering"]["bbox"]["xmin"] == ["bbox", "xmin"]
    rows = table.read().to_pylist()
    assert all(shapely.from_wkb(row["geometry"]).bounds == tuple(row["bbox"].values()) for row in rows[:500])
    read = []
    plain = parquet.ParquetFile.read_row_group

    def counted(self, number, columns=None):
        read.append((number, columns))
        return plain(self, number, columns)

    monkeypatch.setattr(parquet.ParquetFile, "read_row_group", counted)
    reader = FootprintFile(Source("f", str(file), "footprints"), LocalFile)
    area = Area.from_box(10, 20, 13, 22).polygon
    [first, *_] = reader.search(Criteria(area))
    same = next(item for item in given if item["id"] == first["id"])
    assert first["properties"] == same["properties"] and first["assets"] == same["assets"]
    assert len({number for number, _ in read}) < 3 and read[0][1] is not None
    [even, odd] = reader.collections()
    assert (even["id"], odd["id"]) == ("even", "odd") and even["title"].startswith(f"{COUNT} footprints")
    with pytest.raises(UnknownNameError):
        next(reader.search(Criteria(area, ("evn",))))


def of_others(path: Path, across: bool = False, covering: bool = True) -> Path:
    """As another program writes it: other columns, 32-bit boxes, times as text, a box over the antimeridian."""
    boxes = [(170.0, -5.0, 171.0, -4.0), (179.0, -5.0, -179.0, -4.0) if across else (178.0, -5.0, 179.0, -4.0)]
    shapes = [shapely.box(170, -5, 171, -4),
              shapely.MultiPolygon([shapely.box(179, -5, 180, -4), shapely.box(-180, -5, -179, -4)]) if across
              else shapely.box(178, -5, 179, -4)]  # fmt: skip
    edges = ("xmin", "ymin", "xmax", "ymax")
    rows = {"scene_id": ["one", "two"], "acquired": ["2024-03-01", "2024-04-01"], "where": shapely.to_wkb(shapes),
            "box": [dict(zip(edges, box, strict=True)) for box in boxes]}  # fmt: skip
    kinds = pyarrow.struct([(edge, pyarrow.float32()) for edge in edges])
    table = pyarrow.table({**rows, "box": pyarrow.array(rows["box"], kinds)})
    about = {"encoding": "WKB", "geometry_types": []}
    if covering:
        about["covering"] = {"bbox": {edge: ["box", edge] for edge in edges}}
    geo = {"version": "1.1.0", "primary_column": "where", "columns": {"where": about}}
    parquet.write_table(table.replace_schema_metadata({"geo": json.dumps(geo)}), path)
    return path


def test_files_of_others_are_searched(tmp_path):
    path = of_others(tmp_path / "theirs.parquet", across=True)
    reader = FootprintFile(Source("theirs", str(path), "footprints"), LocalFile)
    for box, wanted in (((179.2, -4.6, 179.4, -4.5), ["two"]), ((-179.4, -4.6, -179.2, -4.5), ["two"]),
                        ((170, -5, 171, -4), ["one", "two"])):  # fmt: skip
        found = list(reader.search(Criteria(Area.from_box(*box).polygon)))
        assert [item["id"] for item in found] == wanted
        assert found[0]["collection"] == "theirs"
    assert found[0]["properties"]["datetime"] == "2024-03-01T00:00:00Z"
    assert Covered.of(str(of_others(tmp_path / "plain.parquet", covering=False)), LocalFile) is None
    (tmp_path / "bad.parquet").write_bytes(b"PAR1nothingPAR1")
    with pytest.raises(FormatError, match=r"bad\.parquet"):
        Covered.of(str(tmp_path / "bad.parquet"), LocalFile)


@pytest.mark.slow
def test_a_file_on_object_storage_is_searched_by_ranges(file, tmp_path, program, monkeypatch):
    from test_objects import BUCKET, serving

    with serving(monkeypatch) as where:
        from zoompick.net import objects

        objects.upload(file, f"{where}/many.parquet")
        objects.upload(of_others(tmp_path / "plain.parquet", covering=False), f"{where}/plain.parquet")
        added = program("source", "add", "far", f"{where}/many.parquet")
        assert added.code == 0, added.err
        words = ("--box", "10", "20", "40", "45", "--dates", "2019", "--cloud", "30", "--json")
        assert program("source", "add", "near", file).code == 0
        far, near = (program("search", "--source", name, *words).json["features"] for name in ("far", "near"))
        assert [item["id"] for item in far] == [item["id"] for item in near] and far
        refused = program("source", "add", "plain", f"{where}/plain.parquet")
        told = refused.err + program("search", "--source", "plain", *words).err
        assert "tells no bounding boxes" in told
        wrong = program("source", "add", "x", f"s3://{BUCKET}/a.geojson")
        assert wrong.code == 2 and "GeoParquet" in wrong.err
        read = RemoteFile(f"{where}/many.parquet", Client())
        found, taken = Covered.of(f"{where}/many.parquet", lambda address: Counted(read)), Counted.taken
        assert found is not None and 0 < taken[0] < read.size / 10
    with pytest.raises(UsageError):
        checked("y", "s3://bucket/folder")


class Counted:
    """A byte source that counts."""

    taken = [0]  # noqa: RUF012

    def __init__(self, source) -> None:
        self._source = source
        self.address, self.size, self.identity = source.address, source.size, source.identity

    def read(self, offset: int, length: int) -> bytes:
        data = self._source.read(offset, length)
        self.taken[0] += len(data)
        return data
