"""The one connection of a window: its wishes and changes come in, answers go out as they are made, and news of changes.

From the window, as text: `{"wish": number, "urgency": 0…6, "address": …, "method": …, "body": …, "place": …,
"version": …}` asks for what that address answers, of a window that knows that version of its session; `{"drop":
number}` lets it go; `{"more": number, "bytes": …}` says how much of what flows has been taken; `{"shows": session}`
says of which session it wants news. To the window: as bytes, an answer or a part of one (`_frame`); as text,
`{"changed": session, "version": …}` and `{"prints": session}`.
"""

import asyncio
import json
from collections import deque
from collections.abc import Callable, MutableMapping
from contextlib import suppress
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Literal
from urllib.parse import unquote

from fastapi import WebSocket, WebSocketDisconnect
from pydantic import BaseModel, Field, ValidationError

from ...core.engine.giving_way import PAUSE, Cancel, Gate
from ...core.errors import MicLaneError
from ...logs import log
from ...studio.order import STAND_ASIDE, URGENCY, WANTED, Order, Urgency, Wish
from ..hands import Router

router = Router()
CLOSE_S = 2.0
PAUSE_S = 0.1  # at the most, for what goes first may wait for what pauses
MOST_WAITING = 400  # of one window
AHEAD_BYTES = 4 << 20  # of what flows, sent before it is taken
BEGUN_BYTES = 1 << 20  # of what flows: some seconds of sound
_FIRST, _LAST = 1, 2
_PASSED_ON = ("content-type", "x-version", "x-rows", "x-match")  # headers that a window reads
_KEPT = (b"cookie", b"host", b"accept-language")  # those of the connection that each of its wishes carries

Message = MutableMapping[str, Any]


class Said(BaseModel):
    """What a window says."""

    wish: int | None = Field(None, ge=0, le=2**32 - 1)
    drop: int | None = None
    more: int | None = None
    number_bytes: int = Field(0, alias="bytes", ge=0, le=2**40)
    shows: str | None = Field(None, max_length=80)
    urgency: Urgency = Urgency.PICTURES
    address: str = Field("", max_length=4000)
    method: Literal["GET", "POST"] = "GET"
    body: Any = None
    accept: str = Field("application/json", max_length=40)
    part: bool = False
    place: str = Field("", max_length=4000)
    in_turn: bool = False
    flows: bool = False
    version: int = 0  # the newest that the window knows


class _Dropping(Cancel):
    """Told to those that wait without a thread as well."""

    def __init__(self) -> None:
        super().__init__()
        self.gone = asyncio.Event()
        self.stirred = asyncio.Event()  # more may be sent, or nothing any more

    def set(self) -> None:
        super().set()
        self.gone.set()
        self.stirred.set()


@dataclass(eq=False, kw_only=True)
class _Asked(Wish):
    """A wish with what is to be asked of the application, and how much of the answer may be sent before it is taken."""

    line: "Line"
    said: Said
    cancel: _Dropping = field(default_factory=_Dropping)
    unsent: int = AHEAD_BYTES
    sent: int = 0


class Foreman:
    """Has wishes made in the order of work, and tells all windows of changes.

    What is only looked at pauses by the way while something goes first through the gate.
    """

    def __init__(self, gate: Gate) -> None:
        self.order = Order()
        self.gate = gate
        self.seen: Callable[[str], None] = lambda session: None  # told of each session that is shown, or changes then
        self.lines: set[Line] = set()
        self._loop: asyncio.AbstractEventLoop | None = None
        self._tasks: set[asyncio.Task[None]] = set()

    def enter(self, line: "Line") -> None:
        """A window has come."""
        self._loop = asyncio.get_running_loop()
        self.lines.add(line)

    def leave(self, line: "Line") -> None:
        """A window has gone."""
        self.lines.discard(line)
        if all(other.window != line.window for other in self.lines):
            self.order.leave(line.window)
        log.debug("line", window=line.window, sent=line.sent, **self.order.counts)

    def look(self) -> None:
        """Begin whatever may be begun."""
        while (wish := self.order.next()) is not None:
            task = asyncio.create_task(self._make(wish))  # type: ignore[arg-type]
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)

    async def _make(self, wish: _Asked) -> None:
        WANTED.set(wish.cancel)
        URGENCY.set(wish.urgency)
        STAND_ASIDE.set(partial(self._set_aside, wish))
        if wish.urgency > Urgency.REST:
            PAUSE.set(partial(self._pause, wish))
        try:
            await wish.line.answer(wish)
        except Exception:
            log.exception("line", address=wish.said.address)
        finally:
            self.order.done(wish)
            self.look()

    def _pause(self, wish: _Asked) -> None:
        wish.cancel.check()
        self.gate.pass_through(PAUSE_S)
        wish.cancel.check()

    def _set_aside(self, wish: _Asked) -> None:
        self.order.stand_aside(wish)
        self.look()

    async def close(self) -> None:
        """Wait a moment for what is being made to be given up."""
        if self._tasks:
            await asyncio.wait(self._tasks, timeout=CLOSE_S)

    def changed(self, session: str, version: int) -> None:
        """Tell all windows that show a session of its newest version."""
        if any(line.shows == session for line in tuple(self.lines)):
            self.seen(session)
        self._news(session, {"changed": session, "version": version})

    def printed(self, session: str) -> None:
        """Tell them that prints of a session have got on."""
        self._news(session, {"prints": session})

    def _news(self, session: str, news: dict[str, Any]) -> None:
        if self._loop is not None and not self._loop.is_closed():  # asked from any thread
            with suppress(RuntimeError):  # closed meanwhile
                self._loop.call_soon_threadsafe(self._tell, session, news)

    def _tell(self, session: str, news: dict[str, Any]) -> None:
        for line in self.lines:
            if line.shows == session:
                line.put(json.dumps(news))


class Line:
    """One window's connection."""

    def __init__(self, socket: WebSocket, window: str, foreman: Foreman) -> None:
        self.socket = socket
        self.window = window
        self.foreman = foreman
        self.shows = ""
        self.sent = 0
        self._asked: dict[int, _Asked] = {}
        self._out: deque[str | bytes] = deque()
        self._waits = asyncio.Event()

    def put(self, message: str | bytes) -> None:
        """Have something sent, after what was put before."""
        self._out.append(message)
        self._waits.set()

    async def speak(self) -> None:
        """Send what is put, until the window has gone."""
        while True:
            while self._out:
                message = self._out.popleft()
                if isinstance(message, str):
                    await self.socket.send_text(message)
                else:
                    self.sent += len(message)
                    await self.socket.send_bytes(message)
            self._waits.clear()
            await self._waits.wait()

    def hear(self, text: str) -> None:
        """Take one message of the window in; ValidationError where it is none."""
        said = Said.model_validate_json(text)
        if said.shows is not None:
            self.shows = said.shows
            if self.shows:
                self.foreman.seen(self.shows)
        elif said.drop is not None:
            self.foreman.order.drop(self.window, said.drop)
            self._stir()
        elif said.more is not None:
            if (asked := self._asked.get(said.more)) is not None:
                asked.unsent += said.number_bytes
                asked.cancel.stirred.set()
        elif said.wish is not None:
            asked = _Asked(
                window=self.window,
                number=said.wish,
                urgency=said.urgency if said.method == "GET" else Urgency.CHANGE,
                place=said.place,
                in_turn=said.in_turn,
                flows=said.flows,
                line=self,
                said=said,
            )
            if len(self._asked) >= MOST_WAITING:
                words = b'{"error": "too much is asked for at once"}'
                self.put(_frame(said.wish, _FIRST | _LAST, {"status": 503, "headers": {}}, words))
                return
            self.foreman.order.put(asked)
            self._asked = {number: each for number, each in self._asked.items() if not each.cancel.is_set()}
            self._asked[said.wish] = asked

    def close(self) -> None:
        """The window has gone: what it only looked at is given up."""
        for number in list(self._asked):
            self.foreman.order.drop(self.window, number)
        self.foreman.leave(self)

    async def answer(self, wish: _Asked) -> None:
        """Ask the application what was wished for, and send what it answers, unless that is no longer wanted."""
        body = [json.dumps(wish.said.body).encode() if wish.said.method == "POST" else b""]
        head: dict[str, Any] | None = {}

        async def receive() -> Message:
            if body:
                return {"type": "http.request", "body": body.pop(), "more_body": False}
            await wish.cancel.gone.wait()
            return {"type": "http.disconnect"}

        async def send(message: Message) -> None:
            nonlocal head
            if message["type"] == "http.response.start":
                passed = {k.decode(): v.decode("latin-1") for k, v in message["headers"] if k.decode() in _PASSED_ON}
                missing = message["status"] == 404 and self._knows_less(wish.said)
                head = {"status": 204 if missing else message["status"], "headers": passed}
            elif message["type"] == "http.response.body" and not wish.cancel.is_set():
                last = not message.get("more_body", False)
                part = message.get("body", b"")
                if part or last:
                    flags = (_FIRST if head is not None else 0) | (_LAST if last else 0)
                    empty = head is not None and head["status"] == 204
                    self.put(_frame(wish.number, flags, head, b"" if empty else part))
                    head = None
                    await self._wait_for_room(wish, len(part))

        try:
            await self.socket.app(_scope(self.socket.scope, wish.said), receive, send)
        finally:
            self._asked.pop(wish.number, None)
            self._stir()

    def _knows_less(self, said: Said) -> bool:
        """Whether a window looks for what may have been taken away since: that is overtaken, and nothing is missing."""
        parts = said.address.split("?")[0].split("/")
        if said.method != "GET" or not said.version or parts[1:2] != ["s"] or len(parts) < 4:
            return False
        try:
            return bool(self.socket.app.state.studio.sessions.get(unquote(parts[2])).version > said.version)
        except MicLaneError:
            return False

    async def _wait_for_room(self, wish: _Asked, sent: int) -> None:
        """Wait until more of what flows may be sent: what was asked for later is wanted now, and is to begin first."""
        if wish.flows and not wish.sent:
            self.foreman.order.has_begun(wish)
            self.foreman.look()
        wish.unsent -= sent
        wish.sent += sent
        self._stir()
        while wish.flows and (wish.unsent <= 0 or self._stands_back(wish)) and not wish.cancel.is_set():
            wish.cancel.stirred.clear()
            await wish.cancel.stirred.wait()

    def _stands_back(self, wish: _Asked) -> bool:
        later = [other for other in self._asked.values() if other.flows and other.number > wish.number]
        return wish.sent >= BEGUN_BYTES and any(o.sent < BEGUN_BYTES and not o.cancel.is_set() for o in later)

    def _stir(self) -> None:
        for wish in self._asked.values():
            wish.cancel.stirred.set()


def _frame(number: int, flags: int, head: dict[str, Any] | None, body: bytes) -> bytes:
    """Number (u32), flags (u16: 1 the first part, 2 the last), length of the head (u16), head as JSON, body.

    All little-endian; the head is filled up with spaces so that the body begins at a multiple of four.
    """
    text = b"" if head is None else json.dumps(head).encode()
    text += b" " * (-len(text) % 4)
    return number.to_bytes(4, "little") + flags.to_bytes(2, "little") + len(text).to_bytes(2, "little") + text + body


def _scope(connection: MutableMapping[str, Any], said: Said) -> dict[str, Any]:
    """A request as the application takes it, from the same visitor."""
    path, _, query = said.address.partition("?")
    headers = [(name, value) for name, value in connection["headers"] if name in _KEPT]
    headers += [(b"accept", said.accept.encode()), (b"content-type", b"application/json")]
    if said.part:
        headers.append((b"hx-request", b"true"))
    return {
        "type": "http",
        "asgi": {"version": "3.0", "spec_version": "2.3"},
        "http_version": "1.1",
        "method": said.method,
        "scheme": "https" if connection["scheme"] == "wss" else "http",
        "path": unquote(path),
        "raw_path": path.encode(),
        "query_string": query.encode(),
        "root_path": "",
        "headers": headers,
        "client": connection.get("client"),
        "server": connection.get("server"),
        "state": connection.get("state", {}),
    }


@router.websocket("/line")
async def line(socket: WebSocket, window: str = "") -> None:
    """Serve one window until it goes."""
    foreman: Foreman = socket.app.state.foreman
    await socket.accept()
    mine = Line(socket, window[:60], foreman)
    foreman.enter(mine)
    speaking = asyncio.create_task(mine.speak())
    try:
        while True:
            mine.hear(await socket.receive_text())
            foreman.look()
    except (WebSocketDisconnect, RuntimeError):
        pass
    except (ValidationError, KeyError):
        with suppress(RuntimeError, WebSocketDisconnect):
            await socket.close(1008, "that is no message of a window")
    finally:
        speaking.cancel()
        mine.close()
        foreman.look()
