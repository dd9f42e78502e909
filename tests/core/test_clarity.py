"""Clarity against the standard, and who stands over the voice."""

import math
from itertools import pairwise

import numpy as np
import pytest

from conftest import RATE
from miclane.core.measure.clarity import clarity_of
from miclane.core.measure.hearing import ERBS, THIRDS, BandPowers, band_powers, erb_hz, erb_number
from miclane.core.measure.masking import masking, stand_over
from miclane.core.measure.phrases import Span

SECONDS = 6
# ANSI S3.5-1997, the third-octave procedure, once more: centre, importance, speech at normal effort, internal noise
TABLE = [
    (160, 0.0083, 32.41, 0.6),
    (200, 0.0095, 34.48, -1.7),
    (250, 0.0150, 34.75, -3.9),
    (315, 0.0289, 33.98, -6.1),
    (400, 0.0440, 34.59, -8.2),
    (500, 0.0578, 34.27, -9.7),
    (630, 0.0653, 32.06, -10.8),
    (800, 0.0711, 28.30, -11.9),
    (1000, 0.0818, 25.01, -12.5),
    (1250, 0.0844, 23.00, -13.5),
    (1600, 0.0882, 20.15, -15.4),
    (2000, 0.0898, 17.32, -17.7),
    (2500, 0.0868, 13.18, -21.2),
    (3150, 0.0844, 11.55, -24.2),
    (4000, 0.0771, 9.33, -25.9),
    (5000, 0.0527, 5.31, -23.6),
    (6300, 0.0364, 2.59, -15.8),
    (8000, 0.0185, 1.13, -7.1),
]


def index_of(speech: list[float], noise: list[float]) -> float:
    """The index as the standard has it, band by band, from spectrum levels in dB SPL a Hz."""
    masker = [max(n, e - 24) for e, n in zip(speech, noise, strict=True)]
    total = 0.0
    for i, (f, importance, usual, internal) in enumerate(TABLE):
        if i == 0:
            masking_level = masker[0]
        else:
            power = 10 ** (0.1 * noise[i])
            for k in range(i):
                slope = -80 + 0.6 * (masker[k] + 10 * math.log10(TABLE[k][0]) - 6.353)
                power += 10 ** (0.1 * (masker[k] + 3.32 * slope * math.log10(0.89 * f / TABLE[k][0])))
            masking_level = 10 * math.log10(power)
        heard = min(max((speech[i] - max(masking_level, internal) + 15) / 30, 0), 1)
        total += importance * heard * min(max(1 - (speech[i] - usual - 10) / 160, 0), 1)
    return total


def levels_of(sound: np.ndarray) -> list[float]:
    """Spectrum levels of a whole sound (frames,) in thirds, a tone of 1 kHz at -20 LUFS being at 73 dB SPL."""
    power = np.abs(np.fft.rfft(sound)) ** 2 * 2 / len(sound) ** 2
    hz = np.fft.rfftfreq(len(sound), 1 / RATE)
    found = []
    for f, *_ in TABLE:
        low, high = f * 2 ** (-1 / 6), f * 2 ** (1 / 6)
        found.append(10 * math.log10(power[(hz >= low) & (hz < high)].sum() / (high - low) + 1e-20) + 93)
    return found


def shaped(rng: np.random.Generator, level_db: float, tilt: float, bump: float, seconds: float = SECONDS) -> np.ndarray:
    """Stationary noise with a tilt in dB an octave from 400 Hz on, and a broad bump in dB about 1.5 kHz."""
    spectrum = np.fft.rfft(rng.standard_normal(round(seconds * RATE)))
    hz = np.maximum(np.fft.rfftfreq(round(seconds * RATE), 1 / RATE), 20)
    gain_db = tilt * np.log2(np.maximum(hz / 400, 1)) - 12 * np.log2(np.maximum(100 / hz, 1))
    gain_db += bump * np.exp(-((np.log2(hz / 1500)) ** 2))
    sound = np.fft.irfft(spectrum * 10 ** (gain_db / 20), round(seconds * RATE))
    return sound / np.sqrt(np.mean(sound**2)) * 10 ** (level_db / 20)


def powers(sound: np.ndarray) -> np.ndarray:
    return band_powers(np.atleast_2d(sound), RATE)


def clarity(voice: np.ndarray, rest: np.ndarray, start: float = 0.5, end: float = SECONDS - 0.5) -> float:
    found, _ = clarity_of(powers(voice)[THIRDS], powers(rest)[THIRDS], Span(round(start * 50), round(end * 50)))
    assert found is not None
    return found.clarity


@pytest.mark.parametrize("number", range(40))
def test_clarity_is_the_standards_index(number: int) -> None:
    rng = np.random.default_rng(number)
    voice = shaped(rng, rng.uniform(-34, -16), rng.uniform(-9, -3), rng.uniform(-3, 6))
    noise = shaped(rng, rng.uniform(-46, -12), rng.uniform(-9, 3), rng.uniform(-9, 9))
    assert abs(clarity(voice, noise) - index_of(levels_of(voice), levels_of(noise))) < 0.01


def test_clarity_falls_as_the_music_rises_and_rises_with_the_voice() -> None:
    rng = np.random.default_rng(1)
    voice, noise = shaped(rng, -22, -6, 3), shaped(rng, -22, -4, 0)
    found = [clarity(voice, noise * 10 ** (db / 20)) for db in range(-30, 31, 5)]
    assert all(a >= b for a, b in pairwise(found)) and found[0] > 0.9 and found[-1] < 0.1
    assert clarity(voice * 10 ** (3 / 20), noise) > clarity(voice, noise) + 0.05


def test_where_in_the_file_the_voice_lies_does_not_matter() -> None:
    rng = np.random.default_rng(2)
    voice, noise = shaped(rng, -20, -6, 3, 2), shaped(rng, -24, -5, 0, 9)
    found = []
    for start in (0, 1, 48_001, 5 * RATE + 7):
        lying, around = np.zeros(9 * RATE), np.zeros(9 * RATE)
        lying[start : start + len(voice)] = voice
        around[start : start + len(voice)] = noise[: len(voice)]
        found.append(clarity(lying, around, start / RATE, start / RATE + 2))
    assert max(found) - min(found) < 0.01


def test_silence_no_music_two_sides() -> None:
    rng = np.random.default_rng(3)
    voice, noise = shaped(rng, -20, -6, 3), shaped(rng, -24, -5, 0)
    alone = clarity(voice, np.zeros_like(voice))
    assert abs(alone - index_of(levels_of(voice), [-100.0] * 18)) < 0.01 and alone > 0.9
    assert clarity_of(powers(np.zeros(RATE))[THIRDS], powers(noise[:RATE])[THIRDS], Span(0, 50))[0] is None
    side = np.stack([noise, -noise]) / np.sqrt(2)  # as loud, and nothing of it in the middle
    assert abs(clarity(voice, side) - clarity(voice, noise)) < 1e-6
    both = np.stack([voice, voice]) / np.sqrt(2)
    assert abs(clarity(both, noise) - clarity(voice, noise)) < 1e-6


def test_a_word_that_is_sung_softly_is_less_clear() -> None:
    rng = np.random.default_rng(4)
    voice, noise = shaped(rng, -20, -6, 3), shaped(rng, -24, -5, 0)
    voice[3 * RATE :] *= 0.4
    whole, words = clarity_of(
        powers(voice)[THIRDS], powers(noise)[THIRDS], Span(25, 275), [Span(25, 150), Span(150, 275)]
    )
    assert whole is not None and words[0] is not None and words[1] is not None
    assert words[0].clarity > whole.clarity > words[1].clarity
    assert words[0].over_rest_db - words[1].over_rest_db == pytest.approx(7.96, abs=0.5)


def test_band_powers_do_not_depend_on_how_a_sound_is_cut() -> None:
    rng = np.random.default_rng(5)
    sound = rng.standard_normal((2, 3 * RATE + 411)) * 0.1
    meter = BandPowers(RATE, 2)
    for at in range(0, sound.shape[1], 7001):
        meter.push(sound[:, at : at + 7001])
    assert np.allclose(meter.result(), band_powers(sound, RATE), rtol=1e-4)
    whole = powers(np.sin(2 * np.pi * 1000 * np.arange(RATE) / RATE))
    assert abs(10 * np.log10(whole[THIRDS][8, 10:40].mean() / 0.5)) < 0.05
    assert erb_number(1000) == pytest.approx(15.62, abs=0.01) and erb_hz(erb_number(440.0)) == pytest.approx(440)


def made_song() -> tuple[np.ndarray, dict[str, np.ndarray], list[Span]]:
    """Three phrases of a voice-like noise with gaps, a quiet pad and a quiet guitar: powers, and phrases in places."""
    rng = np.random.default_rng(6)
    voice, pad, guitar = (shaped(rng, level, -6, 0, 9) for level in (-20, -50, -52))
    sung = np.zeros(9 * RATE)
    for start in (0.5, 3.5, 6.5):
        sung[round(start * RATE) : round((start + 2) * RATE)] = 1
    return powers(voice * sung), {"pad": pad, "guitar": guitar}, [Span(25, 125), Span(175, 275), Span(325, 425)]


def band_of_noise(low_hz: float, high_hz: float, power: float) -> np.ndarray:
    rng = np.random.default_rng(7)
    spectrum = np.fft.rfft(rng.standard_normal(9 * RATE))
    hz = np.fft.rfftfreq(9 * RATE, 1 / RATE)
    sound = np.fft.irfft(np.where((hz > low_hz) & (hz < high_hz), spectrum, 0))
    return sound * np.sqrt(power / np.mean(sound**2))


def test_a_band_of_noise_over_one_phrase_is_named_and_nothing_else() -> None:
    voice, sounds, phrases = made_song()
    third = voice[THIRDS][6, 175:275].mean()  # 561 to 707 Hz
    noise = band_of_noise(561, 707, third * 10**0.6)
    noise[: round(3.5 * RATE)] = noise[round(5.5 * RATE) :] = 0
    others = {name: powers(sound + (noise if name == "pad" else 0))[ERBS] for name, sound in sounds.items()}
    masked = masking(voice[ERBS], others, phrases)
    found = stand_over(masked, phrases)
    assert [(s.phrase, s.name) for s in found] == [(1, "pad")]
    assert 480 < found[0].low_hz < 620 and 660 < found[0].high_hz < 800
    assert found[0].over_db == pytest.approx(6, abs=1.5)
    centre = int(erb_number(634.0)) - 3
    assert np.mean(masked.over_db[centre, 180:270]) == pytest.approx(6, abs=1.5)
    assert (masked.whose[centre, 180:270] == 0).all() and np.isneginf(masked.over_db[:, 130:170]).all()


def test_nothing_stands_over_a_voice_alone() -> None:
    voice, sounds, phrases = made_song()
    assert stand_over(masking(voice[ERBS], {}, phrases), phrases) == []
    quiet = {name: powers(sound)[ERBS] for name, sound in sounds.items()}
    assert stand_over(masking(voice[ERBS], quiet, phrases), phrases) == []


@pytest.mark.parametrize("rate", [22050, 44100, 48000, 96000])
def test_band_powers_are_what_lies_in_each_band_of_both_sides(rate: int) -> None:
    sound = np.random.default_rng(8).standard_normal((2, rate)) * 0.1
    found = band_powers(sound, rate)
    assert np.allclose(found, band_powers(sound[:1], rate) + band_powers(sound[1:], rate), rtol=1e-5)
    size, hop = 2 ** int(np.ceil(np.log2(0.0853 * rate))), round(0.02 * rate)
    window = np.hanning(size + 1)[:-1]
    edges = erb_hz(np.arange(3, 37))
    for k in (10, 25):
        begin = k * hop - (size - hop) // 2
        spectrum = np.fft.rfft(sound[:, begin : begin + size] * window, axis=1)
        power = 2 * (np.abs(spectrum) ** 2).sum(axis=0) / (size * (window**2).sum())
        bins = np.arange(len(power))
        for b in (0, 12, 30):  # of the ERBs; at the edges a bin counts as far as it lies inside
            low, high = edges[b : b + 2] * size / rate
            share = np.clip(np.minimum(high, bins + 0.5) - np.maximum(low, bins - 0.5), 0, 1)
            assert found[ERBS][b, k] == pytest.approx(share @ power, rel=1e-3)
