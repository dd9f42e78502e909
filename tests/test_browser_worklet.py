"""What plays in the browser, run a block at a time with no audio device: which take is heard, and that one always is."""
# ruff: noqa: E501

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

import miclane.web
from browsing import LANE, until

pytestmark = pytest.mark.browser
SOURCE = Path(miclane.web.__file__).parent / "static" / "js" / "worklet.js"
SHIM = """
let Made;
const sampleRate = 48000;
class AudioWorkletProcessor { constructor() { this.port = { told: [], postMessage(m) { this.told.push(m); } }; } }
const registerProcessor = (_, made) => { Made = made; };
"""
HELP = """
const player = new Made();
const flat = (n, level) => new Float32Array(n).fill(level);
const put = (version, offset, n, level) => player.take({ type: "data", variant: "treated", version, first: 0, last: 48000, offset, left: flat(n, level), right: flat(n, level) });
const blocks = (n) => { const out = []; for (let k = 0; k < n; k++) { const o = [flat(128, 9), flat(128, 9)]; player.process([], [o]); out.push(...o[0]); } return out; };
player.take({ type: "range", first: 0, last: 48000, looping: true, at: 0 });
"""


@pytest.fixture
def played(page: Page) -> Callable[[str], Any]:
    """Runs lines of script with a player, and gives what they return."""
    page.goto("about:blank")
    return lambda lines: page.evaluate(f"() => {{ {SHIM} {SOURCE.read_text()} {HELP} {lines} }}")


@pytest.mark.parametrize("length", [300, 700, 1100, 1300, 2400])
def test_what_was_whole_is_heard_until_something_newer_has_come(played, length: int) -> None:
    """Settings moved faster than they can be rendered: only a piece of each comes, and the playhead goes past it."""
    heard = played(
        f"""put(1, 0, 48000, 0.5); player.take({{ type: "play", at: 0 }}); blocks(20);
        const out = [];
        for (let v = 2; v < 12; v++) {{ put(v, player.at, {length}, 0.25); out.push(...blocks(6)); }}
        out.push(...blocks(30));
        return [Math.min(...out), Math.max(...out), Math.max(...out.slice(1).map((v, k) => Math.abs(v - out[k])))];"""
    )
    *ends, steepest = heard
    assert ends == [0.25 if length > 1216 else 0.5, 0.5]
    assert steepest < 1.01 * 1.5 * 0.25 / 480, "each change is faded over 10 ms"


def test_a_loudspeaker_gets_nothing_over_full_scale_and_nothing_that_is_no_number(played) -> None:
    loud, told, after = played(
        """put(1, 0, 48000, 0.5); put(1, 9600, 4800, 3.0); put(1, 19200, 128, NaN); put(1, 24000, 10, Infinity);
        player.take({ type: "play", at: 0 });
        const out = blocks(320);
        const positions = player.port.told.filter((m) => m.type === "position");
        return [Math.max(...out.map(Math.abs)), positions.map((m) => [m.at, m.guard, m.peak]), out.slice(38400).map((v) => Math.abs(v - 0.5))];"""
    )
    assert loud <= 1
    guards = {at: guard for at, guard, _ in told}
    assert guards[next(at for at in guards if at > 11000)] == pytest.approx(1 / 3, abs=1e-6)
    assert guards[next(at for at in guards if at > 19300)] == 0
    assert max(peak for _, _, peak in told if peak is not None) == pytest.approx(3)
    assert max(after) < 0.01
    assert next(guard for at, guard, _ in told if at > 8000) == 1


def test_a_side_is_as_loud_as_what_it_is_compared_with_from_its_first_frame_after_a_change(played) -> None:
    """Each sound brings its own gain: the one before keeps its own until it has been left."""
    first, jump, after = played(
        """const side = (version, level, gain) => player.take({ type: "data", variant: "untreated", version, first: 0, last: 48000, offset: 0, left: flat(48000, level), right: flat(48000, level), gain, hold: false });
        side(1, 0.8, 0.5); player.take({ type: "variant", name: "untreated" }); player.take({ type: "play", at: 0 });
        const begun = blocks(40).slice(2400);
        side(2, 0.2, 2.0);
        const out = blocks(40);
        return [[Math.min(...begun), Math.max(...begun)], [Math.min(...out), Math.max(...out)], out.at(-1)];"""
    )
    assert first == pytest.approx([0.4, 0.4], abs=1e-6)
    assert jump == pytest.approx([0.4, 0.4], abs=1e-6)
    assert after == pytest.approx(0.4, abs=1e-6)


def test_a_piece_of_what_is_being_changed_stays_as_loud_until_all_of_it_is_known(played) -> None:
    held, exact, most = played(
        """const part = (version, offset, n, level, gain) => player.take({ type: "data", variant: "treated", version, first: 0, last: 48000, offset, left: flat(n, level), right: flat(n, level), gain, hold: gain === null });
        part(1, 0, 48000, 0.5, 0.8); player.take({ type: "play", at: 0 }); blocks(40);
        part(2, player.at, 12000, 0.25, null);
        const out = blocks(60).slice(0);
        part(2, 0, 48000, 0.25, 1.5);
        const more = blocks(60);
        const steps = [...out, ...more].map((v, k, all) => (k ? Math.abs(v - all[k - 1]) : 0));
        return [[Math.min(...out), Math.max(...out)], more.at(-1), Math.max(...steps)];"""
    )
    assert held == pytest.approx([0.4, 0.4], abs=1e-5)
    assert exact == pytest.approx(0.375, abs=1e-5)
    assert most < 0.001  # no click where it becomes known


def test_pieces_that_lie_over_one_another_are_heard_as_the_newest_and_what_was_cut_is_silent(played) -> None:
    levels, room = played(
        """const part = (offset, n, level) => player.take({ type: "data", variant: "treated", version: 1, first: 0, last: 48000, offset, left: flat(n, level), right: flat(n, level) });
        part(0, 20000, 0.1); part(5000, 3000, 0.2); part(7000, 6000, 0.3); part(19000, 29000, 0.4); part(4000, 500, 0.5);
        player.take({ type: "cut", variant: "treated", from: 30000, to: 40000 });
        const take = player.takes.treated.takes[0];
        const at = (k) => { take.read(k); return take.l; };
        return [[0, 3999, 4000, 4499, 4500, 5000, 6999, 7000, 12999, 13000, 18999, 19000, 29999, 30000, 39999, 40000, 47999, 48000].map((k) => Math.round(10 * at(k))),
          [take.room(0), take.room(30000), take.covers(40000, 48000), take.pieces.reduce((sum, p) => sum + p.to - p.from, 0)]];"""
    )
    assert levels == [1, 1, 5, 5, 1, 2, 2, 3, 3, 1, 1, 4, 4, 0, 0, 4, 4, 0]
    assert room == [30000, 0, True, 38000]


def test_nothing_is_made_for_sound_while_it_plays(played) -> None:
    """Pieces are kept as they come: the audio thread makes no array of its own, and copies none."""
    made = played(
        """const coming = Array.from({ length: 12 }, (_, k) => [flat(48000, k / 20), flat(48000, k / 20)]);
        put(0, 0, 48000, 0.5); player.take({ type: "play", at: 0 }); blocks(4);
        const out = [flat(128, 0), flat(128, 0)];
        let made = 0;
        const Real = Float32Array;
        globalThis.Float32Array = class extends Real { constructor(...a) { super(...a); made += a[0]?.buffer || a[0] instanceof ArrayBuffer ? 0 : 1; } };
        coming.forEach(([left, right], k) => {
          player.take({ type: "data", variant: "treated", version: k + 2, first: 0, last: 48000, offset: 0, left, right });
          for (let n = 0; n < 30; n++) player.process([], [out]);
        });
        globalThis.Float32Array = Real;
        return [made, player.takes.treated.takes[0].pieces[0].left === coming[11][0]];"""
    )
    assert made == [0, True]


def test_of_a_song_the_worklet_holds_no_more_than_it_may(at, demo) -> None:
    page = at(LANE)
    page.keyboard.press("3")
    page.keyboard.press("l")
    until(page, "miclane.player.first === 0 && miclane.player.last === miclane.state.frames")
    page.keyboard.press("Space")
    until(page, "miclane.player.playing && miclane.player.starved === false")
    page.evaluate(
        """() => {
          const port = miclane.player.node.port, send = port.postMessage.bind(port);
          window.held = new Set(); // hundredths of a second of the song that the worklet has anything of
          port.postMessage = (m, more) => {
            const [from, to] = [m.offset ?? m.from, m.to ?? m.offset + m.left?.length].map((at) => Math.floor(at / 480));
            for (let k = from; k < to; k++) m.type === "data" ? held.add(k) : m.type === "cut" && held.delete(k);
            return send(m, more);
          };
        }"""
    )
    seconds = page.evaluate("miclane.player.last / 48000")
    for place in (0.2, 0.8, 0.55, 0.35, 0.9, 0.05, 0.65, 0.45, 0.2):
        page.keyboard.press("Space")
        page.evaluate(
            "(at) => { miclane.player.at = at; miclane.player.waited_ms = 0; }", round(place * seconds * 48000)
        )
        page.keyboard.press("Space")
        until(page, "miclane.player.waited_ms > 0 && miclane.player.starved === false")
        page.wait_for_timeout(2000)
        assert page.evaluate("held.size") < 4600
        assert page.evaluate("miclane.player.starved") is False
    assert 500 < page.evaluate("held.size") < 4600 < 100 * seconds


def test_what_could_not_be_made_to_play_is_said_and_made_at_the_next_try(at) -> None:
    page = at(LANE)
    page.evaluate(
        """() => {
          const load = AudioWorklet.prototype.addModule; // as while the server is being started again
          AudioWorklet.prototype.addModule = () => Promise.reject(new DOMException("It cannot be loaded.", "AbortError"));
          window.loads = () => void (AudioWorklet.prototype.addModule = load);
        }"""
    )
    page.keyboard.press("Space")
    expect(page.locator(".toast")).to_contain_text("No sound: what plays it could not be loaded")
    assert page.evaluate("miclane.player.playing") is False
    page.evaluate("loads()")
    page.keyboard.press("Space")
    until(page, "miclane.player.playing && miclane.player.starved === false")


@pytest.mark.parametrize(("after_s", "first"), [(0.2, 0.25), (1.0, 0.5)])
def test_what_is_asked_for_before_anything_is_there_is_waited_for_half_a_second(
    played, after_s: float, first: float
) -> None:
    """A part heard alone is not to begin with the whole; nor is there to be silence for as long as the part takes."""
    heard = played(
        f"""player.take({{ type: "variant", name: "band" }}); player.take({{ type: "play", at: 0 }}); blocks(10);
        put(1, 0, 48000, 0.5);
        const out = blocks(Math.round({after_s} * 375));
        player.take({{ type: "data", variant: "band", version: 1, first: 0, last: 48000, offset: 0, left: flat(48000, 0.25), right: flat(48000, 0.25) }});
        out.push(...blocks(40));
        return [out.slice(0, 0.4 * 48000).filter((v) => v > 0.26).length, Math.max(...out), out.at(-1)];"""
    )
    assert heard[0] == 0
    assert heard[1:] == [pytest.approx(first, abs=1e-6), pytest.approx(0.25, abs=1e-6)]
