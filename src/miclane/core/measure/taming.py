"""Where the line of a ring tamer begins: over what usually sticks out of a take, and close to what always does."""

from dataclasses import dataclass

import numpy as np

from ..late import maximum_filter1d, median_filter, uniform_filter1d
from ..stages.standing_out import BANDS_HZ, PER_OCTAVE
from ..stages.tame import LOUD_DB, LinePoint, Tame, TameProcessor, Told
from .pitch import track_pitch
from .rings import pick_rings, ring_curve

_BROAD = PER_OCTAVE * 2 // 3 + 1  # bands: wider than a ring, narrower than what a voice has of its own
_OFTEN, _OVER_DB, _LEAST_DB = 97.0, 1.5, 4.0
_STAYS_DB, _CLOSE_DB, _LEAST_CLOSE_DB = (3.0, 3.0, 4.0, 4.5), 0.0, 0.5  # at 180 Hz, 2.5, 4 and 10 kHz
_STAYS_HZ = (180.0, 2500.0, 4000.0, 10000.0)
_RING_OCTAVES = 3.5 / PER_OCTAVE  # to either side of a ring that is found
_TOLERANCE_DB, _MOST_POINTS = 0.6, 40
_LEAST_MOMENTS, _LEAST_KNOWN = 40, 20
_DEEP_DB = 30.0  # under the loudest moments
_BLOCK = 16384


@dataclass(frozen=True)
class Sticking:
    """What sticks out of a sound, moment by moment: excess (m, bands) in dB, the same held over, where it is known and
    not only between two harmonics, and which moments are loud (m,)."""

    excess_db: np.ndarray
    held_db: np.ndarray
    known: np.ndarray
    loud: np.ndarray


def sticking(audio: np.ndarray, rate: int, stage: Tame, first: int = 0) -> Sticking:
    """What a tame hears of (channels, frames) that begin at a frame of the song."""
    told: list[Told] = []
    processor = TameProcessor(stage.model_copy(update={"depth": 0.0}), rate, audio.shape[0], told)
    processor.start_at(first)
    for at in range(0, audio.shape[1], _BLOCK):
        processor.process(np.ascontiguousarray(audio[:, at : at + _BLOCK]))
    if not told:
        none = np.zeros((0, len(BANDS_HZ)))
        return Sticking(none, none, none.astype(bool), np.zeros(0, bool))
    excess, held, known, level = (np.concatenate(part) for part in zip(*told, strict=True))
    loudest = float(np.percentile(level, 95))
    return Sticking(excess, held, known, level > max(LOUD_DB, loudest - _DEEP_DB))


def line_from(audio: np.ndarray, rate: int, stage: Tame) -> tuple[LinePoint, ...] | None:
    """Points of a line, relative to the stage's `line_db`, from a take (channels, frames); None where little is sung.

    Everywhere over what sticks out of this voice three moments in a hundred; but close over what is usual around it
    where something sticks out half of all time, wherever the notes are, or where a ring is found as the raw take's
    report finds it (measure.rings, to 2.5 kHz): that stays while the voice moves.
    """
    found = sticking(audio, rate, stage)
    if np.count_nonzero(found.loud) < _LEAST_MOMENTS:
        return None
    middle = uniform_filter1d(_middles(found), 3)
    usual = median_filter(middle, _BROAD, mode="nearest")
    often = np.percentile(found.held_db[found.loud], _OFTEN, axis=0)
    line = np.maximum(median_filter(often, _BROAD, mode="nearest") + _OVER_DB, _LEAST_DB)
    over = np.interp(np.log2(BANDS_HZ), np.log2(_STAYS_HZ), _STAYS_DB)
    stays = maximum_filter1d((middle - usual > over).astype(np.int8), 5) > 0
    for ring in pick_rings(ring_curve(audio, rate, track_pitch(audio, rate)[0])):
        stays |= np.abs(np.log2(BANDS_HZ / ring.frequency_hz)) < _RING_OCTAVES
    line = np.where(stays, np.maximum(usual + _CLOSE_DB, _LEAST_CLOSE_DB), line)
    return _points(np.clip(line - stage.line_db, -24, 24))


def _middles(found: Sticking) -> np.ndarray:
    """Of every band the median excess where it is known; 0 where that is seldom."""
    counts = found.known & found.loud[:, None]
    out = np.zeros(len(BANDS_HZ))
    for k in range(len(BANDS_HZ)):
        if np.count_nonzero(counts[:, k]) >= _LEAST_KNOWN:
            out[k] = np.median(found.excess_db[counts[:, k], k])
    return out


def _points(line: np.ndarray) -> tuple[LinePoint, ...]:
    """The fewest places between which straight lines stay within half a dB or so (Douglas & Peucker 1973)."""
    kept, spans = {0, len(line) - 1}, [(0, len(line) - 1)]
    while spans and len(kept) < _MOST_POINTS:
        spans.sort(key=lambda s: _worst(line, *s)[0])
        a, b = spans.pop()
        off, at = _worst(line, a, b)
        if off <= _TOLERANCE_DB:
            break
        kept.add(at)
        spans += [(a, at), (at, b)]
    chosen = sorted(kept)
    return tuple(LinePoint(frequency_hz=round(float(BANDS_HZ[k]), 1), by_db=round(float(line[k]), 1)) for k in chosen)


def _worst(line: np.ndarray, a: int, b: int) -> tuple[float, int]:
    """How far the line is from straight between two bands, and where it is furthest."""
    if b - a < 2:
        return 0.0, a
    off = np.abs(line[a : b + 1] - np.interp(np.arange(a, b + 1), (a, b), (line[a], line[b])))
    return float(off.max()), a + int(np.argmax(off))
