"""The compiled loops against plain definitions of what they do."""

import subprocess
import sys
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from scipy.linalg import hadamard
from scipy.ndimage import minimum_filter1d
from scipy.signal import argrelmax, butter, resample_poly, sosfilt

from conftest import RATE, noise, residue_db
from miclane.core.kernels import dynamics, fdn, levels, limiter, swaying
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


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("length", [3, 16, 21])
def test_the_held_peak_is_the_greatest_of_the_last_blocks(length: int, channels: int) -> None:
    x, blocks = noise(0.1, channels=channels), 12
    ring, places, level, found = np.zeros(16), np.array([0, length]), np.zeros(1), []
    for part in np.split(x, [700, 705, 2000], axis=1):
        found.append(levels.padded(part.shape[1]))
        levels.held_peak(np.ascontiguousarray(part), ring, places, level, found[-1])
        found[-1] = found[-1][: part.shape[1]]
    out, loudest = np.concatenate(found), np.abs(x).max(axis=0)
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


def network_of(turn: np.ndarray, turn_step: np.ndarray, shortest: int = 1009, moving: int = 0) -> SimpleNamespace:
    """A network with `moving` lines that move, and the same worked out frame by frame."""
    lengths, depth = np.array([shortest + 97 * k for k in range(16)], float), 5.0 if moving else 0.0
    rings, frames = fdn.rings_for(lengths, depth)
    lines, carry = np.zeros(frames), np.zeros(16)
    shelf = np.tile([0.9, 0.05, -0.02] if moving else [1.0, 0.0, 0.0], (16, 1))
    columns, powers = np.empty((16, 64)), np.empty((16, 11))
    fdn.responses(shelf, columns, powers)
    lfo, lfo_step = np.tile([0.6, 0.8], (16, 1)), np.tile([0.01, np.sqrt(1 - 0.01**2)], (16, 1))
    taps, moves, turn = np.full((16, 2), 0.25) * [[1, -1]], np.arange(16) < moving, turn.copy()

    def run(x: np.ndarray, frame: int) -> np.ndarray:
        y = np.empty_like(x)
        kept = lines, rings, lengths, moves, frame, columns, powers, carry, depth
        fdn.network(x, *kept, lfo, lfo_step, turn, turn_step, np.abs(taps), taps, y)
        return y

    def run_frame_by_frame(x: np.ndarray, first: int) -> np.ndarray:
        held, y = np.zeros((16, 4096)), np.zeros_like(x)
        came = went = np.zeros(16)
        swing, angle = np.array([0.6, 0.8]), turn.copy()
        for i in range(x.shape[1]):
            frame, place = first + i, (first + i) % fdn.GRID
            if place == 0 and i:
                swing, angle = stepped(swing[None], lfo_step[:1])[0], stepped(angle, turn_step)
            ahead, share = stepped(swing[None], lfo_step[:1])[0], place / fdn.GRID
            back = lengths + np.where(moves, depth * (swing[0] + share * (ahead[0] - swing[0])), 0.0)
            whole = lengths + np.where(moves, depth * (swing[0] + (place & ~7) / 64 * (ahead[0] - swing[0])), 0.0)
            t, whole = back - whole.astype(int), whole.astype(int)
            y3, y2, y1, y0 = (held[np.arange(16), (frame - whole + k) % 4096] for k in (-2, -1, 0, 1))
            c1, c2, c3 = 0.5 * (y2 - y0), y0 - 2.5 * y1 + 2 * y2 - 0.5 * y3, 1.5 * (y1 - y2) + 0.5 * (y3 - y0)
            read = np.where(moves, ((c3 * t + c2) * t + c1) * t + y1, y1)
            went = shelf[:, 0] * read + shelf[:, 1] * came - shelf[:, 2] * went
            came = read
            y[:, i] = taps.T @ went
            mixed = hadamard(16) @ went
            sine, cosine = (angle + share * (stepped(angle, turn_step) - angle)).T
            a, b = mixed[:8].copy(), mixed[:7:-1].copy()
            mixed[:8], mixed[:7:-1] = cosine * a - sine * b, sine * a + cosine * b
            held[:, frame % 4096] = 0.25 * mixed + np.abs(taps) @ x[:, i]
        return y

    def stepped(angles: np.ndarray, steps: np.ndarray) -> np.ndarray:
        (s, c), (by, along) = angles.T, steps.T
        return np.stack([s * along + c * by, c * along - s * by], axis=1)

    def energy(frame: int) -> float:
        within = ((frame - 1 - np.arange(int(n))) % size + at for n, (at, size) in zip(lengths, rings, strict=True))
        return sum(float((lines[places] ** 2).sum()) for places in within)

    return SimpleNamespace(run=run, run_frame_by_frame=run_frame_by_frame, energy=energy)


@pytest.mark.parametrize(("fastest", "lost"), [(0.0, 1e-12), (0.024, 1e-3)])
def test_the_reverbs_network_neither_gains_nor_loses_by_itself(fastest: float, lost: float) -> None:
    """Pairs that are turned into one another, a chord for an arc every 64 frames: 0.03 dB a second at the most."""
    angle, step = np.linspace(0, 5, 8), np.linspace(-fastest, fastest, 8)
    net = network_of(np.stack([np.sin(angle), np.cos(angle)], axis=1), np.stack([np.sin(step), np.cos(step)], axis=1))
    x = np.zeros((2, 5000))
    x[:, 3] = 1.0
    energies = []
    for k in range(6):
        net.run(x, 5000 * k)
        energies.append(net.energy(5000 * (k + 1)))
        x = np.zeros((2, 5000))
    assert np.allclose(energies, energies[0], rtol=lost)
    assert energies[0] == pytest.approx(16 * 0.25, rel=lost)


@pytest.mark.parametrize("shortest", [59, 300])  # a grid at a time only where none of it is heard in it
def test_the_reverbs_network_gives_the_same_bits_however_it_is_fed(shortest: int) -> None:
    x, sizes = np.ascontiguousarray(noise(0.1, 0.3, 2, seed=5)), np.random.default_rng(6)
    steps = np.stack([np.full(8, 0.02), np.full(8, np.sqrt(1 - 0.02**2))], axis=1)
    whole, parts, at = network_of(steps, steps, shortest, moving=4).run(x, 960), [], 0
    net = network_of(steps, steps, shortest, moving=4)
    while at < x.shape[1]:
        step = int(sizes.choice([1, 3, 7, 8, 63, 64, 65, 640]))
        parts.append(net.run(np.ascontiguousarray(x[:, at : at + step]), 960 + at))
        at += step
    assert np.array_equal(np.concatenate(parts, axis=1), whole)
    plain = network_of(steps, steps, shortest, moving=4).run_frame_by_frame(x, 960)
    assert np.abs(whole - plain).max() < 1e-12 * np.abs(plain).max()


def test_while_the_compiler_is_loaded_other_threads_find_what_it_does_not() -> None:
    code = """
import sys, threading
from miclane.core.kernels.biquad import cascade
found = []

def use():
    import yaml
    found.append(yaml.safe_load("[2]"))

def beside(event, args):
    if event == "import" and args[0] == "llvmlite.binding" and not found:
        other = threading.Thread(target=use)
        other.start()
        other.join()

sys.addaudithook(beside)
cascade.made
print(found, "numba" in sys.modules)
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=120)
    assert done.stdout == "[[2]] True\n", done.stdout + done.stderr


def test_what_is_kept_on_disk_runs_without_all_that_compiling_needs(tmp_path: Path) -> None:
    (tmp_path / "loops.py").write_text(
        "import numpy as np\nfrom miclane.core.kernels import kernel\n"
        "@kernel\ndef total(x):\n    return np.sum(x)\n"
        "@kernel\ndef doubled(x):\n    return 2 * total(x)\n"
    )
    code = """
import sys
import llvmlite.binding
import numpy as np
import loops
parsed, parse = [], llvmlite.binding.parse_bitcode
llvmlite.binding.parse_bitcode = lambda *given: parsed.append(1) or parse(*given)
for name in sys.argv[1:]:
    told = getattr(loops, name)(np.arange(4.0))
    print(name, told, [n for n in ("numba.np.arraymath", "scipy.linalg", "numpy.ma") if n in sys.modules], len(parsed))
"""

    def run(*names: str) -> list[str]:
        how: Any = {"capture_output": True, "text": True, "check": True, "timeout": 120, "cwd": tmp_path}
        (tmp_path / "run.py").write_text(code)
        return subprocess.run([sys.executable, "run.py", *names], **how).stdout.splitlines()

    everything = "['numba.np.arraymath', 'scipy.linalg', 'numpy.ma']"
    assert run("total") == [f"total 6.0 {everything} 0"]  # compiled
    assert run("total", "doubled") == [  # the first from disk; then another is compiled, and has the first in it
        "total 6.0 [] 0",
        f"doubled 12.0 {everything} 1",
    ]
    assert run("doubled", "total") == ["doubled 12.0 [] 0", "total 6.0 [] 0"]


@pytest.mark.parametrize("feedback", [0.0, -0.7])
def test_a_delay_that_moves_is_what_its_table_says_frame_by_frame(feedback: float) -> None:
    x, n, held = noise(0.02, 0.3, seed=8)[0], 960, 64
    points = 30 + 20 * np.sin(np.arange(n // swaying.HOP + 2) / 5)
    line, y, table = np.zeros(2 * held), np.empty(n), swaying.turned_fractions()
    place = swaying.delayed(x[:401], points, 0, line, 5, table, feedback, y[:401])
    assert swaying.delayed(x[401:n], points[401 // 16 :], 401 % 16, line, place, table, feedback, y[401:]) == 5 + n
    fed, plain, taps = np.zeros(n), np.zeros(n), swaying.fractions()
    for i, back in enumerate(np.interp(np.arange(n), swaying.HOP * np.arange(len(points)), points)):
        whole, part = int(back), (back - int(back)) * swaying.PHASES
        row = taps[int(part)] + (part - int(part)) * (taps[int(part) + 1] - taps[int(part)])
        at = i - whole + swaying.TAPS // 2 - 1 - np.arange(swaying.TAPS)
        plain[i] = row @ np.where(at >= 0, fed[np.maximum(at, 0)], 0.0)
        fed[i] = np.clip(x[i] + feedback * plain[i], -8, 8)
    assert np.abs(y - plain).max() < 1e-13
