"""The application: routers, templates, errors in words."""

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, RedirectResponse, Response
from fastapi.staticfiles import StaticFiles
from starlette.exceptions import HTTPException
from starlette.middleware.trustedhost import TrustedHostMiddleware

from ..core.engine.cache import MEMORY_BYTES
from ..core.errors import CancelledError, ConflictError, MicLaneError, UnknownPlaceError, UnusableDataError
from ..studio.blind import Blind
from ..studio.passwords import Doorkeeper
from ..studio.prints import Printer
from ..studio.studio import Studio
from . import screens
from .pages import render_error
from .screens import edits, sound
from .screens.line import Foreman
from .screens.login import Door
from .security import Bounded, Faults, Headed, SameOrigin

HOSTS = frozenset({"127.0.0.1", "localhost"})
# routes are tried in their order: what a hand waits for stands before what is looked at
_FIRST = frozenset({edits, sound})
_STATUS = {ConflictError: 409, UnknownPlaceError: 404, UnusableDataError: 507}


def create_app(
    data: Path,
    hosts: frozenset[str] = HOSTS,
    keeper: Doorkeeper | None = None,
    memory_bytes: int = MEMORY_BYTES,
) -> FastAPI:
    """The application on a data folder, answering to the given host names only; with a `keeper`, behind a password."""
    studio = Studio(data, owner=True, memory_bytes=memory_bytes)

    @asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        yield
        await app.state.foreman.close()
        await run_in_threadpool(close_app, app)

    app = FastAPI(title="Mic Lane", docs_url=None, redoc_url=None, openapi_url=None, lifespan=life)
    app.state.studio, app.state.printer, app.state.keeper = studio, Printer(studio), keeper
    app.state.blind = Blind(studio)
    app.state.foreman = Foreman(studio.gate)
    studio.sessions.changed = app.state.foreman.changed
    app.state.printer.told = app.state.foreman.printed
    app.mount("/static", StaticFiles(directory=Path(__file__).parent / "static"), name="static")
    for module in sorted(screens.found(), key=lambda m: m not in _FIRST):
        app.router.routes.extend(module.router.routes)  # as they are: to include a router builds each a second time
    app.add_middleware(Faults)  # the last one added stands outermost
    app.add_middleware(Bounded)
    if keeper is not None:
        app.add_middleware(Door, keeper=keeper)
    app.add_middleware(SameOrigin)
    app.add_middleware(TrustedHostMiddleware, allowed_hosts=sorted(hosts), www_redirect=False)
    app.add_middleware(Headed)
    _answer_errors(app)

    @app.get("/favicon.ico")
    def _icon() -> Response:
        return RedirectResponse("/static/icon.svg")

    return app


def close_app(app: FastAPI) -> None:
    """Stop what is under way, and let go of the data folder."""
    app.state.studio.stop()
    app.state.printer.close()
    app.state.studio.close()


def _answer_errors(app: FastAPI) -> None:
    """What is the user's to know in words; whatever else goes wrong is a fault of ours (security.Faults)."""

    @app.exception_handler(MicLaneError)
    def _refused(request: Request, error: MicLaneError) -> Response:
        return _answer(request, _STATUS.get(type(error), 422), str(error))

    @app.exception_handler(CancelledError)
    def _overtaken(request: Request, error: CancelledError) -> Response:
        return Response(status_code=204)

    @app.exception_handler(RequestValidationError)
    def _malformed(request: Request, error: RequestValidationError) -> Response:
        first = error.errors()[0]
        place = ".".join(str(p) for p in first["loc"] if p not in ("body", "query", "path"))
        return _answer(request, 422, f"{place or 'request'}: {first['msg']}")

    @app.exception_handler(HTTPException)
    def _http(request: Request, error: HTTPException) -> Response:
        words = "there is nothing at this address" if error.status_code == 404 else str(error.detail)
        return _answer(request, error.status_code, words)


def _answer(request: Request, status: int, words: str) -> Response:
    if "text/html" in request.headers.get("accept", "") and request.headers.get("hx-request") != "true":
        return render_error(request, status, words)
    return JSONResponse({"error": words}, status)
