"""Apart: only the sibilants of a lane, or all but them. The two parts sum to the original exactly."""

from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import AfterValidator, Field

from .base import Passage, Stage, in_order, rule, setting
from .passages import Passages
from .processor import Processor


class ApartProcessor(Processor):
    """Multiplies by the windows of the passages, or by what is left beside them."""

    def __init__(self, s: "Apart", rate: int) -> None:
        self.rest = s.part == "rest"
        self.windows = Passages(apart_enough(s.passages, s.edge_ms / 1000), s.edge_ms / 1000, rate)

    def start_at(self, frame: int) -> None:
        self.windows.start_at(frame)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        share = self.windows.share(x.shape[1])
        if share is None:
            return x.copy() if self.rest else np.zeros_like(x)
        kept = x * np.sin(0.5 * np.pi * share) ** 2
        return x - kept if self.rest else kept


def apart_enough(passages: tuple[Passage, ...], edge_s: float) -> tuple[Passage, ...]:
    """The passages, those made one whose edges would overlap."""
    found: list[Passage] = []
    for p in passages:
        if found and p.start_s - found[-1].end_s < 2 * edge_s:
            found[-1] = found[-1].model_copy(update={"end_s": p.end_s})
        else:
            found.append(p)
    return tuple(found)


class Apart(Stage):
    """One part of a lane that is split in time. The lane says which sibilants go their own way."""

    title: ClassVar[str] = "Apart"
    summary: ClassVar[str] = "only the sibilants, or all but them"
    insertable: ClassVar[bool] = False
    picture: ClassVar[str] = "apart"
    measured: ClassVar[bool] = False

    kind: Literal["apart"] = "apart"
    part: Literal["sibilants", "rest"] = setting("sibilants", shown=False)
    edge_ms: float = rule(6.0, "Edges", "ms", 1, 30, scale="log", usual=(4, 12))
    passages: Annotated[tuple[Passage, ...], AfterValidator(in_order)] = Field((), max_length=8000)

    def placed_on(self, lane: Any, rate: int) -> Stage:
        """With the sibilants that the lane has put apart."""
        spans = tuple(Passage(start_s=p.start / rate, end_s=p.end / rate) for p in lane.apart)
        return self.model_copy(update={"passages": spans}) if spans else self

    def build(self, rate: int, channels: int) -> Processor:
        return ApartProcessor(self, rate)
