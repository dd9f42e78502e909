"""Slow movement: as fast, as far and at the place in the song that is said; no clicks; what mono makes of it."""

import itertools

import numpy as np
import pytest
from scipy.optimize import curve_fit
from scipy.signal import hilbert

from conftest import RATE
from miclane.core.measure.noticing import NOTICED_DB, change_db, just_noticed
from miclane.core.measure.thresholds import after
from miclane.core.mix.chain import read_chain
from miclane.core.process import process
from miclane.core.stages.sway import Sway, wave_at

WORKS = ("phase", "flange", "tremolo", "vibrato")


def tone(hz: float, seconds: float, rate: int = RATE) -> np.ndarray:
    return 0.3 * np.sin(2 * np.pi * hz * np.arange(round(seconds * rate)) / rate)[None]


def noise(seconds: float, seed: int = 0) -> np.ndarray:
    return 0.1 * np.random.default_rng(seed).standard_normal((1, round(seconds * RATE)))


def level_db(x: np.ndarray) -> np.ndarray:
    """The envelope of a tone, its ends left off."""
    return 20 * np.log10(np.abs(hilbert(x))[2000:-2000])


def turns_of(moving: np.ndarray, rate: int, about_hz: float) -> float:
    """The frequency in Hz of the sine that fits a movement best."""
    moving, t = moving[::64], np.arange(len(moving))[::64] / rate

    def sine(t: np.ndarray, hz: float, level: float, a: float, b: float) -> np.ndarray:
        return level + a * np.sin(2 * np.pi * hz * t) + b * np.cos(2 * np.pi * hz * t)

    found, _ = curve_fit(sine, t, moving, [about_hz * 1.002, moving.mean(), 1.0, 1.0])
    return float(found[0])


@pytest.mark.parametrize("rate_hz", [0.37, 1.0, 4.4])
@pytest.mark.parametrize("fs", [44100, 48000, 96000])
def test_a_tremolo_is_as_fast_and_as_deep_as_it_says(rate_hz: float, fs: int) -> None:
    stage = Sway(works="tremolo", rate_hz=rate_hz, depth_db=8.0, mix=1.0)
    level = level_db(after(stage, tone(1000, 16 / rate_hz, fs), fs)[0])
    level -= 20 * np.log10(0.3)
    assert level.max() == pytest.approx(0.0, abs=0.2) and level.min() == pytest.approx(-8.0, abs=0.2)
    assert turns_of(level, fs, rate_hz) == pytest.approx(rate_hz, rel=1e-3)


def test_a_vibrato_goes_as_far_in_pitch_as_it_says_and_is_late_by_nothing() -> None:
    stage = Sway(works="vibrato", rate_hz=5.0, depth_cents=30)
    x = tone(800, 4.0)
    y = after(stage, x, RATE)[0]
    phase = np.unwrap(np.angle(hilbert(y)))[4000:-4000]
    cents = 1200 * np.log2(np.convolve(np.diff(phase), np.ones(64) / 64, "valid") * RATE / (2 * np.pi) / 800)
    assert cents.max() == pytest.approx(30, abs=0.8) and cents.min() == pytest.approx(-30, abs=0.8)
    assert turns_of(cents, RATE, 5.0) == pytest.approx(5.0, rel=1e-3)
    slip = phase - 2 * np.pi * 800 * (np.arange(len(y))[4000:-4000]) / RATE + np.pi / 2
    off = np.angle(np.exp(1j * slip.mean()))
    assert abs(off / (2 * np.pi * 800)) < 1 / RATE


@pytest.mark.parametrize("works", ["phase", "flange"])
@pytest.mark.parametrize("feedback", [0.0, 0.6, -0.6])
def test_standing_still_the_notches_are_where_the_picture_has_them(works: str, feedback: float) -> None:
    stage = Sway(works=works, sweep_octaves=0, feedback=feedback, mix=0.5, poles=4, centre_hz=900, delay_ms=2.0)
    pulse = np.zeros((1, RATE))
    pulse[0, 1000] = 1.0
    heard = np.abs(np.fft.rfft(after(stage, pulse, RATE)[0]))
    f = np.arange(len(heard))[100:4000]
    drawn = np.abs(stage.response(np.zeros(1), 0, f.astype(float)))[0]
    off = 20 * np.log10(np.maximum(heard[100:4000], 0.03) / np.maximum(drawn, 0.03))
    assert np.abs(off).max() < 0.1


@pytest.mark.parametrize("works", WORKS)
@pytest.mark.parametrize("wave", ["sine", "square", "rise"])
def test_a_loop_moves_as_the_song_does_and_blocks_are_not_heard(works: str, wave: str) -> None:
    stage = Sway(works=works, wave=wave, rate_hz=1.3, feedback=0.3, spread=0.7, depth_db=6, mix=0.5)
    x = noise(3.0)
    whole = after(stage, x, RATE)
    first = round(1.0 * RATE) + 7
    begin = first - round(stage.memory_s() * RATE)
    assert begin >= 0
    loop = after(stage, x[:, begin:], RATE, begin)[:, first - begin :]
    n = loop.shape[1] - stage.latency_frames(RATE)
    assert np.abs(loop[:, :n] - whole[:, first : first + n]).max() < 10 ** (-90 / 20)
    processor = stage.build(RATE, 1)
    cuts = [0, 1, 17, 4000, 4016, 9999, x.shape[1]]
    parts = [processor.process(np.ascontiguousarray(x[:, a:b])) for a, b in itertools.pairwise(cuts)]
    late = processor.latency
    assert np.array_equal(np.concatenate(parts, axis=1)[:, late:], whole[:, : x.shape[1] - late])


@pytest.mark.parametrize("wave", ["sine", "triangle", "square", "rise", "fall"])
@pytest.mark.parametrize("works", WORKS)
def test_nothing_clicks_as_it_turns_over(works: str, wave: str) -> None:
    """A low tone stays low: what lies above 6 kHz is far under it, wherever the wave turns."""
    stage = Sway(works=works, wave=wave, rate_hz=2.0, depth_db=12, mix=0.5, sweep_octaves=2, depth_cents=40)
    y = after(stage, tone(220, 3.0), RATE)[0][2400:]
    f = np.fft.rfftfreq(len(y), 1 / RATE)
    spectrum = np.abs(np.fft.rfft(y * np.hanning(len(y)))) ** 2
    assert 10 * np.log10(spectrum[f > 6000].sum() / spectrum.sum()) < -70


def test_a_note_value_follows_the_tempo_and_the_waves_begin_where_they_say() -> None:
    assert Sway(note="1/4").at_tempo(92).rate_hz == pytest.approx(92 / 60)  # type: ignore[attr-defined]
    assert Sway(note="8/1").at_tempo(120).rate_hz == pytest.approx(1 / 16)  # type: ignore[attr-defined]
    for wave in ("sine", "triangle", "square"):
        assert wave_at(wave, np.array([0.0, 0.25, 0.75, 5.25]), 1.0) == pytest.approx([0, 1, -1, 1], abs=1e-9)
    assert Sway(works="tremolo", begins=0.25, depth_db=9, mix=1).moved(np.zeros(1), 0)[0] == pytest.approx(0.0)


@pytest.mark.parametrize("works", WORKS)
def test_what_mono_makes_of_it_is_what_is_heard(works: str) -> None:
    """The words under the picture against the sound itself: the level of the sum, and of the sides."""
    stage = Sway(works=works, rate_hz=0.5, spread=1.0, depth_db=9, mix=0.5, depth_cents=20, feedback=0.0)
    rng = np.random.default_rng(1)
    f = np.fft.rfftfreq(20 * RATE, 1 / RATE)
    pink = np.where((f > 100) & (f < 10000), 1 / np.sqrt(np.maximum(f, 1)), 0) * np.exp(2j * np.pi * rng.random(len(f)))
    x = np.fft.irfft(pink)[None]
    y = after(stage, x / np.abs(x).max(), RATE)[:, RATE:-RATE]
    heard = 10 * np.log10((y.mean(axis=0) ** 2).mean() / (y**2).mean())
    assert stage.in_mono()[0] == pytest.approx(heard, abs=0.3)


def test_a_stage_that_does_nothing_is_not_there_and_a_mono_take_stays_mono_unless_its_sides_part() -> None:
    x = noise(1.0)
    assert np.array_equal(after(Sway(mix=0.0), x, RATE), x)
    assert after(Sway(), x, RATE).shape[0] == 1 and after(Sway(spread=0.5), x, RATE).shape[0] == 2
    audio, _ = process(x, RATE, read_chain('{"format": "mic-lane/chain", "version": 1, "stages": [{"kind": "sway"}]}'))
    assert audio.shape[0] == 1


@pytest.mark.parametrize("works", WORKS)
def test_it_is_turned_until_it_is_just_noticed(works: str) -> None:
    """At the share that is found a tenth of what is heard has changed by 1 dB; at half of it less has."""
    x = np.random.default_rng(3).standard_normal((1, 4 * RATE)) * 0.05
    field, most = Sway(works=works).noticed_by
    stage = Sway(works=works, rate_hz=1.0, depth_db=12)

    def made(share: float) -> float:
        return change_db(x, after(stage.model_copy(update={field: share * most}), x, RATE), RATE)

    share = just_noticed(made)
    if share is None:
        assert works == "vibrato"  # noise has no pitch
        return
    assert made(share) == pytest.approx(NOTICED_DB, abs=0.15)
    assert made(share / 2) < 0.8 * NOTICED_DB
    assert just_noticed(lambda _: 0.5) is None
    assert change_db(x, 0.5 * x, RATE) == pytest.approx(0.0, abs=1e-4) and change_db(0 * x, 0 * x, RATE) == 0.0
