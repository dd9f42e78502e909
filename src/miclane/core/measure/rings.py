"""Rings: resonances of the room or the chain that stay where they are while the sung note moves.

What a take shows at a frequency is the voice there plus the ring. The voice is taken as a Gaussian process (Rasmussen
& Williams, "Gaussian Processes for Machine Learning", 2006): a level of each moment, a smooth average spectrum, an
extra level of the first harmonics, and formants that are alike only within a syllable and within about a fifth of an
octave. The ring is the one part that is the same in every syllable. Harmonics of the sung notes are one source of
evidence; breaths and unvoiced consonants, whose spectrum has no harmonics, the other. At every frequency the gain of a
bell and its standard error follow by generalised least squares.
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from ..late import cho_solve, rfft, solve_triangular
from .levels import middle_of, runs

LOW_HZ, HIGH_HZ = 190.0, 4000.0
AXIS_HZ = np.geomspace(240.0, 3200.0, 225)
_LOOKED_AT_HZ = 5500.0
RINGS_TO_HZ = 2500.0  # above it the upper formants of a voice stay where they are, whatever it sings
Q = 8.0
CUT_Q = 5.5
LEAST_GAIN_DB, MOST_GAIN_DB, LEAST_T = 4.8, 30.0, 3.5  # what no room and no microphone does is no ring
_SIZE = 4096
_MOMENT_DB, _AVERAGE_DB, _FORMANT_DB, _HARMONIC_DB, _READING_DB = 15.0, 10.0, 8.0, 4.0, 1.2
_AVERAGE_OCTAVES, _FORMANT_OCTAVES, _FORMANT_S = 1.2, 0.22, 0.5
_HISS_FORMANT_DB, _HISS_OCTAVES, _HISS_AVERAGE_DB = 4.0, 0.35, 2.0
_BLOCK, _MOST_POINTS, _MOST_HARMONICS = 1300, 5200, 14
_BANDS_PER_OCTAVE, _GROUPS = 24, 6


@dataclass(frozen=True)
class Ring:
    """A bell of Q 8 that the take carries everywhere: its gain and the standard error of that, in dB."""

    frequency_hz: float
    over_db: float
    error_db: float

    @property
    def cut_db(self) -> float:
        """The cut that answers it, at CUT_Q: three times in four as deep as the ring is high, or deeper.

        A little wider than the ring, since where it is is known to within 3 % only.
        """
        return -min(12.0, self.over_db + 0.67 * self.error_db)


@dataclass(frozen=True)
class RingCurve:
    """Gain of a bell at each frequency of AXIS_HZ and its standard error in dB; 999 where nothing is known."""

    gain_db: tuple[float, ...]
    error_db: tuple[float, ...]

    def at(self, frequency_hz: float) -> float:
        """Gain at a frequency in dB."""
        return float(np.interp(np.log(frequency_hz), np.log(AXIS_HZ), self.gain_db))


NO_CURVE = RingCurve((0.0,) * len(AXIS_HZ), (999.0,) * len(AXIS_HZ))


def bell_db(frequencies_hz: np.ndarray, centre_hz: np.ndarray, gain_db: float = 9.0, q: float = Q) -> np.ndarray:
    """Response of a bell divided by its gain: 1 at the centre."""
    a = 10 ** (gain_db / 40)
    away = frequencies_hz / centre_hz - centre_hz / frequencies_hz
    return 10 * np.log10((away**2 + (a / q) ** 2) / (away**2 + (1 / (a * q)) ** 2)) / gain_db


def ring_curve(audio: np.ndarray, rate: int, f0_hz: np.ndarray) -> RingCurve:
    """Gain of a bell at every frequency of AXIS_HZ in (channels, frames), given the pitch every 10 ms."""
    mono = middle_of(audio)
    top, weight = np.zeros(len(AXIS_HZ)), np.zeros(len(AXIS_HZ))
    for part in (_from_notes(mono, rate, f0_hz), _from_hiss(mono, rate, f0_hz)):
        top += part[0]
        weight += part[1]
    known = weight > 1e-6
    safe = np.where(known, weight, 1e-6)
    return RingCurve(tuple(np.where(known, top / safe, 0.0).tolist()), tuple((1 / np.sqrt(safe)).tolist()))


def pick_rings(curve: RingCurve, most: int = 4) -> list[Ring]:
    """Rings of a curve to 2.5 kHz, the surest first: 4.8 to 30 dB, 3.5 times their error, a third octave apart."""
    sure = np.array(curve.gain_db) / np.array(curve.error_db)
    found: list[Ring] = []
    for i in np.argsort(-sure):
        if sure[i] < LEAST_T or len(found) == most:
            break
        near = sure[max(0, i - 2) : i + 3]
        if AXIS_HZ[i] > RINGS_TO_HZ or not LEAST_GAIN_DB <= curve.gain_db[i] <= MOST_GAIN_DB or sure[i] < near.max():
            continue
        if all(abs(np.log2(AXIS_HZ[i] / r.frequency_hz)) > 1 / 3 for r in found):
            found.append(Ring(_top(sure, int(i)), curve.gain_db[i], curve.error_db[i]))
    return found


def _top(sure: np.ndarray, i: int) -> float:
    """Frequency of the top of the parabola through the likelihoods at i and four points to either side."""
    part = np.arange(max(0, i - 4), min(len(sure), i + 5))
    bend, slope, _ = np.polyfit(part - i, 0.5 * sure[part] ** 2, 2)
    shift = float(np.clip(-slope / (2 * bend), -2, 2)) if bend < 0 else 0.0
    return float(AXIS_HZ[i] * (AXIS_HZ[1] / AXIS_HZ[0]) ** shift)


def _matern(distance: np.ndarray) -> np.ndarray:
    """Falling from 1 with distance, which is overwritten."""
    distance *= np.sqrt(3)
    falling = np.negative(distance)
    np.exp(falling, out=falling)
    distance += 1
    distance *= falling
    return distance


def _apart(x: np.ndarray) -> np.ndarray:
    """How far x (n,) lie from one another (n, n)."""
    apart = x[:, None] - x
    return np.abs(apart, out=apart)


def _near(distance: np.ndarray, width: float, power: float) -> np.ndarray:
    """`power` where a distance is none, falling as a bell curve of that width."""
    found = distance / width
    np.square(found, out=found)
    found *= -0.5
    np.exp(found, out=found)
    found *= power
    return found


def _weigh(covariance: np.ndarray, level_db: np.ndarray, bells: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Numerator and denominator of the gain of each bell (points, candidates) by generalised least squares."""
    root = np.linalg.cholesky(covariance)
    y = solve_triangular(root, level_db - level_db.mean(), lower=True, check_finite=False)
    x = solve_triangular(root, bells, lower=True, check_finite=False)
    return x.T @ y, (x * x).sum(axis=0)


def _of_notes(x: np.ndarray, k: np.ndarray, t: np.ndarray, s: np.ndarray) -> np.ndarray:
    """Covariance of readings of harmonics at x octaves, of number k, in hop t and syllable s (all (n,))."""
    apart = _apart(x)
    c = _near(apart, _AVERAGE_OCTAVES, _AVERAGE_DB**2)
    apart /= _FORMANT_OCTAVES
    alike = _matern(apart)
    away_s = _apart(t)
    away_s /= 100
    c[away_s == 0] += _MOMENT_DB**2
    away_s *= -1 / _FORMANT_S
    alike *= np.exp(away_s, out=away_s)
    alike *= _FORMANT_DB**2
    np.add(c, alike, out=c, where=s[:, None] == s)
    np.add(c, _HARMONIC_DB**2 / k, out=c, where=k[:, None] == k)
    c += 100.0
    c[np.diag_indices(len(x))] += _READING_DB**2
    return c


@dataclass(frozen=True)
class _Notes:
    """Harmonics of steadily sung moments (n,): frequency, moment, number, syllable; and how their levels are weighed.

    `weighed` are blocks [a, b) of them, each with what its levels are multiplied by for the gain of every bell.
    """

    f_hz: np.ndarray
    at: np.ndarray
    number: np.ndarray
    weighed: tuple[tuple[int, int, np.ndarray], ...]
    weight: np.ndarray


def _from_notes(mono: np.ndarray, rate: int, f0_hz: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    notes = _notes(np.asarray(f0_hz, float).tobytes(), len(mono), rate)
    top = np.zeros(len(AXIS_HZ))
    if notes is None:
        return top, np.zeros(len(AXIS_HZ))
    level = _levels(mono, rate, notes)
    for a, b, by in notes.weighed:
        top += by.T @ (level[a:b] - level[a:b].mean())
    return top, notes.weight


@lru_cache(maxsize=4)
def _notes(f0_bytes: bytes, frames: int, rate: int) -> _Notes | None:
    """What follows from the pitch alone, and so is the same for a take and for whatever was done to it."""
    points = _harmonics(np.frombuffer(f0_bytes), frames, rate)
    if points is None:
        return None
    f, at, number, syllable = points
    weight, weighed = np.zeros(len(AXIS_HZ)), []
    blocks = max(1, round(len(f) / _BLOCK))
    edges = np.searchsorted(syllable, np.linspace(0, syllable.max() + 1, blocks + 1)[1:-1].astype(int))
    for a, b in zip([0, *edges], [*edges, len(f)], strict=True):
        if b - a < 20:
            continue
        covariance = _of_notes(np.log2(f[a:b]), number[a:b].astype(float), at[a:b], syllable[a:b])
        bells = bell_db(f[a:b, None], AXIS_HZ[None])
        by = cho_solve((np.linalg.cholesky(covariance), True), bells, check_finite=False)
        del covariance  # before there is the next
        weighed.append((int(a), int(b), by))
        weight += (bells * by).sum(axis=0)
    return _Notes(f, at, number, tuple(weighed), weight)


def _harmonics(f0_hz: np.ndarray, frames: int, rate: int) -> tuple[np.ndarray, ...] | None:
    """Of steadily sung moments: frequency, moment, number and syllable of every harmonic."""
    steady = np.zeros(len(f0_hz), bool)
    if len(f0_hz) > 6:
        near = np.lib.stride_tricks.sliding_window_view(f0_hz, 5)[1:-1]
        least = near.min(axis=1)
        steady[3:-3] = (least > 0) & (near.max(axis=1) / np.maximum(least, 1e-9) < 1.042)
    count = int(np.minimum(HIGH_HZ / np.maximum(f0_hz[steady], 1), _MOST_HARMONICS).sum())
    if count < 200:
        return None
    every = max(6, -(-count // _MOST_POINTS))
    moments = np.flatnonzero(steady)
    moments = moments[moments % every == 0]
    columns: list[tuple[np.ndarray, ...]] = []
    syllable, last = 0, -(10**9)
    for i in moments:
        if i - last > 2 * every or abs(12 * np.log2(f0_hz[i] / f0_hz[last])) > 0.7:
            syllable += 1
        last = i
        if _middle(int(i), rate) > frames + _SIZE // 2:
            break
        number = np.arange(1, min(int(HIGH_HZ / f0_hz[i]), _MOST_HARMONICS) + 1)
        f = number * f0_hz[i]
        inside = f > LOW_HZ
        same = np.ones(int(inside.sum()))
        columns.append((f[inside], same * i, number[inside], same * syllable))
    f, at, number, syllables = (np.concatenate(c) for c in zip(*columns, strict=True))
    return f, at, number, syllables


def _middle(moment: int, rate: int) -> int:
    """The frame about which a moment is looked at."""
    return round(moment * rate / 100) + round(0.0225 * rate)


def _levels(mono: np.ndarray, rate: int, notes: _Notes) -> np.ndarray:
    """Level of each harmonic in dB (n,)."""
    window, step = np.hanning(_SIZE), rate / _SIZE
    reach = np.maximum(1.5 * step, 0.012 * notes.f_hz)
    low = np.round((notes.f_hz - reach) / step).astype(int)
    high = np.round((notes.f_hz + reach) / step).astype(int)
    found, size, before = np.empty(len(low)), np.zeros(0), -1.0
    for k, moment in enumerate(notes.at):
        if moment != before:
            size, before = np.abs(rfft(_around(mono, _middle(int(moment), rate)) * window)), moment
        found[k] = size[low[k] : high[k] + 1].max()
    return 20 * np.log10(found + 1e-9)


def _around(mono: np.ndarray, middle: int) -> np.ndarray:
    """As many frames as are looked at at once around one of them; zeros beyond the ends."""
    first, last = middle - _SIZE // 2, middle + _SIZE // 2
    found = mono[max(first, 0) : max(last, 0)]
    return np.pad(found, (max(-first, 0), max(last - len(mono), 0)))


def _from_hiss(mono: np.ndarray, rate: int, f0_hz: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Evidence of breaths and unvoiced consonants, their noise floor taken off."""
    nothing = np.zeros(len(AXIS_HZ)), np.zeros(len(AXIS_HZ))
    hop = _SIZE // 4
    if len(mono) < 8 * _SIZE:
        return nothing
    frames = np.lib.stride_tricks.sliding_window_view(mono, _SIZE)[::hop]
    window = np.hanning(_SIZE).astype(np.float32)
    f = np.fft.rfftfreq(_SIZE, 1 / rate)
    f = f[f < _LOOKED_AT_HZ]
    power = np.empty((len(frames), len(f)), np.float32)
    for i in range(0, len(frames), 256):
        power[i : i + 256] = np.abs(rfft(frames[i : i + 256].astype(np.float32) * window, axis=1)[:, : len(f)]) ** 2
    sung = np.concatenate([[0], np.cumsum(f0_hz > 0)])
    first = np.clip(np.arange(len(frames)) * hop * 100 // rate - 4, 0, len(f0_hz))
    last = np.clip((np.arange(len(frames)) * hop + _SIZE) * 100 // rate + 1, 0, len(f0_hz))
    band = (f > 1000) & (f < 5000)
    level = power[:, band].mean(axis=1, dtype=float)
    quiet = level <= np.partition(level, len(level) // 10)[len(level) // 10]
    floor = power[quiet].mean(axis=0, dtype=float)
    voice = power[:, (f > 100) & (f < 420)].mean(axis=1, dtype=float)
    hiss = (sung[last] == sung[first]) & (level > 10 * floor[band].mean() + 1e-18) & (voice < level)
    stretches = [(a, b) for a, b in runs(hiss) if b - a >= 2]
    if not stretches:
        return nothing
    edges = LOW_HZ * 2 ** (np.arange(int(np.log2(HIGH_HZ / LOW_HZ) * _BANDS_PER_OCTAVE) + 1) / _BANDS_PER_OCTAVE)
    centre, width = np.sqrt(edges[1:] * edges[:-1]), np.maximum(np.diff(edges), 1.5 * f[1])
    points: list[tuple[np.ndarray, ...]] = []
    under = _in_bands(floor, f[1], centre, width)
    enough = max(4, sum(b - a for a, b in stretches) / _GROUPS)
    total, count = np.zeros(len(f)), 0
    for k, (a, b) in enumerate(stretches):
        total, count = total + power[a:b].sum(axis=0, dtype=float), count + b - a
        if count < enough and not (k == len(stretches) - 1 and count >= 4):
            continue
        over = _in_bands(total / count, f[1], centre, width) - under
        heard = over > 1.5 * under + 1e-18
        error = 1 + 4.34 / np.sqrt(np.maximum(1, np.diff(edges)[heard] * count * hop / rate))
        points.append((centre[heard], 10 * np.log10(over[heard]), error, np.full(int(heard.sum()), k)))
        total, count = np.zeros(len(f)), 0
    if not points:
        return nothing
    where, level_db, error, group = (np.concatenate(c) for c in zip(*points, strict=True))
    if len(where) < 20:
        return nothing
    x = np.log2(where)
    apart = np.abs(x[:, None] - x)
    c = _near(apart, _AVERAGE_OCTAVES, _AVERAGE_DB**2) + 100.0
    c += (_MOMENT_DB**2 + _HISS_FORMANT_DB**2 * _matern(apart / _HISS_OCTAVES)) * (group[:, None] == group)
    c += _HISS_AVERAGE_DB**2 * _matern(apart / _HISS_OCTAVES)
    c[np.diag_indices(len(where))] += error**2
    return _weigh(c, level_db, bell_db(where[:, None], AXIS_HZ[None]))


def _in_bands(power: np.ndarray, step_hz: float, centre: np.ndarray, width: np.ndarray) -> np.ndarray:
    """Power in bands around each centre, from the bins' running sum."""
    total, at = np.concatenate([[0.0], np.cumsum(power)]), (np.arange(len(power) + 1) - 0.5) * step_hz
    return np.interp(centre + width / 2, at, total) - np.interp(centre - width / 2, at, total)
