"""Who may talk to the server, how much may be sent to it, and what every answer says of itself."""

import re
import time

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import JSONResponse, PlainTextResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ..core.errors import UnusableDataError
from ..logs import log
from ..store.files import FULL

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self' data:; "
    "connect-src 'self'; worker-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
HEADERS = {
    "content-security-policy": POLICY,
    "x-content-type-options": "nosniff",
    "referrer-policy": "no-referrer",
    "cross-origin-opener-policy": "same-origin",
    "cross-origin-resource-policy": "same-origin",
}
SAFE = frozenset({"GET", "HEAD", "OPTIONS"})
LARGEST_BYTES, LARGEST_EDIT_BYTES, LARGEST_ARCHIVE_BYTES = 1 << 30, 8 << 20, 16 << 30
_ARCHIVE = "/sessions/archive"
FAULT = "a fault of Mic Lane's own; nothing was changed, and the log in the data folder tells more"
_UPLOADS = re.compile(r"^/s/[^/]+/(import|space/[^/]+/impulse/[^/]+)$")
_PAGES = re.compile(r"^/(login|favicon\.ico|s/[^/]+(/(lane/[^/]+|space|map|print))?)?$")
_SLOW_S = 2.0


class Headed:
    """Adds the security headers to every answer, and how long it may be kept."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        async def send_headed(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in HEADERS.items():
                    headers.setdefault(name, value)
                if scope["path"].startswith("/static/"):  # scripts and sheets by their version
                    headers["cache-control"] = "public, max-age=31536000" if scope["query_string"] else "no-cache"
                else:
                    headers.setdefault("cache-control", "no-store")
            await send(message)

        await self.app(scope, receive, send_headed if scope["type"] == "http" else send)


class SameOrigin:
    """Refuses changes from other origins, and of other sites everything but a way to a page."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        refusal = self._refusal(scope) if scope["type"] in ("http", "websocket") else ""
        if refusal:
            await PlainTextResponse(refusal, 403)(scope, receive, send)
        else:
            await self.app(scope, receive, send)

    def _refusal(self, scope: Scope) -> str:
        headers = Headers(scope=scope)
        foreign = headers.get("sec-fetch-site", "none") not in ("same-origin", "none")
        if scope["type"] == "http" and scope["method"] in SAFE:
            visit = headers.get("sec-fetch-mode") == "navigate" and _PAGES.match(scope["path"])
            return "other sites may link to pages only" if foreign and not visit else ""
        origin = headers.get("origin")
        own = f"{scope['scheme'].replace('ws', 'http', 1)}://{headers.get('host', '')}"
        if foreign or (origin is not None and origin != own):
            return "changes are taken from Mic Lane's own pages only"
        return ""


class Bounded:
    """Refuses bodies that are too large before they are read, or while they are."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or scope["method"] in SAFE:
            await self.app(scope, receive, send)
            return
        upload = _UPLOADS.match(scope["path"])
        most = LARGEST_BYTES if upload else LARGEST_EDIT_BYTES
        most = LARGEST_ARCHIVE_BYTES if scope["path"] == _ARCHIVE else most
        refusal = JSONResponse({"error": f"more than {most >> 20} MiB were sent; nothing was kept"}, 413)
        said = Headers(scope=scope).get("content-length", "0")
        if not said.isdecimal() or len(said) > 15 or int(said) > most:
            await refusal(scope, receive, send)
            return
        got = 0

        async def receive_bounded() -> Message:
            nonlocal got
            message = await receive()
            got += len(message.get("body", b""))
            if got > most:
                raise OSError("more was sent than is taken")
            return message

        async def send_bounded(message: Message) -> None:
            if got <= most:
                await send(message)
            elif message["type"] == "http.response.start":  # whatever was made of the half of it
                await refusal(scope, receive, send)

        await self.app(scope, receive_bounded, send_bounded)


class Faults:
    """Whatever goes wrong by a fault of ours is logged and said plainly; slow answers are logged."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        begun, answered = time.perf_counter(), False

        async def send_noted(message: Message) -> None:
            nonlocal answered
            if message["type"] == "http.response.start":
                answered = True
                _note(scope, message["status"], time.perf_counter() - begun)
            await send(message)

        try:
            await self.app(scope, receive, send_noted)
        except Exception as error:
            full = isinstance(error, UnusableDataError) or getattr(error, "errno", None) in FULL
            if not full:
                log.exception("fault", method=scope["method"], path=scope["path"])
            if answered:
                return
            words, status = ("the disk is full; nothing was kept of this", 507) if full else (FAULT, 500)
            await _say(scope, receive, send, status, words)


def _note(scope: Scope, status: int, seconds: float) -> None:
    if status in (403, 413, 422):
        log.info("refused", method=scope["method"], path=scope["path"], status=status)
    if seconds > _SLOW_S:
        log.info("slow", method=scope["method"], path=scope["path"], seconds=round(seconds, 2))


async def _say(scope: Scope, receive: Receive, send: Send, status: int, words: str) -> None:
    headers = Headers(scope=scope)
    if "text/html" in headers.get("accept", "") and headers.get("hx-request") != "true":
        await PlainTextResponse(f"Mic Lane: {words}.", status)(scope, receive, send)
    else:
        await JSONResponse({"error": words}, status)(scope, receive, send)
