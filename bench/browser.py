"""A browser that is told what to do and tells nothing by itself: what a page is sent travels no second time.

A test driver hears of every message of every page, as text; for loops of sound that is several megabytes a change, read
by two more processes on the same processors. So the bench speaks the DevTools protocol itself, and asks for no events.
"""

import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import httpx
from websockets.sync.client import connect

from .server import browser_path

FLAGS = (
    "--headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking "
    "--autoplay-policy=no-user-gesture-required --mute-audio --disable-background-timer-throttling "
    "--disable-renderer-backgrounding --disable-backgrounding-occluded-windows --window-size=1280,800 "
    "--remote-debugging-port=0"
)
_LOOK_S = 0.05
_MODIFIERS = {"Alt": 1, "Control": 2, "Meta": 4, "Shift": 8}
_KEYS = {"ArrowLeft": 37, "ArrowRight": 39, "Space": 32, "]": 221}
_CODES = {"]": "BracketRight"}
_CLICK = "dispatchEvent(new MouseEvent('click', { bubbles: true, cancelable: true }))"  # what is drawn has no click()
SLIDER = """[...document.querySelectorAll('[role="slider"]')].filter((e) => e.checkVisibility() && e.getAttribute('aria-label')?.includes(NAME))"""


class Keyboard:
    """Keys of a page, as a hand presses them."""

    def __init__(self, page: "Page") -> None:
        self._page = page

    def press(self, keys: str) -> None:
        """Press and let go, with modifiers as `Shift+ArrowLeft`."""
        self.down(keys)
        self.up(keys)

    def down(self, keys: str) -> None:
        """Press."""
        self._send("keyDown", keys)

    def up(self, keys: str) -> None:
        """Let go."""
        self._send("keyUp", keys)

    def _send(self, kind: str, keys: str) -> None:
        *held, key = keys.split("+")
        modifiers = sum(_MODIFIERS[name] for name in held)
        named = len(key) > 1
        letter = f"Digit{key}" if key.isdigit() else f"Key{key.upper()}"
        code = key if named else _CODES.get(key, letter)
        told: dict[str, Any] = {
            "type": kind,
            "modifiers": modifiers,
            "key": " " if key == "Space" else key,
            "code": code,
        }
        told["windowsVirtualKeyCode"] = _KEYS.get(key, ord(key.upper()[0]))
        if kind == "keyDown" and not modifiers & ~8 and (not named or key == "Space"):
            told["text"] = told["key"]
        self._page.send("Input.dispatchKeyEvent", **told)


class Found:
    """Elements of a page, found anew each time by a script that gives a list."""

    def __init__(self, page: "Page", script: str, at: int = 0) -> None:
        self._page, self._script, self._at = page, script, at

    @property
    def first(self) -> "Found":
        """The first of them."""
        return self.nth(0)

    def nth(self, at: int) -> "Found":
        """One of them."""
        return Found(self._page, self._script, at)

    def count(self) -> int:
        """How many there are."""
        return int(self._page.evaluate(f"{self._script}.length"))

    def focus(self) -> None:
        """Give it the focus."""
        self._do("focus()")

    def click(self) -> None:
        """Click it."""
        self._do(_CLICK)

    def press(self, keys: str) -> None:
        """Press keys on it."""
        self.focus()
        self._page.keyboard.press(keys)

    def _do(self, what: str) -> None:
        self._page.wait_for_function(f"() => {self._script}.length > {self._at}")
        self._page.evaluate(f"void {self._script}[{self._at}].{what}")


class Page:
    """One page. A script that is a function is called, as long as it takes; what is waited for is looked at by times."""

    def __init__(self, browser: "Browser", address: str, target: str) -> None:
        self.browser, self.target = browser, target
        self.keyboard = Keyboard(self)
        self.request = httpx.Client(timeout=300)
        self._line = connect(address, max_size=None, compression=None)
        self._number = 0

    def send(self, method: str, **params: Any) -> dict[str, Any]:
        """What the browser answers to a command; RuntimeError where it refuses."""
        self._number += 1
        self._line.send(json.dumps({"id": self._number, "method": method, "params": params}))
        while True:
            told = json.loads(self._line.recv(timeout=300))
            if told.get("id") == self._number:
                if "error" in told:
                    raise RuntimeError(f"{method}: {told['error']['message']}")
                return dict(told["result"])

    def before_scripts(self, script: str) -> None:
        """Run a script on each page that is opened from now on, before its own."""
        self.send("Page.enable")
        self.send("Page.addScriptToEvaluateOnNewDocument", source=script)

    def goto(self, address: str) -> None:
        """Open an address, up to the end of its scripts."""
        self.evaluate("window.before = true")
        if error := self.send("Page.navigate", url=address).get("errorText"):
            raise RuntimeError(f"{address}: {error}")
        self._wait_until_open()

    def reload(self) -> None:
        """Open it again."""
        self.evaluate("window.before = true")
        self.send("Page.reload")
        self._wait_until_open()

    def evaluate(self, script: str, value: Any = None) -> Any:
        """What a script gives; called with `value` where it is a function. RuntimeError where it throws."""
        call = (
            f"(async () => {{ const v = ({script}); return typeof v === 'function' ? v({json.dumps(value)}) : v; }})()"
        )
        told = self.send("Runtime.evaluate", expression=call, awaitPromise=True, returnByValue=True)
        if "exceptionDetails" in told:
            raise RuntimeError(f"{script}: {told['exceptionDetails']['exception'].get('description')}")
        return told["result"].get("value")

    def wait_for_function(self, script: str, timeout: float = 30_000) -> None:
        """Until a script gives what is true; TimeoutError after so many ms."""
        until = time.monotonic() + timeout / 1000
        while not self._gives(script):
            if time.monotonic() > until:
                raise TimeoutError(f"{script}: not after {timeout / 1000:.0f} s")
            time.sleep(_LOOK_S)

    def wait_for_timeout(self, ms: float) -> None:
        """Wait."""
        time.sleep(ms / 1000)

    def locator(self, selector: str) -> Found:
        """Elements that a selector finds."""
        return Found(self, f"[...document.querySelectorAll({json.dumps(selector)})]")

    def slider(self, name: str) -> Found:
        """Rules that can be seen, by what they are called."""
        return Found(self, SLIDER.replace("NAME", json.dumps(name)))

    def close(self) -> None:
        """Close it."""
        self.request.close()
        self._line.close()
        self.browser.told(f"close/{self.target}")

    def _wait_until_open(self) -> None:
        self.wait_for_function("() => !window.before && document.readyState === 'complete'", 60_000)

    def _gives(self, script: str) -> bool:
        try:
            return bool(self.evaluate(script))
        except RuntimeError as error:
            if "ontext" in str(error) or "navigat" in str(error):
                return False  # between two pages
            raise


class Browser:
    """Pages of 1280 by 800 in a browser without windows."""

    def __init__(self, port: int) -> None:
        self._port = port

    def new_page(self) -> Page:
        """A page more."""
        told = json.loads(self.told("new?about:blank"))
        return Page(self, told["webSocketDebuggerUrl"], told["id"])

    def told(self, what: str) -> str:
        """What it answers over HTTP."""
        request = urllib.request.Request(f"http://127.0.0.1:{self._port}/json/{what}", method="PUT")
        with urllib.request.urlopen(request, timeout=60) as answer:
            return str(answer.read().decode())


@contextmanager
def light_page() -> Iterator[Page]:
    """A page of a browser of its own, whose sound nobody hears."""
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        call = [browser_path(), *FLAGS.split(), f"--user-data-dir={folder}"]
        nowhere = subprocess.DEVNULL
        process = subprocess.Popen(call, stdout=nowhere, stderr=nowhere, start_new_session=True)
        try:
            yield Browser(_port_of(process, Path(folder) / "DevToolsActivePort")).new_page()
        finally:
            with suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)  # what is started may be a script that starts the browser
            process.wait()


def _port_of(process: "subprocess.Popen[bytes]", told: Path) -> int:
    until = time.monotonic() + 60
    while not told.is_file() or not (lines := told.read_text().splitlines()):
        if process.poll() is not None or time.monotonic() > until:
            sys.exit("bench: the browser does not start")
        time.sleep(_LOOK_S)
    return int(lines[0])


def started(page: Page, how: str, most_ms: int = 60_000) -> float:
    """Milliseconds from pressing play to the sound, once the page has been put somewhere by `how`."""
    page.evaluate(how)
    page.evaluate("miclane.player.waited_ms = 0")
    page.keyboard.press("Space")
    page.wait_for_function("() => miclane.player.waited_ms > 0", timeout=most_ms)
    return float(page.evaluate("miclane.player.waited_ms"))
