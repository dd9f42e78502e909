"""Phrases: stretches of singing between silences, from level and voicing, first and last consonant included."""

from dataclasses import dataclass

import numpy as np

from .levels import band_level_db, hop_frames, runs

JOIN_S, LEAST_S, REACH_S = 0.32, 0.18, 0.35
CONSONANT_S, CLOSURE_S, BURST_S = 0.17, 0.14, 0.09


@dataclass(frozen=True)
class Span:
    """Frames [start, end) of a sound."""

    start: int
    end: int


def find_phrases(audio: np.ndarray, rate: int) -> list[Span]:
    """Phrases of (channels, frames) in order.

    Cores are where the voice band (130 to 700 Hz) stands well over its floor; cores less than 0.32 s apart belong
    together; each grows outwards through whatever still stands over the floor in the consonants' band, so that
    neither the first nor the last consonant is cut, and stops at the first dip (a breath before a dip stays outside).
    A faint consonant before, shorter than a breath, and the burst of a stop after its closure belong to it as well.
    """
    if audio.shape[1] < rate // 10:
        return []
    voice = band_level_db(audio, rate, 130, 700, 4)
    hiss = band_level_db(audio, rate, 2500, 0, 4)
    floor_voice, floor_hiss = np.percentile(voice, 8), np.percentile(hiss, 8)
    loud = np.percentile(voice, 95)
    if loud < -75:
        return []
    if loud - floor_voice < 15:
        return [Span(0, audio.shape[1])]
    per_s = rate / hop_frames(rate)
    core = voice > max(floor_voice + 10, loud - 30)
    groups: list[list[int]] = []
    for a, b in runs(core):
        if b - a < 0.03 * per_s:
            continue
        if groups and a - groups[-1][1] < JOIN_S * per_s:
            groups[-1][1] = b
        else:
            groups.append([a, b])
    found = []
    for k, (a, b) in enumerate(groups):
        if b - a < LEAST_S * per_s:
            continue
        here = np.percentile(voice[a:b], 90)
        starting = (voice > max(floor_voice + 6, here - 26)) | (hiss > max(floor_hiss + 6, here - 22))
        ending = (voice > max(floor_voice + 6, here - 32)) | (hiss > max(floor_hiss + 6, here - 32))
        faint = (voice > max(floor_voice + 6, here - 36)) | (hiss > floor_hiss + 4)
        least = max(groups[k - 1][1] if k else 0, round(a - REACH_S * per_s))
        most = min(groups[k + 1][0] if k + 1 < len(groups) else len(core), round(b + REACH_S * per_s)) - 1
        a = _grow(starting, a, -1, least, 9)
        a = _consonant(faint, a, least, round(CONSONANT_S * per_s))
        b = _grow(ending, b - 1, 1, most, 16)
        b = _burst(ending, b, most, per_s)
        found.append(Span(max(0, (a - 4) * hop_frames(rate)), min(audio.shape[1], (b + 3) * hop_frames(rate))))
    return found


def _grow(sounding: np.ndarray, at: int, step: int, limit: int, longest_dip: int) -> int:
    last, dips = at, 0
    while at != limit and 0 <= at < len(sounding):
        if sounding[at]:
            last, dips = at, 0
        else:
            dips += 1
            if dips > longest_dip:
                break
        at += step
    return last


def _consonant(faint: np.ndarray, at: int, limit: int, longest: int) -> int:
    """Start of the faint consonant that leads up to `at`; `at` itself where what leads up is longer: a breath."""
    start = _grow(faint, at, -1, limit, 4)
    return start if at - start <= longest else at


def _burst(ending: np.ndarray, at: int, limit: int, per_s: float) -> int:
    """End of the burst that a stop makes after its closure, where there is one; `at` itself elsewhere."""
    after = ending[at + 1 : min(limit, at + 1 + round((CLOSURE_S + BURST_S) * per_s)) + 1]
    starts = np.flatnonzero(after)
    if not len(starts) or starts[0] > CLOSURE_S * per_s:
        return at
    end = _grow(ending, at + 1 + int(starts[0]), 1, limit, 4)
    return end if end - at - starts[0] <= BURST_S * per_s else at
