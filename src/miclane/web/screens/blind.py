"""Blind listening: a test begun, its letters heard, answers taken, and only then names."""

from fastapi import Request, Response
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field

from ...studio.blind import Blind, Question, Run
from ...studio.graphs import Hear
from ..hands import Router, measuring
from ..opened import Here, check_range
from .sound import side_by_side

router = Router()


class Beginning(BaseModel):
    """What is asked about which sides, over frames [first, last)."""

    question: Question
    sides: list[str] = Field(max_length=8)
    first: int = Field(ge=0)
    last: int = Field(ge=0)
    hear: Hear = "mix"
    lane: str = Field("", max_length=40)


class Answer(BaseModel):
    """The letter that was chosen in a trial."""

    letter: str = Field(max_length=1)


def blind_of(request: Request) -> Blind:
    """The tests of the application."""
    found: Blind = request.app.state.blind
    return found


def _told(run: Run) -> dict[str, object]:
    """All that the page is told while a test is under way."""
    return {"id": run.id, "question": run.question, "heard": run.heard, "trial": len(run.answers) + 1}


@router.post("/s/{session_id}/blind")
@measuring
def begin(request: Request, here: Here, body: Beginning) -> JSONResponse:
    """Begin a test."""
    check_range(here.state, body.first, body.last)
    span = body.first, body.last
    run = blind_of(request).begin(here.state, body.question, body.sides, span, body.hear, body.lane)
    return JSONResponse(_told(run), 201)


@router.get("/s/{session_id}/blind/{run}/{trial}/{letter}")
def sound(request: Request, session_id: str, run: str, trial: int, letter: str) -> Response:
    """What a letter is in a trial, as stereo floats, left before right."""
    audio = blind_of(request).run(session_id, run).sound(letter)
    headers = {"Cache-Control": "no-store"}
    return Response(side_by_side(audio), media_type="application/octet-stream", headers=headers)


@router.post("/s/{session_id}/blind/{run}/answer")
def answer(request: Request, session_id: str, run: str, body: Answer) -> JSONResponse:
    """Take an answer in; what is right is not said."""
    found = blind_of(request).run(session_id, run)
    found.answer(body.letter)
    return JSONResponse(_told(found))


@router.post("/s/{session_id}/blind/{run}/finish")
def finish(request: Request, session_id: str, run: str) -> JSONResponse:
    """End a test: what the answers say, and the names."""
    return JSONResponse(blind_of(request).finish(session_id, run))
