"""How clear the voice is in the mix, phrase by phrase, and what stands over it."""

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

import numpy as np

from ..core.engine.builder import Builder
from ..core.engine.giving_way import Cancel, give_way
from ..core.engine.graph import Graph
from ..core.engine.stream import stream
from ..core.errors import UnknownPlaceError
from ..core.measure.clarity import LISTENING_DB_SPL, Clear, clarity_of
from ..core.measure.hearing import BANDS, ERBS, THIRDS, BandPowers, band_powers, hop_of
from ..core.measure.masking import Masked, Stands, masking, stand_over
from ..core.measure.phrases import Span
from ..core.mix.document import Lane, Phrase
from ..core.mix.voices import voices_of
from ..store.state import State
from .recent import Recent
from .studio import Studio

_AT_ONCE_S = 30  # of a longer stretch the sounds are not all held at the same time
_powers: Recent[np.ndarray] = Recent(400)
_spans: Recent[list[Span]] = Recent(2000)
_threads = ThreadPoolExecutor(os.cpu_count() or 1, "hearing", give_way)


@dataclass(frozen=True)
class Word:
    """A word, in frames of the song, about where it is sung, with its clarity now and of the raw take."""

    word: str
    start: int
    end: int
    clarity: float | None
    before: float | None


@dataclass(frozen=True)
class Sung:
    """A phrase in the mix: clarity of the voice as it is and of the raw take in its place, its level over the rest."""

    phrase: Phrase
    number: int  # counted from 0 in the lane
    clarity: float | None
    before: float | None
    over_rest_db: float | None
    words: tuple[Word, ...]


@dataclass(frozen=True)
class Fit:
    """The voice against all else over frames [first, last). `names` says what things in it are called on the screen."""

    first: int
    last: int
    hop: int
    phrases: tuple[Sung, ...]
    masked: Masked
    stands: tuple[Stands, ...]  # `phrase` counts in `phrases`
    names: dict[str, str]
    voice: np.ndarray  # band powers of the voice (bands, n)
    rest: np.ndarray  # and of all else
    listening_db_spl: float = LISTENING_DB_SPL
    music: np.ndarray = field(default_factory=lambda: np.zeros((BANDS, 1)))  # of all lanes of the music

    @property
    def clarity(self) -> float | None:
        """Mean over the phrases in which something is sung."""
        return mean_clarity([s.clarity for s in self.phrases])

    def clarity_with(self, rest_db: float) -> float | None:
        """What it would be with all else louder by so much."""
        rest = self.rest[THIRDS] * 10 ** (rest_db / 10)
        spans = [self.span_of(s) for s in self.phrases]
        found = [clarity_of(self.voice[THIRDS], rest, x, (), self.listening_db_spl)[0] for x in spans]
        return mean_clarity([_index(c) for c in found])

    def span_of(self, sung: Sung) -> Span:
        """A phrase in places of what was measured."""
        return _places(sung.phrase.start, sung.phrase.end, self.first, self.last, self.hop)


def fit(studio: Studio, state: State, voice: str, first: int, last: int, cancel: Cancel | None = None) -> Fit:
    """Measure frames [first, last) of the mix: the phrases of which the half lies in them, else those that reach in."""
    session, rate = state.session, state.session.rate
    cancel = cancel or studio.newest(state)
    voices = voices_of(session, voice)
    names = {x.id: x.name for x in session.lanes} | {f"return:{r.id}": r.name for r in session.returns}
    if not voices:
        nothing = Masked(np.zeros((0, 0)), np.zeros((0, 0), np.int16), ())
        return Fit(first, last, hop_of(rate), (), nothing, (), names, np.zeros((0, 0)), np.zeros((0, 0)))
    now = _stems(studio, state, "", first, last, cancel)
    ids = {x.id for x in voices}
    raw = _stems(studio, state, voices[0].id if len(voices) == 1 else "*", first, last, cancel, ids)
    silence = np.zeros((BANDS, -(-(last - first) // hop_of(rate))))
    own, before = (sum((found[i] for i in ids if i in found), silence) for found in (now, raw))
    others = {name: power for name, power in now.items() if name not in ids}
    rest = sum(others.values(), silence)
    music = sum((others[x.id] for x in session.lanes if x.role == "music" and x.id in others), silence)
    hop, lead, loud = hop_of(rate), voices[0], session.listening_db_spl
    inside = [(k, p) for k, p in enumerate(lead.phrases) if 2 * _inside(p, first, last) >= p.end - p.start]
    inside = inside or [(k, p) for k, p in enumerate(lead.phrases) if _inside(p, first, last) > 0]
    spans = [_places(p.start, p.end, first, last, hop) for _, p in inside]
    sung = []
    for (k, phrase), span in zip(inside, spans, strict=True):
        cancel.check()
        timed = _timed(studio, lead, phrase, rate)
        words = [_places(w.start, w.end, first, last, hop) for _, w in timed]
        clear, each = clarity_of(own[THIRDS], rest[THIRDS], span, words, loud)
        raw_clear, raw_each = clarity_of(before[THIRDS], rest[THIRDS], span, words, loud)
        told = tuple(
            Word(word, at.start, at.end, _index(a), _index(b))
            for (word, at), a, b in zip(timed, each, raw_each, strict=True)
        )
        over = clear.over_rest_db if clear and others else None
        sung.append(Sung(phrase, k, _index(clear), _index(raw_clear), over, told))
    masked = masking(own[ERBS], {n: p[ERBS] for n, p in others.items()}, spans, loud)
    return Fit(first, last, hop, tuple(sung), masked, tuple(stand_over(masked, spans)), names, own, rest, loud, music)


def _inside(phrase: Phrase, first: int, last: int) -> int:
    return min(phrase.end, last) - max(phrase.start, first)


def fit_of(studio: Studio, state: State, voice: str, first: int, last: int) -> Fit:
    """As `fit` of a session as it is kept; made once for all that ask for it."""
    key = state.seen_name, state.version, voice, first, last
    found: Fit = studio.fits.get(key, lambda: fit(studio, state, voice, first, last), studio.newest(state).check)
    return found


def mean_clarity(values: list[float | None]) -> float | None:
    """The mean of those there are; None of none."""
    there = [v for v in values if v is not None]
    return float(np.mean(there)) if there else None


def clarity_along(
    studio: Studio, state: State, voice: str, first: int, last: int, cancel: Cancel | None = None
) -> list[tuple[str, float]]:
    """Mean clarity of a voice over [first, last) in the music alone, called "", and as each other voice and then each
    return that is heard comes to it, by name; empty where nothing is sung."""
    session, rate = state.session, state.session.rate
    cancel = cancel or studio.newest(state)
    voices = voices_of(session, voice)
    powers = _stems(studio, state, "", first, last, cancel)
    own = [powers.pop(x.id) for x in voices if x.id in powers]
    if not own:
        return []
    spans = [
        _places(p.start, p.end, first, last, hop_of(rate)) for p in voices[0].phrases if _inside(p, first, last) > 0
    ]
    music = [x.id for x in session.lanes if x.role == "music" and x.id in powers]
    rest = sum((powers[name] for name in music), np.zeros_like(own[0]))
    found: list[tuple[str, float]] = []
    for name in ("", *(n for n in powers if n not in music)):
        cancel.check()
        rest = rest + powers[name] if name else rest
        clear = [clarity_of(sum(own)[THIRDS], rest[THIRDS], s, (), session.listening_db_spl)[0] for s in spans]  # type: ignore[index]
        mean = mean_clarity([_index(c) for c in clear])
        if mean is None:
            return []
        found.append((name, mean))
    return found


def _index(clear: Clear | None) -> float | None:
    return clear.clarity if clear else None


def _places(start: int, end: int, first: int, last: int, hop: int) -> Span:
    """Frames of the song as places of a stretch of it that begins at `first`."""
    begin = (max(start, first) - first) // hop
    return Span(begin, max(begin + 1, -(-(min(end, last) - first) // hop)))


def _timed(studio: Studio, lane: Lane, phrase: Phrase, rate: int) -> list[tuple[str, Span]]:
    """The words of a phrase, each with about where it is sung."""
    if not phrase.words.strip() or lane.sound is None:
        return []
    sound, span, words = lane.sound, Span(phrase.start, phrase.end), phrase.words
    spans = _spans.get((sound.digest, rate, span, words), lambda: studio.takes.words(sound, rate, span, words))
    return list(zip(words.split(), spans, strict=True))


def _stems(
    studio: Studio,
    state: State,
    untreated: str,
    first: int,
    last: int,
    cancel: Cancel,
    only: set[str] | None = None,
) -> dict[str, np.ndarray]:
    """Band powers of all that is heard in the mix, or of some of it, as it comes out of it, by name."""
    builder = Builder(state.session, untreated, name=state.seen_name)
    graph = builder.build()
    keys = {name: key for name, key in builder.stems().items() if only is None or name in only}
    wanted = list(dict.fromkeys(key for key in keys.values() if not _powers.has((key, first, last))))
    if wanted and last - first > _AT_ONCE_S * graph.rate:
        made = _streamed(studio, graph, wanted, first, last, cancel)
    elif wanted:
        target = builder.beside(wanted)
        found = studio.renderer(graph.rate).loop(graph, target, first, last, cancel)
        made = {key: _of(found.cut, key, graph.rate) for key in wanted}
    else:
        made = {}

    def power_of(key: str) -> np.ndarray:
        cancel.check()
        later = _of_later(studio, graph, key, first, last, cancel)
        return _powers.get((key, first, last), made.get(key, later))

    several = list(dict.fromkeys(keys.values()))
    powers = dict(zip(several, _threads.map(power_of, several), strict=True))
    return {name: powers[key] for name, key in keys.items()}


def _of(cut: Callable[[str], np.ndarray], key: str, rate: int) -> Callable[[], np.ndarray]:
    return lambda: band_powers(cut(key), rate)


def _of_later(
    studio: Studio, graph: Graph, key: str, first: int, last: int, cancel: Cancel
) -> Callable[[], np.ndarray]:
    """For what was dropped just when it was to be used."""
    return lambda: _streamed(studio, graph, [key], first, last, cancel)[key]()


def _streamed(
    studio: Studio, graph: Graph, keys: list[str], first: int, last: int, cancel: Cancel
) -> dict[str, Callable[[], np.ndarray]]:
    meters = {key: BandPowers(graph.rate, graph.nodes[key].channels) for key in keys}
    renderer, at = studio.renderer(graph.rate), 0
    for blocks in stream(graph, keys, last, renderer.read, cancel):
        renderer.gate.pass_through()
        skip = max(0, first - at)
        list(_threads.map(lambda meter, block: meter.push(block), meters.values(), [b[:, skip:] for b in blocks]))
        at += blocks[0].shape[1]
    return {key: (lambda found=meter.result(): found) for key, meter in meters.items()}  # type: ignore[misc]


def sounds_of_phrase(
    studio: Studio, state: State, voice: str, other: str, first: int, last: int
) -> tuple[np.ndarray, np.ndarray]:
    """The voice and something else that is heard, as they come out of the mix (channels, frames).

    UnknownPlaceError where one of them is not heard, or not in these frames.
    """
    builder = Builder(state.session, name=state.seen_name)
    graph, stems = builder.build(), builder.stems()
    own = [stems[x.id] for x in voices_of(state.session, voice) if x.id in stems]
    if other not in stems or not own or last <= first:
        raise UnknownPlaceError(f"nothing is heard of “{other}” in the mix")
    whole = builder.together(own)
    found = studio.renderer(graph.rate).loop(graph, builder.beside([whole, stems[other]]), first, last)
    return found.cut(whole), found.cut(stems[other])
