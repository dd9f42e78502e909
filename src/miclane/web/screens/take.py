"""The take of a lane: the raw-take report with its answers, words from a file, phrases found anew, the ride drawn."""

from dataclasses import dataclass
from typing import Annotated, Any

from fastapi import APIRouter, File, Query, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse
from pydantic import BaseModel, Field

from ...core.errors import UnknownPlaceError
from ...core.findings.answers import answer_edits
from ...core.findings.finding import Finding, NewBand
from ...core.findings.rules import find, measure_again
from ...core.measure.loudness import SILENCE_LUFS
from ...core.measure.phrases import Span
from ...core.measure.prepare import phrases_and_breaths
from ...core.measure.ride import ride_points
from ...core.measure.take import Take
from ...core.mix.document import Lane
from ...core.mix.edits import Edit, Set
from ...core.mix.words import MOST_BYTES, read_words, words_edits
from ...core.stages.ride import Ride
from ...core.units import show_time
from ...store.sessions import State
from ...studio.studio import Studio, find_lane
from ..measuring import measuring
from ..pages import page
from .edits import told
from .sound import opened

router = APIRouter()
_PLACES_SHOWN = 6


@dataclass(frozen=True)
class Slip:
    """A finding as it is shown: what it was, what it is now, and the edits that would answer it."""

    finding: Finding
    was: str
    now: str | None
    better: bool
    edits: list[dict[str, Any]]
    places: list[dict[str, Any]]


def raw_take(studio: Studio, state: State, lane: Lane) -> Take | None:
    """The measures of a lane's take; None for a lane without one, or of the music."""
    if lane.sound is None or lane.role == "music":
        return None
    return studio.takes.raw(lane.sound, state.session.rate)


def slips(studio: Studio, state: State, lane: Lane, take: Take, again: bool, tone: bool) -> list[Slip]:
    """The findings of a lane's take, with `again` measured in its treated sound too; `tone` only those EQ answers."""
    treated = None
    if again:
        graph = studio.graph(state)
        treated = studio.takes.treated(graph, lane, studio.renderer(graph.rate), studio.newest(state))
    found = []
    for finding in find(take, lane.role):
        if tone and not any(isinstance(a, NewBand) for a in finding.answers):
            continue
        value = measure_again(finding, treated) if treated else None
        edits = [e.model_dump() for e in answer_edits(lane, finding)]
        places = [
            {"start": p.start, "end": p.end, "at": show_time(p.start / take.rate)}
            for p in finding.places[:_PLACES_SHOWN]
        ]
        was, now = _figure(finding, finding.value), None if value is None else _figure(finding, value)
        found.append(Slip(finding, was, now, value is not None and value <= finding.good, edits, places))
    return found


def _figure(finding: Finding, value: float) -> str:
    if finding.unit in ("samples", "bursts"):
        return f"{value:.0f} {finding.unit}"
    sign = "+" if finding.unit.startswith("dB") and finding.unit != "dB short" else ""
    return f"{value:{sign}.1f} {finding.unit}".replace("-", "−")


@router.get("/s/{session_id}/lane/{lane_id}/report", response_class=HTMLResponse)
@measuring
def report(
    request: Request, session_id: str, lane_id: str, again: bool = False, tone: bool = False, only: str = ""
) -> HTMLResponse:
    """The findings of a take as slips; with `again`, what the treated sound has of each beside it.

    `tone` shows those that an EQ answers, `only` those of one kind.
    """
    studio, state = opened(request, session_id)
    lane = find_lane(state.session, lane_id)
    take = raw_take(studio, state, lane)
    found = slips(studio, state, lane, take, again, tone) if take else []
    found = [s for s in found if s.finding.id.startswith(only)]
    marks = [
        {"start": p.start, "end": p.end, "kind": s.finding.mark, "id": s.finding.id}
        for s in found
        for p in s.finding.places
        if s.finding.mark
    ]
    tones = [
        {"frequency_hz": s.finding.frequency_hz, "title": s.finding.title, "id": s.finding.id}
        for s in found
        if s.finding.id.startswith(("ring", "hum"))
    ]
    return page(
        request,
        "report.html",
        state,
        lane=lane,
        take=take,
        slips=found,
        again=again,
        tone=tone,
        only=only,
        data={"marks": marks, "tones": tones},
        tell=_tell,
    )


def _tell(take: Take) -> list[tuple[str, str, str]]:
    """The figures at the head of the report: name, number, unit."""

    def level(value: float) -> str:
        return "−∞" if value <= SILENCE_LUFS else f"{value:.1f}".replace("-", "−")

    figures = [
        ("Voice", level(take.voice_dbfs), "dBFS"),
        ("Noise floor", level(take.noise_floor_dbfs), "dBFS"),
        ("Loudness", level(take.loudness.integrated_lufs), "LUFS"),
        ("True peak", level(take.loudness.true_peak_dbtp), "dBTP"),
        ("Phrases", str(len(take.phrases)), f"{take.phrase_range_lu:.1f} LU apart" if take.phrases else ""),
    ]
    if take.lowest_hz:
        figures.append(("Sung from", f"{take.lowest_hz:.0f}–{take.highest_hz:.0f}", "Hz"))
    return figures


@router.post("/s/{session_id}/lane/{lane_id}/words")
def words(request: Request, session_id: str, lane_id: str, file: Annotated[UploadFile, File()]) -> JSONResponse:
    """Words of the phrases from a WebVTT or LRC file; refused in words, and then nothing is changed."""
    studio, state = opened(request, session_id)
    lane = find_lane(state.session, lane_id)
    cues = read_words(file.file.read(MOST_BYTES + 1), file.filename or "words")
    edits = words_edits(lane, cues, state.session.rate)
    if edits:
        state = studio.sessions.edit(session_id, edits, None)
    return JSONResponse({**told(state), "lines": len(cues), "phrases": len(edits)})


@router.post("/s/{session_id}/lane/{lane_id}/phrases")
@measuring
def phrases(request: Request, session_id: str, lane_id: str) -> JSONResponse:
    """Phrases and breaths found anew; those that are where one was keep its words, section and trim."""
    studio, state = opened(request, session_id)
    lane = find_lane(state.session, lane_id)
    if lane.sound is None:
        raise UnknownPlaceError(f"“{lane.name}” has no take")
    audio = studio.sounds.reader(state.session.rate)(lane.sound.digest, 0, lane.sound.frames)
    fresh, breaths = phrases_and_breaths(audio, state.session.rate)
    kept = []
    for k, p in enumerate(fresh, 1):
        old = max(lane.phrases, key=lambda o: min(o.end, p.end) - max(o.start, p.start), default=None)
        known = old and min(old.end, p.end) - max(old.start, p.start) > 0.5 * (p.end - p.start)
        same = {"words": old.words, "section": old.section, "trim_db": old.trim_db} if old and known else {}
        kept.append({**p.model_dump(), "id": f"p{k}", **same})
    edits: list[Edit] = [
        Set(path=f"lanes/{lane.id}/phrases", value=kept),
        Set(path=f"lanes/{lane.id}/breaths", value=[b.model_dump() for b in breaths]),
    ]
    return JSONResponse(told(studio.sessions.edit(session_id, edits, None)))


class TrimRequest(BaseModel):
    """How much of the way to the target each phrase is brought, or those of one section."""

    share: float = Field(1.0, ge=0, le=1)
    section: str = Field("", max_length=60)


@router.post("/s/{session_id}/lane/{lane_id}/trims/{stage_id}")
@measuring
def suggest_trims(request: Request, session_id: str, lane_id: str, stage_id: str, body: TrimRequest) -> JSONResponse:
    """Trims that bring the phrases to the trim stage's target, all the way or part of it."""
    studio, state = opened(request, session_id)
    lane = find_lane(state.session, lane_id)
    stage = next((s for s in lane.stages if s.id == stage_id and s.kind == "trim"), None)
    if stage is None:
        raise UnknownPlaceError(f"there is no trim “{stage_id}” on “{lane.name}”")
    loudness = studio.takes.phrase_loudness(lane, state.session.rate)
    target = stage.target_lufs - stage.gain_db
    edits: list[Edit] = [
        Set(
            path=f"lanes/{lane.id}/phrases/{p.id}/trim_db",
            value=round(min(24.0, max(-24.0, body.share * (target - v))), 1),
        )
        for p, v in zip(lane.phrases, loudness, strict=True)
        if v > -70 and (not body.section or p.section == body.section)
    ]
    state = studio.sessions.edit(session_id, edits, None) if edits else state
    return JSONResponse(told(state))


@router.post("/s/{session_id}/lane/{lane_id}/ride/{stage_id}")
@measuring
def draw_ride(
    request: Request, session_id: str, lane_id: str, stage_id: str, clear: Annotated[bool, Query()] = False
) -> JSONResponse:
    """Draw a ride from what comes into it now; points drawn by hand stay, unless `clear`."""
    studio, state = opened(request, session_id)
    lane = find_lane(state.session, lane_id)
    ride = next((s for s in lane.stages if s.id == stage_id), None)
    if not isinstance(ride, Ride) or lane.sound is None:
        raise UnknownPlaceError(f"there is no ride “{stage_id}” on “{lane.name}”")
    graph = studio.graph(state)
    power = studio.takes.power_before(graph, lane, stage_id, studio.renderer(graph.rate))
    ride = ride.model_copy(update={"points": ()}) if clear else ride
    spans = [Span(p.start, p.end) for p in lane.phrases] or [Span(0, lane.sound.frames)]
    points = [p.model_dump() for p in ride_points(power, spans, state.session.rate, ride)]
    edit: list[Edit] = [Set(path=f"lanes/{lane.id}/stages/{stage_id}/points", value=points)]
    return JSONResponse(told(studio.sessions.edit(session_id, edit, None)))
