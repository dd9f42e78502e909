"""Answers in two parts: what is heard goes out before what it comes of is written to the disk."""

import asyncio
import json
import threading
from collections.abc import AsyncIterator
from contextlib import suppress
from typing import Any

from fastapi.responses import Response

from ..core.errors import MicLaneError
from ..logs import log

BYTES = "application/octet-stream"
_GONE_S = 0.2


class Ahead:
    """What is heard, on its way from the thread that makes it."""

    def __init__(self) -> None:
        self._loop = asyncio.get_running_loop()
        self.part: asyncio.Future[bytes] = self._loop.create_future()
        self.gone = threading.Event()

    def send(self, first: bytes) -> None:
        """Have a part go out. The thread goes on once it has, or a moment later: till then it would hold it up."""
        with suppress(RuntimeError):  # nobody is there any more, and the rest is done all the same
            self._loop.call_soon_threadsafe(self._sent, first)
            self.gone.wait(_GONE_S)

    def _sent(self, first: bytes) -> None:
        if not self.part.done():
            self.part.set_result(first)


async def in_two(ahead: Ahead, work: "asyncio.Task[Response]") -> AsyncIterator[bytes]:
    """The part that has come, then what the work answers; `refused` (a status) is in it where that is no success."""
    try:
        yield ahead.part.result()
        await asyncio.sleep(0)  # whoever sends it is next
    finally:
        ahead.gone.set()
    try:
        response = await work
        last = bytes(response.body)
        if response.status_code != 200:
            last = part({**json.loads(last), "refused": response.status_code})
    except MicLaneError as error:
        last = part({"error": str(error), "refused": 422})
    except Exception:  # it is too late for a status: the window asks again, as after any failure
        log.exception("an answer in two")
        last = part({"error": "The server failed.", "refused": 500})
    yield last


def part(told: dict[str, Any], sound: bytes = b"") -> bytes:
    """The length of the JSON (u32, little-endian), the JSON filled up to a multiple of four, sound: `bytes` of it."""
    text = json.dumps({**told, "bytes": len(sound)}).encode()
    text += b" " * (-len(text) % 4)
    return len(text).to_bytes(4, "little") + text + sound
