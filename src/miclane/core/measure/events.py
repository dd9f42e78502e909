"""Sibilants as events in time: where, of what kind, how bright, how far over the voice around them.

What makes a moment sibilant is the balance of the air above 2.6 kHz to the voice below 1.7 kHz there, whatever the
level of the take; how much a sibilant stands out is its level against the loudest the voice gets around it.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..late import rfft
from .levels import runs
from .running import running_max
from .sides import voice_in

Kind = Literal["s", "sh", "t", "f", "breath"]
SHARP: frozenset[Kind] = frozenset(("s", "sh", "t"))
KIND_NAMES: dict[Kind, str] = {"s": "s", "sh": "sh", "t": "t or ch", "f": "f or th", "breath": "breath"}
AIR_HZ, SUNG_HZ, VOICE_HZ = (2600.0, 15000.0), (90.0, 1700.0), (100.0, 3500.0)
PAST_S, AHEAD_S = 1.5, 0.25
_HOP_S, _FRAME_S = 0.002, 0.0107
_LEAST_DB, _OVER_FLOOR_DB, _SILENT_DB = -30.0, 9.0, -60.0
_JOIN, _LEAST = 9, 9  # frames
_AT_ONCE = 1024  # hops whose spectra are made in one go, so that a long take needs little memory


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


class Hops:
    """Short spectra of the middle of (channels, frames), one a 2 ms hop, made when they are asked for."""

    def __init__(self, audio: np.ndarray, rate: int) -> None:
        mono = voice_in(audio)
        self.hop, size = round(_HOP_S * rate), 2 ** round(np.log2(_FRAME_S * rate))
        self.mono, self.size, self.count = mono, size, len(mono) // self.hop + 1
        self.window = np.hanning(size).astype(np.float32)
        self.scale = 2 / float((self.window**2).sum()) / size
        self.bins_hz = np.fft.rfftfreq(size, 1 / rate)

    def power(self, a: int, b: int) -> np.ndarray:
        """Power (hops, bins) as float32 of the hops [a, b)."""
        b = min(b, self.count)
        first, last = a * self.hop - self.size // 2, max(a, b - 1) * self.hop + self.size // 2
        padded = np.zeros(last - first, np.float32)
        there = self.mono[max(first, 0) : last]
        padded[max(-first, 0) :][: len(there)] = there
        frames = np.lib.stride_tricks.sliding_window_view(padded, self.size)[:: self.hop][: max(0, b - a)]
        return np.abs(rfft(frames * self.window, axis=1)).astype(np.float32) ** 2 * self.scale


@dataclass(frozen=True)
class SibilantBalance:
    """Level curves a 2 ms hop: air and voice, and the loudest the voice gets around each moment, in dBFS."""

    hop: int
    air_db: np.ndarray
    sung_db: np.ndarray
    around_db: np.ndarray
    hops: "Hops"


def sibilant_balance(audio: np.ndarray, rate: int) -> SibilantBalance:
    """The curves of (channels, frames) from which sibilants are found."""
    hops = Hops(audio, rate)
    wanted = (AIR_HZ, SUNG_HZ, (SUNG_HZ[1], AIR_HZ[0]), VOICE_HZ)
    found = np.empty((len(wanted), hops.count))
    for k in range(0, hops.count, _AT_ONCE):
        power = hops.power(k, k + _AT_ONCE)
        for row, (low, high) in zip(found, wanted, strict=True):
            inside = (hops.bins_hz >= low) & (hops.bins_hz < high)
            row[k : k + len(power)] = power[:, inside].sum(axis=1, dtype=float)
    air, sung, between, voiced = found

    def smooth(x: np.ndarray, kernel: np.ndarray) -> np.ndarray:
        return np.convolve(x, kernel / kernel.sum(), "same")[: len(x)]

    def decibels(x: np.ndarray) -> np.ndarray:
        return 10 * np.log10(np.maximum(x, 1e-20))

    short = np.hanning(7)
    sung = sung + 0.5 * between
    voice = decibels(smooth(voiced, np.ones(20)))
    past, ahead = round(PAST_S / _HOP_S), round(AHEAD_S / _HOP_S)
    around = running_max(voice, past, ahead, -200.0)
    return SibilantBalance(hops.hop, decibels(smooth(air, short)), decibels(smooth(sung, short)), around, hops)


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


def _event(at: SibilantBalance, a: int, b: int, frames: int) -> Sibilant:
    over = (at.air_db - at.around_db)[a:b]
    spectrum, bins = at.hops.power(a, b).sum(axis=0, dtype=float), at.hops.bins_hz
    band = (bins > 1500) & (bins < 15000)
    spectrum, bins = spectrum[band], bins[band]
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
