"""The Chains screen in the real page: kept, searched, tried while it plays, put on, taken back, carried as files."""

import json
import re

import pytest
from playwright.sync_api import expect

from browsing import all_kept, eventually, no_barrier, play, session_of, until

pytestmark = pytest.mark.browser
CHAINS = "/s/salt-ferry/chains"


@pytest.fixture
def empty(demo):
    for kept in demo.studio.chains.all():
        demo.studio.chains.remove(kept.id)
    return demo


def keep(page, name: str, tags: str = "") -> None:
    page.get_by_label("Name of the chain").fill(name)
    page.locator("#chain-keep").get_by_label("Tags").fill(tags)
    page.get_by_role("button", name="Keep this chain").click()
    expect(page.get_by_role("article", name=name, exact=True)).to_be_visible()


def test_a_chain_is_kept_found_tried_while_it_plays_and_put_on(at, empty) -> None:
    page = at(CHAINS)
    expect(page.locator("#chains")).to_contain_text("No chain is kept yet")
    keep(page, "Close", "alto, slow")
    expect(page.locator(".chain-measured")).to_contain_text(re.compile(r"Phrases apart.*11\.1 LU → \d"))
    page.locator("#chains-to").select_option("return:plate")
    keep(page, "Plate")
    no_barrier(page)
    page.get_by_label("Search the chains").fill("alto")
    expect(page.locator(".chain")).to_have_count(1)
    page.get_by_label("Search the chains").fill("")
    expect(page.locator(".chain")).to_have_count(2)
    page.locator("#chains-to").select_option("double")
    page.locator("#page").focus()
    play(page)
    card = page.get_by_role("article", name="Close", exact=True)
    card.get_by_role("button", name="Try it").click()
    expect(page.locator('[data-alternative][aria-checked="true"]')).to_have_text("Close")
    until(page, "miclane.player.lane === 'double'")
    until(page, "document.body.dataset.alternatives === '2'")
    before = [s.kind for s in session_of(empty).lane("double").stages]
    page.keyboard.press("[")
    expect(page.locator('[data-alternative][aria-checked="true"]')).to_have_text("A")
    assert page.evaluate("miclane.player.starved") is False
    card.get_by_role("button", name="In its place").click()
    eventually(page, lambda: len(session_of(empty).lane("double").stages) == 9)
    offered = page.get_by_role("status", name="Measured on this take")
    expect(offered).to_contain_text("threshold")
    before_it = session_of(empty)
    offered.get_by_role("button", name="Set it so").click()
    eventually(page, lambda: session_of(empty) != before_it)
    expect(offered).to_have_count(0)
    page.keyboard.press("Control+z")
    all_kept(page)
    page.keyboard.press("Control+z")
    all_kept(page)
    eventually(page, lambda: [s.kind for s in session_of(empty).lane("double").stages] == before)


def test_chains_are_named_deleted_brought_back_and_come_from_files(at, empty, tmp_path) -> None:
    page = at(CHAINS)
    keep(page, "Close")
    name = page.get_by_label("Name of Close")
    name.fill("Near")
    name.press("Enter")
    card = page.get_by_role("article", name="Near", exact=True)
    card.get_by_role("button", name="Delete Near").click()
    card.get_by_role("button", name=re.compile("Delete it")).click()
    expect(page.locator(".chain")).to_have_count(0)
    page.get_by_role("button", name="Bring it back").press("Enter")
    expect(card).to_be_visible()
    with page.expect_download() as waiting:
        card.get_by_role("link", name="Near as a file").click()
    assert waiting.value.suggested_filename == "Near.chain.json"
    told = json.loads(waiting.value.path().read_text())
    good, bad = tmp_path / "good.json", tmp_path / "bad.json"
    good.write_text(json.dumps(told | {"name": "From a file"}))
    bad.write_text(json.dumps(told | {"stages": [{"kind": "drum"}]}))
    page.locator("#chain-file").set_input_files([bad, good])
    expect(page.locator(".toast")).to_contain_text(re.compile("Kept: From a file.*bad.json.*unknown kind"))
    expect(page.get_by_role("article", name="From a file", exact=True)).to_be_visible()
    page.set_viewport_size({"width": 720, "height": 700})
    assert page.evaluate(
        "document.querySelector('#work').scrollWidth <= document.querySelector('#work').clientWidth + 1"
    )


def test_a_branch_and_single_stages_are_kept_where_they_stand(at, empty) -> None:
    page = at("/s/salt-ferry/lane/lead?stage=split")
    branch = next(s for s in session_of(empty).lane("lead").stages if s.kind == "split").branches[0]
    page.locator("[data-keep-branch]").first.click()
    expect(page.locator(".toast")).to_contain_text("is kept, on the Chains screen")
    page.locator('.station[data-stage="peaks"]').click(button="right")
    page.get_by_role("menuitem", name="Keep as a chain").click()
    eventually(page, lambda: len(empty.studio.chains.all()) == 2)
    kept = {k.name: [s.kind for s in k.chain.stages] for k in empty.studio.chains.all()}
    assert kept == {branch.name: [s.kind for s in branch.stages], "Peaks": ["compressor"]}
    no_barrier(page)
