"""Handles at work: what moving one sets, how one is gathered from settings that were moved, how chains carry them."""

from typing import Any

from ..errors import MicLaneError, UnknownPlaceError, UnusableChainError
from ..stages.base import Stage, rule_of
from .document import Bus, Lane, Return, Session
from .edits import Edit, Set, new_id
from .handle import MOST_MOVES, Handle, HandleMove
from .local import place_after
from .numbers import numbers, outside
from .paths import Path, find_path
from .places import bounds_of, walk

Position = dict[str, float]  # settings by their places below a path, with their values


def position_of(session: Session, name: str) -> Position:
    """Every number that can be set on the stages of a path: {place below it: value}."""
    return {at: value for at, _, _, value in numbers(find_path(session, name).member.stages, "stages")}


def gathered(session: Session, name: str, before: Position, title: str = "") -> Handle:
    """A handle that moves what lies otherwise now than `before`, from there (0) to here (1).

    MicLaneError where nothing was moved, or more than a handle can hold.
    """
    path = find_path(session, name)
    moves = []
    for at, model, field, value in numbers(path.member.stages, "stages"):
        was = before.get(at)
        rule = rule_of(model, field)
        found_by_ear = field == "makeup_db" and getattr(model, "auto_makeup", False)
        if was is None or rule is None or was == value or found_by_ear:
            continue
        bounds = bounds_of(model, field)
        was = min(max(float(was), bounds["low"]), bounds["high"])
        scale = "log" if rule["scale"] == "log" and min(was, value) > 0 else "linear"
        moves.append(HandleMove.model_validate({"at": at, "from": was, "to": value, "scale": scale}))
    if not moves:
        raise MicLaneError("no setting lies otherwise than when gathering began, so there is nothing to gather")
    if len(moves) > MOST_MOVES:
        raise MicLaneError(f"{len(moves)} settings were moved; a handle moves up to {MOST_MOVES}")
    number = len(path.member.handles) + 1
    return Handle(id=new_id("h"), name=title.strip()[:40] or f"Handle {number}", value=1.0, moves=tuple(moves))


def handle_edits(session: Session, edits: list[Edit]) -> list[Edit]:
    """What must be set because handles were moved by edits that the session has already; what is gone is left."""
    found: list[Edit] = []
    for edit in edits:
        parts = edit.path.split("/")
        if not (isinstance(edit, Set) and len(parts) == 5 and parts[2] == "handles" and parts[4] == "value"):
            continue
        steps = walk(session, edit.path)
        handle = steps[-1].holder
        assert isinstance(handle, Handle)
        for move in handle.moves:
            place, value = "/".join((*parts[:2], move.at)), move.value(handle.value)
            now = _setting(session, place)
            if now is not None and now != value:
                found.append(Set(path=place, value=value))
    return found


def renumbered(session: Session, edits: list[Edit]) -> list[Edit]:
    """What must be set so that handles move the same bands, where edits put some in, took some out or moved some."""
    lists = [e for e in edits if "bands" in e.path.split("/") and not isinstance(e, Set)]
    found: list[Edit] = []
    for base, member in _members(session) if lists else ():
        for handle in member.handles:
            moves = []
            for move in handle.moves:
                place: str | None = f"{base}/{move.at}"
                for edit in lists:
                    place = place_after(place, edit) if place else None
                if place:
                    moves.append(move.model_copy(update={"at": place.removeprefix(f"{base}/")}))
            if tuple(moves) != handle.moves:
                value = [m.model_dump(mode="json") for m in moves]
                found.append(Set(path=f"{base}/handles/{handle.id}/moves", value=value))
    return found


def _members(session: Session) -> list[tuple[str, Lane | Return | Bus]]:
    return [(f"{g}/{m.id}", m) for g in ("lanes", "returns", "buses") for m in getattr(session, g)]


def shifted(session: Session, edits: list[Edit]) -> list[Edit]:
    """What moves the ranges of handles along with settings that `edits` set anew: each handle stays where it stands.

    A range in dB is moved by as much, one by ratios by the same ratio, within the bounds of its setting.
    """
    values = {e.path: float(e.value) for e in edits if isinstance(e, Set) and isinstance(e.value, int | float)}
    found: list[Edit] = []
    for base, member in _members(session):
        for handle in member.handles:
            moves = [_shifted(session, f"{base}/{m.at}", m, handle.value, values) for m in handle.moves]
            if tuple(moves) != handle.moves:
                value = [m.model_dump(mode="json") for m in moves]
                found.append(Set(path=f"{base}/handles/{handle.id}/moves", value=value))
    return found


def _shifted(session: Session, place: str, move: HandleMove, at: float, values: dict[str, float]) -> HandleMove:
    if place not in values:
        return move
    last = walk(session, place)[-1]
    bounds = bounds_of(last.holder, last.field)
    wanted, stands = values[place], move.value(at)
    if move.scale == "log":
        ends = [v * wanted / stands for v in (move.at_0, move.at_1)]
    else:
        ends = [v + wanted - stands for v in (move.at_0, move.at_1)]
    low, high = (min(max(round(v, 4), bounds["low"]), bounds["high"]) for v in ends)
    return HandleMove.model_validate({"at": move.at, "from": low, "to": high, "scale": move.scale})


def check_handles(session: Session, edits: list[Edit]) -> None:
    """UnusableChainError, in words, where edits gave a path a handle over a range that one of its settings has not."""
    parts = [e.path.split("/") for e in edits if not e.path.endswith("/value")]
    reached = {"/".join(p[:2]) for p in parts if p[2:3] == ["handles"] or len(p) < 3}
    for base, member in _members(session) if reached else ():
        if base not in reached and base.split("/")[0] not in reached:
            continue
        for handle in member.handles:
            for move in handle.moves:
                _check(session, base, handle, move)


def chain_handles(path: Path, stages: tuple[Stage, ...]) -> tuple[Handle, ...]:
    """The handles of a path as a chain of these stages carries them: their places by number, and only what is in it."""
    found = []
    for handle in path.member.handles:
        moves = [m.model_copy(update={"at": at}) for m in handle.moves if (at := _numbered(stages, m.at))]
        if moves:
            found.append(handle.model_copy(update={"moves": tuple(moves)}))
    return tuple(found)


def handles_of_chain(handles: tuple[Handle, ...], placed: dict[int, dict[str, Any]]) -> list[dict[str, Any]]:
    """The handles of a chain for a path, as plain data: `placed` is what became of its stages, by number; new ids.

    What moves a stage that was left out is left out.
    """
    found = []
    for handle in handles:
        moves = [m.model_copy(update={"at": at}) for m in handle.moves if (at := _named(placed, m.at))]
        if moves:
            made = handle.model_copy(update={"id": new_id("h"), "moves": tuple(moves)})
            found.append(made.model_dump(mode="json"))
    return found


def _setting(session: Session, place: str) -> float | None:
    try:
        value = walk(session, place)[-1].value
    except UnknownPlaceError:
        return None
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else None


def _check(session: Session, base: str, handle: Handle, move: HandleMove) -> None:
    try:
        last = walk(session, f"{base}/{move.at}")[-1]
    except UnknownPlaceError:
        return  # its stage was taken out; it comes back with it
    if not move.at.startswith("stages/") or rule_of(last.holder, last.field) is None or last.index is not None:
        raise UnusableChainError(f"“{handle.name}” cannot move {move.at}: it is no number of a stage")
    if reason := outside(last.holder, last.field, move):
        raise UnusableChainError(f"“{handle.name}” moves {move.at}: {reason}")


def _numbered(stages: tuple[Stage, ...], at: str) -> str:
    """A place by ids as one by numbers; "" where it is not of these stages."""
    ids = {a: b for (a, *_), (b, *_) in zip(numbers(stages, "stages"), numbers(stages, "stages", True), strict=True)}
    return ids.get(at, "")


def _named(placed: dict[int, dict[str, Any]], at: str) -> str:
    """A place by numbers as one by the ids that the stages, as plain data, have; "" where it is not among them."""
    parts = at.split("/")
    tree: Any = placed
    found = []
    for part in parts:
        if isinstance(tree, dict) and part in tree:
            tree = tree[part]
            found.append(part)
        elif part == "stages" and tree is placed:
            found.append(part)
        elif part.isdecimal() and (member := _member(tree, int(part))) is not None:
            tree = member
            found.append(str(member.get("id") or part) if isinstance(member, dict) else part)
        else:
            return ""
    return "/".join(found)


def _member(tree: Any, index: int) -> Any:
    if isinstance(tree, dict):
        return tree.get(index)
    return tree[index] if isinstance(tree, list) and index < len(tree) else None
