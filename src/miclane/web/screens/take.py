"""The take of a lane: the raw-take report with its answers, words from a file, phrases found anew, the ride drawn."""

from dataclasses import dataclass
from typing import Annotated, Any

from fastapi import File, Query, Request, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse
from pydantic import BaseModel, Field

from ...core.errors import UnknownPlaceError
from ...core.findings.answers import answer_edits, answering
from ...core.findings.finding import Finding, NewBand
from ...core.findings.rules import find, measure_again
from ...core.measure.loudness import SILENCE_LUFS
from ...core.measure.phrases import Span
from ...core.measure.take import Take
from ...core.mix.document import Lane
from ...core.mix.words import MOST_BYTES, read_words, words_edits
from ...core.stages.base import Stage
from ...core.units import show_time
from ...store.state import State
from ...studio.phrasing import phrases_anew, ride_edits, trim_edits
from ...studio.studio import Studio, find_lane
from ..hands import Router, measuring
from ..opened import Here
from ..pages import page
from .edits import told

router = Router()
_PLACES_SHOWN = 6


@dataclass(frozen=True)
class Slip:
    """A finding as it is shown: what it was, what it is now, the edits that would answer it, the stage that does.

    It is `better` once it was measured to be solved, whatever solved it; `more` where what was applied falls short.
    `known` is whether the edits reckon with all that the chain does already.
    """

    finding: Finding
    was: str
    now: str | None
    better: bool
    edits: list[dict[str, Any]]
    places: list[dict[str, Any]]
    stage: Stage | None
    more: bool
    known: bool


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
        edits = [e.model_dump() for e in answer_edits(lane, finding, value)]
        places = [
            {"start": p.start, "end": p.end, "at": show_time(p.start / take.rate)}
            for p in finding.places[:_PLACES_SHOWN]
        ]
        was, now = _figure(finding, finding.value), None if value is None else _figure(finding, value)
        better = value is not None and value <= finding.good
        more = value is not None and not answer_edits(lane, finding)
        known = again or not finding.compared or not any(s.on for s in lane.stages)
        found.append(Slip(finding, was, now, better, edits, places, answering(lane, finding), more, known))
    return found


def _figure(finding: Finding, value: float) -> str:
    if finding.unit in ("samples", "bursts", "notes"):
        return f"{value:.0f} {finding.unit}"
    if finding.unit == "dB short":
        return f"{abs(value):.1f} dB {'short' if value >= 0 else 'over'}"
    sign = "+" if finding.unit.startswith("dB") else ""
    return f"{value:{sign}.1f} {finding.unit}".replace("-", "−")


@router.get("/s/{session_id}/lane/{lane_id}/report", response_class=HTMLResponse)
@measuring
def report(
    request: Request, here: Here, lane_id: str, again: bool = False, tone: bool = False, only: str = ""
) -> HTMLResponse:
    """The findings of a take as slips; with `again`, what the treated sound has of each beside it.

    `tone` shows those that an EQ answers, `only` those of one kind.
    """
    studio, state = here
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

    floor = take.noise_floor_dbfs
    figures = [
        ("Voice", level(take.voice_dbfs), "dBFS"),
        ("Noise floor", "not known" if floor is None else level(floor), "" if floor is None else "dBFS"),
        ("Loudness", level(take.loudness.integrated_lufs), "LUFS"),
        ("True peak", level(take.loudness.true_peak_dbtp), "dBTP"),
        ("Phrases", str(len(take.phrases)), f"{take.phrase_range_lu:.1f} LU apart" if take.phrases else ""),
    ]
    if take.lowest_hz:
        figures.append(("Sung from", f"{take.lowest_hz:.0f}–{take.highest_hz:.0f}", "Hz"))
    return figures


@router.post("/s/{session_id}/lane/{lane_id}/words")
def words(request: Request, here: Here, lane_id: str, file: Annotated[UploadFile, File()]) -> JSONResponse:
    """Words of the phrases from a WebVTT or LRC file; refused in words, and then nothing is changed."""
    studio, state = here
    lane = find_lane(state.session, lane_id)
    cues = read_words(file.file.read(MOST_BYTES + 1), file.filename or "words")
    edits = words_edits(lane, cues, state.session.rate)
    if edits:
        state = studio.sessions.edit(state.id, edits, None)
    return JSONResponse({**told(state), "lines": len(cues), "phrases": len(edits)})


@router.get("/s/{session_id}/lane/{lane_id}/phrases/{phrase_id}/words")
@measuring
def words_of(request: Request, here: Here, lane_id: str, phrase_id: str) -> JSONResponse:
    """The words of a phrase with the frames at which each is about."""
    studio, state = here
    lane = find_lane(state.session, lane_id)
    phrase = next((p for p in lane.phrases if p.id == phrase_id), None)
    if phrase is None or lane.sound is None:
        raise UnknownPlaceError(f"there is no phrase “{phrase_id}” on this lane")
    spans = studio.takes.words(lane.sound, state.session.rate, Span(phrase.start, phrase.end), phrase.words)
    found = [{"word": w, "start": s.start, "end": s.end} for w, s in zip(phrase.words.split(), spans, strict=True)]
    return JSONResponse(found)


@router.post("/s/{session_id}/lane/{lane_id}/phrases")
@measuring
def phrases(request: Request, here: Here, lane_id: str) -> JSONResponse:
    """Phrases and breaths found anew; those that are where one was keep its words, section and trim."""
    studio, state = here
    lane = find_lane(state.session, lane_id)
    edits = phrases_anew(studio, lane, state.session.rate)
    return JSONResponse(told(studio.sessions.edit(state.id, edits, None)))


class TrimRequest(BaseModel):
    """How much of the way to the target each phrase is brought, or those of one section."""

    share: float = Field(1.0, ge=0, le=1)
    section: str = Field("", max_length=60)


@router.post("/s/{session_id}/lane/{lane_id}/trims/{stage_id}")
@measuring
def suggest_trims(request: Request, here: Here, lane_id: str, stage_id: str, body: TrimRequest) -> JSONResponse:
    """Trims that bring the phrases to the trim stage's target, all the way or part of it."""
    studio, state = here
    lane = find_lane(state.session, lane_id)
    edits = trim_edits(studio, lane, state.session.rate, stage_id, body.share, body.section)
    state = studio.sessions.edit(state.id, edits, None) if edits else state
    return JSONResponse(told(state))


@router.post("/s/{session_id}/lane/{lane_id}/ride/{stage_id}")
@measuring
def draw_ride(
    request: Request, here: Here, lane_id: str, stage_id: str, clear: Annotated[bool, Query()] = False
) -> JSONResponse:
    """Draw a ride from what comes into it now; points drawn by hand stay, unless `clear`."""
    studio, state = here
    lane = find_lane(state.session, lane_id)
    edits = ride_edits(studio, state, lane, stage_id, clear)
    return JSONResponse(told(studio.sessions.edit(state.id, edits, None)))
