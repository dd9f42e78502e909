"""Sibilants as events in time: where, of what kind, how bright, how far over the voice around them.

What makes a moment sibilant is the balance of the air above 2.6 kHz to the voice below 1.7 kHz there, whatever the
level of the take; how much a sibilant stands out is its level against the loudest the voice gets around it.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from .levels import runs

Kind = Literal["s", "sh", "t", "f", "breath"]
SHARP: frozenset[Kind] = frozenset(("s", "sh", "t"))
KIND_NAMES: dict[Kind, str] = {"s": "s", "sh": "sh", "t": "t or ch", "f": "f or th", "breath": "breath"}
AIR_HZ, SUNG_HZ, VOICE_HZ = (2600.0, 15000.0), (90.0, 1700.0), (100.0, 3500.0)
PAST_S, AHEAD_S = 1.5, 0.25
_HOP_S, _FRAME_S = 0.002, 0.0107
_LEAST_DB, _OVER_FLOOR_DB, _SILENT_DB = -30.0, 9.0, -60.0
_JOIN, _LEAST = 9, 9  # frames


@dataclass(frozen=True)
class Sibilant:
    """Frames [start, end), centre of its spectrum in Hz, greatest level over the voice around it in dB, and its kind.

    `t` is a burst, of a t or ch; `f` the faint wide hiss of f and th; z counts as s.
    """

    start: int
    end: int
    centre_hz: float
    excess_db: float
    kind: Kind = "s"


@dataclass(frozen=True)
class Balance:
    """Level curves a 2 ms hop: air and voice, and the loudest the voice gets around each moment, in dBFS."""

    hop: int
    air_db: np.ndarray
    sung_db: np.ndarray
    around_db: np.ndarray
    power: np.ndarray  # (hops, bins)
    bins_hz: np.ndarray


def sibilant_balance(audio: np.ndarray, rate: int) -> Balance:
    """The curves of (channels, frames) from which sibilants are found."""
    mono = audio.mean(axis=0)
    hop, size = round(_HOP_S * rate), 2 ** round(np.log2(_FRAME_S * rate))
    padded = np.pad(mono, (size // 2, size))
    window = np.hanning(size).astype(np.float32)
    views = np.lib.stride_tricks.sliding_window_view(padded.astype(np.float32), size)[::hop][: len(mono) // hop + 1]
    power = np.abs(np.fft.rfft(views * window, axis=1)).astype(np.float32) ** 2 * (2 / float((window**2).sum()) / size)
    bins = np.fft.rfftfreq(size, 1 / rate)

    def band(low: float, high: float) -> np.ndarray:
        return power[:, (bins >= low) & (bins < high)].sum(axis=1, dtype=float)

    def smooth(x: np.ndarray, kernel: np.ndarray) -> np.ndarray:
        return np.convolve(x, kernel / kernel.sum(), "same")[: len(x)]

    def decibels(x: np.ndarray) -> np.ndarray:
        return 10 * np.log10(np.maximum(x, 1e-20))

    short = np.hanning(7)
    sung = band(*SUNG_HZ) + 0.5 * band(SUNG_HZ[1], AIR_HZ[0])
    voice = decibels(smooth(band(*VOICE_HZ), np.ones(20)))
    past, ahead = round(PAST_S / _HOP_S), round(AHEAD_S / _HOP_S)
    from scipy.ndimage import maximum_filter1d  # loaded when wanted: a start should not wait for it

    around = maximum_filter1d(voice, past + ahead + 1, origin=(past - ahead) // 2, mode="constant", cval=-200.0)
    return Balance(hop, decibels(smooth(band(*AIR_HZ), short)), decibels(smooth(sung, short)), around, power, bins)


def find_sibilants(audio: np.ndarray, rate: int) -> list[Sibilant]:
    """Events of (channels, frames) in order, whatever the level of the take."""
    if audio.shape[1] < round(0.03 * rate):
        return []
    at = sibilant_balance(audio, rate)
    heard = at.air_db[at.air_db > -150]
    floor = float(np.percentile(heard, 8)) if len(heard) else -150.0
    active = (
        (at.air_db > at.sung_db)
        & (at.air_db > floor + _OVER_FLOOR_DB)
        & (at.air_db - at.around_db > _LEAST_DB)
        & (at.around_db > _SILENT_DB)
    )
    groups: list[list[int]] = []
    for a, b in runs(active):
        if groups and a - groups[-1][1] < _JOIN:
            groups[-1][1] = b
        else:
            groups.append([a, b])
    return [_event(at, a, b, audio.shape[1]) for a, b in groups if b - a >= _LEAST]


def _event(at: Balance, a: int, b: int, frames: int) -> Sibilant:
    over = (at.air_db - at.around_db)[a:b]
    spectrum = at.power[a:b].sum(axis=0, dtype=float)
    band = (at.bins_hz > 1500) & (at.bins_hz < 15000)
    spectrum, bins = spectrum[band], at.bins_hz[band]
    centre = float((spectrum * bins).sum() / max(spectrum.sum(), 1e-30))
    flatness = float(np.exp(np.mean(np.log(spectrum + 1e-20))) / max(spectrum.mean(), 1e-20))
    peak = a + int(np.argmax(at.air_db[a:b]))
    rise = float(at.air_db[peak] - at.air_db[max(0, a - 6) : a + 1].min())
    length_ms, early_ms = 1000 * (b - a) * _HOP_S, 1000 * (peak - a) * _HOP_S
    kind: Kind
    if centre < 4500 and float(np.median((at.air_db - at.sung_db)[a:b])) < 3.2:
        kind = "breath"
    elif length_ms <= 30 or (length_ms <= 72 and rise >= 14 and early_ms <= 30):
        kind = "t"
    elif flatness > 0.5 and over.max() < -22:
        kind = "f"
    else:
        kind = "sh" if centre < 6450 else "s"
    return Sibilant(a * at.hop, min(b * at.hop, frames), centre, float(over.max()), kind)
