"""What is there when nobody sings: noise floor, hum, rumble."""

from dataclasses import dataclass

import numpy as np

from ..late import rfft
from .levels import band_level_db, hop_frames, mean_squares, middle_of, runs
from .phrases import Span

RUMBLE_HZ = 65.0
_MAINS_HZ = (50.0, 60.0)
_LINES = 8
_DIGITAL_SILENCE = 10**-13.0  # −130 dBFS, under the last bit of 20


@dataclass(frozen=True)
class Hum:
    """Mains hum: its fundamental, the level of its lines together in dBFS, and which of the first eight stand out."""

    frequency_hz: float
    level_dbfs: float
    lines: tuple[int, ...]


@dataclass(frozen=True)
class Rumble:
    """Level under 65 Hz in dBFS of the loudest tenth outside phrases, and the moments (frames) it swells."""

    level_dbfs: float
    places: tuple[int, ...]


def gaps_between(phrases: list[Span], frames: int, rate: int, clear_s: float = 0.1) -> list[Span]:
    """What lies outside all phrases, kept clear of them; the whole sound where there is no phrase."""
    clear = round(clear_s * rate)
    at, found = 0, []
    for p in phrases:
        found.append(Span(at, p.start - clear))
        at = p.end + clear
    found.append(Span(at, frames))
    return [g for g in found if g.end - g.start > rate // 20]


def noise_floor_dbfs(audio: np.ndarray, rate: int, phrases: list[Span] | None = None) -> float | None:
    """RMS level in dBFS of the quietest tenth outside phrases (of everything where they leave too little).

    Digital silence, which no microphone makes, is left out; None where half or more is that: then it is not known.
    """
    mono = middle_of(audio)
    hop = hop_frames(rate) * 10
    power = [mean_squares(mono[g.start : g.end], hop) for g in gaps_between(phrases or [], len(mono), rate)]
    if sum(map(len, power)) < 10:
        power = [mean_squares(mono, hop)]
    quiet = np.sort(np.concatenate(power))
    heard = quiet[quiet > _DIGITAL_SILENCE]
    if len(heard) < max(1, len(quiet) // 2):
        return None
    return float(10 * np.log10(heard[: max(1, len(heard) // 10)].mean()))


def find_hum(audio: np.ndarray, rate: int, phrases: list[Span]) -> Hum | None:
    """Hum outside phrases: at least two lines of one mains frequency, the first three among them, 9 dB over their
    surroundings, in a median of spectra of 0.68 s that a swell of rumble does not disturb."""
    mono = middle_of(audio)
    size = 1 << round(np.log2(0.68 * rate))
    step = rate / size
    looked_at = round(max(_MAINS_HZ) * _LINES / step) + 16
    window = np.hanning(size)
    spectra = []
    for g in gaps_between(phrases, len(mono), rate, 0.05):
        for at in range(g.start, g.end - size // 2, size // 2):
            part = mono[at : min(at + size, g.end)]
            if len(part) >= size // 2:
                taper = window if len(part) == size else np.hanning(len(part))
                spectra.append(np.abs(rfft(part * taper, size)[:looked_at]) ** 2 / (taper.sum() / 2) ** 2)
    if not spectra:
        return None
    power = np.median(spectra, axis=0)
    best = None
    for mains in _MAINS_HZ:
        lines, total = [], 0.0
        for k in range(1, _LINES + 1):
            at = mains * k / step
            near = power[round(at - 2) : round(at + 2) + 1]
            around = np.concatenate([power[round(at - 14) : round(at - 4)], power[round(at + 5) : round(at + 15)]])
            over = near.max() / max(float(np.median(around)), 1e-20)
            if over > 8.0 and near.max() > 1e-12:
                lines.append(k)
                total += near.max()
        if len(lines) >= 2 and lines[0] <= 3 and (best is None or len(lines) > len(best.lines)):
            best = Hum(mains, float(10 * np.log10(total / 2)), tuple(lines))
    return best


def find_rumble(audio: np.ndarray, rate: int, phrases: list[Span]) -> Rumble:
    """Level under 65 Hz outside phrases."""
    low = 10 ** (band_level_db(audio, rate, 0, RUMBLE_HZ, 10) / 10)
    hop = hop_frames(rate)
    outside = np.zeros(len(low), bool)
    for g in gaps_between(phrases, audio.shape[1], rate):
        outside[g.start // hop : g.end // hop] = True
    if not outside.any():
        outside[:] = True
    loud = np.sort(low[outside])[-max(1, int(outside.sum()) // 10) :].mean() if len(low) else 1e-20
    usual = float(np.median(low[outside])) if len(low) else 1e-20
    places = [a for a, b in runs(outside & (low > 30 * usual) & (low > 1e-7)) if b - a > 4]
    return Rumble(float(10 * np.log10(max(loud, 1e-20))), tuple(int(a * hop) for a in places))
