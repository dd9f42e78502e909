"""The application: routers, templates, errors in words."""

from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, RedirectResponse, Response
from fastapi.staticfiles import StaticFiles
from starlette.exceptions import HTTPException

from ..core.errors import CancelledError, ConflictError, MicLaneError, UnknownPlaceError
from . import control, dynamics, edits, lane, printing, returns, routing, shelf, sibilance, sound, space, take, tone
from .pages import render_error
from .security import Guard
from .studio import Studio

HOSTS = frozenset({"127.0.0.1", "localhost", "::1"})


def create_app(data: Path, hosts: frozenset[str] = HOSTS) -> FastAPI:
    """The application on a data folder, answering to the given host names only."""
    app = FastAPI(title="Mic Lane", docs_url=None, redoc_url=None, openapi_url=None)
    app.state.studio = Studio(data)
    app.state.printer = printing.Printer(app.state.studio)
    app.mount("/static", StaticFiles(directory=Path(__file__).parent / "static"), name="static")
    for module in (
        shelf,
        lane,
        take,
        tone,
        sibilance,
        dynamics,
        control,
        routing,
        space,
        returns,
        printing,
        sound,
        edits,
    ):
        app.include_router(module.router)
    app.add_middleware(Guard, hosts=hosts)

    @app.exception_handler(MicLaneError)
    def _refused(request: Request, error: MicLaneError) -> Response:
        status = {ConflictError: 409, UnknownPlaceError: 404}.get(type(error), 422)
        return _answer(request, status, str(error))

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

    @app.get("/favicon.ico")
    def _icon() -> Response:
        return RedirectResponse("/static/icon.svg")

    return app


def _answer(request: Request, status: int, words: str) -> Response:
    if "text/html" in request.headers.get("accept", "") and request.headers.get("hx-request") != "true":
        return render_error(request, status, words)
    return JSONResponse({"error": words}, status)
