"""What would let the voice through: changes of the session, each with what it does to the clarity, measured."""

from collections import defaultdict
from dataclasses import dataclass, replace

import numpy as np

from ..core.engine.giving_way import Cancel
from ..core.measure.hearing import louder_lu
from ..core.measure.phrases import Span
from ..core.measure.pocket import WANTED, Need, make_pocket, needs, smallest
from ..core.mix.document import Lane, Session
from ..core.mix.edits import Edit, Insert, Set, apply, new_id
from ..core.mix.voices import voices_of
from ..core.stages.base import Key
from ..core.stages.duck import Duck
from ..core.stages.eq import Band, Eq
from ..core.stages.flat import flat_stages
from ..core.units import show_value
from ..store.state import State
from .fitting import Fit, fit
from .studio import Studio

_CULPRITS = 2
_TRIM_DB, _LOWER_DB, _DEEPER_DB, _PRESENCE_DB = 1.5, 1.5, 3.0, 2.0
_LEAST_GAIN = 0.002
_MOST_DOWN_DB = 24.0


@dataclass(frozen=True)
class Answer:
    """A change, what it would make of the mean clarity, and how much louder all but the voice, and the music, get."""

    name: str
    says: str
    edits: tuple[Edit, ...]
    before: float
    after: float
    rest_db: float
    music_lu: float = 0.0

    @property
    def reaches(self) -> bool:
        """Whether it brings what is wanted."""
        return self.after >= WANTED


@dataclass(frozen=True)
class Answers:
    """All of them, the smallest that reaches what is wanted first, else what brings most; and the whole music's way."""

    found: tuple[Answer, ...]
    music_down_db: float | None  # by which all else would have to go down for as much as the first


def answers(studio: Studio, state: State, voice: str, found: Fit, cancel: Cancel | None = None) -> Answers:
    """What would let the voice through in the stretch that `found` is about."""
    cancel = cancel or studio.newest(state)
    clarity = found.clarity
    voices = voices_of(state.session, voice)
    if clarity is None or not voices or not found.masked.names:
        return Answers((), None)
    measured = _pockets(studio, state, voice, voices, found, cancel)
    for proposal in _others(state.session, voices[0], found):
        measured.append(_try(studio, state, voice, found, proposal, cancel))
    measured = [a for a in measured if a.after > clarity + _LEAST_GAIN]
    reach = sorted((a for a in measured if a.reaches), key=lambda a: (-a.rest_db, a.after))
    others = sorted((a for a in measured if not a.reaches), key=lambda a: -a.after)
    ordered = (*reach, *others)
    return Answers(ordered, _music_down(found, ordered[0].after) if ordered else None)


def _try(
    studio: Studio, state: State, voice: str, found: Fit, proposal: tuple[str, str, list[Edit]], cancel: Cancel
) -> Answer:
    """What a change makes of the clarity."""
    cancel.check()
    name, says, edits = proposal
    changed = replace(state, session=apply(state.session, edits).session)
    after = fit(studio, changed, voice, found.first, found.last, cancel)
    louder = 10 * np.log10(after.rest.sum() / max(found.rest.sum(), 1e-20))
    music = louder_lu(after.music, found.music)
    return Answer(name, says, tuple(edits), found.clarity or 0.0, after.clarity or 0.0, float(louder), music)


def _pockets(studio: Studio, state: State, voice: str, voices: list[Lane], found: Fit, cancel: Cancel) -> list[Answer]:
    """For each of the heaviest culprits the smallest pocket that is enough, else the deepest that costs little."""
    told = []
    for name in _culprits(found):
        needed = needs(found.masked, name)

        def attempt(
            bands: int, deepest: float, name: str = name, needed: list[Need] = needed
        ) -> tuple[Answer, float, float] | None:
            pocket = _pocket(studio, state, voice, voices, needed[:bands], deepest, found, cancel)
            if pocket is None:
                return None
            proposal = _with_pocket(state.session, name, found.names[name], pocket)
            answer = _try(studio, state, voice, found, proposal, cancel)
            return (
                answer,
                answer.after,
                min(answer.rest_db, over_song_lu(answer.music_lu, state.session, voices[0], found)),
            )

        if (best := smallest(len(needed), attempt)) is not None:
            told.append(best)
    return told


def over_song_lu(loop_lu: float, session: Session, lead: Lane, found: Fit) -> float:
    """What the music gets louder by over the song where it does so by that over a loop, while a voice sings alone."""
    loop = sum(max(0, min(p.end, found.last) - max(p.start, found.first)) for p in lead.phrases)
    song = sum(p.end - p.start for p in lead.phrases)
    if not loop or not session.frames:
        return loop_lu
    share = min(1.0, (song / session.frames) / (loop / (found.last - found.first)))
    return 10 * float(np.log10(max(1 + (10 ** (loop_lu / 10) - 1) * share, 1e-6)))


def _culprits(found: Fit) -> list[str]:
    lost: defaultdict[str, float] = defaultdict(float)
    for one in found.stands:
        lost[one.name] += one.lost
    return sorted(lost, key=lambda n: -lost[n])[:_CULPRITS]


def _music_down(found: Fit, wanted: float) -> float | None:
    low, high = -_MOST_DOWN_DB, 0.0
    if (found.clarity_with(low) or 0.0) < wanted:
        return None
    while high - low > 0.05:
        middle = 0.5 * (low + high)
        low, high = (middle, high) if (found.clarity_with(middle) or 0.0) >= wanted else (low, middle)
    return low


def _others(session: Session, lead: Lane, found: Fit) -> list[tuple[str, str, list[Edit]]]:
    told: list[tuple[str, str, list[Edit]]] = []
    for name in _culprits(found):
        if name.startswith("return:"):
            told += _lower_return(session, name.removeprefix("return:"))
        elif session.lane(name).role == "backing":
            fader = max(-60.0, session.lane(name).fader_db - _LOWER_DB)
            edit = Set(path=f"lanes/{name}/fader_db", value=round(fader, 1))
            told.append((f"{found.names[name]} {_LOWER_DB:g} dB lower", "its fader", [edit]))
    return told + _of_the_voice(lead, found)


def pocket_key(voice: str, voices: list[Lane]) -> Key:
    """What opens a pocket for a voice: the lane, or all lanes of the bus, after its stages."""
    return Key(lane=voice if voice.startswith("bus:") else voices[0].id, tap="treated")


def _pocket(
    studio: Studio,
    state: State,
    voice: str,
    voices: list[Lane],
    needed: list[Need],
    deepest_db: float,
    found: Fit,
    cancel: Cancel,
) -> Eq | None:
    if not needed:
        return None
    graph = studio.graph(state)
    heard = [
        studio.renderer(graph.rate)
        .sound(graph, graph.places[f"lane:{x.id}:treated"], found.first, found.last, cancel)
        .mean(axis=0, keepdims=True)
        for x in (voices if voice.startswith("bus:") else voices[:1])
    ]
    dry = np.sum(heard, axis=0)
    spans = [
        Span(max(s.phrase.start, found.first) - found.first, min(s.phrase.end, found.last) - found.first)
        for s in found.phrases
    ]
    return make_pocket(needed, dry, graph.rate, spans, pocket_key(voice, voices), deepest_db)


def _with_pocket(session: Session, path: str, name: str, pocket: Eq) -> tuple[str, str, list[Edit]]:
    base = f"returns/{path.removeprefix('return:')}" if path.startswith("return:") else f"lanes/{path}"
    value = {**pocket.model_dump(mode="json"), "id": new_id("s")}
    parts = []
    for band in pocket.bands:
        assert band.dynamic is not None
        number, unit = show_value(band.frequency_hz, "Hz")
        parts.append(f"{number} {unit} {band.dynamic.change_db:g}".replace("-", "\u2212"))
    says = f"{', '.join(parts)} dB at most, while it is sung, in the middle"
    return f"Pocket in {name}", says, [Insert(path=f"{base}/stages", index=64, value=value)]


def _lower_return(session: Session, identifier: str) -> list[tuple[str, str, list[Edit]]]:
    ret = next(r for r in session.returns if r.id == identifier)
    duck = next((s for s in ret.stages if isinstance(s, Duck) and s.on), None)
    if duck is not None and duck.depth_db + _DEEPER_DB <= 40:
        deeper = round(duck.depth_db + _DEEPER_DB, 1)
        edit: Edit = Set(path=f"returns/{ret.id}/stages/{duck.id}/depth_db", value=deeper)
        return [(f"Duck {ret.name} deeper", f"{duck.depth_db:g} to {deeper:g} dB while it is sung", [edit])]
    edit = Set(path=f"returns/{ret.id}/fader_db", value=round(max(-60.0, ret.fader_db - _LOWER_DB), 1))
    return [(f"{ret.name} {_LOWER_DB:g} dB lower", "its fader", [edit])]


def _of_the_voice(lane: Lane, found: Fit) -> list[tuple[str, str, list[Edit]]]:
    told: list[tuple[str, str, list[Edit]]] = []
    trims = any(s.kind == "trim" and s.on and getattr(s, "phrases", False) for s in flat_stages(lane.stages))
    sung = [s for s in found.phrases if s.clarity is not None]
    if trims and sung:
        least = min(sung, key=lambda s: s.clarity or 0.0)
        trim = round(min(24.0, least.phrase.trim_db + _TRIM_DB), 1)
        edit: Edit = Set(path=f"lanes/{lane.id}/phrases/{least.phrase.id}/trim_db", value=trim)
        name = f"Phrase {least.number + 1} up by {_TRIM_DB:g} dB"
        told.append((name, "the one that is least clear, before all stages", [edit]))
    bell = Eq(name="Presence", bands=(Band(frequency_hz=2800, gain_db=_PRESENCE_DB, q=0.8),), auto_makeup=False)
    value = {**bell.model_dump(mode="json"), "id": new_id("s")}
    add = Insert(path=f"lanes/{lane.id}/stages", index=64, value=value)
    told.append((f"Presence on {lane.name}", f"2.8 kHz {_PRESENCE_DB:+g} dB, broad, at the end of its route", [add]))
    return told
