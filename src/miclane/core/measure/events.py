"""Sibilants as events in time: where, how bright, how far over the voice around them."""

from dataclasses import dataclass

import numpy as np

from ..stages.deess import FLOOR_DB, Deess, DeessProcessor
from .levels import runs

LEAST_EXCESS_DB = -26.0
_DETECTOR = Deess(low_hz=4000, high_hz=14000, threshold_db=0, max_cut_db=24, attack_ms=1, release_ms=8, lookahead_ms=0)


@dataclass(frozen=True)
class Sibilant:
    """Frames [start, end), centre of its spectrum, greatest level over the voice around it in dB."""

    start: int
    end: int
    centre_hz: float
    excess_db: float


def find_sibilants(audio: np.ndarray, rate: int) -> list[Sibilant]:
    """Events of (channels, frames) in order, whatever the level of the take."""
    mono = np.ascontiguousarray(audio.mean(axis=0, keepdims=True))
    detector = DeessProcessor(_DETECTOR, rate, 1, telling=True)
    detector.process(np.concatenate([mono, np.zeros((1, detector.latency))], axis=1))
    over, balance = detector.excess_db[detector.latency :], detector.balance_db[detector.latency :]
    near_voice = detector.around_db[detector.latency :] > FLOOR_DB + 3
    active = (over > LEAST_EXCESS_DB) & (balance > 0) & near_voice
    found: list[list[int]] = []
    for a, b in runs(active):
        if found and a - found[-1][1] < 0.018 * rate:
            found[-1][1] = b
        else:
            found.append([a, b])
    events = []
    for a, b in found:
        if b - a < 0.028 * rate:
            continue
        events.append(Sibilant(a, b, _centroid(mono[0, a:b], rate), float(over[a:b].max())))
    return events


def _centroid(x: np.ndarray, rate: int) -> float:
    power = np.abs(np.fft.rfft(x * np.hanning(len(x)))) ** 2
    f = np.fft.rfftfreq(len(x), 1 / rate)
    band = (f > 2500) & (f < 15000)
    total = power[band].sum()
    return float((power[band] * f[band]).sum() / total) if total > 0 else 0.0
