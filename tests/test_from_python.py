"""Verbs from Python that no other test calls so: areas, sources, calendar, shortlist, tiles, orders."""

from __future__ import annotations

import pytest
from PIL import Image

import zoompick as zp
from zoompick.orders.queue import PLANNED


@pytest.fixture
def fen(archive, tmp_path, monkeypatch):
    """The archive as a source, a study with an area, and scenes of two months."""
    monkeypatch.setenv("ZOOMPICK_CONFIG", str(tmp_path / "config"))
    there, replaced = zp.add_source("ostrell", archive)
    assert not replaced and "lapwing-l2" in there.words
    area = zp.Area.from_box(-12.09, -38.64, -12.06, -38.61, "fen")
    wish = zp.NewStudy(area=area, source="ostrell", collections=("lapwing-l2",), dates=("2025-12",))
    study = zp.new_study(tmp_path / "s", wish)
    periods = (zp.Period.parse("2025-11"), zp.Period.parse("2025-12"))
    found = zp.search(there.source, zp.Criteria(area.polygon, ("lapwing-l2",), periods))
    return study, area, there.source, found


def test_areas_and_sources_are_kept_and_forgotten(fen):
    study, area, source, _ = fen
    zp.keep_area(area, "my-fen")
    assert zp.kept_areas() == ["my-fen"] and zp.kept_area("my-fen").polygon.equals(area.polygon)
    zp.forget_area("my-fen")
    assert zp.kept_areas() == [] and zp.sheets_under(area)
    assert zp.known_sources(study) == {"ostrell": source}
    assert "lapwing-l2" in {row["id"] for row in zp.collections_of(source)}
    assert {row.outcome for row in zp.check_source(source)} <= {"pass", "warn"}
    assert not zp.remove_source("ostrell", study)
    with pytest.raises(zp.ZoomPickError, match="ostrell"):
        zp.remove_source("ostrell", study)


def test_the_calendar_and_the_shortlist(fen, tmp_path):
    study, _, _, found = fen
    told = zp.calendar(found)
    assert list(told.figures) == ["2025-11", "2025-12"]
    assert sum(row["scenes"] for row in told.figures.values()) == len(found)
    days = zp.calendar(found, by_day=True)
    assert set(days.figures) == {entry.scene.day for entry in found}
    drawn = zp.calendar_picture(found, tmp_path / "calendar.png")
    assert Image.open(drawn).width > 400
    with pytest.raises(zp.ZoomPickError, match=r"calendar\.png"):
        zp.calendar_picture(found, tmp_path / "calendar.png")
    kept = study.pick(found[:3])
    assert [entry.scene.key for entry in study.shortlist()] == [entry.scene.key for entry in kept]
    study.pick(drop=kept[:1], verb="drop")
    assert [entry.scene.key for entry in study.shortlist()] == [entry.scene.key for entry in kept[1:]]
    assert len(study.undo()) == 3
    zp.write_list(tmp_path / "list.json", kept)
    assert [entry.scene.key for entry in zp.read_list(tmp_path / "list.json")] == [entry.scene.key for entry in kept]
    assert [row["act"] for row in study.history()][-3:] == ["pick", "drop", "undo"]


def test_tiles_from_a_plan_to_a_picture(fen, archive, tmp_path):
    _, area, _, _ = fen
    source = zp.add_source("pictures", f"{archive}/tiles/wmts")[0].source
    layer = zp.open_tiles(source, "natural")
    levels = {name: count for name, _, count in zp.tile_levels(layer, area.polygon)}
    wish, store = zp.TileOptions(zoom="12"), tmp_path / "t.mbtiles"
    plan = zp.plan_tiles(layer, area.polygon, wish, store).plan
    assert plan.total == plan.missing == levels["12"] and not store.exists()
    prepared, outcome = zp.get_tiles(source, layer, area.polygon, wish, store)
    assert outcome.done == prepared.plan.total and not outcome.failed
    assert zp.plan_tiles(layer, area.polygon, wish, store).plan.missing == 0
    joined = zp.join_tiles(store, area.polygon, tmp_path / "p.tif")
    assert joined.missing == 0 and zp.to_numpy(zp.open_raster(tmp_path / "p.tif")).any()


def test_orders_from_terms_to_what_was_handed_in(fen):
    study, _, source, _ = fen
    zp.log_in(source, "ostrell", user="visitor")
    around = zp.Area.from_box(-12.081, -38.631, -12.078, -38.628, "spot")
    sold = zp.search(source, zp.Criteria(around.polygon, ("gannet-vhr",), (zp.Period.parse("2025-11/2025-12"),)))
    study.set_area(around)
    study.pick(sold[:1], only=True)
    [terms] = study.order_terms()
    assert not terms.accepted and study.accept_terms(terms.sha256).accepted
    plan = study.plan_orders()
    assert [order.state for order in plan.orders] == [PLANNED] and plan.km2 > 0
    price = sum(order.price for order in plan.orders)
    with pytest.raises(zp.ZoomPickError):
        study.submit_orders(price / 2)
    [order] = study.submit_orders(price)
    assert [one.number for one in study.orders()] == [order.number]
