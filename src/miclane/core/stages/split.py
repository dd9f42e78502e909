"""Split: the path forks into parallel branches that join again. The engine expands it; it has no processor."""

import itertools
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, Literal, Union

from pydantic import Field, model_validator

from ..units import SILENT_DB
from .base import Settings, Stage, load_kinds, no_twins, rule

load_kinds(skip="split")
_inner: Any = tuple(cls for kind, cls in sorted(Stage.kinds.items()) if kind != "split")
InnerStage = Annotated[Union[_inner], Field(discriminator="kind")]  # noqa: UP007  (made from the registry)


class Throw(Settings):
    """A stretch of the song in seconds in which a send is opened, with a level of its own and ramps."""

    id: str = Field("", max_length=40, pattern=r"^[A-Za-z0-9_-]*$")
    start_s: float = Field(ge=0, allow_inf_nan=False)
    end_s: float = Field(ge=0, allow_inf_nan=False)
    level_db: float = rule(-3.0, "Throw", "dB", SILENT_DB, 12, usual=(-9, 0), off=SILENT_DB)

    @model_validator(mode="after")
    def _ends_after_it_begins(self) -> "Throw":
        if self.end_s <= self.start_s:
            raise ValueError(f"a throw from {self.start_s} s to {self.end_s} s ends before it begins")
        return self


class BranchSend(Settings):
    """A share of a branch that goes to a return, before or after the lane's fader. Its id is the return's."""

    id: str = Field(min_length=1, max_length=40, pattern=r"^[A-Za-z0-9_-]+$")
    level_db: float = rule(-14.0, "Send", "dB", SILENT_DB, 12, usual=(-24, -8), off=SILENT_DB)
    pre_fader: bool = False
    on: bool = True


class Send(BranchSend):
    """A share of a lane that goes to a return; opened further for single words by throws."""

    raw: bool = False  # of the take as it came, past the lane's stages
    throws: tuple[Throw, ...] = Field((), max_length=400)
    ramp_ms: float = rule(30.0, "Throw ramps", "ms", 2, 500, scale="log", usual=(15, 80))

    @model_validator(mode="after")
    def _throws_follow_one_another(self) -> "Send":
        no_twins(self.throws, "throws are called")
        for before, after in itertools.pairwise(sorted(self.throws, key=lambda t: t.start_s)):
            if after.start_s < before.end_s - 1e-9:
                raise ValueError(f"the throw at {after.start_s} s begins before the one before it ends")
        return self


class Branch(Settings):
    """A parallel copy with stages of its own, blended in, and sends of its own where it stands on a lane."""

    id: str = Field("", max_length=40, pattern=r"^[A-Za-z0-9_-]*$")
    name: str = Field("Crush", max_length=120)
    blend_db: float = rule(-14.0, "Blend", "dB", SILENT_DB, 12, usual=(-20, -8), off=SILENT_DB)
    on: bool = True
    stages: tuple[InnerStage, ...] = Field((), max_length=32)
    sends: tuple[BranchSend, ...] = Field((), max_length=32)

    @model_validator(mode="after")
    def _every_part_once(self) -> "Branch":
        no_twins(self.sends, f"sends of “{self.name}” go to the return")
        return self


@dataclass(frozen=True)
class Use:
    """What a branch is good for, and the stages it begins with."""

    title: str
    stages: tuple[dict[str, Any], ...] = ()


USES = {
    "Copy": Use("A plain copy, for stages of your own"),
    "Thicken": Use(
        "Crushed hard and slow to let go: weight under the voice",
        (
            {
                "kind": "compressor", "name": "Crush", "threshold_db": -36, "ratio": 12, "knee_db": 3,
                "attack_ms": 0.6, "release_ms": 240, "makeup_db": 10,
            },
            {"kind": "limiter", "name": "Catch", "ceiling_dbtp": -9},
        ),
    ),
    "Hold up": Use(
        "Lifted from below and levelled: quiet words stay",
        (
            {
                "kind": "lift", "name": "Lift", "threshold_db": -20, "ratio": 3, "most_db": 12,
                "noise_db": -50, "limit_db": -47,
            },
            {
                "kind": "compressor", "name": "Even", "response": "optical", "threshold_db": -28, "ratio": 6,
                "knee_db": 10, "attack_ms": 6, "release_ms": 120,
            },
        ),
    ),
    "Bite": Use(
        "Low end taken out, quick and driven: consonants come forward",
        (
            {
                "kind": "eq", "name": "Above the body",
                "bands": [{"shape": "low_cut", "frequency_hz": 900, "slope_db_per_octave": 12}],
            },
            {
                "kind": "compressor", "name": "Quick", "response": "fet", "threshold_db": -34, "ratio": 8,
                "attack_ms": 0.2, "release_ms": 60, "makeup_db": 8,
            },
            {"kind": "drive", "name": "Edge", "curve": "tape", "amount_db": 9},
        ),
    ),
}  # fmt: skip


class Split(Stage):
    """Parallel branches beside the dry path, aligned to the sample."""

    title: ClassVar[str] = "Split"
    summary: ClassVar[str] = "a crushed copy beside the voice"
    panel: ClassVar[str] = "branches"
    drawn: ClassVar[str] = "split"
    in_strip: ClassVar[bool] = False
    in_branches: ClassVar[bool] = False
    splits: ClassVar[bool] = True
    uses: ClassVar[dict[str, Use]] = USES
    fresh: ClassVar[dict[str, Any]] = {
        "branches": [{"name": "Thicken", "blend_db": -20, "stages": list(USES["Thicken"].stages)}]
    }

    kind: Literal["split"] = "split"
    dry_db: float = rule(0.0, "Dry", "dB", SILENT_DB, 12, usual=(-3, 0), off=SILENT_DB)
    branches: tuple[Branch, ...] = Field((), max_length=8)

    @model_validator(mode="after")
    def _every_branch_once(self) -> "Split":
        no_twins(self.branches, "branches are called")
        return self

    def forks(self) -> tuple[Branch, ...]:
        return self.branches

    @property
    def summary_now(self) -> str:
        return "paths of their own, joined again" if self.dry_db <= SILENT_DB else self.summary

    @property
    def linear(self) -> bool:
        return all(s.linear or not s.on for b in self.branches if b.on for s in b.stages)

    def memory_s(self) -> float:
        return max((sum(s.memory_s() for s in b.stages) for b in self.branches), default=0.0)

    def latency_frames(self, rate: int) -> int:
        return max((sum(s.latency_frames(rate) for s in b.stages if s.on) for b in self.branches), default=0)

    def tail_s(self) -> float:
        return max((sum(s.tail_s() for s in b.stages) for b in self.branches), default=0.0)
