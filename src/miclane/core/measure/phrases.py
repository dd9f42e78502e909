"""Phrases: stretches of singing between silences, from level and voicing, first and last consonant included."""

from dataclasses import dataclass

import numpy as np

from .levels import averaged_db, band_level_db, hop_frames, runs

JOIN_S, LEAST_S, REACH_S = 0.32, 0.18, 0.4
CONSONANT_S, HISS_S, CLOSURE_S, BURST_S = 0.17, 0.3, 0.14, 0.09
SHARP_DB, FAINT_DB = 4.0, 48.0  # of a hiss over what lies beneath it; under the phrase, what still is a consonant


@dataclass(frozen=True)
class Span:
    """Frames [start, end) of a sound."""

    start: int
    end: int


def find_phrases(audio: np.ndarray, rate: int) -> list[Span]:
    """Phrases of (channels, frames) in order.

    Cores are where the voice band (130 to 700 Hz, for high notes to 1,300 Hz) stands well over its floor; cores less
    than 0.32 s apart belong together; each grows outwards through whatever still stands over the floor in the
    consonants' band, so that neither the first nor the last consonant is cut, and stops at the first dip (a breath
    before a dip stays outside).
    A faint consonant before, shorter than a breath, and the burst of a stop after its closure belong to it as well, and
    both may be longer where they hiss as no breath does: over what lies between 500 Hz and 2.2 kHz.
    """
    if audio.shape[1] < rate // 10:
        return []
    voice = band_level_db(audio, rate, 130, 1300, 4)
    chest = band_level_db(audio, rate, 130, 700, 4)  # where a breath has next to nothing
    air = band_level_db(audio, rate, 2500, 0, 1)
    hiss = averaged_db(air, 4)
    sharp = averaged_db(air, 8) > band_level_db(audio, rate, 500, 2200, 8) + SHARP_DB
    floor_voice, floor_chest, floor_hiss = (np.percentile(level, 8) for level in (voice, chest, hiss))
    loud = np.percentile(voice, 95)
    if loud < -75:
        return []
    if loud - floor_voice < 15:
        return [Span(0, audio.shape[1])]
    per_s = rate / hop_frames(rate)
    core = (chest > max(floor_chest + 10, np.percentile(chest, 95) - 30)) | (voice > max(floor_voice + 10, loud - 20))
    groups = _joined(core, per_s)
    found: list[Span] = []
    for k, (a, b) in enumerate(groups):
        if b - a < LEAST_S * per_s:
            continue
        here, low = np.percentile(voice[a:b], 90), np.percentile(chest[a:b], 90)
        here = low if low > here - 12 else here  # high notes have little below them
        starting = (chest > max(floor_chest + 6, low - 26)) | (hiss > max(floor_hiss + 6, here - 22))
        ending = (chest > max(floor_chest + 6, low - 32)) | (hiss > max(floor_hiss + 6, here - 32))
        faint = (chest > max(floor_chest + 6, low - 36)) | (hiss > floor_hiss + 4)
        hissing = sharp & (hiss > max(floor_hiss + 6, here - FAINT_DB))
        least = max(groups[k - 1][1] if k else 0, round(a - REACH_S * per_s))
        most = min(groups[k + 1][0] if k + 1 < len(groups) else len(core), round(b + REACH_S * per_s)) - 1
        a = _grow(starting, a, -1, least, 9)
        a = min(_consonant(faint, a, least, CONSONANT_S * per_s), _consonant(hissing, a, least, HISS_S * per_s))
        b = _grow(ending, b - 1, 1, most, 16)
        b = max(_burst(ending, b, most, per_s, BURST_S), _burst(hissing, b, most, per_s, HISS_S))
        start, end = max(0, (a - 4) * hop_frames(rate)), min(audio.shape[1], (b + 3) * hop_frames(rate))
        if found and start < found[-1].end:  # what grew together is one
            start = found.pop().start
        found.append(Span(start, end))
    return found


def _joined(core: np.ndarray, per_s: float) -> list[list[int]]:
    """Runs of cores [start, end), those that belong together made one."""
    groups: list[list[int]] = []
    for a, b in runs(core):
        if b - a < 0.03 * per_s:
            continue
        if groups and a - groups[-1][1] < JOIN_S * per_s:
            groups[-1][1] = b
        else:
            groups.append([a, b])
    return groups


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


def _consonant(faint: np.ndarray, at: int, limit: int, longest: float) -> int:
    """Start of the faint consonant that leads up to `at`; `at` itself where what leads up is longer: a breath."""
    start = _grow(faint, at, -1, limit, 4)
    return start if at - start <= longest else at


def _burst(ending: np.ndarray, at: int, limit: int, per_s: float, longest_s: float) -> int:
    """End of the burst that a stop makes after its closure, where there is one; `at` itself elsewhere."""
    after = ending[at + 1 : min(limit, at + 1 + round((CLOSURE_S + longest_s) * per_s)) + 1]
    starts = np.flatnonzero(after)
    if not len(starts) or starts[0] > CLOSURE_S * per_s:
        return at
    end = _grow(ending, at + 1 + int(starts[0]), 1, limit, 4)
    return end if end - at - starts[0] <= longest_s * per_s else at
