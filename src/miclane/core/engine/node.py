"""One node at work: blocks in, aligned blocks out, and what it did along the way."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..errors import UnsoundError
from ..kernels.dynamics import weigh
from ..kernels.levels import power
from ..kernels.traces import trace as take_down
from ..stages.base import Stage
from .graph import Node

BLOCK = 8192
AT_ONCE = 16 * BLOCK  # frames that are run in one go where nothing is taken down on the way
_NO_GAIN = np.zeros(0)
LOUDEST = 1000.0  # +60 dBFS: nothing that is meant comes near it


def trace_hop(rate: int) -> int:
    """Frames a trace point covers: at least 200 points a second."""
    return rate // 200


@dataclass
class Trace:
    """What a stage did, a point a hop from frame `start` on. Gain in dB (least in the hop), levels as mean squares.

    `parts_db` (k, points): the gains of a stage's moving parts, as they are in the middle of the hop.
    """

    start: int
    hop: int
    gain_db: np.ndarray | None
    mean_square_in: np.ndarray
    mean_square_out: np.ndarray
    peak_out: np.ndarray
    parts_db: np.ndarray | None = None

    @property
    def nbytes(self) -> int:
        """Memory held."""
        parts = 0 if self.parts_db is None else self.parts_db.nbytes
        return 4 * self.mean_square_in.nbytes + parts


class Worker:
    """A processor whose output is aligned with its input: the first `latency` frames it gives are dropped."""

    def __init__(self, stage: Stage, rate: int, channels: int, start: int = 0) -> None:
        self.stage = stage
        self.processor = stage.build(rate, channels)
        self.processor.start_at(start)
        self.skip = self.processor.latency
        self.dropped = 0
        self.unheard = 0  # frames due next that nobody will hear, nor a state that is left be gone on from for them

    def turned_to(self, stage: Stage) -> "Worker":
        """This one with the settings of a stage that remembers the same."""
        if stage is not self.stage and stage != self.stage:
            self.processor.turned(stage)
        self.stage = stage
        return self

    def push(self, x: np.ndarray, key: np.ndarray | None) -> np.ndarray:
        """Feed n frames; what has become due (n, fewer while latency is dropped)."""
        self.processor.unheard = self.skip + self.unheard
        y = self.processor.process(x, key)
        check_sound(y, self.stage.label)
        self.dropped = min(self.skip, y.shape[1])
        self.skip -= self.dropped
        self.unheard = max(0, self.unheard - (y.shape[1] - self.dropped))
        return y[:, self.dropped :]

    @property
    def gain_db(self) -> np.ndarray | None:
        """The gain applied to what was last due, where the stage has one."""
        gain = self.processor.gain_db
        return gain[self.dropped :] if gain is not None else None

    @property
    def parts_db(self) -> np.ndarray | None:
        """The gains of its moving parts, likewise."""
        parts = self.processor.parts_db
        return parts[:, self.dropped :] if parts is not None else None


def run_stage(
    node: Node,
    x: np.ndarray,
    key: np.ndarray | None,
    rate: int,
    start: int,
    ready: Callable[[int], None],
    traced: bool = True,
    worker: Worker | None = None,
    note: Callable[[int, Worker], None] | None = None,
    out: np.ndarray | None = None,
    made: Callable[[int], None] | None = None,
    traced_from: int = 0,
) -> tuple[np.ndarray, Trace | None]:
    """A stage over a whole range x (channels, n) that begins at frame `start`: from the zero state, or on by `worker`.

    Returns the aligned frames that are due (n − latency from the zero state), in `out` where that is given, and, when
    `traced`, the trace, of at least what comes after the frame `traced_from`. Before every block `ready` is called with
    the frame after its last, and may wait for that or raise to give up, and `note` with its first frame; after it
    `made` with the frame after the last that is due.
    """
    assert node.stage is not None
    worker = worker or Worker(node.stage, rate, x.shape[0], start)
    total = max(x.shape[1] - worker.skip, 0)
    if out is None and not traced and note is None and made is None and x.shape[1] <= AT_ONCE:
        ready(start + x.shape[1])
        heard = np.ascontiguousarray(key) if key is not None else None
        return worker.push(np.ascontiguousarray(x), heard)[:, :total], None
    y = np.empty((node.channels, total)) if out is None else out
    tracing = _Tracing(x, y, rate, start, traced_from) if traced else None
    done = 0
    for at in range(0, x.shape[1], BLOCK):
        stop = at + BLOCK
        ready(start + min(stop, x.shape[1]))
        if note is not None:
            note(start + at, worker)
        block = worker.push(
            np.ascontiguousarray(x[:, at:stop]), np.ascontiguousarray(key[:, at:stop]) if key is not None else None
        )
        step = min(block.shape[1], total - done)
        y[:, done : done + step] = block[:, :step]
        if tracing is not None:
            tracing.take(worker, step)
        done += step
        if made is not None:
            made(start + done)
    return y, tracing.trace if tracing is not None else None


def check_sound(block: np.ndarray, made_by: str) -> None:
    """UnsoundError where a block (channels, n) holds what is no number, or more than +60 dBFS; names what made it."""
    if power(block.ravel()) <= LOUDEST * LOUDEST:  # so it is nearly always
        return
    for row in block:
        if not power(row) <= LOUDEST * LOUDEST and not (loudest := float(np.abs(row).max())) <= LOUDEST:
            what = "more than +60 dBFS" if loudest > LOUDEST else "what is no sound any more"
            raise UnsoundError(f"“{made_by}” makes {what}, so it is stopped here; take its last setting back")


class _Tracing:
    """Makes the trace of a stage while it works, of what has just come in and gone out, from a frame on."""

    def __init__(self, x: np.ndarray, y: np.ndarray, rate: int, start: int, first: int) -> None:
        hop = trace_hop(rate)
        self._before = max(0, first - start) // hop * hop  # frames that nobody will look at
        self._sides: list[int | np.ndarray] = []
        for audio in (x, y):  # row by row: those of a longer sound lie apart, each in one piece
            self._sides += [len(audio), audio[0, self._before :], audio[-1, self._before :]]
        gain, inside, outside, peak = np.zeros((4, max(0, y.shape[1] - self._before) // hop))
        self.trace = Trace(start + self._before, hop, None, inside, outside, peak)
        self._gain, self._rest, self._left, self._points = gain, _NO_GAIN, 0, 0

    def take(self, worker: Worker, frames: int) -> None:
        """The next so many frames of y are there, and the worker has made them."""
        begin = min(self._before, frames)
        self._before -= begin
        if begin == frames:
            return
        trace, hop = self.trace, self.trace.hop
        gain, parts = worker.gain_db, worker.parts_db
        begun = self._points * hop + self._left
        if parts is not None:
            if trace.parts_db is None:
                trace.parts_db = np.zeros((len(parts), len(self._gain)))
            middle = (hop // 2 - begun) % hop
            first = (begun + middle) // hop
            found = parts[:, begin + middle : frames : hop][:, : len(self._gain) - first]
            trace.parts_db[:, first : first + found.shape[1]] = found
        if gain is None and trace.gain_db is not None:
            gain = np.zeros(frames)
        if gain is not None:
            trace.gain_db = self._gain
            rest = self._rest if len(self._rest) == self._left else np.zeros(self._left)
            gain = np.concatenate([rest, gain[begin:frames]])
        points, self._left = divmod(self._left + frames - begin, hop)
        rows = self._gain, trace.mean_square_in, trace.mean_square_out, trace.peak_out
        take_down(*self._sides, _NO_GAIN if gain is None else gain, hop, self._points, points, *rows)
        self._rest = _NO_GAIN if gain is None else gain[points * hop :]
        self._points += points


class Watch:
    """Makes the trace of a stage from the song's first frame on, while its sound comes and goes and is not kept."""

    def __init__(self, rate: int) -> None:
        self._hop = trace_hop(rate)
        self._left = [np.zeros((1, 0))] * 3  # what came in, what went out, and the gain, that do not fill a hop yet
        self._rows: list[np.ndarray] = []
        self._moved = False

    def take(self, x: np.ndarray, y: np.ndarray, gain_db: np.ndarray | None) -> None:
        """x (channels, n) has come in, y has become due and the gains (n,) with it."""
        self._moved |= gain_db is not None
        gains = np.zeros((1, y.shape[1])) if gain_db is None else gain_db[None]
        after = [
            np.concatenate([left, new], axis=1) if left.shape[1] else new
            for left, new in zip(self._left, (x, y, gains), strict=True)
        ]
        x, y, gains = after
        points = min(x.shape[1], y.shape[1]) // self._hop
        rows = np.zeros((4, points))
        take_down(len(x), x[0], x[-1], len(y), y[0], y[-1], gains[0], self._hop, 0, points, *rows)
        self._rows.append(rows)
        self._left = [np.ascontiguousarray(each[:, points * self._hop :]) for each in after]

    def trace(self) -> Trace:
        """The trace of all that has been taken."""
        gain, inside, outside, peak = np.concatenate([np.zeros((4, 0)), *self._rows], axis=1)
        return Trace(0, self._hop, gain if self._moved else None, inside, outside, peak)


def mix_down(
    parts: list[np.ndarray],
    gains: list[tuple[float, float]],
    channels: int,
    frames: int,
    out: np.ndarray | None = None,
) -> np.ndarray:
    """Weighted sum (channels, frames) of mono or stereo parts, cut to `frames`, in `out` where that is given.

    No part gives silence.
    """
    if len(parts) == 1 and parts[0].shape[0] == channels and gains[0] == (1.0, 1.0):
        if out is None:
            return parts[0][:, :frames]
        out[:] = parts[0][:, :frames]
        return out
    out = np.empty((channels, frames)) if out is None else out
    heard = [(part, gain) for part, gain in zip(parts, gains, strict=True) if gain[0] or gain[1]]
    if not heard:
        out[:] = 0.0
    for at in range(0, len(heard), 4):
        some = heard[at : at + 4]
        for side in range(channels):  # row by row: a part of a longer sound need not be copied
            four = [np.ascontiguousarray(part[min(side, part.shape[0] - 1), :frames]) for part, _ in some]
            weights = np.array([gain[side] for _, gain in some])
            weigh(*four, *(four[:1] * (4 - len(four))), weights, len(four), at == 0, out[side])
    return out


def put_together(
    node: Node, parts: list[np.ndarray], start: int, frames: int, out: np.ndarray | None = None
) -> np.ndarray:
    """What a sum or a pick makes of so many frames of its inputs, from frame `start` on, in `out` where given."""
    if node.picks is not None:
        picked = node.picks.mixed([part[:, :frames] for part in parts], start, node.channels)
        if out is None:
            return picked
        out[:] = picked
        return out
    return mix_down(parts, list(node.gains), node.channels, frames, out)


def joined(parts: list[tuple[list[tuple[int, int]], Trace]]) -> Trace | None:
    """One trace of several over the same frames, each where it is heard; elsewhere nothing was done to nothing."""
    if not parts:
        return None
    start, hop = max(t.start for _, t in parts), parts[0][1].hop
    skipped = [round((start - t.start) / hop) for _, t in parts]  # points before all of them have begun
    points = min(len(t.mean_square_in) - skip for (_, t), skip in zip(parts, skipped, strict=True))
    middle = start + (np.arange(points) + 0.5) * hop
    rows = next((len(t.parts_db) for _, t in parts if t.parts_db is not None), 0)
    moved = any(t.gain_db is not None for _, t in parts)
    inside, outside, peak, gain = np.zeros((4, points))
    out = Trace(start, hop, gain if moved else None, inside, outside, peak)
    out.parts_db = np.zeros((rows, points)) if rows else None
    for (stretches, trace), skip in zip(parts, skipped, strict=True):
        here = np.zeros(points, bool)
        for a, b in stretches:
            here |= (middle >= a) & (middle < b)
        for name in ("mean_square_in", "mean_square_out", "peak_out", "gain_db"):
            row = getattr(trace, name)
            if row is not None:
                getattr(out, name)[here] = row[skip : skip + points][here]
        if out.parts_db is not None and trace.parts_db is not None and len(trace.parts_db) == rows:
            out.parts_db[:, here] = trace.parts_db[:, skip : skip + points][:, here]
    return out
