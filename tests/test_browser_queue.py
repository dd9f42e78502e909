"""Edits on their way from the page: first in first out, merged per place, sent until they are kept."""

import httpx
import pytest
from playwright.sync_api import Page, expect

from browsing import LANE, Wished, answered, between, eventually, until

pytestmark = pytest.mark.browser
# ruff: noqa: E501
# A queue of the page's own code, with a server that answers when it is told to.
QUEUE = """async (script) => {
  const { EditQueue } = await import("/static/js/queue.js");
  const log = { sent: [], kept: [], refused: [], waiting: [] };
  const answers = [];
  const send = (job) => new Promise((done) => {
    log.sent.push(job.edits.map((e) => `${e.path}=${e.value}`).join(" ") + (script.tokens ? ` ${job.token}` : ""));
    answers.push(done);
  });
  const queue = new EditQueue(send, {
    kept: (job) => log.kept.push(job.edits.map((e) => e.path).join(" ")),
    refused: (job) => log.refused.push(job.edits.map((e) => e.path).join(" ")),
    waiting: (count, unheard) => log.waiting.push([count, unheard]),
  }, () => Promise.resolve());
  const turn = () => new Promise((done) => setTimeout(done));
  for (const step of script.steps) {
    if (step.push) queue.push({ edits: step.push.map(([path, value]) => ({ op: step.op ?? "set", path, value })), gesture: step.gesture ?? "" });
    else answers.shift()({ state: step.answer, told: {} });
    await turn();
    await turn();
  }
  return { ...log, left: queue.size };
}"""


def queued(page: Page, *steps: dict, tokens: bool = False) -> dict:
    return page.evaluate(QUEUE, {"steps": list(steps), "tokens": tokens})


def push(*pairs: tuple[str, object], gesture: str = "", op: str = "set") -> dict:
    return {"push": [list(p) for p in pairs], "gesture": gesture, "op": op}


KEPT, REFUSED, UNHEARD = ({"answer": a} for a in ("kept", "refused", "unheard"))


def test_two_settings_of_one_gesture_within_a_round_trip_are_both_sent(at) -> None:
    page = at("/")
    told = queued(
        page,
        push(("a", 1)),
        push(("f", 2), gesture="g"),
        push(("q", 3), gesture="g"),
        push(("f", 4), gesture="g"),
        KEPT,
        KEPT,
    )
    assert told["sent"] == ["a=1", "f=4 q=3"]
    assert told["left"] == 0


def test_many_edits_within_a_round_trip_keep_their_order(at) -> None:
    told = queued(at("/"), *(push((name, 1)) for name in "ABCDE"), *([KEPT] * 5))
    assert told["sent"] == ["A=1", "B=1", "C=1", "D=1", "E=1"]


def test_only_the_last_that_waits_is_merged_with_and_inserts_stay_apart(at) -> None:
    page = at("/")
    told = queued(
        page, push(("a", 1)), push(("x", 1), gesture="g"), push(("y", 1)), push(("x", 2), gesture="g"), *([KEPT] * 4)
    )
    assert told["sent"] == ["a=1", "x=1", "y=1", "x=2"]
    told = queued(
        page, push(("a", 1)), push(("x", 1), gesture="g", op="insert"), push(("x", 2), gesture="g"), *([KEPT] * 3)
    )
    assert told["sent"] == ["a=1", "x=1", "x=2"]
    told = queued(
        page,
        push(("a", 1)),
        push(("b/c", 1), gesture="g"),
        push(("b", 2), gesture="g"),
        push(("b/c", 3), gesture="g"),
        KEPT,
        KEPT,
    )
    assert told["sent"] == ["a=1", "b/c=1 b=2 b/c=3"]


def test_what_is_not_answered_is_sent_again_with_the_same_token(at) -> None:
    told = queued(at("/"), push(("a", 1)), push(("b", 2)), UNHEARD, UNHEARD, KEPT, KEPT, tokens=True)
    tokens = [line.split()[1] for line in told["sent"]]
    assert tokens[0] == tokens[1] == tokens[2] != tokens[3]
    assert told["kept"] == ["a", "b"]
    assert [2, True] in told["waiting"]
    assert told["waiting"][-1] == [0, False]


def test_a_refused_edit_lets_the_others_pass(at) -> None:
    told = queued(at("/"), push(("a", 1)), push(("b", 2)), REFUSED, KEPT)
    assert told["refused"] == ["a"]
    assert told["kept"] == ["b"]


def rule(page: Page, name: str):
    return page.get_by_role("slider", name=name, exact=True).first


def stored(demo, stage: str):
    lane = demo.studio.sessions.get("salt-ferry").session.lane("lead")
    return next(s for s in lane.stages if s.id == stage)


def test_arrows_on_two_settings_in_quick_succession_are_both_kept(at, demo) -> None:
    page = at(f"{LANE}?stage=peaks")
    before = stored(demo, "peaks")
    for _ in range(3):
        rule(page, "Threshold").press("ArrowRight")
        rule(page, "Knee").press("ArrowRight")
    until(page, "document.body.dataset.waiting === '0'")
    after = stored(demo, "peaks")
    assert after.threshold_db > before.threshold_db
    assert after.knee_db > before.knee_db
    for name, value in (("Threshold", after.threshold_db), ("Knee", after.knee_db)):
        assert float(rule(page, name).get_attribute("aria-valuenow")) == value


def test_a_refused_edit_brings_the_newest_state_at_once(at, demo) -> None:
    page = at(f"{LANE}?stage=peaks")
    page.evaluate("() => { Object.defineProperty(document, 'hidden', { value: true }); }")  # no looking by itself
    path = "lanes/lead/stages/peaks/threshold_db"
    elsewhere = {"edits": [{"op": "set", "path": path, "value": -33.3}]}
    assert httpx.post(f"{demo.address}/s/salt-ferry/edits", json=elsewhere).status_code == 200
    rule(page, "Threshold").press("ArrowRight")
    expect(page.locator(".toast")).to_contain_text("another window")
    until(
        page,
        "() => Number(document.querySelector('.rule[data-path$=\"peaks/threshold_db\"]').getAttribute('aria-valuenow')) === -33.3",
    )
    with answered(page, "/edits", 200):
        rule(page, "Threshold").press("ArrowRight")
    until(page, "document.body.dataset.waiting === '0'")
    assert stored(demo, "peaks").threshold_db == float(rule(page, "Threshold").get_attribute("aria-valuenow"))


@pytest.mark.parametrize("failure", ["gone", "500"])
def test_what_is_not_saved_is_said_and_sent_again_once(page: Page, demo, failure: str) -> None:
    page.set_default_timeout(60_000)
    failing: list[str] = []

    def fail(wished: Wished) -> bool:
        if not failing or not wished.address.endswith("/edits"):
            return False
        wished.cut() if failing[0] == "gone" else wished.answer(500)
        return True

    between(page, fail)
    page.goto(f"{demo.address}{LANE}?stage=level")
    until(page, "window.miclane !== undefined && document.querySelector('#lufs').textContent !== '—'")
    steps = demo.studio.sessions.get("salt-ferry").steps
    failing.append(failure)
    rule(page, "Threshold").press("PageDown")
    expect(page.locator("#saved")).to_contain_text("not saved")
    shown = float(rule(page, "Threshold").get_attribute("aria-valuenow"))
    assert stored(demo, "level").threshold_db != shown
    failing.clear()
    expect(page.locator("#saved")).to_have_text(f"saved, step {steps + 1}")
    assert stored(demo, "level").threshold_db == shown
    assert demo.studio.sessions.get("salt-ferry").steps == steps + 1


def test_an_answer_that_was_lost_on_its_way_makes_nothing_twice(page: Page, demo) -> None:
    page.set_default_timeout(60_000)
    lost = []

    def lose(wished: Wished) -> bool:
        if lost or not wished.address.endswith("/edits"):
            return False
        lost.append(httpx.post(demo.address + wished.address, json=wished.message["body"]).status_code)
        wished.cut()
        return True

    between(page, lose)
    page.goto(f"{demo.address}{LANE}?stage=level")
    until(page, "window.miclane !== undefined && document.querySelector('#lufs').textContent !== '—'")
    before = demo.studio.sessions.get("salt-ferry")
    rule(page, "Knee").press("PageUp")
    eventually(page, lambda: lost)
    until(page, "document.body.dataset.waiting === '0'")
    assert lost == [200]
    after = demo.studio.sessions.get("salt-ferry")
    assert (after.version, after.steps) == (before.version + 1, before.steps + 1)
