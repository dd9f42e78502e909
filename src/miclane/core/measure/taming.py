"""Where the line of a ring tamer begins: over what usually sticks out of a take, and close to what always does."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..kernels.taming import BY_ABOVE, BY_OTHERS
from ..late import maximum_filter1d, median_filter
from ..stages.standing_out import BANDS_HZ, PER_OCTAVE
from ..stages.tame import LOUD_DB, LinePoint, Tame, TameProcessor, Told
from .pitch import track_pitch
from .rings import pick_rings, ring_curve

_BROAD = PER_OCTAVE * 2 // 3 + 1  # bands: wider than a ring, narrower than what a voice has of its own
_OFTEN, _OVER_DB, _LEAST_DB = 97.0, 1.5, 4.0
_STAYS_HZ, _STAYS_DB = (180.0, 2200.0, 2600.0, 10000.0), (3.0, 3.0, 7.0, 8.0)  # of upper formants 3 to 6 dB stay
_CLOSE_HZ, _CLOSE_DB = (2200.0, 2600.0), (0.0, 3.0)
_LEAST_CLOSE_DB = 0.5
_UNDER_AT_RINGS_DB, _LEAST_AT_RINGS_DB = 1.0, -3.0  # the least is where the picture ends
_RING_OCTAVES = 3.5 / PER_OCTAVE  # to either side of a ring that is found
_TOLERANCE_DB, _MOST_POINTS = 0.6, 40
_LEAST_MOMENTS, _LEAST_KNOWN = 40, 20
_DEEP_DB = 30.0  # under the loudest moments
_BLOCK = 16384


@dataclass(frozen=True)
class Sticking:
    """What sticks out of a sound, moment by moment: excess (m, bands) in dB, the same held over, by what it is known
    (kernels.taming), and which moments are loud (m,)."""

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
        return Sticking(none, none, none.astype(np.int8), np.zeros(0, bool))
    excess, held, known, level = (np.concatenate(part) for part in zip(*told, strict=True))
    loudest = float(np.percentile(level, 95))
    return Sticking(excess, held, known, level > max(LOUD_DB, loudest - _DEEP_DB))


def line_from(audio: np.ndarray, rate: int, stage: Tame) -> tuple[LinePoint, ...] | None:
    """Points of a line, relative to the stage's `line_db`, from a take (channels, frames); None where little is sung.

    Everywhere over what sticks out of this voice three moments in a hundred; but close over what is usual around it
    where something sticks out half of all time, wherever the notes are (from 2.6 kHz on: by more than upper formants
    do), and a little under it, down to 3 dB under 0, where a ring is found as the raw take's report finds it
    (measure.rings, to 2.5 kHz): that stays while the voice moves.
    """
    found = sticking(audio, rate, stage)
    if np.count_nonzero(found.loud) < _LEAST_MOMENTS:
        return None
    middle, about = _usual(found, BY_OTHERS)
    stays = maximum_filter1d((middle - about > _at(_STAYS_HZ, _STAYS_DB)).astype(np.int8), 5) > 0
    rings = np.zeros(len(BANDS_HZ), bool)
    for ring in pick_rings(ring_curve(audio, rate, track_pitch(audio, rate)[0])):
        rings |= np.abs(np.log2(BANDS_HZ / ring.frequency_hz)) < _RING_OCTAVES
    often = np.percentile(found.held_db[found.loud], _OFTEN, axis=0)
    line = np.maximum(median_filter(often, _BROAD, mode="nearest") + _OVER_DB, _LEAST_DB)
    usual = _usual(found, BY_ABOVE)[1]
    close = np.maximum(usual + _at(_CLOSE_HZ, _CLOSE_DB), _LEAST_CLOSE_DB)
    close = np.where(rings, np.maximum(usual - _UNDER_AT_RINGS_DB, _LEAST_AT_RINGS_DB), close)
    return _points(np.clip(np.where(stays | rings, close, line) - stage.line_db, -24, 24))


def _at(places_hz: tuple[float, ...], values: tuple[float, ...]) -> np.ndarray:
    """Of every band a value, straight in octaves between some places."""
    return np.interp(np.log2(BANDS_HZ), np.log2(places_hz), values)


def _usual(found: Sticking, least: int) -> tuple[np.ndarray, np.ndarray]:
    """Of every band the median excess, and the median of those in two thirds of an octave about it.

    Of moments that are known there by so much at the `least`; a band where there are few of these says nothing, and
    where none about it does, it is 0.
    """
    counts, middles = (found.known >= least) & found.loud[:, None], np.full(len(BANDS_HZ), np.nan)
    for k in np.flatnonzero(np.count_nonzero(counts, axis=0) >= _LEAST_KNOWN):
        middles[k] = np.median(found.excess_db[counts[:, k], k])
    return _about(middles, 1, np.mean), _about(middles, _BROAD // 2, np.median)


def _about(x: np.ndarray, reach: int, what: Callable[[np.ndarray], Any]) -> np.ndarray:
    """Of every band what comes of those up to `reach` bands away that are numbers; 0 where none is."""
    beside = (x[max(k - reach, 0) : k + reach + 1] for k in range(len(x)))
    there = (some[~np.isnan(some)] for some in beside)
    return np.array([what(some) if len(some) else 0.0 for some in there])


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
