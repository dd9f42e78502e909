"""Handles on the bench: rules that move several settings at once, gathered by moving these between two ends."""

from dataclasses import dataclass
from typing import Annotated, Any

from fastapi import Request
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field, FiniteFloat, ValidationError

from ...core.errors import MicLaneError, UnknownPlaceError, UnusableChainError
from ...core.mix.chain import describe
from ...core.mix.document import Session
from ...core.mix.edits import Edit, Insert, Set
from ...core.mix.handle import MOST, Handle, HandleMove
from ...core.mix.handling import gathered, position_of
from ...core.mix.labels import names_to
from ...core.mix.paths import Path, find_path
from ...core.mix.places import walk
from ...core.stages.base import rule_of
from ...core.units import parse_value, show_value
from ..hands import Router
from ..opened import Here, Opened
from .edits import told

router = Router()


@dataclass(frozen=True)
class Line:
    """One setting that a handle moves, in words: what, and its value at either end; `there` is false where it is
    gone."""

    name: str
    at_0: str
    at_1: str
    there: bool


@dataclass(frozen=True)
class Shown:
    """A handle as the bench has it; `left` says that its settings no longer lie where it stands."""

    handle: Handle
    lines: tuple[Line, ...]
    left: bool


def handles_shown(session: Session, path: Path) -> list[Shown]:
    """The handles of a path with what each moves in words."""
    return [_shown(session, path, handle) for handle in path.member.handles]


def _shown(session: Session, path: Path, handle: Handle) -> Shown:
    lines, left = [], False
    for move in handle.moves:
        place = f"{path.base}/{move.at}"
        rule, now = _number(session, place)
        if rule is None:
            lines.append(Line("a setting that is gone", f"{move.at_0:g}", f"{move.at_1:g}", False))
            continue
        names, _, _ = names_to(session, place)
        at_0, at_1 = _said(rule, move.at_0), _said(rule, move.at_1)
        lines.append(Line(" · ".join([*names[1:], rule["label"]]), at_0, at_1, True))
        left = left or abs(now - move.value(handle.value)) > 1e-3 * max(1.0, abs(now))
    return Shown(handle, tuple(lines), left)


def _said(rule: dict[str, Any], value: float) -> str:
    return " ".join(show_value(value, rule["unit"], rule["signed"])).strip()


def _number(session: Session, place: str) -> tuple[dict[str, Any] | None, float]:
    try:
        last = walk(session, place)[-1]
    except UnknownPlaceError:
        return None, 0.0
    rule = rule_of(last.holder, last.field)
    return rule, float(last.value) if rule else 0.0


@router.get("/s/{session_id}/handles/position")
def position(request: Request, here: Here, of: str) -> JSONResponse:
    """Where every number of a path stands: what gathering begins from."""
    path = find_path(here.state.session, of)
    return JSONResponse({"path": path.name, "position": position_of(here.state.session, of)})


class Gathering(BaseModel):
    """Where the settings of a path stood; what the handle is called, or which one is gathered anew."""

    path: str = Field(max_length=80)
    position: dict[Annotated[str, Field(max_length=300)], FiniteFloat] = Field(max_length=20_000)
    name: str = Field("", max_length=200)
    into: str = Field("", max_length=40)


@router.post("/s/{session_id}/handles/gather")
def gather(request: Request, here: Here, body: Gathering) -> JSONResponse:
    """Make a handle of what was moved since, or give it to one there is."""
    session = here.state.session
    path = find_path(session, body.path)
    made = gathered(session, body.path, body.position, body.name)
    base = f"{path.base}/handles"
    if body.into:
        known = _handle(path, body.into)
        moves = [m.model_dump(mode="json") for m in made.moves]
        edits: list[Edit] = [Set(path=f"{base}/{known.id}/moves", value=moves)]
        edits.append(Set(path=f"{base}/{known.id}/value", value=1.0))
    else:
        if len(path.member.handles) >= MOST:
            raise MicLaneError(f"“{path.member.name}” has {MOST} handles already: gather into one of them")
        edits = [Insert(path=base, index=MOST, value=made.model_dump(mode="json"))]
    return _done(here, edits)


class Ranging(BaseModel):
    """One move of a handle, and what becomes of it: another end as typed, the other way round, or gone."""

    path: str = Field(max_length=80)
    handle: str = Field(max_length=40)
    move: int = Field(ge=0, le=64)
    at_0: str = Field("", max_length=40)
    at_1: str = Field("", max_length=40)
    turn: bool = False
    drop: bool = False


@router.post("/s/{session_id}/handles/range")
def ranging(request: Request, here: Here, body: Ranging) -> JSONResponse:
    """Move a setting over another range, or no longer; the handle stays where it is and the setting follows."""
    session = here.state.session
    path = find_path(session, body.path)
    handle = _handle(path, body.handle)
    if body.move >= len(handle.moves):
        raise UnknownPlaceError(f"“{handle.name}” moves {len(handle.moves)} settings")
    move = handle.moves[body.move]
    moves: list[HandleMove | None] = list(handle.moves)
    moves[body.move] = None if body.drop else _changed(session, path, move, body)
    base = f"{path.base}/handles/{handle.id}"
    kept = [m.model_dump(mode="json") for m in moves if m is not None]
    return _done(here, [Set(path=f"{base}/moves", value=kept), Set(path=f"{base}/value", value=handle.value)])


def _changed(session: Session, path: Path, move: HandleMove, body: Ranging) -> HandleMove:
    rule, _ = _number(session, f"{path.base}/{move.at}")
    unit = rule["unit"] if rule else ""
    ends = [
        parse_value(text, unit, session.tempo_bpm) if text else value
        for text, value in ((body.at_0, move.at_0), (body.at_1, move.at_1))
    ]
    if body.turn:
        ends.reverse()
    scale = "log" if rule and rule["scale"] == "log" and min(ends) > 0 else "linear"
    try:
        return HandleMove.model_validate({"at": move.at, "from": ends[0], "to": ends[1], "scale": scale})
    except ValidationError as error:
        raise UnusableChainError(describe(error)) from error


def _handle(path: Path, identifier: str) -> Handle:
    found = next((h for h in path.member.handles if h.id == identifier), None)
    if found is None:
        raise UnknownPlaceError(f"“{path.member.name}” has no handle “{identifier}”")
    return found


def _done(here: Opened, edits: list[Edit]) -> JSONResponse:
    studio, state = here
    after = studio.edit(state.id, edits, None, alternative=state.alternative)
    return JSONResponse(told(after, edits))
