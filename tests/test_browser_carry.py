"""Carrying in the real page: stages dragged to other lanes, sessions as archives on the shelf."""

import re

import pytest
from playwright.sync_api import expect

from browsing import LANE, all_kept, eventually, no_barrier, place_of, session_of

pytestmark = pytest.mark.browser


def ids(demo, lane: str) -> list[str]:
    return [s.label for s in session_of(demo).lane(lane).stages]


def drag(page, stage: str, onto: str) -> None:
    all_kept(page)
    station = place_of(page.locator(f'.station[data-stage="{stage}"] .box'))  # it may be drawn just now
    target = place_of(page.locator(f'[data-onto="{onto}"]'))
    page.mouse.move(station["x"] + 5, station["y"] + 5)
    page.mouse.down()
    page.mouse.move(station["x"] - 40, station["y"] + 5, steps=3)
    page.mouse.move(target["x"] + 30, target["y"] + 10, steps=5)
    expect(page.locator(f'[data-onto="{onto}"]')).to_have_class(re.compile("onto"))
    page.mouse.up()


def test_a_stage_is_dragged_to_another_lane_and_copied_with_a_key_held(at, demo) -> None:
    page = at(LANE)
    lead, double = ids(demo, "lead"), ids(demo, "double")
    drag(page, "tone", "double")
    eventually(page, lambda: ids(demo, "double") == [*double, "Tone EQ"])
    assert ids(demo, "lead") == [s for s in lead if s != "Tone EQ"]
    page.keyboard.press("Control+z")
    all_kept(page)
    eventually(page, lambda: (ids(demo, "lead"), ids(demo, "double")) == (lead, double))
    page.keyboard.down("Control")
    drag(page, "level", "bus:vocals")
    page.keyboard.up("Control")
    eventually(
        page, lambda: [s.label for s in next(b for b in session_of(demo).buses if b.id == "vocals").stages] == ["Level"]
    )
    assert ids(demo, "lead") == lead
    drag(page, "trim", "return:plate")  # it works from a take
    expect(page.locator(".toast")).to_contain_text("lanes only")
    assert ids(demo, "lead") == lead


def test_an_archive_is_taken_off_the_shelf_and_dropped_on_it(at, demo, tmp_path) -> None:
    page = at("/")
    card = page.get_by_label("Salt Ferry", exact=True)
    with page.expect_download() as waiting:
        card.get_by_role("link", name="Salt Ferry as one file").click()
    path = tmp_path / "ferry.miclane.zip"
    waiting.value.save_as(path)
    assert waiting.value.suggested_filename == "Salt Ferry.miclane.zip"
    page.locator("#files").set_input_files(path)
    expect(page.locator("#imports")).to_contain_text("is there, whole")
    expect(page.locator("#cards section")).to_have_count(2)
    no_barrier(page)
    broken = tmp_path / "broken.miclane.zip"
    broken.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    nothing = tmp_path / "nothing.zip"
    nothing.write_bytes(b"PK nothing")
    page.locator("#files").set_input_files([broken, nothing])
    table = page.locator("#imports")
    expect(table).to_contain_text("nothing.zip is not an archive")
    expect(table.locator("tr", has_text="broken")).to_contain_text("is there")  # what is missing here was in the folder
    page.get_by_role("link", name="Salt Ferry", exact=True).first.click()
    expect(page).to_have_url(re.compile("/s/"))


def test_an_archive_that_is_dragged_out_carries_its_name_and_where_it_is(at, demo, tmp_path) -> None:
    page = at("/")
    page.evaluate(
        "document.addEventListener('dragstart', (e) => (window.carried = e.dataTransfer.getData('DownloadURL')))"
    )
    link = page.get_by_role("link", name="Salt Ferry as one file")
    box, drop = place_of(link), place_of(page.locator("#drop"))
    page.mouse.move(box["x"] + 8, box["y"] + 8)
    page.mouse.down()
    page.mouse.move(box["x"] + 30, box["y"] - 20, steps=4)
    page.mouse.move(drop["x"] + 20, drop["y"] + 20, steps=4)
    expect(page.locator("#drop")).not_to_have_class(
        re.compile(r"\bover\b")
    )  # what comes from the shelf is there already
    page.mouse.up()
    kind, name, where = page.evaluate("carried").split(":", 2)  # as a desktop takes it apart
    assert (kind, name) == ("application/zip", "Salt Ferry.miclane.zip") and where.startswith(demo.address)
    answer = page.request.get(where)
    assert answer.ok and answer.headers["content-type"] == kind and answer.body()[:2] == b"PK"
    (tmp_path / name).write_bytes(answer.body())
    expect(page.locator("#cards section")).to_have_count(1)
    page.locator("#files").set_input_files(tmp_path / name)
    expect(page.locator("#imports")).to_contain_text("is there, whole")
