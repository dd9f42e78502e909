"""What a finding is: what was measured, where it shows, and what would answer it."""

from dataclasses import dataclass
from typing import Any, Literal

from ..measure.phrases import Span
from ..stages.tune import SungNote

ONLY_SAID = 1e9  # as `good`: nothing on the lane answers it, so it is not measured again
Role = Literal["lead", "backing", "music"]


@dataclass(frozen=True)
class NewBand:
    """A band for the lane's first EQ; it takes the place of one that does the same already."""

    band: dict[str, Any]


@dataclass(frozen=True)
class NewStage:
    """A stage with these settings, before the first of the kinds named; one of its kind is set instead."""

    kind: str
    settings: dict[str, Any]
    before: tuple[str, ...] = ()


@dataclass(frozen=True)
class PhraseTrims:
    """A trim in dB for each phrase, in order, and the stage that applies them."""

    gains_db: tuple[float, ...]


@dataclass(frozen=True)
class NewNotes:
    """The notes of a take, for a tune that has none yet, before everything else."""

    notes: tuple[SungNote, ...]


Answer = NewBand | NewStage | PhraseTrims | NewNotes


@dataclass(frozen=True)
class Finding:
    """One thing measured. `value` in `unit` is what is measured again after an answer; a `good` value is at most that.

    `taste` marks what is offered and never applied with the rest. Places are frames of the take, marked
    in the strip with `mark` where there is one.
    """

    id: str
    title: str
    evidence: str
    value: float
    unit: str
    good: float
    places: tuple[Span, ...] = ()
    frequency_hz: float = 0.0
    answers: tuple[Answer, ...] = ()
    taste: bool = False
    mark: str = ""

    @property
    def compared(self) -> bool:
        """Whether it is measured again in the treated sound."""
        return self.good < ONLY_SAID
