"""The door of a server that others can reach: a password, then a cookie."""

from typing import Annotated

from fastapi import Form, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response
from starlette.datastructures import Headers
from starlette.requests import cookie_parser
from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Receive, Scope, Send

from ...core.errors import UnusableDataError
from ...studio.passwords import LASTS_S, Doorkeeper
from ..hands import Router
from ..pages import page

router = Router()
COOKIE = "miclane"
_OPEN = ("/login", "/static/", "/favicon.ico")


class Door:
    """Lets only those in who have said the password; others are shown where to say it."""

    def __init__(self, app: ASGIApp, keeper: Doorkeeper) -> None:
        self.app = app
        self.keeper = keeper

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket") or scope["path"].startswith(_OPEN):
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        if self.keeper.knows(cookie_parser(headers.get("cookie", "")).get(COOKIE, "")):
            await self.app(scope, receive, send)
            return
        answer: Response = JSONResponse({"error": "say the password first, at /login"}, 401)
        if "text/html" in headers.get("accept", ""):
            answer = RedirectResponse("/login", 303)
        await answer(scope, receive, send)


@router.get("/login", response_class=HTMLResponse)
def login_page(request: Request) -> Response:
    """Where the password is said."""
    if request.app.state.keeper is None:
        return RedirectResponse("/", 303)
    return page(request, "login.html", None, screen="login", words="")


@router.post("/login")
def login(request: Request, password: Annotated[str, Form(max_length=1000)] = "") -> Response:
    """In, with a cookie, or the page again with the reason."""
    keeper: Doorkeeper | None = request.app.state.keeper
    if keeper is None:
        return RedirectResponse("/", 303)
    who = request.client.host if request.client else ""
    try:
        token = keeper.enter(password, who)
    except UnusableDataError as error:
        return page(request, "login.html", None, 429, screen="login", words=str(error))
    if token is None:
        return page(request, "login.html", None, 403, screen="login", words="that is not the password")
    answer = RedirectResponse("/", 303)
    secure = request.url.scheme == "https"
    answer.set_cookie(COOKIE, token, max_age=int(LASTS_S), httponly=True, samesite="strict", secure=secure)
    return answer
