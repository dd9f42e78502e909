"""What every stage runs as: a processor that works block by block, and the parts that many of them have."""

from typing import Any

import numpy as np

from ..kernels.biquad import delay_line
from ..units import beside_dry


class Processor:
    """One running stage. Blocks of any length in, blocks of the same length out, `latency` frames late.

    `process(x, key)` takes float64 (channels, n) and, for keyed stages, the key of the same n frames; it returns a
    new array and leaves in `gain_db` (n,) the gain it applied, or None where a single gain does not describe it, and
    in `parts_db` (k, n) the gains of its parts where it has several that move. Where dry sound stands beside what they
    were applied to, `blend` says so, and what is read is what both amount to.
    The result does not depend on how the sound is cut into blocks. `unheard` says, before each block, of how many of
    the frames that come out next it is of no matter what they are, nor `gain_db` there: nobody hears them.
    """

    latency: int = 0
    unheard: int = 0
    settings: Any
    blend: tuple[float, np.ndarray | float] = (1.0, 1.0)  # share and gain of the sound that the gains were applied to
    _gain_db: np.ndarray | None = None
    _parts_db: np.ndarray | None = None

    @property
    def gain_db(self) -> np.ndarray | None:
        """What the stage did to the last block (n,), worked out when it is asked for."""
        return self._amounts_to()

    @gain_db.setter
    def gain_db(self, gain_db: np.ndarray | None) -> None:
        self._gain_db = gain_db

    @property
    def parts_db(self) -> np.ndarray | None:
        """What its moving parts did to it (k, n), likewise."""
        return None if self._parts_db is None else beside_dry(self._parts_db, *self.blend)

    @parts_db.setter
    def parts_db(self, parts_db: np.ndarray | None) -> None:
        self._parts_db = parts_db

    def _amounts_to(self) -> np.ndarray | None:
        return None if self._gain_db is None else beside_dry(self._gain_db, *self.blend)

    def start_at(self, frame: int) -> None:
        """Take up what depends on the place in the song (a modulation's phase) at the first frame, before any block."""

    def turned(self, settings: Any) -> None:
        """Go on with the settings of a stage that `remembers` the same, as if they had been these all along."""
        self.settings = settings

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        raise NotImplementedError


def one_pole(time_ms: float, rate: float) -> float:
    """Coefficient of y += c (x - y) that covers 63 % of a step in `time_ms`; 1 for less than a frame."""
    frames = time_ms * rate / 1000
    return 1.0 if frames < 1e-6 else float(-np.expm1(-1.0 / frames))


class Delay:
    """A plain delay of whole frames, for the path that must wait."""

    def __init__(self, channels: int, frames: int) -> None:
        self.frames = frames
        self.line = np.zeros((channels, frames))
        self.position = 0

    def process(self, x: np.ndarray) -> np.ndarray:
        """x delayed; shape kept."""
        if not self.frames:
            return x
        y = np.empty_like(x)
        self.position = delay_line(x, self.line, self.position, y)
        return y

    def hold(self, x: np.ndarray) -> None:
        """Take x in where nobody wants what comes out."""
        if x.shape[1] < self.frames:
            self.process(x)
        elif self.frames:
            self.line[:] = x[:, -self.frames :]
            self.position = 0
