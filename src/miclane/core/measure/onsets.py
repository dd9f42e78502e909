"""Word starts: where they are, how much of them gets through a stage, and whether it lets go before the next."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..engine.node import Trace
from ..kernels.levels import power
from .levels import HOP_MS, band_level_db, hop_frames
from .phrases import Span

RISE_DB, RISE_MS, APART_MS, WITHIN_DB, STILL_DB = 9.0, 60.0, 160.0, 26.0, 3.0
ONSET_MS, SUSTAIN_MS = (-5.0, 35.0), (60.0, 180.0)
BACK_DB = 1.0


@dataclass(frozen=True)
class OnsetChange:
    """Median peak-to-sustain ratio of word starts in dB before and after a stage, and how many were measured."""

    before_db: float
    after_db: float
    count: int

    @property
    def change_db(self) -> float:
        """Positive where word starts come out sharper than they went in."""
        return self.after_db - self.before_db


@dataclass(frozen=True)
class Recovery:
    """At how many of the word starts the reduction had fallen under 1 dB just before; the median of what was left."""

    back: int
    count: int
    left_db: float


def find_onsets(audio: np.ndarray, rate: int, phrases: Sequence[Span]) -> list[int]:
    """Frames at which words (or their stressed syllables) start in (channels, frames), inside the phrases.

    Where the level from 120 Hz to 9 kHz rises by 9 dB within 60 ms to within 26 dB of the loudest of the phrase; not
    closer together than 160 ms.
    """
    level, hop = band_level_db(audio, rate, 120, 9000, 2), hop_frames(rate)
    reach, apart = round(RISE_MS / HOP_MS), round(APART_MS / HOP_MS)
    found: list[int] = []
    for p in phrases:
        a, b = max(0, p.start // hop), min(len(level), p.end // hop)
        if b - a < reach:
            continue
        loud, last, k = float(level[a:b].max()), -apart, a
        while k < b:
            before = level[max(0, k - reach) : k + 1]
            if level[k] > loud - WITHIN_DB and level[k] - before.min() >= RISE_DB and k - last >= apart:
                lowest = np.flatnonzero(before <= before.min() + STILL_DB)[-1]
                found.append(int(max(0, k - reach) + lowest) * hop)
                last = k
                while k + 1 < b and level[k + 1] >= level[k]:
                    k += 1
            k += 1
    return found


def _sharpness_db(audio: np.ndarray, rate: int, onsets: Sequence[int]) -> np.ndarray:
    """Peak of each word start over the RMS of what it leads to, in dB; NaN where the sound ends before."""
    told = np.full(len(onsets), np.nan)
    (a, b), (c, d) = ([round(ms * rate / 1000) for ms in span] for span in (ONSET_MS, SUSTAIN_MS))
    for k, at in enumerate(onsets):
        if at + d > audio.shape[1]:
            continue
        first, later = audio[:, max(0, at + a) : max(0, at + b)], audio[:, max(0, at + c) : at + d]
        if len(later) > 1:
            later = np.abs(later).max(axis=0)[None]
        mean_square = power(later[0]) / later.shape[1]
        if mean_square > 0:
            peak = max(first.max(), -first.min(), 1e-9)
            told[k] = 20 * math.log10(peak / math.sqrt(mean_square))
    return told


def onset_change(before: np.ndarray, after: np.ndarray, rate: int, onsets: Sequence[int]) -> OnsetChange | None:
    """What a stage does to word starts; before and after (channels, frames). None without any that can be measured."""
    pairs = np.stack([_sharpness_db(x, rate, onsets) for x in (before, after)])
    pairs = pairs[:, np.isfinite(pairs).all(axis=0)]
    if not pairs.shape[1]:
        return None
    differ = float(np.median(pairs[1] - pairs[0]))
    middle = float(np.median(pairs[0]))
    return OnsetChange(middle, middle + differ, pairs.shape[1])


def recovery(trace: Trace, rate: int, onsets: Sequence[int]) -> Recovery | None:
    """Whether the reduction of a trace returns before the next word; onsets in frames of the song. None without any."""
    if trace.gain_db is None:
        return None
    at = [(frame - trace.start) // trace.hop - 2 for frame in onsets]
    left = np.array([-trace.gain_db[k] for k in at if 0 <= k < len(trace.gain_db)])
    if not len(left):
        return None
    return Recovery(int((left < BACK_DB).sum()), len(left), float(np.median(left)))
