"""Sibilance along a chain: the balance after every stage, what fell too far under the voice, and where to begin."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..engine.giving_way import breathe
from ..late import rfft
from ..stages.deess import Balanced, Deess, DeessProcessor
from ..stages.plosive import Plosive
from .events import AIR_HZ, SHARP, VOICE_HZ, Sibilant, find_sibilants, sibilant_balance
from .phrases import Span
from .plosives import find_plosives
from .sides import voice_in

STANDS_OUT_DB = -10.0  # to the voice around it, as in Sibilant.excess_db
LISP_DB = -22.0  # under this an s or sh is missed by the ear
RAISED_DB = 1.0
_SIZE = 1024
_AT_ONCE = 256  # moments whose spectra are made in one go, so that a long take needs little memory


def balance_db(audio: np.ndarray, rate: int, events: Sequence[Span | Sibilant], first: int = 0) -> float:
    """Sibilant-to-voice balance of (channels, frames) that begin at frame `first`; NaN without events in it.

    Mean power from 2.6 to 15 kHz inside the events, over the mean power from 100 Hz to 3.5 kHz outside them, of the
    frames within 25 dB of the loudest.
    """
    spans = [(max(e.start - first, 0), min(e.end - first, audio.shape[1])) for e in events]
    spans = [(a, b) for a, b in spans if b > a]
    if not spans or audio.shape[1] < _SIZE:
        return float("nan")
    hop = _SIZE // 2
    moments = np.lib.stride_tricks.sliding_window_view(voice_in(audio), _SIZE)[::hop]
    window = np.hanning(_SIZE).astype(np.float32)
    bins = 2 * np.searchsorted(np.fft.rfftfreq(_SIZE, 1 / rate), [AIR_HZ, VOICE_HZ])
    air, voice = powers = np.empty((2, len(moments)), np.float32)
    for k in range(0, len(moments), _AT_ONCE):
        breathe()
        windowed = moments[k : k + _AT_ONCE].astype(np.float32) * window
        spectra = rfft(windowed, axis=1).view(np.float32)  # real and imaginary in turn
        for power, (low, high) in zip(powers, bins, strict=True):
            np.einsum("ij,ij->i", spectra[:, low:high], spectra[:, low:high], out=power[k : k + _AT_ONCE])
    middles = np.arange(len(air)) * hop + hop
    inside = np.zeros(len(air), bool)
    for a, b in spans:
        inside |= (middles >= a) & (middles < b)
    sung = ~inside & (voice > voice.max() * 10**-2.5)
    if not inside.any() or not sung.any():
        return float("nan")
    return float(10 * np.log10(max(air[inside].mean(), 1e-30) / max(voice[sung].mean(), 1e-30)))


@dataclass(frozen=True)
class Fallen:
    """An s or sh that fell too far under the voice: frames, its balance before and after, dB under the line."""

    start: int
    end: int
    before_db: float
    after_db: float
    under_db: float


def excess_db(audio: np.ndarray, rate: int, events: Sequence[Span | Sibilant]) -> np.ndarray:
    """Greatest level of each event over the voice around it (k,), in dB, as find_sibilants tells it."""
    if not events:
        return np.zeros(0)
    at = sibilant_balance(audio, rate)
    over = at.air_db - at.around_db
    return np.array([over[e.start // at.hop : max(e.end // at.hop, e.start // at.hop + 1)].max() for e in events])


def fallen(
    before: np.ndarray, after: np.ndarray, rate: int, events: Sequence[Sibilant], line_db: float = LISP_DB
) -> list[Fallen]:
    """Which of the events, s and sh, came out of a stage (channels, frames) under the lisp line, and were above it."""
    told = [e for e in events if e.kind in ("s", "sh") and 0 <= e.start < e.end <= before.shape[1]]
    pairs = zip(told, excess_db(before, rate, told), excess_db(after, rate, told), strict=True)
    return [
        Fallen(e.start, e.end, float(a), float(b), float(line_db - b))
        for e, a, b in pairs
        if b < line_db - 0.05 and b < a - 0.5
    ]


def stop_at_line(
    raw: np.ndarray, before: np.ndarray, rate: int, events: Sequence[Sibilant], stage: Balanced
) -> float | None:
    """The greatest cut of a stage, to 0.1 dB, at which no event comes out of it under the lisp line.

    `before` (channels, frames) is what comes into it. None where it lets none fall that stood above the line there.
    """
    told = [e for e, v in zip(events, excess_db(before, rate, events), strict=True) if v >= LISP_DB]
    late = stage.latency_frames(rate)
    padded = np.concatenate([before, np.zeros((before.shape[0], late))], axis=1)

    def falls(most: float) -> bool:
        tried = stage.model_copy(update={"max_cut_db": most})
        after = tried.build(rate, before.shape[0]).process(padded)[:, late:]
        return bool(fallen(raw, after, rate, told))

    if not told or not falls(stage.max_cut_db) or falls(0.0):
        return None
    low, high = 0.0, stage.max_cut_db
    while high - low > 0.1:
        middle = 0.5 * (low + high)
        low, high = (low, middle) if falls(middle) else (middle, high)
    return float(np.floor(10 * low) / 10)


def heard_by(stage: Balanced, audio: np.ndarray, rate: int) -> np.ndarray:
    """How far the band of a stage is over the voice around it in (channels, frames), in dB (n,)."""
    detector = DeessProcessor(stage.model_copy(update={"threshold_db": 0.0}), rate, audio.shape[0], telling=True)
    late = detector.latency
    detector.process(np.concatenate([audio, np.zeros((audio.shape[0], late))], axis=1))
    return detector.excess_db[late:]


def deess_start(audio: np.ndarray, rate: int) -> dict[str, Any]:
    """Settings of a de-esser for (channels, frames) as they come into it; {} where nothing stands out.

    The band about the centres of what stands out; the threshold where an event that just stands out begins to be cut;
    the greatest cut as much as the worst needs. Cut that way, none can fall under the lisp line.
    """
    events = [e for e in find_sibilants(audio, rate) if e.kind in SHARP]
    strong = [e for e in events if e.excess_db > STANDS_OUT_DB]
    if not strong:
        return {}
    low, high = (float(np.percentile([e.centre_hz for e in strong], p)) for p in (20, 80))
    band = {
        "low_hz": float(round(np.clip(0.6 * low, 2200, 6500), -2)),
        "high_hz": float(round(np.clip(1.6 * high, 9000, 14000), -2)),
    }
    over = heard_by(Deess(**band), audio, rate)
    peaks = np.array([over[e.start : e.end].max() for e in strong])
    differs = float(np.median(peaks - np.array([e.excess_db for e in strong])))
    threshold = round(STANDS_OUT_DB + differs - 3.0, 1)
    most = float(np.clip(np.ceil(peaks.max() - threshold), 3, 14))
    return band | {"threshold_db": float(np.clip(threshold, -30, 20)), "max_cut_db": most}


def deess_back(
    audio: np.ndarray, rate: int, events: Sequence[Sibilant], stage: Deess, target_db: float
) -> dict[str, Any]:
    """Threshold and greatest cut with which a de-esser brings the balance of (channels, frames) to `target_db`.

    Found by halving, on the sound it makes; the whole sound of each event is cut where cutting the band is not enough.
    {} where the balance is there already.
    """
    if not events or not balance_db(audio, rate, events) > target_db + 0.1:
        return {}
    late = stage.latency_frames(rate)
    padded = np.concatenate([audio, np.zeros((audio.shape[0], late))], axis=1)

    def after(settings: dict[str, Any]) -> float:
        tried = stage.model_copy(update=settings)
        return balance_db(tried.build(rate, audio.shape[0]).process(padded)[:, late:], rate, events)

    found: dict[str, Any] = {}
    for mode in dict.fromkeys((stage.mode, "wide")):
        low, high = -24.0, 6.0
        for _ in range(8):
            middle = 0.5 * (low + high)
            found = {"mode": mode, "threshold_db": round(middle, 1), "max_cut_db": 12.0}
            low, high = (low, middle) if after(found) > target_db else (middle, high)
        if after(found) < target_db + 0.5:
            break
    return found


def plosive_start(audio: np.ndarray, rate: int, phrases: list[Span], lowest_hz: float) -> dict[str, Any]:
    """Settings of a plosive stage for (channels, frames); {} where there are no bursts.

    The band ends under the lowest sung note; the threshold lies 8 dB under the weakest of them.
    """
    bursts = find_plosives(audio, rate, phrases, lowest_hz)
    if not bursts:
        return {}
    band = {"high_hz": float(round(np.clip(0.6 * lowest_hz if lowest_hz else 120.0, 60, 120)))}
    over = heard_by(Plosive(**band), audio, rate)
    weakest = min(float(over[b.start : b.end + rate // 10].max()) for b in bursts)
    threshold = float(np.clip(weakest - 8, -30, 20))
    return band | {"threshold_db": round(threshold, 1), "max_cut_db": 18.0}
