"""The compiled loops against plain definitions of what they do."""

import numpy as np
import pytest
from scipy.ndimage import minimum_filter1d
from scipy.signal import argrelmax, butter, resample_poly, sosfilt

from conftest import RATE, noise, residue_db
from miclane.core.kernels import dynamics, fdn, levels, limiter
from miclane.core.kernels.biquad import cascade, delay_line, new_state

RNG = np.random.default_rng(3)
UNEVEN = (1, 2, 3, 5, 7, 8, 9, 15, 16, 17, 18, 24, 30, 100)


def sections(count: int) -> np.ndarray:
    found = [butter(2, f, "low", fs=RATE, output="sos") for f in np.geomspace(9000, 20000, count)]
    return np.concatenate(found)


@pytest.mark.parametrize("count", [1, 2, 3, 8, 9, 16, 17, 33])
@pytest.mark.parametrize("channels", [1, 2])
def test_a_cascade_is_scipys_however_it_is_cut(count: int, channels: int) -> None:
    table, x = sections(count), noise(0.02, channels=channels)
    y, state = np.empty_like(x), new_state(channels, table)
    cascade(x, table, state, y)
    assert residue_db(y, np.array([sosfilt(table, c) for c in x])) < -250
    again, parts, at = new_state(channels, table), [], 0
    for length in (*UNEVEN, x.shape[1]):
        part = np.ascontiguousarray(x[:, at : at + length])
        cascade(part, table, again, part)
        parts.append(part)
        at += length
    assert residue_db(np.concatenate(parts, axis=1), y) < -280
    assert np.allclose(again, state, rtol=1e-12, atol=1e-14)


def test_a_delay_moves_and_changes_nothing() -> None:
    x, line, position = noise(0.1, channels=2), np.zeros((2, 333)), 0
    out = []
    for at in range(0, x.shape[1], 500):
        part = np.ascontiguousarray(x[:, at : at + 500])
        y = np.empty_like(part)
        position = delay_line(part, line, position, y)
        out.append(y)
    y = np.concatenate(out, axis=1)
    assert not y[:, :333].any()
    assert np.array_equal(y[:, 333:], x[:, :-333])


def test_decibels_and_back() -> None:
    level = np.geomspace(1e-9, 1e3, 8000)
    out = np.empty_like(level)
    levels.decibels(level, 1.0, out)
    assert np.abs(out - 20 * np.log10(level)).max() < 1e-6
    levels.decibels(np.zeros(8), 1.0, out[:8])
    assert np.allclose(out[:8], -200)
    gain = np.linspace(-120, 40, 8000)
    ones, y = np.ones((1, 8000)), np.empty((1, 8000))
    dynamics.turn_all_down(ones, gain, 1.0, 1.0, y)
    assert np.abs(y[0] / 10 ** (gain / 20) - 1).max() < 1e-8
    dynamics.turn_all_down(ones, np.zeros(8000), 1.0, 1.0, y)
    assert np.array_equal(y, ones)


def test_the_held_peak_is_the_greatest_of_the_last_blocks() -> None:
    x, length, blocks = noise(0.1, channels=2), 16, 12
    out = levels.padded(x.shape[1])
    levels.held_peak(x, np.zeros(blocks), np.array([0, 0, length]), np.zeros(2), out)
    loudest = np.abs(x).max(axis=0)
    for i in range(x.shape[1]):
        begin = max(0, (i // length - blocks) * length)
        assert out[i] == loudest[begin : i + 1].max()


@pytest.mark.parametrize(
    ("attack", "release", "hold"), [(0.02, 0.001, 0), (0.001, 0.02, 0), (1.0, 0.01, 0), (0.02, 0.001, 40)]
)
def test_the_gain_follows_its_target_by_branches(attack: float, release: float, hold: int) -> None:
    target = -np.abs(np.repeat(RNG.standard_normal(60), 50)) * 9
    gain, held, expected = 0.0, 0, []
    for goal in target:
        if goal < gain:
            gain, held = gain + attack * (goal - gain), 0
        elif held < hold:
            held += 1
        else:
            gain += release * (goal - gain)
        expected.append(gain)
    state = np.zeros(2)
    dynamics.follow(target, attack, release, float(hold), state)
    assert np.abs(target - expected).max() < 1e-9
    assert state[0] == pytest.approx(expected[-1])


def gain_of(peaks: np.ndarray, ceiling: float, look: int, step: int) -> np.ndarray:
    first, second = np.ones(look * 2 // 3), np.ones(look - look * 2 // 3)
    places, carried = np.array([[float(len(first)), 0.0], [float(len(second)), 0.0]]), np.array([0.0, 1.0])
    window = np.ones(look + 1), np.ones(look + 2), np.array([0.0, 1.0]), np.zeros(2, np.int64)
    out = []
    for at in range(0, len(peaks), step):
        part = peaks[at : at + step].copy()
        limiter.limiter_gain(part, len(part), ceiling, 1.0, *window, first, second, places, carried)
        out.append(part)
    return np.concatenate(out)


def test_the_limiters_gain_is_least_then_mean_and_rests_when_it_may() -> None:
    look, ceiling = 30, 0.5
    peaks = np.concatenate([np.full(400, 0.1), np.abs(RNG.standard_normal(900)) * 0.4, np.full(900, 0.2)])
    need = ceiling / np.maximum(np.maximum(peaks, np.concatenate([[0], peaks[:-1]])), ceiling)
    least = minimum_filter1d(need, look + 1, origin=look // 2, mode="constant", cval=1.0)
    for box in (20, 10):
        least = np.convolve(np.concatenate([np.ones(box - 1), least]), np.ones(box) / box, "valid")
    for step in (64, 2200):
        gain = gain_of(peaks, ceiling, look, step)
        assert np.abs(gain - np.minimum(least, 1)).max() < 1e-9
        assert (gain[-500:] == 1.0).all()


def test_true_peaks_are_those_of_a_longer_interpolator() -> None:
    x = sosfilt(butter(8, 16000, fs=RATE, output="sos"), noise(0.2, 0.3, seed=8))
    table, _ = limiter.interpolator()
    out = levels.padded(x.shape[1])
    limiter.true_peaks(x, table, 0.0, 0.0, np.zeros((1, limiter.TAPS)), out)
    fine = np.abs(resample_poly(x[0], 32, 1, window=("kaiser", 12.0)))
    late = limiter.TAPS // 2
    found = out[late : x.shape[1]]
    crests = argrelmax(fine)[0]
    crests = crests[(crests > 200 * 32) & (crests < (len(found) - 200) * 32) & (fine[crests] > 0.2)]
    for crest in crests:
        frame = crest // 32
        wanted = max(fine[crest], fine[32 * frame : 32 * frame + 29].max())
        assert abs(found[frame] - wanted) < 0.012 * fine.max()  # a tenth of a decibel of what could pass
    skipped = levels.padded(x.shape[1])
    limiter.true_peaks(x, table, 10.0, 0.0, np.zeros((1, limiter.TAPS)), skipped)
    assert np.array_equal(skipped[late : x.shape[1]], np.abs(x[0, : x.shape[1] - late]))


@pytest.mark.parametrize(("fastest", "lost"), [(0.0, 1e-12), (0.024, 1e-3)])
def test_the_reverbs_network_neither_gains_nor_loses_by_itself(fastest: float, lost: float) -> None:
    """Pairs that are turned into one another, a chord for an arc every 64 frames: 0.03 dB a second at the most."""
    size, lengths = 4096, np.array([1009 + 97 * k for k in range(16)], float)
    lines = np.zeros((16, size + fdn.GUARD))
    shelf = np.tile([1.0, 0.0, 0.0], (16, 1))
    powers = np.empty((16, 8))
    fdn.powers_of(shelf, powers)
    carry, lfo, turn = np.zeros((16, 2)), np.zeros((16, 2)), np.tile([0.0, 1.0], (16, 1))
    still, taps = np.zeros(16, bool), np.full((16, 2), 0.25)
    angle, step = np.linspace(0, 5, 8), np.linspace(-fastest, fastest, 8)
    angles, steps = (np.stack([np.sin(a), np.cos(a)], axis=1) for a in (angle, step))
    x, y, write = np.zeros((2, 5000)), np.empty((2, 5000)), 0
    x[:, 3] = 1.0
    energies = []
    for _ in range(6):
        turns = lfo, turn, angles, steps
        write = fdn.network(x, lines, lengths, still, write, shelf, powers, carry, 0.0, *turns, taps, taps, y)
        held = [lines[k, (write - 1 - np.arange(int(lengths[k]))) % size] for k in range(16)]
        energies.append(sum(float((part**2).sum()) for part in held))
        x = np.zeros((2, 5000))
    assert np.allclose(energies, energies[0], rtol=lost)
    assert energies[0] == pytest.approx(16 * 0.25, rel=lost)
