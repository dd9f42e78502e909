"""The Space screen: a return, the ducker that holds it down, and what every lane sends to it."""

import itertools
from dataclasses import dataclass
from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, Response

from ..core.engine.render import Range
from ..core.errors import UnknownPlaceError
from ..core.mix.document import Lane, Return, Session
from ..core.stages.base import Stage
from ..core.stages.duck import Duck
from ..core.units import show_value
from ..store.sessions import State
from .lane import lane_data
from .pages import page
from .sound import Frame, check_range, studio_of
from .studio import Hear, Studio
from .svg import path_of

router = APIRouter()
WIDTH, LEFT, COLUMNS = 860, 0, 430
LOW_DB, HIGH_DB = -66.0, -12.0


@dataclass(frozen=True)
class Clearance:
    """How the returns make room: dry over returns in dB while singing and in gaps, return to within 1 dB, gaps."""

    singing_db: float | None
    gaps_db: float | None
    back_ms: float | None
    shortest_gap_ms: float | None
    held_singing_db: float | None
    held_gaps_db: float | None


def find_return(session: Session, wanted: str) -> Return | None:
    """The wanted return, or the first; UnknownPlaceError for one that is not there."""
    if not wanted:
        return session.returns[0] if session.returns else None
    for ret in session.returns:
        if ret.id == wanted:
            return ret
    raise UnknownPlaceError(f"there is no return “{wanted}” in “{session.name}”")


def key_lane(session: Session, ret: Return | None) -> Lane | None:
    """The lane that ducks a return, else the lead, else the first."""
    duck = next((s for s in ret.stages if isinstance(s, Duck)), None) if ret else None
    wanted = duck.key.lane if duck else "lead"
    by_id = {lane.id: lane for lane in session.lanes}
    return (
        by_id.get(wanted)
        or next((x for x in session.lanes if x.role == "lead"), None)
        or next(iter(session.lanes), None)
    )


@router.get("/s/{session_id}/space", response_class=HTMLResponse)
def space_page(request: Request, session_id: str, return_id: str = "") -> HTMLResponse:
    """The whole screen."""
    studio = studio_of(request)
    state = studio.sessions.get(session_id)
    ret = find_return(state.session, return_id)
    lane = key_lane(state.session, ret)
    data = lane_data(studio, state, lane) if lane else {}
    if data:
        data |= {"screen": "space", "return": ret.id if ret else "", "hold": "unducked"}
    return page(request, "space.html", state, screen="space", data=data, **space_context(state, ret, lane))


@router.get("/s/{session_id}/space/body", response_class=HTMLResponse)
def space_body(request: Request, session_id: str, return_id: str = "") -> HTMLResponse:
    """The settings alone, after a change."""
    state = studio_of(request).sessions.get(session_id)
    ret = find_return(state.session, return_id)
    return page(
        request, "space_body.html", state, screen="space", **space_context(state, ret, key_lane(state.session, ret))
    )


def space_context(state: State, ret: Return | None, lane: Lane | None) -> dict[str, Any]:
    """What the templates of the screen need."""
    stages = ret.stages if ret else ()
    base = f"returns/{ret.id}/stages" if ret else ""
    duck = next((s for s in stages if s.kind == "duck"), None)
    effects: list[Stage] = [s for s in stages if s.kind != "duck"]
    sends = []
    for other in state.session.lanes:
        send = next((s for s in other.sends if ret and s.id == ret.id), None)
        if send or other.role != "music":
            sends.append({"lane": other, "send": send, "path": f"lanes/{other.id}/sends"})
    return {"ret": ret, "key": lane, "lane": lane, "effects": effects, "duck": duck, "base": base, "sends": sends}


@router.get("/s/{session_id}/space/picture")
def space_picture(
    request: Request,
    session_id: str,
    first: Frame,
    last: Frame,
    hear: Hear = "vocals",
    lane: str = "",
) -> Response:
    """Dry vocal, and every return before and after its duck, over the loop, with the four numbers."""
    studio = studio_of(request)
    state = studio.sessions.get(session_id)
    check_range(state, first, last)
    key = next((x for x in state.session.lanes if x.id == lane), None)
    pitch = 244 if len(state.session.returns) == 1 else 116
    rows = [_return_row(studio, state, ret, hear, lane, first, last, pitch) for ret in state.session.returns]
    numbers = clearance(studio, state, key, hear, first, last) if key else None
    dry = _dry_row(studio, state, key, hear, first, last) if key else None
    spans = _spans(key, first, last) if key else []
    duck = next((s for r in state.session.returns for s in r.stages if isinstance(s, Duck)), None)
    threshold = show_value(duck.threshold_db, "dBTP")[0] if duck else ""
    scale = dry["scale"] if dry else 1.0
    line = 10 ** (duck.threshold_db / 20) * scale if duck else 0
    return page(
        request,
        "space_picture.html",
        state,
        rows=rows,
        dry=dry,
        spans=spans,
        numbers=numbers,
        threshold=threshold,
        threshold_y=50 - min(30.0, line * 30),
        duck=duck,
        width=WIDTH,
        height=92 + pitch * len(rows),
    )


def _rendered(
    studio: Studio, state: State, place: str, hear: Hear, lane: str, first: int, last: int
) -> tuple[Range, str]:
    graph = studio.graph(state)
    key = graph.places[place]
    heard = studio.target(graph, hear, lane) if hear != "return" else graph.places["bus:mix:out"]
    if not any(node.key == key for node in graph.needed(heard)):
        heard = key
    return studio.renderer(graph.rate).loop(graph, heard, first, last), key


def _columns(audio: np.ndarray) -> np.ndarray:
    """RMS in dB of each drawn column."""
    n = audio.shape[1] // COLUMNS
    power = (audio[:, : n * COLUMNS].reshape(audio.shape[0], COLUMNS, n) ** 2).mean(axis=(0, 2))
    return 10 * np.log10(np.maximum(power, 1e-20))


def _level_path(level: np.ndarray, base: float, height: float) -> str:
    x = np.linspace(LEFT, WIDTH, len(level))
    y = base - (np.clip(level, LOW_DB, HIGH_DB) - LOW_DB) / (HIGH_DB - LOW_DB) * height
    return path_of(x, y) + f"L{WIDTH} {base}L{LEFT} {base}Z"


def _return_row(
    studio: Studio, state: State, ret: Return, hear: Hear, lane: str, first: int, last: int, pitch: int
) -> dict[str, Any]:
    index = [r.id for r in state.session.returns].index(ret.id)
    top = 84 + pitch * index
    hear = "vocals" if hear == "lane" else hear
    found, end = _rendered(studio, state, f"return:{ret.id}:treated", hear, lane, first, last)
    graph = studio.graph(state)
    duck = next((s for s in ret.stages if isinstance(s, Duck)), None)
    after = found.cut(end)
    before = found.cut(graph.places[f"return:{ret.id}:before:{duck.id}"]) if duck else after
    row: dict[str, Any] = {
        "ret": ret,
        "top": top,
        "base": top + pitch - 8,
        "before": _level_path(_columns(before), top + pitch - 8, pitch - 42),
        "after": _level_path(_columns(after), top + pitch - 8, pitch - 42),
        "gain": "",
        "duck": duck,
    }
    trace = found.trace(graph.places[f"return:{ret.id}:stage:{duck.id}"]) if duck and duck.on else None
    if trace is not None and trace.gain_db is not None:
        a, b = (first - trace.start) // trace.hop, (last - trace.start) // trace.hop
        gain = trace.gain_db[a:b]
        row["gain"] = path_of(np.linspace(LEFT, WIDTH, len(gain)), top + 6 + np.minimum(-gain, 24) * 1.1)
    return row


def _dry_row(studio: Studio, state: State, lane: Lane, hear: Hear, first: int, last: int) -> dict[str, Any]:
    hear = "vocals" if hear == "lane" else hear
    found, key = _rendered(studio, state, f"lane:{lane.id}:treated", hear, lane.id, first, last)
    audio = found.cut(key)
    edges = np.linspace(0, audio.shape[1], 861).astype(int)[:-1]
    high, low = np.maximum.reduceat(audio.max(axis=0), edges), np.minimum.reduceat(audio.min(axis=0), edges)
    scale = 1 / max(float(np.abs(audio).max()), 0.05)
    x = np.linspace(LEFT, WIDTH, 860)
    up, down = path_of(x, 50 - high * scale * 30), path_of(x[::-1], 50 - low[::-1] * scale * 30)
    return {"path": up + "L" + down[1:] + "Z", "scale": scale}


def _spans(lane: Lane, first: int, last: int) -> list[dict[str, Any]]:
    def x(frame: int) -> float:
        return round((min(max(frame, first), last) - first) / (last - first) * WIDTH, 1)

    inside = [(i, p) for i, p in enumerate(lane.phrases) if p.start < last and p.end > first]
    return [
        {
            "index": i,
            "x": x(p.start),
            "width": max(2.0, x(p.end) - x(p.start)),
            "words": p.words or f"phrase {i + 1}",
            "short": (p.words or f"phrase {i + 1}")[: max(2, int((x(p.end) - x(p.start)) / 6.6))],
        }
        for i, p in inside
    ]


def clearance(studio: Studio, state: State, lane: Lane, hear: Hear, first: int, last: int) -> Clearance:
    """Dry over returns while singing and in gaps, and what the first ducked return does after each phrase."""
    hear = "vocals" if hear == "lane" else hear
    studio.graph(state)
    found, dry_key = _rendered(studio, state, f"lane:{lane.id}:out", hear, lane.id, first, last)
    dry = (found.cut(dry_key) ** 2).sum(axis=0)
    wet = np.zeros_like(dry)
    for ret in state.session.returns:
        part, key = _rendered(studio, state, f"return:{ret.id}:out", hear, lane.id, first, last)
        wet += (part.cut(key) ** 2).sum(axis=0)
    sung = np.zeros(len(dry), bool)
    for p in lane.phrases:
        sung[max(0, p.start - first) : max(0, p.end - first)] = True
    inside = [p for p in lane.phrases if p.start < last and p.end > first]
    gaps = np.zeros(len(dry), bool)
    lengths = []
    for a, b in itertools.pairwise(inside):
        gaps[max(0, a.end - first) : max(0, b.start - first)] = True
        lengths.append((b.start - a.end) / state.session.rate * 1000)

    def over(mask: np.ndarray) -> float | None:
        if not mask.any() or wet[mask].mean() < 1e-14:
            return None
        return float(10 * np.log10(max(dry[mask].mean(), 1e-20) / wet[mask].mean()))

    held = _held(studio, state, hear, lane, first, last, inside)
    return Clearance(over(sung), over(gaps), held[0], min(lengths, default=None), held[1], held[2])


def _held(
    studio: Studio, state: State, hear: Hear, lane: Lane, first: int, last: int, phrases: list[Any]
) -> tuple[float | None, float | None, float | None]:
    """Median time until the first ducked return is back within 1 dB, and its median gain singing and in gaps."""
    graph = studio.graph(state)
    for ret in state.session.returns:
        duck = next((s for s in ret.stages if isinstance(s, Duck) and s.on), None)
        if duck is None:
            continue
        found, _ = _rendered(studio, state, f"return:{ret.id}:treated", hear, lane.id, first, last)
        trace = found.trace(graph.places[f"return:{ret.id}:stage:{duck.id}"])
        if trace is None or trace.gain_db is None:
            continue
        times, singing, gaps = [], [], []
        for k, p in enumerate(phrases):
            a, b = (max(p.start, first) - trace.start) // trace.hop, (min(p.end, last) - trace.start) // trace.hop
            singing.append(trace.gain_db[a:b])
            until = phrases[k + 1].start if k + 1 < len(phrases) else min(last, p.end + 3 * state.session.rate)
            after = trace.gain_db[b : max(b, (until - trace.start) // trace.hop)]
            gaps.append(after)
            back = np.flatnonzero(after > -1.0)
            if len(back):
                times.append(back[0] * trace.hop / state.session.rate * 1000)
        both = [np.concatenate(x) if x and sum(map(len, x)) else np.zeros(0) for x in (singing, gaps)]
        middle = [float(np.median(x)) if len(x) else None for x in both]
        return (float(np.median(times)) if times else None, middle[0], middle[1])
    return None, None, None
