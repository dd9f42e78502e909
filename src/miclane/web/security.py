"""Who may talk to the server: its own host name, its own pages; and what every answer says of itself."""

from urllib.parse import urlsplit

from starlette.datastructures import Headers
from starlette.responses import PlainTextResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self' data:; "
    "connect-src 'self'; worker-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
HEADERS = {
    b"content-security-policy": POLICY.encode(),
    b"x-content-type-options": b"nosniff",
    b"referrer-policy": b"no-referrer",
    b"cross-origin-opener-policy": b"same-origin",
    b"cross-origin-resource-policy": b"same-origin",
}
SAFE = frozenset({"GET", "HEAD", "OPTIONS"})


def _keeping(scope: Scope, message: Message) -> list[tuple[bytes, bytes]]:
    """How long an answer may be kept: scripts and sheets by their version, anything else not at all."""
    if scope["path"].startswith("/static/"):
        return [(b"cache-control", b"public, max-age=31536000" if scope["query_string"] else b"no-cache")]
    told = any(name == b"cache-control" for name, _ in message.get("headers", []))
    return [] if told else [(b"cache-control", b"no-store")]


class Guard:
    """Refuses other host names and changes from other origins; adds the security headers to every answer."""

    def __init__(self, app: ASGIApp, hosts: frozenset[str]) -> None:
        self.app = app
        self.hosts = hosts

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        host = headers.get("host", "")
        refusal = ""
        if urlsplit(f"//{host}").hostname not in self.hosts:
            refusal = "this server answers to its own host name only"
        elif scope["method"] not in SAFE and not self._same_origin(headers, host):
            refusal = "changes are taken from Mic Lane's own pages only"

        async def send_guarded(message: Message) -> None:
            if message["type"] == "http.response.start":
                message["headers"] = [*message.get("headers", []), *HEADERS.items(), *_keeping(scope, message)]
            await send(message)

        if refusal:
            await PlainTextResponse(refusal, 403)(scope, receive, send_guarded)
        else:
            await self.app(scope, receive, send_guarded)

    def _same_origin(self, headers: Headers, host: str) -> bool:
        site = headers.get("sec-fetch-site")
        if site is not None and site not in ("same-origin", "none"):
            return False
        origin = headers.get("origin")
        return origin is None or urlsplit(origin).netloc == host
