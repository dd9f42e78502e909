"""The dynamics pass in the real pages: begin, match, attacks, branches, bands, buses, shared branches, eyes off."""

import pytest
from playwright.sync_api import expect

from browsing import GRAB, LANE, answered, eventually, play, until
from conftest import RATE
from miclane.core.mix.paths import find_path
from test_browser_cleaning import lead_of, settled, stage, undo_until
from test_browser_sibilance import drawn

pytestmark = pytest.mark.browser
LOOP = (20 * RATE, 26 * RATE)


def open_at(at, address: str):
    page = at(address)
    page.evaluate(f"sessionStorage.setItem('loop:salt-ferry', JSON.stringify([{LOOP[0]}, {LOOP[1]}]))")
    page.reload()
    until(page, "document.querySelector('#lufs').textContent.includes('.')")
    return page


def test_begin_match_and_an_attack_that_is_tried(at, demo) -> None:
    page = open_at(at, f"{LANE}?stage=peaks")
    before = lead_of(demo).stages
    expect(page.locator("#control")).to_contain_text("Word starts come out")
    page.get_by_role("button", name="forward", exact=True).click()
    eventually(page, lambda: stage(demo, "peaks").threshold_db != -17)
    drawn(page, demo)
    until(page, "() => Number(document.body.dataset.controlled) === miclane.state.version")
    page.locator("[data-attack][data-value='30.0']").click()
    eventually(page, lambda: stage(demo, "peaks").attack_ms == 30)
    page.get_by_role("radio", name="optical").click()
    eventually(page, lambda: stage(demo, "peaks").response == "optical")
    drawn(page, demo)
    page.locator("#match").click()
    eventually(page, lambda: stage(demo, "peaks").makeup_db != 1.5)
    expect(page.locator("#match-figure")).to_have_text("")
    undo_until(page, lambda: lead_of(demo).stages == before)


def test_makeup_by_itself_follows_the_loudness_of_the_loop(at, demo) -> None:
    page = open_at(at, f"{LANE}?stage=level")
    before = lead_of(demo).stages
    page.locator("[data-switch$='/auto_makeup']").click()
    eventually(page, lambda: stage(demo, "level").auto_makeup)
    drawn(page, demo)
    made = stage(demo, "level").makeup_db
    rule = page.get_by_role("slider", name="Threshold")
    for _ in range(12):
        rule.press("ArrowLeft")
    eventually(page, lambda: stage(demo, "level").makeup_db > made + 1)
    rule_of = "document.querySelector('.rule[data-path$=\"level/makeup_db\"]')"
    shown = f"(v) => Number({rule_of}.getAttribute('aria-valuenow')) === v"
    until(page, "document.body.dataset.waiting === '0'")
    until(page, shown, stage(demo, "level").makeup_db)
    with answered(page, "/undo"):
        page.locator("#undo").click()  # the drag and what followed from it are one step
    eventually(page, lambda: stage(demo, "level").threshold_db == -24 and stage(demo, "level").makeup_db == made)
    undo_until(page, lambda: lead_of(demo).stages == before)


def test_a_branch_is_added_by_its_use_heard_alone_and_shared(at, demo) -> None:
    page = open_at(at, f"{LANE}?stage=split")
    before = demo.studio.sessions.get("salt-ferry").session
    page.get_by_role("button", name="Bite", exact=True).click()
    eventually(page, lambda: len(stage(demo, "split").branches) == 2)
    drawn(page, demo)
    added = stage(demo, "split").branches[1]
    assert [s.kind for s in added.stages] == ["eq", "compressor", "drive"]
    assert added.blend_db == -20
    play(page)
    together = page.evaluate(GRAB, 8)
    alone = page.get_by_role("button", name="Hear alone").nth(1)
    alone.click()
    expect(alone).to_have_attribute("aria-pressed", "true")
    until(page, "miclane.player.variant === 'band' && miclane.player.starved === false")
    eventually(page, lambda: (bite := page.evaluate(GRAB, 8)) > 0 and abs(bite - together) > 0.05 * together)
    alone.click()
    page.keyboard.press("Space")
    page.locator("#share-branch").click()
    page.wait_for_url("**/lane/return:shared*")
    until(page, "window.miclane?.state.lane.startsWith('return:')")
    page.get_by_role("button", name="Double", exact=True).click()
    name = page.url.split("/lane/")[1].split("?")[0]
    eventually(
        page,
        lambda: any(
            s.id == name.removeprefix("return:")
            for s in demo.studio.sessions.get("salt-ferry").session.lane("double").sends
        ),
    )
    drawn(page, demo)
    page.get_by_role("radio", name="before fader").nth(1).click()
    eventually(page, lambda: demo.studio.sessions.get("salt-ferry").session.lane("double").sends[-1].pre_fader)
    drawn(page, demo)
    steps = demo.studio.sessions.get("salt-ferry").steps
    for k in (1, 2):
        with answered(page, "/readings"), answered(page, "/strip"):
            page.locator("#undo").click()
        settled(page, demo)
        eventually(page, lambda k=k: demo.studio.sessions.get("salt-ferry").steps == steps - k)
    page.locator("#undo").click()  # takes away what is looked at: the first lane is shown instead
    page.wait_for_url("**/lane/lead")
    until(page, "window.miclane?.state.lane === 'lead'")
    undo_until(page, lambda: demo.studio.sessions.get("salt-ferry").session.lanes == before.lanes)


def test_bands_are_picked_split_and_heard_alone(at, demo) -> None:
    page = open_at(at, f"{LANE}?stage=level")
    before = lead_of(demo).stages
    page.get_by_role("button", name="Add after").click()
    page.get_by_role("menuitem", name="Multiband").click()
    eventually(page, lambda: len(lead_of(demo).stages) == len(before) + 1)
    drawn(page, demo)
    until(page, "document.querySelectorAll('.mb-band').length === 3")
    page.locator(".mb-band").nth(2).click()
    expect(page.get_by_role("button", name="3", exact=True)).to_have_attribute("aria-pressed", "true")
    page.get_by_role("button", name="Split it").click()
    multiband = lambda: next(s for s in lead_of(demo).stages if s.kind == "multiband")  # noqa: E731
    eventually(page, lambda: len(multiband().bands) == 4)
    drawn(page, demo)
    assert multiband().edges_hz(RATE)[1] < multiband().edges_hz(RATE)[2] < 16000
    page.get_by_role("button", name="Measure and set").click()
    eventually(page, lambda: multiband().bands[0].threshold_db != -26)
    drawn(page, demo)
    page.get_by_role("radio", name="up what is quiet").click()
    eventually(page, lambda: any(b.works == "up" for b in multiband().bands))
    expect(page.get_by_role("slider", name="Noise lies at")).to_be_visible()
    undo_until(page, lambda: lead_of(demo).stages == before)


def test_the_vocal_bus_takes_stages(at, demo) -> None:
    page = open_at(at, "/s/salt-ferry/lane/bus:vocals?stage=take")
    bus = lambda: find_path(demo.studio.sessions.get("salt-ferry").session, "bus:vocals").member  # noqa: E731
    expect(page.locator("#bench")).to_contain_text("what feeds it, and how loud")
    expect(page.get_by_role("slider", name="Lead bus")).to_be_visible()
    page.get_by_role("button", name="Add a stage").click()
    page.get_by_role("menuitem", name="Compressor").click()
    eventually(page, lambda: len(bus().stages) == 1)
    drawn(page, demo)
    page.get_by_role("button", name="natural", exact=True).click()
    eventually(page, lambda: bus().stages[0].threshold_db != -20)
    drawn(page, demo)
    until(page, "document.querySelector('#measured svg') !== null")
    page.locator('[data-stage="out"]').click()
    expect(page.locator("#share")).to_contain_text("Share of the work")
    undo_until(page, lambda: not bus().stages)


def test_eyes_off_hides_numbers_and_curves_and_settings_still_move(at, demo) -> None:
    page = open_at(at, f"{LANE}?stage=peaks")
    until(page, "document.querySelector('#measured svg') !== null")
    before = stage(demo, "peaks").threshold_db
    page.keyboard.press("e")
    for hidden in ("#lufs", "#measured svg", "[data-reading=peaks]", ".rule-box .value", "#say", ".balance"):
        expect(page.locator(hidden).first).to_be_hidden()
    page.reload()  # it lasts until it is switched back
    until(page, "document.documentElement.dataset.eyes === 'off'")
    expect(page.locator(".picture").first).to_be_attached()
    expect(page.locator(".rule-box .value").first).to_be_hidden()
    page.get_by_role("slider", name="Threshold").press("ArrowRight")
    eventually(page, lambda: stage(demo, "peaks").threshold_db == pytest.approx(before + 0.5))
    page.get_by_role("button", name="Eyes off").click()
    expect(page.locator(".rule-box .value").first).to_be_visible()
    undo_until(page, lambda: stage(demo, "peaks").threshold_db == before)
