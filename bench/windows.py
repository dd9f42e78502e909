"""Windows without a browser: each asks, after every change, for what a page of its kind was heard to ask for."""

import json
import threading
import time
from contextlib import suppress
from typing import Any

from websockets.exceptions import ConnectionClosed
from websockets.sync.client import connect

from .browser import Page

_FIRST, _LAST = 1, 2
_AHEAD_S, _BYTES_A_SECOND = 4.0, 48000 * 2 * 4  # what a page has of the song before it takes more; float, stereo

NOTE = """window.sent = [];
const given = WebSocket.prototype.send;
WebSocket.prototype.send = function (text) {
  sent.push({ text, ms: performance.now() });
  return given.call(this, text);
};"""


def wishes_of(page: Page, where: str, screen: str, plays: str, edit: dict[str, Any]) -> list[dict[str, Any]]:
    """What a page asks for once something is changed elsewhere: the messages that its script sends, and after how long.

    `plays`: "loop", "song" or "" for a page that is only looked at.
    """
    page.before_scripts(NOTE)
    page.goto(f"{where}/{screen}")
    page.wait_for_timeout(6000)
    if plays:
        if plays == "song":
            page.keyboard.press("l")
            page.wait_for_timeout(300)
        page.keyboard.press("Space")
        page.wait_for_function("() => miclane.player.playing && miclane.player.starved === false", timeout=120_000)
        page.wait_for_timeout(3000)
    page.evaluate("void (sent.length = 0)")
    assert page.request.post(f"{where}/edits", json={"edits": [edit]}).is_success
    page.wait_for_timeout(5000)
    sent = [{**json.loads(m["text"]), "after_s": m["ms"] / 1000} for m in page.evaluate("sent")]
    wishes = [m for m in sent if m.get("method") == "GET"]
    return [{**m, "after_s": m["after_s"] - wishes[0]["after_s"]} for m in wishes]


class Window(threading.Thread):
    """One of them, until `close`: how long each answer took, and by how much the song ever came too late."""

    def __init__(self, address: str, session: str, name: str, wishes: list[dict[str, Any]]) -> None:
        super().__init__(daemon=True)
        self.line = connect(f"{address.replace('http', 'ws')}/line?window={name}", origin=address, max_size=None)
        self.line.send(json.dumps({"shows": session}))
        self.wishes = wishes
        self.number = 0
        self.waiting: dict[int, tuple[float, dict[str, Any]]] = {}
        self.ms: list[float] = []
        self.version = 0
        self.refused = 0
        self.late_s = 0.0
        self._later: list[threading.Timer] = []
        self._song: tuple[int, float, int] | None = None  # number, when it was asked for, bytes that came

    def run(self) -> None:
        try:
            while True:
                message = self.line.recv()
                if isinstance(message, str):
                    self._ask(json.loads(message).get("version", self.version))
                else:
                    self._take(message)
        except ConnectionClosed:
            pass

    def close(self) -> None:
        """End it."""
        self.line.close()

    def _ask(self, version: int) -> None:
        """Something was changed: what was asked for before is let go of, and asked for anew."""
        self.version = version
        for number in list(self.waiting):
            self.line.send(json.dumps({"drop": number}))
        self.waiting.clear()
        for timer in self._later:
            timer.cancel()
        self._later = [threading.Timer(w["after_s"], self._wish, (w, version)) for w in self.wishes]
        for timer in self._later:
            timer.start()

    def _wish(self, wish: dict[str, Any], version: int) -> None:
        if version != self.version:
            return
        self.number += 1
        self.waiting[self.number] = time.monotonic(), wish
        if wish["flows"]:
            self._song = self.number, time.monotonic(), 0
        with suppress(ConnectionClosed):
            self.line.send(json.dumps({**{k: v for k, v in wish.items() if k != "after_s"}, "wish": self.number}))

    def _take(self, frame: bytes) -> None:
        number, flags = int.from_bytes(frame[:4], "little"), int.from_bytes(frame[4:6], "little")
        if number not in self.waiting:
            return
        asked, wish = self.waiting[number]
        long = int.from_bytes(frame[6:8], "little")
        if flags & _FIRST:
            self.refused += json.loads(frame[8 : 8 + long])["status"] >= 400
        if self._song is not None and number == self._song[0]:
            self._play(len(frame) - 8 - long)
        if flags & _FIRST if wish["flows"] else flags & _LAST:
            self.ms.append(1000 * (time.monotonic() - asked))
        if flags & _LAST:
            self.waiting.pop(number, None)

    def _play(self, count: int) -> None:
        """Take a piece of the song as a page does: no faster than it is heard, but for what is held ahead."""
        assert self._song is not None
        number, asked, came = self._song
        heard_s = time.monotonic() - asked
        if came:  # the first piece begins the hearing; from then on nothing may be late
            self.late_s = max(self.late_s, heard_s - came / _BYTES_A_SECOND - self.ms[-1] / 1000)
        came += count
        self._song = number, asked, came
        wait = came / _BYTES_A_SECOND - heard_s - _AHEAD_S
        threading.Timer(max(wait, 0.0), self._more, (number, count)).start()

    def _more(self, number: int, count: int) -> None:
        if number in self.waiting:
            with suppress(ConnectionClosed):
                self.line.send(json.dumps({"more": number, "bytes": count}))
