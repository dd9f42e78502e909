"""Loudness and true peak against EBU Tech 3341 and 3342."""

import numpy as np
import pytest
import soxr

from conftest import RATE, sine
from miclane.core.measure.loudness import (
    integrated_lufs,
    loudness_range_lu,
    measure_loudness,
    momentary_lufs,
    short_term_lufs,
    true_peak_dbtp,
    weighted_power,
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
    assert abs(loudness_range_lu(weighted_power(steps(*((level, 20) for level in levels)), RATE)) - expected) < 1


@pytest.mark.parametrize(
    ("frequency", "phase_deg", "level", "expected"),
    [(12000, 0, 0.5, -6), (12000, 45, 0.5, -6), (8000, 60, 0.5, -6), (6000, 67.5, 0.5, -6), (12000, 45, 1.41, 3)],
)
def test_true_peak(frequency: float, phase_deg: float, level: float, expected: float) -> None:
    """Tech 3341 signals 15 to 19; +0.2 / −0.4 dB are allowed."""
    t = np.arange(RATE) / RATE
    x = level * np.sin(2 * np.pi * frequency * t + np.deg2rad(phase_deg)) * np.minimum(1, np.minimum(t, t[::-1]) * 100)
    assert -0.4 < true_peak_dbtp(np.stack([x, x]), RATE) - expected < 0.2


def test_short_term_and_momentary_wherever_a_tone_begins() -> None:
    """Tech 3341 signals 10 to 14: three seconds, and 400 ms, of tone at any place; 0.1 LU are allowed."""
    for k in range(20):
        for level in (-23.0, -38.0 + k):
            third = measure_loudness(steps((-200, 0.15 * k), (level, 3), (-200, 1)), RATE)
            assert abs(third.short_term_max_lufs - level) < 0.1
            tenth = measure_loudness(steps((-200, 0.02 * k), (level, 0.4), (-200, 1)), RATE)
            assert abs(tenth.momentary_max_lufs - level) < 0.1
    steady = momentary_lufs(np.concatenate([steps((-20, 0.18), (-30, 0.22))] * 25, axis=1), RATE)
    assert np.abs(steady[10:] + 23).max() < 0.1


def test_loudness_range_of_steps_up_and_down() -> None:
    """Tech 3342 signal 4."""
    signal = steps(*((level, 20) for level in (-50, -35, -20, -35, -50)))
    assert abs(loudness_range_lu(weighted_power(signal, RATE)) - 15) < 1


@pytest.mark.parametrize("late", [0, 1, 2, 3])
def test_true_peak_between_samples_of_what_was_sampled_finer(late: int) -> None:
    """As Tech 3341 signals 20 to 23: made at four times the rate, its peak of 0 dB anywhere between our samples."""
    fast = 4 * RATE
    t = (np.arange(fast) - fast // 2) / fast
    x = np.cos(2 * np.pi * 8000 * t) * (0.5 + 0.5 * np.exp(-((t * 2000) ** 2))) * np.hanning(fast)
    assert -0.4 < true_peak_dbtp(x[None, late::4], RATE) - 0 < 0.2


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_true_peak_is_the_same_however_a_file_is_cut(rate: int) -> None:
    t = np.arange(45 * rate) / rate
    fade = np.minimum(1, np.minimum(t, t[::-1]) * 10)
    low = 10 ** (-1 / 20) * np.sin(2 * np.pi * 997 * t) * fade
    wide = np.random.default_rng(1).standard_normal(len(t)) * 0.02 * fade
    for x, most in ((low, -0.999), (low + wide, 1.0)):
        found = [true_peak_dbtp(np.pad(x, (ahead, 0))[None], rate) for ahead in (0, 7, 5000, 100_003)]
        assert max(found) - min(found) < 0.01
        assert max(found) < most


def test_mono_counts_one_channel_and_silence_has_no_loudness() -> None:
    assert abs(integrated_lufs(sine(1000, -20, 3), RATE) + 23.0) < 0.1
    told = measure_loudness(np.zeros((1, RATE)), RATE)
    assert told.integrated_lufs <= -100
    assert told.range_lu == 0
    assert integrated_lufs(np.zeros((1, 0)), RATE) <= -100


@pytest.mark.parametrize("rate", [44100, 96000])
def test_the_true_peak_is_that_of_the_whole_wherever_it_stands(rate: int) -> None:
    """Of noise to half the rate, of samples that alternate, of clicks at the ends: as if all of it were oversampled."""
    rng, n = np.random.default_rng(3), 6 * rate
    swelling = rng.normal(0, 0.1, (2, n)) * np.repeat(rng.uniform(0, 1, 60), n // 60)
    turning = 0.3 * rng.normal(0, 0.2, (1, n))
    turning[0, n // 2 : n // 2 + 400 : 2] += 0.3
    turning[0, n // 2 + 1 : n // 2 + 401 : 2] -= 0.3
    clicks = np.zeros((1, n))
    clicks[0, 0] = clicks[0, -1] = 0.7
    late = np.concatenate([np.zeros((1, n - 30)), rng.normal(0, 0.3, (1, 30))], axis=1)
    for x in (swelling, turning, clicks, late, sine(rate / 4 * 0.999, -6, 6, rate, 1), np.zeros((1, n)), clicks[:, :5]):
        finer = soxr.resample(x.T, rate, rate * (8 if rate < 80000 else 4), quality="VHQ")
        whole = max(float(np.abs(finer).max()), float(np.abs(x).max()), 1e-10)
        assert abs(true_peak_dbtp(x, rate) - 20 * np.log10(whole)) < 0.002
