"""The room in a take: how long the ends of phrases take to die away."""

import numpy as np

from .levels import HOP_MS, band_level_db, hop_frames
from .phrases import Span

_FROM_DB, _TO_DB = -10.0, -30.0  # to the loud level of the phrase
CLEAR_DB = -34.0  # noise nearer than that to the voice hides the end of a fall
_AFTER_S = 0.6
_LEAST_PHRASES = 3


def falls_ms(audio: np.ndarray, rate: int, phrases: list[Span], noise_db: float | None) -> float | None:
    """How long it takes from 10 to 30 dB under the level of a phrase at its end, in ms: of the quickest quarter.

    Some phrases are sung out slowly; a room lets none of them end quickly. Of the band from 200 Hz to 4 kHz of
    (channels, frames). None for fewer than three phrases, and where the noise lies within 34 dB of the voice
    (`noise_db`, None where it is not known): it would hide the end of the fall.
    """
    if len(phrases) < _LEAST_PHRASES or (noise_db is not None and noise_db > CLEAR_DB):
        return None
    level, hop = band_level_db(audio, rate, 200, 4000, 4), hop_frames(rate)
    starts = [p.start for p in phrases[1:]] + [audio.shape[1]]
    found = []
    for phrase, until in zip(phrases, starts, strict=True):
        part = level[phrase.start // hop : min(until, phrase.end + round(_AFTER_S * rate)) // hop]
        if len(part) < 4:
            continue
        loud = float(np.percentile(part, 90))
        last = int(np.flatnonzero(part > loud + _FROM_DB)[-1])
        under = np.flatnonzero(part[last:] < loud + _TO_DB)
        found.append(HOP_MS * float(under[0] if len(under) else len(part) - last))
    return float(np.percentile(found, 25)) if len(found) >= _LEAST_PHRASES else None
