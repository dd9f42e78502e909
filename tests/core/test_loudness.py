"""Loudness and true peak against EBU Tech 3341 and 3342."""

import numpy as np
import pytest

from conftest import RATE, sine
from miclane.core.measure.loudness import (
    integrated_lufs,
    loudness_range_lu,
    measure_loudness,
    momentary_lufs,
    short_term_lufs,
    true_peak_dbtp,
)


def steps(*parts: tuple[float, float], rate: int = RATE) -> np.ndarray:
    """Stereo 1 kHz tone of successive (level in dBFS, seconds)."""
    return np.concatenate([sine(1000, level, seconds, rate, 2) for level, seconds in parts], axis=1)


# Tech 3341 (2016), table 1: signals 1 to 5 and what integrated loudness must read
CASES = {
    "1": ([(-23, 20)], -23.0),
    "2": ([(-33, 20)], -33.0),
    "3": ([(-36, 10), (-23, 60), (-36, 10)], -23.0),
    "4": ([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23.0),
    "5": ([(-26, 20), (-20, 20.1), (-26, 20)], -23.0),
}


@pytest.mark.parametrize("case", CASES)
@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_integrated_loudness(case: str, rate: int) -> None:
    parts, expected = CASES[case]
    assert abs(integrated_lufs(steps(*parts, rate=rate), rate) - expected) < 0.1


def test_short_term_and_momentary_of_steady_tones() -> None:
    x = np.concatenate([steps((-20, 1.34), (-30, 1.66))] * 5, axis=1)  # Tech 3341 signal 9
    assert np.abs(short_term_lufs(x, RATE)[5:] + 23).max() < 0.1
    assert abs(momentary_lufs(steps((-23, 3)), RATE).max() + 23) < 0.1


@pytest.mark.parametrize(("levels", "expected"), [((-20, -30), 10), ((-20, -15), 5), ((-40, -20), 20)])
def test_loudness_range(levels: tuple[float, float], expected: float) -> None:
    assert abs(loudness_range_lu(steps(*((level, 20) for level in levels)), RATE) - expected) < 1


@pytest.mark.parametrize(
    ("frequency", "phase_deg", "level", "expected"),
    [(12000, 0, 0.5, -6), (12000, 45, 0.5, -6), (8000, 60, 0.5, -6), (6000, 67.5, 0.5, -6), (12000, 45, 1.41, 3)],
)
def test_true_peak(frequency: float, phase_deg: float, level: float, expected: float) -> None:
    """Tech 3341 signals 15 to 19; +0.2 / −0.4 dB are allowed."""
    t = np.arange(RATE) / RATE
    x = level * np.sin(2 * np.pi * frequency * t + np.deg2rad(phase_deg)) * np.minimum(1, np.minimum(t, t[::-1]) * 100)
    assert -0.4 < true_peak_dbtp(np.stack([x, x]), RATE) - expected < 0.2


def test_mono_counts_one_channel_and_silence_has_no_loudness() -> None:
    assert abs(integrated_lufs(sine(1000, -20, 3), RATE) + 23.0) < 0.1
    told = measure_loudness(np.zeros((1, RATE)), RATE)
    assert told.integrated_lufs <= -100
    assert told.range_lu == 0
    assert integrated_lufs(np.zeros((1, 0)), RATE) <= -100
