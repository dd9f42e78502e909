"""Reverb: plate, room, hall, each a modulated feedback delay network with frequency-dependent decay.

Jot & Chaigne, "Digital Delay Networks for Designing Artificial Reverberators" (AES 90, 1991) for the absorption that
makes every line decay alike; Schroeder (1962) for the diffusers. Between two rounds pairs of lines are slowly turned
into one another, so that no mode stands still long enough to ring out of its neighbours (Schlecht & Habets,
"Time-Varying Feedback Matrices in Feedback Delay Networks", JASA 138, 2015); the matrix stays orthogonal, so nothing
decays slower or faster for it. The wet sound is scaled to the energy of the dry.
"""

from dataclasses import dataclass
from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np

from ..kernels.allpasses import diffuse
from ..kernels.echoes import reflected
from ..kernels.fdn import GRID, LINES, network, responses, rings_for
from ..kernels.levels import loudest
from .base import Note, Stage, rule, setting, with_note
from .detector import Filter, cut_sections
from .processor import Delay, Processor
from .wet import blended, both_sides


@dataclass(frozen=True)
class Model:
    """What makes a plate, a room or a hall: lengths of its lines, its diffusers, its early reflections, in ms.

    The late sound begins `late_ms` after the sound. Reflections: time, gain, and from which side (−1 left, 1 right).
    """

    lines_ms: tuple[float, ...]
    diffusers_ms: tuple[tuple[float, ...], tuple[float, ...]]
    late_ms: float = 0.0
    reflections: tuple[tuple[float, float, float], ...] = ()


def _spread_ms(first: float, last: float) -> tuple[float, ...]:
    """Sixteen lengths that rise by nearly the same factor, none a multiple of another."""
    bent = 0.5 + np.arange(16) + 0.31 * np.sin(np.arange(16) * 2.1)
    return tuple(float(x) for x in first * (last / first) ** (bent / 16))


MODELS = {
    "plate": Model(
        (
            *(21.61, 24.07, 26.93, 29.53, 31.87, 34.39, 37.03, 39.89),
            *(42.29, 45.07, 47.93, 50.51, 53.77, 56.93, 60.11, 63.97),
        ),
        ((1.43, 2.69, 4.37, 7.79), (1.61, 2.47, 4.73, 8.11)),
    ),
    "room": Model(
        _spread_ms(15.3, 47.0),
        ((1.13, 1.97, 3.31, 5.23), (1.27, 2.11, 3.07, 5.51)),
        9.0,
        (
            (3.1, 0.62, -0.5),
            (4.7, 0.55, 0.6),
            (6.2, 0.49, -0.8),
            (7.9, 0.44, 0.3),
            (9.4, 0.40, 0.9),
            (11.3, 0.35, -0.2),
            (13.6, 0.31, -0.9),
            (15.1, 0.28, 0.7),
            (17.8, 0.24, 0.1),
            (20.9, 0.20, -0.6),
            (24.3, 0.17, 0.8),
            (28.1, 0.14, -0.4),
        ),
    ),
    "hall": Model(
        _spread_ms(25.3, 78.0),
        ((2.39, 4.61, 7.93, 12.7), (2.71, 4.19, 8.47, 13.3)),
        13.0,
        (
            (11.7, 0.46, -0.7),
            (16.9, 0.42, 0.8),
            (22.3, 0.36, -0.3),
            (28.7, 0.33, 0.4),
            (34.1, 0.30, -0.9),
            (41.9, 0.27, 0.9),
            (49.3, 0.23, -0.5),
            (56.7, 0.21, 0.5),
            (65.9, 0.18, 0.0),
            (74.3, 0.16, -0.8),
            (83.1, 0.14, 0.7),
            (92.9, 0.12, -0.2),
        ),
    ),
}
_MODULATED = np.arange(LINES) % 4 == 1
_MODULATION_MS, _PIECE, _SILENCE = 0.14, 16384, 1e-7
_DIFFUSED = 0.3  # share of the shortest decay in which each diffuser by itself dies away
_TURNS_HZ = (-1.418, 0.6, 1.194, -0.713, 1.684, -1.005, -2.0, 0.846)
_TURNS_BEGIN = (2, 3, 7, 4, 1, 6, 5, 0)  # eighths of a turn


def _prime_at(frames: float) -> int:
    n = max(3, round(frames)) | 1
    while any(n % k == 0 for k in range(3, int(n**0.5) + 1, 2)):
        n += 2
    return n


@lru_cache(maxsize=64)
def line_lengths(rate: int, model: str = "plate", size: float = 1.0) -> np.ndarray:
    """Prime lengths in frames, one a line (16,)."""
    return np.array([_prime_at(ms * size * rate / 1000) for ms in MODELS[model].lines_ms], float)


@lru_cache(maxsize=64)
def reflections(rate: int, model: str, size: float, decay_s: float) -> np.ndarray:
    """Early reflections as a response (2, frames), both sides turned to the energy of a half; (2, 0) where none are.

    They are as they stand at a decay of 2.5 s, and fall off with a shorter one.
    """
    found = MODELS[model].reflections
    if not found:
        return np.zeros((2, 0))
    h = np.zeros((2, round(found[-1][0] * size * rate / 1000) + 2))
    for k, (ms, gain, side) in enumerate(found):
        at = round(ms * size * rate / 1000)
        turned = gain * (-1 if k % 3 == 2 else 1) * 10 ** (-0.003 * ms * size * max(1 / decay_s - 0.4, 0.0))
        h[0, at] += turned * np.sqrt(0.5 * (1 - side))
        h[1, at] += turned * np.sqrt(0.5 * (1 + side))
    return h / np.sqrt(2 * (h**2).sum())


@lru_cache(maxsize=8)
def _interpolation_loss_db(frequency_hz: float, rate: int) -> float:
    """Mean loss in dB of one cubic Hermite read at a random fraction."""
    t = np.linspace(0, 1, 65)
    w = 2 * np.pi * frequency_hz / rate
    rows = np.array(
        [(-t + 2 * t**2 - t**3) / 2, (2 - 5 * t**2 + 3 * t**3) / 2, (t + 4 * t**2 - 3 * t**3) / 2, (-(t**2) + t**3) / 2]
    )
    heard = np.abs(np.exp(-1j * w * np.arange(-1, 3)) @ rows)
    return float(np.mean(20 * np.log10(heard)))


def _turns(rate: int, size: float) -> tuple[np.ndarray, np.ndarray]:
    """Angles of the pairs of lines that are turned into one another, and their steps a GRID, as sine, cosine (8, 2)."""
    angle = 2 * np.pi * np.array(_TURNS_HZ) / size**0.5 * GRID / rate
    phase = np.pi / 4 * np.array(_TURNS_BEGIN)
    return np.stack([np.sin(phase), np.cos(phase)], axis=1), np.stack([np.sin(angle), np.cos(angle)], axis=1)


def _after(angles: np.ndarray, steps: np.ndarray, count: int) -> np.ndarray:
    """Angles as sine, cosine (k, 2) after so many steps."""
    angle = np.arctan2(angles[:, 0], angles[:, 1]) + count * np.arctan2(steps[:, 0], steps[:, 1])
    return np.stack([np.sin(angle), np.cos(angle)], axis=1)


class ReverbProcessor(Processor):
    """Pre-delay, cuts, diffusers, network, width."""

    SHARED = (
        *("spans", "lengths", "rings", "lfo_step", "turn_step", "taps_in", "taps_out"),
        *("early", "gains", "columns", "powers"),
    )  # never written to

    def __init__(self, s: "Reverb", rate: int, channels: int) -> None:
        self.rate = rate
        self.predelay = Delay(2, round(s.predelay_ms * rate / 1000))
        self.dry = channels
        model = MODELS[s.model]
        self.late = Delay(2, round(model.late_ms * s.size * rate / 1000))
        self.spans = np.array([[_prime_at(ms * s.size * rate / 1000) for ms in side] for side in model.diffusers_ms])
        self.diffusers, self.spots = np.zeros((2, 4, self.spans.max())), np.zeros((2, 4), np.int64)
        self.lengths = line_lengths(rate, s.model, s.size)
        depth = _MODULATION_MS * rate / 1000
        self.depth = depth
        self.rings, frames = rings_for(self.lengths, depth)
        self.lines, self.frame = np.zeros(frames), 0
        self.shelf_state = np.zeros(LINES)
        turn = np.linspace(0, 2 * np.pi, LINES, endpoint=False)
        speed = 2 * np.pi * (0.31 + 0.057 * np.arange(LINES)) / rate
        self.lfo = np.stack([np.sin(turn), np.cos(turn)], axis=1) * _MODULATED[:, None]
        self.lfo_step = np.stack([np.sin(speed * GRID), np.cos(speed * GRID)], axis=1)
        self.turn, self.turn_step = _turns(rate, s.size)
        self.taps_in = np.stack([np.tile([1, 0, -1, 0], 4), np.tile([0, 1, 0, -1], 4)], axis=1) / np.sqrt(8)
        self.filter = Filter(cut_sections(s.low_cut_hz, s.high_cut_hz, rate, 12), 2)
        self.turned(s)
        self.before = np.zeros((2, max(self.early.shape[1] - 1, 0)))
        self.done = 0
        way = self.predelay.frames + self.late.frames + self.early.shape[1]
        self.way = way + int(self.spans.sum(axis=1).max())  # frames from the sound to the lines, at most
        self.round = int(self.lengths.max() + depth) + GRID  # frames in which all that is in the lines is heard
        self.unfed, self.unheard, self.fed, self.heard = 0, 0, False, False

    def turned(self, settings: "Reverb") -> None:
        """What is in the lines sounds on, and dies away as it is set now."""
        s, rate = settings, self.rate
        self.settings = s
        self.filter.turned(cut_sections(s.low_cut_hz, s.high_cut_hz, rate, 12))
        self.early = reflections(rate, s.model, s.size, s.decay_s) * np.sqrt(2) * s.early
        shortest = rate * s.decay_s * s.damping
        self.gains = np.minimum(s.density, 10 ** (-3 * self.spans / (_DIFFUSED * shortest)))
        self.columns, self.powers = np.empty((LINES, 64)), np.empty((LINES, 11))
        responses(np.ascontiguousarray(s.absorption(rate)), self.columns, self.powers)
        signs = np.array([[1, -1], [1, 1], [-1, 1], [-1, -1]] * 4, float)
        level = np.sqrt(self.lengths.mean() * 13.8 / (s.decay_s * rate)) * s.level_trim
        self.taps_out = signs * np.sign(np.cos(np.arange(LINES) * 2.39))[:, None] / 4 * level

    def start_at(self, frame: int) -> None:
        self.lfo = _after(self.lfo, self.lfo_step, frame // GRID)
        self.turn = _after(self.turn, self.turn_step, frame // GRID)
        self.frame = frame

    def _piece(self, stereo: np.ndarray) -> np.ndarray:
        fed = self.filter.process(self.predelay.process(stereo))
        held = np.concatenate([self.before, fed], axis=1)
        self.before = held[:, fed.shape[1] :].copy()
        fed = np.array(self.late.process(fed))
        diffuse(fed, self.diffusers, self.spans, self.spots, self.gains)
        wet = np.empty_like(fed)
        network(
            fed,
            self.lines,
            self.rings,
            self.lengths,
            _MODULATED,
            self.frame,
            self.columns,
            self.powers,
            self.shelf_state,
            self.depth,
            self.lfo,
            self.lfo_step,
            self.turn,
            self.turn_step,
            self.taps_in,
            self.taps_out,
            wet,
        )
        self.frame += fed.shape[1]
        self._reflect(held, wet)
        self.fed |= loudest(stereo) > 0.0
        self.heard |= not loudest(wet) < _SILENCE
        self.done += stereo.shape[1]
        if self.done % _PIECE == 0:
            self._piece_is_over()
        return wet

    def _piece_is_over(self) -> None:
        """What nobody hears any more is forgotten, once nothing can be on its way."""
        self.unfed = 0 if self.fed else self.unfed + _PIECE
        self.unheard = 0 if self.heard else self.unheard + _PIECE
        self.fed = self.heard = False
        if self.unfed > self.way + self.round and self.unheard > self.round:
            for array in (self.lines, self.shelf_state, self.filter.state, self.diffusers):
                array[:] = 0.0

    def _reflect(self, held: np.ndarray, wet: np.ndarray) -> None:
        """Add early reflections of what is held, the last of it as long as wet (2, n)."""
        if self.settings.early:
            for side in range(len(wet)):
                ago = np.flatnonzero(self.early[side])
                reflected(held[side], ago, self.early[side, ago], wet[side])

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        stereo = both_sides(x)
        pieces, at = [], 0
        while at < x.shape[1]:
            step = min(x.shape[1] - at, _PIECE - self.done % _PIECE)
            pieces.append(self._piece(np.ascontiguousarray(stereo[:, at : at + step])))
            at += step
        wet = np.concatenate(pieces, axis=1) if pieces else stereo
        s = self.settings
        return blended(wet, stereo, s.width, s.mix)


class Reverb(Stage):
    """Reverb, wet by itself on a return."""

    title: ClassVar[str] = "Reverb"
    summary: ClassVar[str] = "plate, room or hall"
    for_returns: ClassVar[bool] = True
    widens: ClassVar[bool] = True
    edges: ClassVar[tuple[tuple[str, str], ...]] = (("low_cut_hz", "high_cut_hz"),)
    effect: ClassVar[bool] = True
    effect_drawn: ClassVar[Literal["", "decay", "repeats"]] = "decay"
    on_space: ClassVar[tuple[str, ...]] = ("picture",)
    starts_return: ClassVar[dict[str, dict[str, Any]]] = {
        "Plate": {"model": "plate", "decay_s": 1.9, "predelay_ms": 38},
        "Room": {"model": "room", "decay_s": 0.6, "predelay_ms": 8, "low_cut_hz": 180},
        "Hall": {"model": "hall", "decay_s": 2.8, "predelay_note": "1/32"},
    }

    kind: Literal["reverb"] = "reverb"
    model: Literal["plate", "room", "hall"] = "plate"
    predelay_note: Note = setting("ms", "Pre-delay in")
    predelay_ms: float = rule(30.0, "Pre-delay", "ms", 0, 500, usual=(15, 80), when=("predelay_note", "ms"))
    decay_s: float = rule(1.8, "Decay", "s", 0.2, 12, scale="log", usual=(1.0, 2.8))
    damping: float = rule(0.5, "Top decay", "%", 0.1, 1, usual=(0.35, 0.8), hint="decay of the top as a share")
    damping_hz: float = rule(4000.0, "Top from", "Hz", 800, 12000, scale="log", usual=(2500, 6500))
    size: float = rule(1.0, "Size", "%", 0.5, 1.25, usual=(0.8, 1.1))
    density: float = rule(0.68, "Density", "%", 0.4, 0.78, usual=(0.6, 0.72))
    early: float = rule(
        0.5, "Early reflections", "%", 0, 1, usual=(0.2, 0.7), hint="a plate has none", when=("model", ("room", "hall"))
    )
    low_cut_hz: float = rule(220.0, "Low cut", "Hz", 20, 1500, scale="log", usual=(150, 450))
    high_cut_hz: float = rule(8000.0, "High cut", "Hz", 1000, 20000, scale="log", usual=(5000, 11000))
    width: float = rule(1.0, "Width", "%", 0, 1.5, usual=(0.7, 1))
    mix: float = rule(1.0, "Mix", "%", 0, 1, usual=(1, 1))

    def note_shown(self) -> str:
        return f"{self.decay_s:.1f} s"

    @property
    def level_trim(self) -> float:
        """Scale that keeps the wet energy of a voice near its dry energy, over decay and damping."""
        return 2.8 / float(np.sqrt(0.45 + 0.55 * self.damping))

    def absorption(self, rate: int) -> np.ndarray:
        """First-order shelves [b0 b1 a1] of the lines (16, 3): decay_s at the bottom, decay_s · damping at the top."""
        lengths = line_lengths(rate, self.model, self.size)
        bottom = -60 * lengths / (rate * self.decay_s)
        lost = np.where(_MODULATED, _interpolation_loss_db(min(9000.0, rate * 0.19), rate), 0.0)
        top = np.minimum(-60 * lengths / (rate * self.decay_s * self.damping) - lost, -0.001)
        g, k = 10 ** (bottom / 20), 10 ** ((top - bottom) / 40)
        t = 1 / np.tan(np.pi * min(self.damping_hz, 0.45 * rate) / rate)
        a0 = 1 + t / k
        return np.stack([g * (1 + t * k) / a0, g * (1 - t * k) / a0, (1 - t / k) / a0], axis=1)

    def decay_at(self, frequency_hz: float, rate: int) -> float:
        """Reverberation time in seconds that is set at a frequency: from the attenuation of the lines there."""
        lengths = line_lengths(rate, self.model, self.size)
        bottom, top = 60 / self.decay_s, 60 / (self.decay_s * self.damping)
        k = 10 ** ((bottom - top) * lengths.mean() / rate / 40)
        w = np.tan(np.pi * frequency_hz / rate) / np.tan(np.pi * min(self.damping_hz, 0.45 * rate) / rate)
        shelf_db = 20 * np.log10(abs((1 + 1j * w * k) / (1 + 1j * w / k)))
        return float(60 / (bottom - shelf_db * rate / lengths.mean()))

    def at_tempo(self, tempo_bpm: float) -> Stage:
        """With the pre-delay in ms that its note value takes."""
        return with_note(self, "predelay_note", "predelay_ms", tempo_bpm)

    @property
    def linear(self) -> bool:
        return True

    def remembers(self) -> Stage:
        """How far apart things are; what sounds dies away as it is set once it is."""
        return Reverb().model_copy(update={n: getattr(self, n) for n in ("model", "size", "predelay_ms")})

    def build(self, rate: int, channels: int) -> Processor:
        return ReverbProcessor(self, rate, channels)

    def memory_s(self) -> float:
        return self.predelay_ms / 1000 + 1.5 * self.decay_s + 0.1

    def tail_s(self) -> float:
        return self.predelay_ms / 1000 + 2.0 * self.decay_s + 0.2

    def pause_s(self) -> float:
        return self.predelay_ms / 1000 + 0.2
