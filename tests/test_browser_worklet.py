"""What plays in the browser, run a block at a time with no audio device: which take is heard, and that one always is."""
# ruff: noqa: E501

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page

import miclane.web

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


@pytest.mark.parametrize("length", [700, 1200, 2400])
def test_what_was_whole_is_heard_until_something_newer_has_come(played, length: int) -> None:
    """Settings moved faster than they can be rendered: only a piece of each comes, and the playhead goes past it."""
    heard = played(
        f"""put(1, 0, 48000, 0.5); player.take({{ type: "play", at: 0 }}); blocks(20);
        const out = [];
        for (let v = 2; v < 12; v++) {{ put(v, player.at, {length}, 0.25); out.push(...blocks(6)); }}
        out.push(...blocks(30));
        return [Math.min(...out), Math.max(...out)];"""
    )
    assert heard == [0.25, 0.5]
