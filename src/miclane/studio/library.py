"""Chains kept from a session, put on its lanes, and tried beside what is there."""

from typing import Any

from ..core.errors import MicLaneError, UnknownPlaceError
from ..core.mix.alternatives import edits_of, make_edits
from ..core.mix.document import Lane
from ..core.mix.edits import Edit, apply
from ..core.mix.pasting import copied_chain, of_no_take
from ..core.mix.paths import find_path
from ..core.mix.swapping import KEEPS, How, keeps_as_file, put_chain
from ..store.chains import Kept
from ..store.state import State
from .passes import passes_of_lane
from .studio import Studio

_CHANGED = {"ms": 10.0, "bursts": 1.0}  # of a measure, else half a decibel: less is not worth saying
_SAID = 6


def keep_chain(
    studio: Studio, state: State, name: str, stages: list[str], title: str, note: str, tags: list[str]
) -> Kept:
    """Keep the stages of a path (those that are named, else all), with what they do to the take there."""
    path = find_path(state.session, name)
    chain = of_no_take(copied_chain(state.session, name, stages))
    made: dict[str, Any] = {"session": state.session.name, "of": state.id, "path": name, "place": path.member.name}
    if isinstance(path.member, Lane) and not stages:
        made["measured"] = measured_of(studio, state, path.member)
    return studio.chains.keep(chain, title, note, tags, made)


def measured_of(studio: Studio, state: State, lane: Lane) -> list[dict[str, Any]]:
    """What the chain of a lane changes of its take: name, unit, first and last of each measure, what is most first."""
    found = [
        a
        for a in passes_of_lane(studio, state, lane)
        if abs(a.trail.last - a.trail.first) >= _CHANGED.get(a.aim.unit, 0.5)
    ]
    told = [
        {"name": a.aim.name, "unit": a.aim.unit, "first": round(a.trail.first, 2), "last": round(a.trail.last, 2)}
        for a in sorted(found, key=lambda a: a.trail.standing != "mended")
    ]
    return told[:_SAID]


def put_on(
    studio: Studio, state: State, kept: Kept, names: list[str], how: How, keeps: tuple[str, ...]
) -> tuple[State, list[str]]:
    """Put a chain on several paths in one step; what was left out, in words. MicLaneError where nothing of it stands.

    What a swap keeps is remembered for this chain.
    """
    _check(names, keeps)
    edits, left_out, session = [], [], state.session
    for name in names:
        done = put_chain(session, name, kept.chain, how, keeps, _taken_from(state, kept))
        called = find_path(session, name).member.name
        left_out += [f"{called}, {line}" for line in done.left_out]
        edits += done.edits
        session = apply(session, done.edits).session if done.edits else session
    if not edits:
        raise MicLaneError("nothing of it can stand there: " + "; ".join(left_out))
    remembered = keeps_as_file(keeps)
    if how == "replace" and set(remembered) != set(kept.keeps):
        studio.chains.remember(kept.id, list(remembered))
    after = studio.edit(state.id, edits, None, where=state.where, alternative=state.alternative)
    return after, left_out


def try_on(studio: Studio, state: State, kept: Kept, name: str, keeps: tuple[str, ...]) -> tuple[State, str, list[str]]:
    """Make an alternative of a path with the chain in the place of its own; its id, and what was left out."""
    _check([name], keeps)
    path = find_path(state.session, name)
    made, identifier = make_edits(state.song, path.base, state.alternative, kept.name)
    with_it = apply(state.song, made).session
    done = put_chain(state.session, name, kept.chain, "replace", keeps, _taken_from(state, kept))
    if not done.edits:
        raise MicLaneError("nothing of it can stand there: " + "; ".join(done.left_out))
    edits: list[Edit] = [*made, *edits_of(with_it, identifier, done.edits)]
    after = studio.sessions.edit(state.id, edits, None, label=f"“{kept.name}” tried on {path.member.name}"[:400])
    return after, identifier, done.left_out


def _taken_from(state: State, kept: Kept) -> str:
    """The path it was made on, where it is of this session."""
    return str(kept.made.get("path", "")) if kept.made.get("of") == state.id else ""


def _check(names: list[str], keeps: tuple[str, ...]) -> None:
    if not names:
        raise MicLaneError("say where it goes: a lane, a return or a bus")
    if unknown := [k for k in keeps if k not in KEEPS and not k.startswith(("stages/*/", "sends/*/"))]:
        raise UnknownPlaceError(f"a swap cannot keep “{unknown[0]}”; it can keep {', '.join(KEEPS)}")
