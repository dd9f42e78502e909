"""The notes of a tune: found in what comes into it, found again, beside those of another lane."""

from dataclasses import dataclass

from ..core.errors import UnknownPlaceError
from ..core.measure.against import Beside, against
from ..core.measure.notes import find_notes, notes_again
from ..core.measure.phrases import Span
from ..core.mix.document import Lane
from ..core.mix.edits import Edit, Set
from ..core.mix.paths import Path, find_stage
from ..core.stages.tune import SungNote, Tune
from ..store.state import State
from .inputs import coming_in
from .studio import Studio


def tune_of(path: Path, stage_id: str) -> tuple[Tune, str]:
    """A tune and its place; UnknownPlaceError where there is none."""
    stage, place = find_stage(path, stage_id)
    if not isinstance(stage, Tune):
        raise UnknownPlaceError(f"“{stage.label}” tunes no notes")
    return stage, place


def note_edits(studio: Studio, state: State, path: Path, stage_id: str, clear: bool = False) -> list[Edit]:
    """What gives a tune the notes of what comes into it, over the whole take; those set by hand stay, unless `clear`.

    UnknownPlaceError for what is no tune, or has no take.
    """
    tune, place = tune_of(path, stage_id)
    audio = coming_in(studio, state, path, stage_id, (0, 0))
    found = notes_again(find_notes(audio, state.session.rate), () if clear else tune.notes)
    if found == tune.notes:
        return []
    return [Set(path=f"{place}/notes", value=[n.model_dump(exclude_defaults=True) for n in found])]


def sung_notes(studio: Studio, state: State) -> list[SungNote]:
    """Notes of the raw takes that have been measured already; what is not yet is not waited for."""
    rate, found = state.session.rate, list[SungNote]()
    for lane in state.session.lanes:
        if lane.role != "music" and lane.sound is not None and studio.takes.has_raw(lane.sound, rate):
            found += studio.takes.raw(lane.sound, rate).notes
    return found


@dataclass(frozen=True)
class WordBeside:
    """A word of a backing's phrase beside the lead: ms later (None where that cannot be told) and cents off."""

    word: str
    late_ms: float | None
    interval: int | None
    cents: float | None


def beside_lead(studio: Studio, state: State, lane: Lane) -> list[list[WordBeside]]:
    """Every phrase of a backing, word by word, beside the lead; [] where that is no backing, or one is not measured."""
    rate = state.session.rate
    lead = next((x for x in state.session.lanes if x.role == "lead" and x.id != lane.id and x.sound), None)
    if lane.role != "backing" or lane.sound is None or lead is None or lead.sound is None:
        return []
    if not (studio.takes.has_raw(lane.sound, rate) and studio.takes.has_raw(lead.sound, rate)):
        return []
    notes = against(studio.takes.raw(lead.sound, rate).notes, studio.takes.raw(lane.sound, rate).notes)
    found = []
    for phrase in lane.phrases:
        span = Span(phrase.start, phrase.end)
        words = phrase.words.split()
        spans = studio.takes.words(lane.sound, rate, span, phrase.words) if words else [span]
        found.append([_of_word(w, s, notes, rate) for w, s in zip(words or ["…"], spans, strict=False)])
    return found


def _of_word(word: str, span: Span, notes: list[Beside], rate: int) -> WordBeside:
    a, b = span.start / rate, span.end / rate
    inside = [n for n in notes if min(n.end_s, b) - max(n.start_s, a) > 0.5 * min(n.end_s - n.start_s, b - a)]
    if not inside:
        return WordBeside(word, None, None, None)
    first, longest = inside[0], max(inside, key=lambda n: n.end_s - n.start_s)
    return WordBeside(word, first.late_ms, longest.interval, longest.cents)
