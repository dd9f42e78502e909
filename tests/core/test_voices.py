"""Labelled takes of three voices (tools/voices): phrases keep their consonants, and no ring is found where none is.

Five noise levels, four rates; recorded voices of Debian's alsa-utils as well, where they are installed.
"""

import json
from functools import cache
from pathlib import Path

import numpy as np
import pytest
import soundfile
import soxr

from miclane.core.measure.phrases import find_phrases
from miclane.core.measure.take import measure_take
from speech import sing, with_noise

VOICES = Path(__file__).parent.parent / "voices"
TRUTH = json.loads((VOICES / "truth.json").read_text())
LEVELS, RATES = (None, -80, -70, -60, -50), (44100, 48000, 88200, 96000)
RECORDED = sorted(p for p in Path("/usr/share/sounds/alsa").glob("*.wav") if p.stem != "Noise")
CLEAR_DB, FAINTEST_DBFS, LOST = 3.0, -65.0, 0.2  # over the noise; what sounds at all; a share: a decibel


@cache
def take(name: str, rate: int) -> np.ndarray:
    x, own = soundfile.read(VOICES / f"{name}.flac")
    return soxr.resample(x, own, rate, quality="VHQ")[None]


def in_noise(x: np.ndarray, level: float | None, seed: int) -> np.ndarray:
    return x if level is None else with_noise(x, level, seed)


def ends(x: np.ndarray, rate: int, name: str, level: float | None, at: int, inside: np.ndarray) -> list[tuple]:
    """First and last phone of a take that begins at a frame: how much of each lies outside what was found."""
    found = []
    for phone, begin, end in (TRUTH[name]["phones"][0], TRUTH[name]["phones"][-1]):
        span = slice(at + round(begin * rate), at + round(end * rate))
        power = x[0, span] ** 2
        rms_db = 10 * np.log10(max(float(power.mean()), 1e-20))
        if rms_db > max(FAINTEST_DBFS, (level or -200) + CLEAR_DB):
            found.append((name, level, rate, phone, float(power[~inside[span]].sum() / power.sum())))
    return found


def found_in(x: np.ndarray, rate: int) -> np.ndarray:
    inside = np.zeros(x.shape[1], bool)
    for span in find_phrases(x, rate):
        inside[span.start : span.end] = True
    return inside


def test_first_and_last_phones_are_whole() -> None:
    """105 labelled takes, then 105 of two voices one after the other, the second 12 dB lower or higher."""
    phones, early = [], []
    for k, name in enumerate(TRUTH):
        for j, level in enumerate(LEVELS):
            rate = RATES[(k + j) % len(RATES)]
            x = take(name, rate)
            inside = found_in(in_noise(x, level, j), rate)
            phones += ends(x, rate, name, level, 0, inside)
            early.append(TRUTH[name]["phones"][0][1] - np.argmax(inside) / rate)
            other = list(TRUTH)[(5 * k + 3) % len(TRUTH)]
            y = take(other, rate) * 10 ** ((-12 if k % 2 else 12) / 20)
            both = np.concatenate([x, y], axis=1) * (1.0 if k % 2 else 0.25)
            inside = found_in(in_noise(both, level, j), rate)
            phones += ends(both, rate, name, level, 0, inside) + ends(both, rate, other, level, x.shape[1], inside)
    lost = [p for p in phones if p[-1] > LOST]
    print(f"phones: {len(phones) - len(lost)} of {len(phones)} whole, {lost}; begins {max(early):.3f} s early at most")
    assert len(phones) > 500
    assert len(lost) <= 0.005 * len(phones)
    assert max(early) < 0.06


def test_no_ring_is_found_in_fifty_takes_without_one() -> None:
    rate = 48000
    takes = {name: take(name, rate) for name in TRUTH}
    for voice in ("slt", "kal", "awb"):
        takes[voice] = np.concatenate([take(name, rate) for name in TRUTH if name.startswith(voice)], axis=1)
    takes |= {f"made {seed}": sing(seed, transpose=5 * seed % 13 - 6).audio for seed in range(2)}
    found = {}
    for k, (name, x) in enumerate(takes.items()):
        for level in ((-80, -60), (-70, -45))[k % 2]:
            rings = measure_take(with_noise(x, level, k), rate).rings
            if rings:
                found[name, level] = [(round(r.frequency_hz), round(r.over_db, 1)) for r in rings]
    assert 2 * len(takes) >= 50
    assert not found


@pytest.mark.skipif(not RECORDED, reason="Debian's alsa-utils and its recorded voices are not installed")
def test_recorded_voices_have_one_phrase_and_no_ring() -> None:
    for path in RECORDED:
        x, rate = soundfile.read(path)
        found = measure_take(x[None] if x.ndim == 1 else np.ascontiguousarray(x.T), rate)
        assert len(found.phrases) in (1, 2), path.name
        assert not found.rings, path.name
