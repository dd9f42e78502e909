"""Plosives and breaths as events in time."""

from dataclasses import dataclass

import numpy as np

from .levels import band_level_db, hop_frames, runs
from .phrases import Span

TOP_HZ = 120.0
LEAST_OVER_DB = -4.0


@dataclass(frozen=True)
class Plosive:
    """Frames [start, end); peak level below 120 Hz in dB over the voice of its phrase, and in dBFS."""

    start: int
    end: int
    over_db: float
    level_dbfs: float


@dataclass(frozen=True)
class Breath:
    """Frames [start, end) of an intake of breath; its level in dBFS."""

    start: int
    end: int
    level_dbfs: float


def find_plosives(audio: np.ndarray, rate: int, phrases: list[Span], lowest_hz: float = 0.0) -> list[Plosive]:
    """Bursts of air in (channels, frames), in order.

    A burst rises from the level around it by 12 dB within 40 ms, below 120 Hz (below three quarters of the lowest sung
    note where that is lower), comes within 4 dB of the voice of its phrase, and is gone after 0.2 s.
    """
    top = min(TOP_HZ, 0.75 * lowest_hz) if lowest_hz else TOP_HZ
    low = band_level_db(audio, rate, 18, top, 4)
    voice = band_level_db(audio, rate, max(150.0, 1.2 * top), 4000, 10)
    hop = hop_frames(rate)
    found: list[Plosive] = []
    for p in phrases:
        first, last = max(0, p.start // hop - 6), min(len(low), p.end // hop + 6)
        if last - first < 8:
            continue
        loud = float(np.percentile(voice[first:last], 80))
        for a, b in runs(low[first:last] > loud + LEAST_OVER_DB - 8):
            a, b = a + first, b + first
            peak = a + int(np.argmax(low[a:b]))
            before = low[max(0, peak - 24) : max(1, peak - 6)]
            rise = low[peak] - float(np.median(before)) if len(before) else 0.0
            if low[peak] < loud + LEAST_OVER_DB or rise < 12 or b - a > 0.2 * rate / hop:
                continue
            found.append(Plosive(a * hop, b * hop, float(low[peak] - loud), float(low[peak])))
    return found


def find_breaths(audio: np.ndarray, rate: int, phrases: list[Span], floor_dbfs: float | None) -> list[Breath]:
    """Breaths outside phrases: 0.12 to 1.2 s of noise between 500 Hz and 8 kHz, without voice, well over the floor.

    Where the floor is not known, it is taken to be 60 dB under the loudest of what is looked at.
    """
    hiss = band_level_db(audio, rate, 500, 8000, 6)
    low = band_level_db(audio, rate, 100, 400, 6)
    hop = hop_frames(rate)
    found = []
    least = floor_dbfs - 15 if floor_dbfs is not None else float(hiss.max(initial=-120.0)) - 60
    ends = [0, *(p.end // hop for p in phrases)]
    starts = [*(p.start // hop for p in phrases), len(hiss)]
    for a, b in zip(ends, starts, strict=True):
        if b - a < 20:
            continue
        floor = max(float(np.percentile(hiss[a:b], 10)), least)
        groups: list[list[int]] = []
        for c, d in runs((hiss[a:b] > floor + 5) & (hiss[a:b] > low[a:b])):
            if groups and c - groups[-1][1] < 12:
                groups[-1][1] = d
            else:
                groups.append([c, d])
        for c, d in groups:
            c, d = c + a, d + a
            if 0.12 <= (d - c) * hop / rate <= 1.2 and hiss[c:d].max() > floor + 8:
                level = float(10 * np.log10(np.mean(10 ** (hiss[c:d] / 10))))
                found.append(Breath(c * hop, d * hop, level))
    return found
