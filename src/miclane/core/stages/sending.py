"""What opens a send for a word or a phrase: a level of its own in some stretches of the song, with ramps."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ..units import SILENT_DB, amplitude
from .base import Passage, Settings, Stage, rule
from .passages import Passages
from .processor import Processor


class Opening(Settings):
    """A stretch in seconds and the level in it."""

    start_s: float
    end_s: float
    level_db: float


class SendingProcessor(Processor):
    """Multiplies by the level of the send, or of the throw that is open; the ramps lie outside the throws."""

    def __init__(self, s: "Sending", rate: int) -> None:
        self.level = amplitude(s.level_db)
        self.windows = []
        for o in s.openings:
            passage = Passage(start_s=o.start_s, end_s=o.end_s)
            self.windows.append((amplitude(o.level_db), Passages((passage,), s.ramp_ms / 1000, rate)))

    def start_at(self, frame: int) -> None:
        for _, window in self.windows:
            window.start_at(frame)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        gain = np.full(x.shape[1], self.level)
        for level, window in self.windows:
            share = window.share(x.shape[1])
            if share is not None:
                gain += np.sin(0.5 * np.pi * share) ** 2 * (level - gain)
        return x * gain


class Sending(Stage):
    """A send with its throws, as the engine runs it."""

    title: ClassVar[str] = "Send"
    summary: ClassVar[str] = "a send that opens for words"
    insertable: ClassVar[bool] = False

    kind: Literal["sending"] = "sending"
    level_db: float = rule(-14.0, "Send", "dB", SILENT_DB, 12)
    ramp_ms: float = rule(30.0, "Ramps", "ms", 2, 500, scale="log")
    openings: tuple[Opening, ...] = Field((), max_length=400)

    def build(self, rate: int, channels: int) -> Processor:
        return SendingProcessor(self, rate)
