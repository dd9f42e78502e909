"""What is otherwise in sections and phrases: the list of all of it, and what a bench shows of it."""

import itertools
from dataclasses import dataclass
from typing import Any

from fastapi import Request
from fastapi.responses import HTMLResponse

from ...core.mix.alternatives import alternative_of, beneath
from ...core.mix.alternatives import differences as differences_of
from ...core.mix.document import LocalValue, Session
from ...core.mix.edits import Edit, Remove, Set
from ...core.mix.local import is_there, name_of_where, told_of, worded
from ...core.mix.paths import find_path, name_of_path
from ...core.mix.places import walk
from ...core.mix.sections import NEVER, stretches, where_of
from ...core.stages.base import rule_of
from ...core.stages.flat import flat_stages
from ...core.stages.trim import Trim
from ...core.units import show_time, show_value
from ...store.state import State
from ..hands import Router
from ..opened import Here
from ..pages import page

router = Router()
_BEFORE_S, _AFTER_S = 0.25, 0.7  # of a loop around what is sung


@dataclass(frozen=True)
class Row:
    """Something that is not alike over the whole song: what, where, as what, and in the song; `back` takes it away.

    `address` is where it is set, `first` and `last` the frames of a loop there, `scope` for what a bench is set.
    """

    label: str
    where: str
    own: str
    song: str
    back: list[dict[str, Any]]
    taken: str
    address: str
    first: int
    last: int
    scope: str
    there: bool = True


def marks(state: State) -> list[dict[str, Any]]:
    """Values beside those that a bench shows: path, value, and whose it is; the song's where a section's is shown."""
    session, found = state.song, _beneath(state)
    for local in session.local_values:
        if not is_there(session, local.path):
            continue
        here = where_of(local) == state.where
        last = walk(session, local.path)[-1]
        value = last.value if here else local.value
        plain = value if isinstance(value, int | float | bool | str) else None
        words = worded(rule_of(last.holder, last.field), value)
        whose = "song" if here else name_of_where(session, where_of(local))
        found.append({"path": local.path, "value": plain, "words": words, "whose": whose, "here": here})
    return found


def _beneath(state: State) -> list[dict[str, Any]]:
    """What lies beneath an alternative that is looked at, where it differs."""
    if not state.alternative:
        return []
    under = alternative_of(state.song, state.alternative).beneath
    whose = next((x.name for x in state.song.alternatives if x.id == under), "A")
    found = []
    for line in differences_of(state.song, state.alternative):
        if isinstance(line.edits[0], Set) and line.was:
            last = walk(beneath(state.song, state.alternative), line.path)[-1]
            plain = last.value if isinstance(last.value, int | float | bool | str) else None
            found.append({"path": line.path, "value": plain, "words": line.was, "whose": whose, "here": False})
    return found


def local_stages(state: State) -> dict[str, str]:
    """Stages that are otherwise somewhere, by id, with where that is."""
    found: dict[str, list[str]] = {}
    for local in state.song.local_values:
        parts = local.path.split("/")
        for name, inside in itertools.pairwise(parts):
            if name == "stages":
                found.setdefault(inside, []).append(name_of_where(state.song, where_of(local)))
    return {stage: ", ".join(dict.fromkeys(names)) for stage, names in found.items()}


def level_lines(session: Session, base: str) -> list[dict[str, Any]]:
    """Fader and sends of a path that are otherwise somewhere: name, level in the song, and its stretches there.

    Of each stretch the frames over which it comes and goes, and the settings of its local value.
    """
    names = {r.id: r.name for r in session.returns}
    found: dict[str, dict[str, Any]] = {}
    for local in session.local_values:
        if not local.path.startswith(f"{base}/") or not is_there(session, local.path):
            continue
        parts = local.path.removeprefix(f"{base}/").split("/")
        if parts != ["fader_db"] and (parts[0] != "sends" or parts[2:] != ["level_db"]):
            continue
        label = f"to {names.get(parts[1], parts[1])}" if parts[0] == "sends" else "fader"
        line = found.setdefault(
            local.path,
            {"path": local.path, "label": label, "level_db": walk(session, local.path)[-1].value, "stretches": []},
        )
        where = name_of_where(session, where_of(local))
        for one in stretches(session, local):
            end = [min(v, session.frames) for v in one.end] if one.end[1] == NEVER else list(one.end)
            stretch = {"begin": list(one.begin), "end": end, "open": one.end[1] == NEVER, "where": where}
            line["stretches"].append(stretch | {k: getattr(local, k) for k in _LINE} | {"id": local.id})
    for line in found.values():
        line["stretches"].sort(key=lambda s: s["begin"])
    return list(found.values())


_LINE = ("value", "begins_ms", "ends_ms", "ramp_in_ms", "ramp_out_ms")


@router.get("/s/{session_id}/differences", response_class=HTMLResponse)
def differences(request: Request, here: Here) -> HTMLResponse:
    """All that is not alike over the whole song: local values, throws, trims."""
    state = here.state
    rows = [*_local_rows(state), *_throws(state), *_trims(state)]
    return page(request, "differences.html", state, screen="lane", rows=rows)


def _local_rows(state: State) -> list[Row]:
    found = []
    for told in told_of(state.song):
        first, last = told.frames or (0, 0)
        where = where_of(told.local)
        found.append(
            Row(
                told.label,
                told.where,
                told.own,
                told.song,
                _plain([Remove(path=f"local_values/{told.local.id}")]),
                "As the song",
                _address(state, told.local),
                *_around(state.song, first, last),
                "section" if where.section else "phrase",
                told.there,
            )
        )
    return found


def _throws(state: State) -> list[Row]:
    session, found = state.song, []
    names = {r.id: r.name for r in session.returns}
    for lane in session.lanes:
        for send in lane.sends:
            for throw in send.throws:
                first, last = (round(s * session.rate) for s in (throw.start_s, throw.end_s))
                found.append(
                    Row(
                        f"{lane.name} · Throw to {names.get(send.id, send.id)}",
                        f"{show_time(throw.start_s)} to {show_time(throw.end_s)}",
                        _level(throw.level_db),
                        _level(send.level_db),
                        _plain([Remove(path=f"lanes/{lane.id}/sends/{send.id}/throws/{throw.id}")]),
                        "Take out",
                        f"/s/{state.id}/lane/{lane.id}?stage=out",
                        *_around(session, first, last),
                        "song",
                    )
                )
    return found


def _trims(state: State) -> list[Row]:
    session, found = state.song, []
    for lane in session.lanes:
        stage = next((s for s in flat_stages(lane.stages) if isinstance(s, Trim)), None)
        for k, phrase in enumerate(lane.phrases, 1):
            if not phrase.trim_db or stage is None:
                continue
            found.append(
                Row(
                    f"{lane.name} · {stage.label}",
                    f"“{phrase.words}”" if phrase.words else f"phrase {k}",
                    _level(phrase.trim_db),
                    _level(0.0),
                    _plain([Set(path=f"lanes/{lane.id}/phrases/{phrase.id}/trim_db", value=0.0)]),
                    "Untrimmed",
                    f"/s/{state.id}/lane/{lane.id}?stage={stage.id}",
                    *_around(session, phrase.start, phrase.end),
                    "song",
                )
            )
    return found


def _level(value: float) -> str:
    return " ".join(show_value(value, "dB", True))


def _plain(edits: list[Edit]) -> list[dict[str, Any]]:
    return [e.model_dump(mode="json") for e in edits]


def _around(session: Session, first: int, last: int) -> tuple[int, int]:
    a, b = first - round(_BEFORE_S * session.rate), last + round(_AFTER_S * session.rate)
    return max(0, a), min(max(b, a + session.rate), max(session.frames, 1))


def _address(state: State, local: LocalValue) -> str:
    """Where a setting is shown: the bench of its stage, or the end of its route."""
    parts = local.path.split("/")
    name = name_of_path(parts[0], parts[1])
    path = find_path(state.song, name)
    stages = [inside for name, inside in itertools.pairwise(parts) if name == "stages"]
    known = {s.id for s in flat_stages(path.member.stages)}
    stage = next((s for s in reversed(stages) if s in known), "out")
    band = parts[parts.index("bands") + 1] if "bands" in parts[:-1] else "0"
    return f"/s/{state.id}/lane/{path.name}?stage={stage}&band={band if band.isdecimal() else 0}"
