"""Handles in the real page: gathered, moved while it plays, ranges typed, by keyboard alone."""

import re

import pytest
from playwright.sync_api import expect

from browsing import LANE, all_kept, eventually, no_barrier, play, session_of
from miclane.core.mix.edits import Insert

pytestmark = pytest.mark.browser


def lead(demo):
    return session_of(demo).lane("lead")


def gather(page) -> None:
    page.get_by_role("button", name="Gather", exact=True).click()
    expect(page.locator("#gathering")).to_be_visible()
    page.get_by_role("slider", name="Threshold", exact=True).focus()
    for _ in range(5):
        page.keyboard.press("ArrowLeft")
    all_kept(page)
    page.get_by_label("Name of the handle").first.fill("Grip")
    page.get_by_role("button", name="Make it a handle").click()
    expect(page.get_by_role("slider", name="Grip")).to_have_attribute("aria-valuetext", "100 %")


def test_a_handle_is_gathered_moved_while_it_plays_and_taken_back(at, demo) -> None:
    page = at(f"{LANE}?stage=peaks")
    before = next(s for s in lead(demo).stages if s.id == "peaks").threshold_db
    play(page)
    gather(page)
    (handle,) = lead(demo).handles
    assert [(m.at, m.at_0) for m in handle.moves] == [("stages/peaks/threshold_db", before)]
    grip = page.get_by_role("slider", name="Grip")
    grip.focus()
    page.keyboard.press("Home")
    expect(page.get_by_role("slider", name="Threshold", exact=True)).to_have_attribute(
        "aria-valuenow", str(int(before))
    )
    eventually(page, lambda: next(s for s in lead(demo).stages if s.id == "peaks").threshold_db == before)
    assert page.evaluate("miclane.player.starved") is False
    no_barrier(page)
    page.reload()
    expect(page.get_by_role("slider", name="Grip")).to_have_attribute("aria-valuetext", "0 %")
    page.keyboard.press("Control+z")
    all_kept(page)
    page.keyboard.press("Control+z")
    eventually(page, lambda: lead(demo).handles == ())
    expect(page.locator("#handles")).to_be_hidden()


def test_its_range_is_typed_and_wrong_text_is_told(at, demo) -> None:
    page = at(f"{LANE}?stage=peaks")
    gather(page)
    page.get_by_role("button", name="What Grip moves").press("Enter")
    end = page.get_by_label(re.compile("Threshold at 100 %"))
    end.fill("-40 dB")
    end.press("Enter")
    eventually(page, lambda: lead(demo).handles[0].moves[0].at_1 == -40.0)
    end = page.get_by_label(re.compile("Threshold at 100 %"))
    expect(end).to_have_value("−40.0 dB")
    end.fill("loud")
    end.press("Enter")
    expect(page.locator(".toast")).to_contain_text("loud")
    expect(end).to_have_value("−40.0 dB")
    page.get_by_role("button", name=re.compile("the other way round")).click()
    eventually(page, lambda: lead(demo).handles[0].moves[0].at_0 == -40.0)
    page.get_by_role("button", name="Remove", exact=True).first.click()
    eventually(page, lambda: lead(demo).handles == ())


def test_gathering_survives_another_stage_and_a_reload_and_can_be_left(at, demo) -> None:
    page = at(f"{LANE}?stage=peaks")
    page.get_by_role("button", name="Gather", exact=True).press("Enter")
    expect(page.locator("#gathering")).to_be_visible()
    page.reload()
    expect(page.locator("#gathering")).to_be_visible()
    page.locator('.station[data-stage="level"]').press("Enter")
    expect(page.locator("#gathering")).to_be_visible()
    page.get_by_role("button", name="Make it a handle").click()
    expect(page.locator(".toast")).to_contain_text("nothing to gather")
    page.locator("#gather-leave").click()
    expect(page.locator("#gathering")).to_be_hidden()
    assert lead(demo).handles == ()


def test_a_lane_without_phrases_can_be_gathered_as_well(at, demo) -> None:
    stage = {"kind": "compressor", "id": "c"}
    demo.studio.edit("salt-ferry", [Insert(path="lanes/plucked/stages", index=0, value=stage)])
    page = at("/s/salt-ferry/lane/plucked?stage=c")
    expect(page.get_by_role("radio", name="the song")).to_be_hidden()
    gather(page)
    assert [m.at for m in session_of(demo).lane("plucked").handles[0].moves] == ["stages/c/threshold_db"]
    no_barrier(page)
