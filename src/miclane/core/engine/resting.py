"""Stages that rest: what has fallen silent is not worked out, and what comes after it is as if it had been."""

import numpy as np

from ..kernels.levels import loudest
from .graph import Node
from .node import AT_ONCE, Worker

SILENT = 1e-9  # −180 dBFS


def _is_silent(x: np.ndarray) -> bool:
    """Whether a piece (channels, n) is below that; mostly told by two frames of it."""
    return not x.size or (abs(x[0, 0]) < SILENT and abs(x[0, -1]) < SILENT and bool(loudest(x) < SILENT))


class Resting:
    """Tells whether a stage may rest, and has it go on as if it had not.

    It may while nothing comes in, once nothing has come in nor out for longer than its latency and the longest silence
    in what it sounds on. Then it is told of as much of that silence as it remembers; where it rested for longer it
    begins anew with that, as it does in a loop.
    """

    def __init__(self, node: Node, rate: int) -> None:
        assert node.stage is not None
        self._stage, self._rate = node.stage, rate
        self._patience = node.latency + round((node.stage.pause_s() + 0.1) * rate)
        self._memory = node.latency + 1 + round(max(node.stage.tail_s(), node.memory_s) * rate)
        self._silent = self._rested = 0

    def goes_on(self, x: np.ndarray, key: np.ndarray | None) -> bool:
        """Whether the stage may rest while x and its key (channels, n) come in; counted as rested if so."""
        if self._silent < self._patience or not _is_silent(x) or not (key is None or _is_silent(key)):
            return False
        self._rested += x.shape[1]
        return True

    def awake(self, worker: Worker, x: np.ndarray, key: np.ndarray | None, at: int) -> Worker:
        """The worker that is to go on with x and its key (channels, n) at frame `at`."""
        rested, self._rested = self._rested, 0
        if rested > self._memory:
            begin = min(at - self._memory, self._stage.begins_by(at, self._rate))
            worker, rested = Worker(self._stage, self._rate, x.shape[0], begin), at - begin
        for start in range(0, rested, AT_ONCE):
            frames = min(AT_ONCE, rested - start)
            worker.push(np.zeros((len(x), frames)), None if key is None else np.zeros((len(key), frames)))
        return worker

    def after(self, x: np.ndarray, key: np.ndarray | None, due: np.ndarray) -> None:
        """Told what came in and what was due then."""
        silent = _is_silent(x) and (key is None or _is_silent(key)) and _is_silent(due)
        self._silent = self._silent + x.shape[1] if silent else 0
