"""The Space screen: a return, the ducker that holds it down, and what every lane sends to it."""

from typing import Any

import numpy as np
from fastapi import Request
from fastapi.responses import HTMLResponse, Response

from ...core.engine.range import Range
from ...core.impulses import MADE
from ...core.measure.clearance import Held, clearance, held
from ...core.measure.phrases import Span
from ...core.mix.document import Lane, Return, Session
from ...core.mix.paths import find_path
from ...core.stages.base import Stage
from ...core.stages.delay import Echo
from ...core.stages.duck import Duck
from ...core.units import show_value
from ...store.state import State
from ...studio.ducking import return_of
from ...studio.graphs import Hear
from ...studio.studio import Studio
from ..drawing.paths import outline, path_of
from ..hands import Router
from ..opened import Frame, Here, check_range
from ..pages import page
from . import Nav
from .lane import lane_data, page_data
from .local import marks

router = Router()
NAV = Nav("space", "Space", 30, lambda session, lane: "space")
SCRIPT = "space"
WIDTH, LEFT, COLUMNS = 860, 0, 430
LOW_DB, HIGH_DB = -66.0, -12.0


def wanted_return(session: Session, wanted: str) -> Return | None:
    """The wanted return, or the first there is."""
    if not wanted:
        return session.returns[0] if session.returns else None
    return return_of(session, wanted)


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
def space_page(request: Request, here: Here, return_id: str = "") -> HTMLResponse:
    """The whole screen."""
    studio, state = here
    ret = wanted_return(state.session, return_id)
    lane = key_lane(state.session, ret)
    data = page_data(studio, state, "space")
    if lane is not None:
        data = lane_data(studio, state, find_path(state.session, lane.id))
    data |= {"screen": "space", "return": ret.id if ret else "", "hold": "unducked"}
    return page(request, "space.html", state, screen="space", data=data, **space_context(state, ret, lane))


@router.get("/s/{session_id}/space/body", response_class=HTMLResponse)
def space_body(request: Request, here: Here, return_id: str = "") -> HTMLResponse:
    """The settings alone, after a change."""
    state = here.state
    ret = wanted_return(state.session, return_id)
    return page(
        request, "space_body.html", state, screen="space", **space_context(state, ret, key_lane(state.session, ret))
    )


def space_context(state: State, ret: Return | None, lane: Lane | None) -> dict[str, Any]:
    """What the templates of the screen need."""
    stages = ret.stages if ret else ()
    base = f"returns/{ret.id}/stages" if ret else ""
    duck = next((s for s in stages if s.ducks), None)
    effects: list[Stage] = [s for s in stages if s.effect]
    others: list[Stage] = [s for s in stages if not s.ducks and not s.effect]
    sends = []
    for other in state.session.lanes:
        send = next((s for s in other.sends if ret and s.id == ret.id), None)
        if send or other.role != "music":
            sends.append({"lane": other, "send": send, "path": f"lanes/{other.id}/sends"})
    return {
        "local": marks(state),
        "ret": ret,
        "key": lane,
        "lane": lane,
        "effects": effects,
        "others": others,
        "responses": MADE,
        "duck": duck,
        "base": base,
        "sends": sends,
        "picture_width": WIDTH,
        "picture_height": _height(state.session),
    }


@router.get("/s/{session_id}/space/picture")
def space_picture(
    request: Request,
    here: Here,
    first: Frame,
    last: Frame,
    hear: Hear = "vocals",
    lane: str = "",
    before: bool = False,
    chosen: str = "",
) -> Response:
    """Dry vocal, and every return before and after its duck, over the loop, with the four numbers.

    With `before`, what each return would be with its ducker before the effect is drawn as well.
    """
    studio, state = here
    check_range(state, first, last)
    key = next((x for x in state.session.lanes if x.id == lane), None)
    pitch = _pitch(state.session)
    made = Rendering(studio, state, hear, first, last)
    rows = [_return_row(made, ret, lane, pitch) for ret in state.session.returns]
    for row in rows if before else ():
        row["first"] = _duck_first(studio, state, row["ret"], first, last, row["base"], pitch)
    numbers = four_numbers(made, key, chosen) if key else None
    dry = _dry_row(made, key) if key else None
    spans = _spans(key, first, last) if key else []
    returns = sorted(state.session.returns, key=lambda r: r.id != chosen)  # its threshold and times are told
    duck = next((s for r in returns for s in r.stages if isinstance(s, Duck)), None)
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
        beats=beat_lines(state, first, last),
        width=WIDTH,
        height=_height(state.session),
    )


def _pitch(session: Session) -> int:
    return {1: 244, 2: 116}.get(len(session.returns), 74)


def _height(session: Session) -> int:
    return 92 + _pitch(session) * len(session.returns)


class Rendering:
    """What a picture of the returns is made of: each sound that is heard is rendered over the loop once."""

    def __init__(self, studio: Studio, state: State, hear: Hear, first: int, last: int) -> None:
        self.studio, self.state, self.first, self.last = studio, state, first, last
        self.hear: Hear = "vocals" if hear == "lane" else hear
        self.graph = studio.graph(state)
        self._ranges: dict[str, Range] = {}

    def of(self, place: str, lane: str) -> tuple[Range, str]:
        """A range that holds the node of a place, and the node's key."""
        key, graph = self.graph.places[place], self.graph
        heard = self.studio.target(graph, self.hear, lane) if self.hear != "return" else graph.places["bus:mix:out"]
        if not graph.holds(heard, key, self.first, self.last):
            heard = key
        if heard not in self._ranges:
            renderer = self.studio.renderer(graph.rate)
            self._ranges[heard] = renderer.loop(graph, heard, self.first, self.last, self.studio.newest(self.state))
        return self._ranges[heard], key


def _columns(audio: np.ndarray) -> np.ndarray:
    """RMS in dB of each drawn column."""
    n = audio.shape[1] // COLUMNS
    power = (audio[:, : n * COLUMNS].reshape(audio.shape[0], COLUMNS, n) ** 2).mean(axis=(0, 2))
    return 10 * np.log10(np.maximum(power, 1e-20))


def _level_path(level: np.ndarray, base: float, height: float) -> str:
    x = np.linspace(LEFT, WIDTH, len(level))
    y = base - (np.clip(level, LOW_DB, HIGH_DB) - LOW_DB) / (HIGH_DB - LOW_DB) * height
    return path_of(x, y) + f"L{WIDTH} {base}L{LEFT} {base}Z"


def _return_row(made: Rendering, ret: Return, lane: str, pitch: int) -> dict[str, Any]:
    state, graph, first, last = made.state, made.graph, made.first, made.last
    index = [r.id for r in state.session.returns].index(ret.id)
    top = 84 + pitch * index
    found, end = made.of(f"return:{ret.id}:treated", lane)
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
        "first": "",
        "duck": duck,
        "repeats": _repeats(state, ret, lane, first, last),
    }
    trace = found.trace(graph.places[f"return:{ret.id}:stage:{duck.id}"]) if duck and duck.on else None
    if trace is not None and trace.gain_db is not None:
        a, b = (first - trace.start) // trace.hop, (last - trace.start) // trace.hop
        gain = trace.gain_db[a:b]
        row["gain"] = path_of(np.linspace(LEFT, WIDTH, len(gain)), top + 6 + np.minimum(-gain, 24) * 1.1)
    return row


def _duck_first(studio: Studio, state: State, ret: Return, first: int, last: int, base: float, pitch: int) -> str:
    """Level of a return with its ducker before the effect, as a line."""
    graph = studio.graph(state, duck_first=True)
    found = studio.renderer(graph.rate).loop(graph, graph.places[f"return:{ret.id}:out"], first, last)
    gain = 10 ** (-ret.fader_db / 20) if ret.fader_db > -60 else 1.0
    level = _columns(found.audio * gain)
    y = base - (np.clip(level, LOW_DB, HIGH_DB) - LOW_DB) / (HIGH_DB - LOW_DB) * (pitch - 42)
    return path_of(np.linspace(LEFT, WIDTH, len(level)), y)


def _repeats(state: State, ret: Return, lane: str, first: int, last: int) -> list[float]:
    """Where the repeats of the last word of each phrase fall, while they are within 24 dB of it."""
    echo = next((s for s in ret.stages if isinstance(s, Echo) and s.on), None)
    singer = next((x for x in state.session.lanes if x.id == lane), None)
    if echo is None or singer is None:
        return []
    timed = echo.at_tempo(state.session.tempo_bpm)
    step = timed.time_ms * state.session.rate / 1000  # type: ignore[attr-defined]
    count = 1 + int(-24 / (20 * np.log10(max(echo.feedback, 0.001))))
    places = [p.end + k * step for p in singer.phrases for k in range(1, count + 1)]
    return [round((x - first) / (last - first) * WIDTH, 1) for x in places if first < x < last]


def beat_lines(state: State, first: int, last: int) -> list[float]:
    """Places of the beats over a loop; none where they would stand closer than 12 pixels."""
    beat = 60 * state.session.rate / state.session.tempo_bpm
    if (last - first) / beat > WIDTH / 12:
        return []
    at = np.arange(np.ceil(first / beat), last / beat) * beat
    return [round(float((x - first) / (last - first) * WIDTH), 1) for x in at]


def _dry_row(made: Rendering, lane: Lane) -> dict[str, Any]:
    found, key = made.of(f"lane:{lane.id}:treated", lane.id)
    audio = found.cut(key)
    edges = np.linspace(0, audio.shape[1], 861).astype(int)[:-1]
    high, low = np.maximum.reduceat(audio.max(axis=0), edges), np.minimum.reduceat(audio.min(axis=0), edges)
    scale = 1 / max(float(np.abs(audio).max()), 0.05)
    x = np.linspace(LEFT, WIDTH, 860)
    return {"path": outline(low, high, x, lambda v: 50 - v * scale * 30), "scale": scale}


def _spans(lane: Lane, first: int, last: int) -> list[dict[str, float]]:
    def x(frame: int) -> float:
        return round((min(max(frame, first), last) - first) / (last - first) * WIDTH, 1)

    inside = [p for p in lane.phrases if p.start < last and p.end > first]
    return [{"x": x(p.start), "width": max(2.0, x(p.end) - x(p.start))} for p in inside]


def four_numbers(made: Rendering, lane: Lane, chosen: str) -> dict[str, Any]:
    """Dry over returns singing and in gaps, and what the chosen (else the first ducked) return does after phrases."""
    state, graph, first, last = made.state, made.graph, made.first, made.last
    rate = state.session.rate
    found, dry_key = made.of(f"lane:{lane.id}:out", lane.id)
    dry = (found.cut(dry_key) ** 2).sum(axis=0)
    wet = np.zeros_like(dry)
    for ret in state.session.returns:
        part, key = made.of(f"return:{ret.id}:out", lane.id)
        wet += (part.cut(key) ** 2).sum(axis=0)
    phrases = [Span(p.start, p.end) for p in lane.phrases]
    told = Held(None, None, None)
    for ret in sorted(state.session.returns, key=lambda r: r.id != chosen):
        duck = next((s for s in ret.stages if isinstance(s, Duck) and s.on), None)
        if duck is None:
            continue
        found, _ = made.of(f"return:{ret.id}:treated", lane.id)
        trace = found.trace(graph.places[f"return:{ret.id}:stage:{duck.id}"])
        if trace is not None and trace.gain_db is not None:
            told = held(trace, phrases, first, last, rate)
            break
    return {"over": clearance(dry, wet, phrases, first, rate), "held": told}
