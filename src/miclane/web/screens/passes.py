"""The Passes screen: where the work stands, pass by pass, of a lane and of the song."""

from dataclasses import dataclass
from typing import Any

from fastapi import Request
from fastapi.responses import HTMLResponse, JSONResponse

from ...core.measure.pocket import WANTED
from ...core.mix.document import Lane, Session
from ...core.passes.order import PASSES, Pass
from ...core.passes.trail import Standing
from ...studio.passes import Aimed, Place, known_of_lane, known_of_song, passes_of_lane, passes_of_song
from ...studio.studio import find_lane
from ..drawing.passes import Drawn, centre_of, draw_trail
from ..hands import Router, beside, measuring
from ..opened import Here, Opened
from ..pages import page
from . import Nav
from .lane import page_data
from .printing import printer_of

router = Router()
NAV = Nav("passes", "Passes", 5, lambda session, lane: f"passes?lane={lane}" if _sung(session, lane) else "passes")
SCRIPT = "passes"
SONG = "*"  # no lane is called that
SAID: dict[Standing, str] = {"again": "open again", "open": "open", "mended": "mended", "fine": "nothing to mend"}
_NAMED = 2
_WORST: tuple[Standing, ...] = ("again", "open", "mended", "fine")


def _sung(session: Session, lane: str) -> bool:
    return any(x.id == lane and x.role != "music" for x in session.lanes)


@dataclass(frozen=True)
class Line:
    """An aim as it is shown: what was and what is, what is to be said of it, and where to go for it."""

    aimed: Aimed
    standing: Standing
    was: str
    now: str
    says: str
    by: tuple[tuple[Place, str], ...]
    drawn: Drawn
    heard: str


@dataclass(frozen=True)
class Row:
    """A pass of a lane, or of the song: how it stands, its lines, and what of it there is nothing to mend of."""

    of: Pass
    standing: Standing
    lines: tuple[Line, ...]
    fine: tuple[str, ...]


@router.get("/s/{session_id}/passes", response_class=HTMLResponse)
def passes_page(request: Request, here: Here, lane: str = "") -> HTMLResponse:
    """The whole screen: of a lane, or of the song."""
    studio, state = here
    data = page_data(studio, state, "passes")
    return page(request, "passes.html", state, data=data, **_context(request, here, lane))


@router.get("/s/{session_id}/passes/body", response_class=HTMLResponse)
def passes_body(request: Request, here: Here, lane: str = "") -> HTMLResponse:
    """What is in it, as far as it has been measured."""
    return page(request, "passes_body.html", here.state, **_context(request, here, lane))


@router.get("/s/{session_id}/passes/measured")
@measuring
def measured(here: Here, of: str = SONG) -> JSONResponse:
    """Measure a lane, or the song, and say what of it is open again."""
    return JSONResponse(_told(here, of))


@router.get("/s/{session_id}/passes/marks")
@beside
def marks(here: Here, of: str = SONG) -> JSONResponse:
    """The same for the list at the side, which nobody waits for."""
    return JSONResponse(_told(here, of))


def _told(here: Opened, of: str) -> dict[str, Any]:
    studio, state = here
    found = passes_of_song(studio, state) if of == SONG else passes_of_lane(studio, state, find_lane(state.session, of))
    again = [a for a in found if a.trail.standing == "again"]
    words = list(dict.fromkeys(a.aim.word for a in again))
    says = "; ".join(f"{a.aim.name}: {says_of(a)}" for a in again)
    return {"version": state.version, "again": words, "says": says}


def _context(request: Request, here: Opened, name: str) -> dict[str, Any]:
    studio, state = here
    sung = [x for x in state.session.lanes if x.role != "music"]
    lane = find_lane(state.session, name) if name else None
    context: dict[str, Any] = {
        "screen": "passes",
        "lane": lane,
        "sung": sung,
        "rows": None,
        "lanes": (),
        "song": None,
        "kept": None,
        "stations": (),
        "wanted": WANTED,
        "said": SAID,
        "figure": figure,
        "words_of": words_of,
        "row_of": lambda rows, of: next((r for r in rows or () if r.of is of), None),
        "address": lambda place: address_of(state.id, place),
        "missing": [],
        "first": None,
        "silent": False,
        "passes": PASSES,
    }
    if lane is not None:
        found = known_of_lane(studio, state, lane)
        context["rows"] = None if found is None else rows_of(found, [p for p in PASSES if p.of_lane])
        context["missing"] = [] if found is not None else [lane.id]
        context["silent"] = found == []
        context["stations"] = _stations(lane)
        context["first"] = None if not context["rows"] else _first([(lane, r) for r in context["rows"]])
        return context
    known = {x.id: known_of_lane(studio, state, x) for x in sung}
    song = known_of_song(studio, state) if sung else []
    told = {k: None if v is None else rows_of(v, [p for p in PASSES if p.of_lane]) for k, v in known.items()}
    context["lanes"] = [(x, told[x.id]) for x in sung]
    context["song"] = None if song is None else rows_of(song, [p for p in PASSES if not p.of_lane])
    context["missing"] = [x.id for x in sung if told[x.id] is None] + ([SONG] if song is None else [])
    every = [(x, r) for x, rows in context["lanes"] for r in rows or ()] + [(None, r) for r in context["song"] or ()]
    context["first"] = _first(every)
    context["kept"] = _kept(request, here)
    return context


def _first(rows: list[tuple[Lane | None, Row]]) -> dict[str, Any] | None:
    """What is to be done first: what a later stage has undone, else what is open in the earliest pass."""
    for standing in _WORST[:2]:
        for of in PASSES:
            for lane, row in rows:
                line = next((x for x in row.lines if x.standing == standing and not x.aimed.aim.taste), None)
                if row.of is of and line is not None:
                    return {"lane": lane, "row": row, "line": line}
    return None


def _stations(lane: Lane) -> list[tuple[str, str, float]]:
    """Name, id and place of the beginning of a lane and of its stages that are on."""
    stages = [("raw", "take"), *((s.label, s.id) for s in lane.stages if s.on)]
    return [(name, stage, centre_of(k, len(stages))) for k, (name, stage) in enumerate(stages)]


def rows_of(found: list[Aimed], passes: list[Pass]) -> list[Row]:
    """What was measured, pass by pass."""
    rows = []
    for of in passes:
        aimed = [a for a in found if a.aim.of == of.id]
        lines = tuple(_line(a) for a in aimed if a.trail.standing != "fine")
        fine = tuple(dict.fromkeys(a.aim.word for a in aimed if a.trail.standing == "fine"))
        standings = [x.standing for x in lines if not x.aimed.aim.taste or x.standing != "open"]
        rows.append(Row(of, next((s for s in _WORST if s in standings), "fine"), lines, fine))
    return rows


def _line(aimed: Aimed) -> Line:
    trail = aimed.trail
    several = aimed.by[:_NAMED] if trail.standing in _WORST[:2] else ()
    by = tuple((place, _rise(aimed, amount)) for place, amount in several)
    along = "; ".join(f"{p.name} {figure(aimed, v)}" for p, v in zip(aimed.places, trail.values, strict=True))
    now = figure(aimed, trail.last)
    return Line(aimed, trail.standing, figure(aimed, trail.first), now, says_of(aimed), by, draw_trail(trail), along)


def words_of(row: Row) -> list[str]:
    """The words for what is open in a pass, each once, what is open again alone where there is some."""
    return list(dict.fromkeys(x.aimed.aim.word for x in row.lines if x.standing == row.standing))


def address_of(session: str, place: Place) -> str:
    """Where a place is set."""
    if place.path.startswith("return:"):
        return f"/s/{session}/space?return_id={place.path.removeprefix('return:')}"
    return f"/s/{session}/lane/{place.path}" + (f"?stage={place.stage}" if place.stage else "")


def says_of(aimed: Aimed) -> str:
    """How an aim stands, in words."""
    trail = aimed.trail
    if trail.standing == "again":
        return "open again" if trail.first > trail.good else "brought in"
    if trail.standing == "open":
        return "a matter of taste" if aimed.aim.taste else "open"
    if trail.standing == "mended":
        at = trail.mended_at
        return f"mended: {aimed.places[at].name}" if at else "mended"
    return "nothing to mend"


def figure(aimed: Aimed, value: float) -> str:
    """A value with its unit."""
    return figure_of(aimed.aim.unit, value)


def figure_of(unit: str, value: float) -> str:
    """A value of an aim's unit, with what is said of that where there is little room."""
    if unit in ("bursts", "notes"):
        return f"{value:.0f}"
    if unit == "ms":
        return f"{value:.0f} ms"
    if unit == "clarity":
        return f"{value:.2f}".replace("-", "\u2212")
    return f"{value:.1f} {'LU' if unit == 'LU' else 'dB'}".replace("-", "\u2212")


def _rise(aimed: Aimed, amount: float) -> str:
    return f"+{figure(aimed, amount)}"


def _kept(request: Request, here: Opened) -> dict[str, Any]:
    """What has been kept of the session: prints and snapshots, and whether something has changed since."""
    studio, state = here
    done = [r for r in printer_of(request).rows(state.id) if r.state == "done"]
    last = max(done, key=lambda r: r.created, default=None)
    return {
        "printed": last is not None,
        "now": last is not None and last.version == state.version,
        "at": last.created if last is not None else "",
        "snapshots": len(studio.snapshots.all(state.id)),
    }
