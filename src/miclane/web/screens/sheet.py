"""The settings sheet: a page for each lane, one for returns and buses; on paper, as a table, as data."""

from typing import Any
from urllib.parse import quote

from fastapi import Request
from fastapi.responses import HTMLResponse, JSONResponse, Response

from ...core.mix.document import Session
from ...core.print_names import flat_path
from ...core.stages.compressor import Compressor
from ...core.stages.eq import Eq
from ...studio.sheet import PathSheet, as_csv, as_json, did, sheet_of
from ..drawing.dynamics import static_curve
from ..drawing.eq import Plot, eq_paths
from ..hands import Router, measuring
from ..opened import Here, Opened
from ..pages import page
from .lane import page_data

router = Router()
SCRIPT = "sheet"
_PLOT = Plot(left=0, right=260, top=2, bottom=78)


@router.get("/s/{session_id}/sheet", response_class=HTMLResponse)
def sheet_page(request: Request, here: Here) -> HTMLResponse:
    """All settings in words; what the stages did comes after, path by path."""
    data = page_data(here.studio, here.state, "sheet")
    context: dict[str, Any] = {"sheets": sheet_of(here.state.song), "drawn": _drawn(here.state.song), "lane": None}
    return page(request, "sheet.html", here.state, screen="print", data=data, zero=float(_PLOT.y(0.0)), **context)


@router.get("/s/{session_id}/sheet/did")
@measuring
def what_they_did(request: Request, here: Here, path: str) -> JSONResponse:
    """What each stage of a path did over the whole song."""
    return JSONResponse(did(here.studio, here.state, path))


@router.get("/s/{session_id}/sheet.json")
@measuring
def sheet_json(request: Request, here: Here) -> JSONResponse:
    """The sheet as data, with what was measured."""
    song, sheets, done = _measured(here)
    return JSONResponse(as_json(song, sheets, done), headers=_saved(song, "json"))


@router.get("/s/{session_id}/sheet.csv")
@measuring
def sheet_csv(request: Request, here: Here) -> Response:
    """The sheet as a table, with what was measured."""
    song, sheets, done = _measured(here)
    return Response(as_csv(sheets, done), media_type="text/csv; charset=utf-8", headers=_saved(song, "csv"))


def _measured(here: Opened) -> tuple[Session, list[PathSheet], dict[str, dict[str, str]]]:
    sheets = sheet_of(here.state.song)
    return here.state.song, sheets, {s.path.name: did(here.studio, here.state, s.path.name) for s in sheets}


def _drawn(session: Session) -> dict[tuple[str, str], dict[str, Any]]:
    """The curves of EQs and compressors, by path and stage."""
    found: dict[tuple[str, str], dict[str, Any]] = {}
    for sheet in sheet_of(session):
        for told in sheet.stages:
            if isinstance(told.stage, Eq):
                found[sheet.path.name, told.stage.id] = {"eq": eq_paths(told.stage, session.rate, _PLOT)}
            elif isinstance(told.stage, Compressor):
                found[sheet.path.name, told.stage.id] = {"static": static_curve(told.stage)}
    return found


def _saved(session: Session, suffix: str) -> dict[str, str]:
    name = quote(f"{flat_path(session.name)} - settings.{suffix}")
    return {"content-disposition": f"attachment; filename*=UTF-8''{name}"}
