"""What every stage is: settings that validate themselves, and a processor that works block by block."""

import importlib
import itertools
import pkgutil
from collections.abc import Sequence
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..kernels.biquad import delay_line
from ..units import beat_ms

Scale = Literal["linear", "log"]


def rule(
    default: float,
    label: str,
    unit: str,
    low: float,
    high: float,
    *,
    scale: Scale = "linear",
    usual: tuple[float, float] | None = None,
    step: float | None = None,
    hint: str = "",
) -> Any:
    """A number the user sets: validated to [low, high], drawn as a rule with the usual span shaded."""
    extra: dict[str, Any] = {
        "label": label,
        "unit": unit,
        "scale": scale,
        "usual": list(usual) if usual else None,
        "hint": hint,
        "signed": low < 0 < high,
    }
    extra["step"] = step or {"dB": 0.1, "Hz": 1.0, "ms": 0.1, "s": 0.01, "%": 0.01}.get(unit, 0.1)
    return Field(default, ge=low, le=high, allow_inf_nan=False, json_schema_extra={"rule": extra})


class Settings(BaseModel):
    """Base of every immutable settings object; unknown fields are refused."""

    model_config = ConfigDict(frozen=True, extra="forbid")


def rule_of(model: Any, field: str) -> dict[str, Any] | None:
    """The rule of a numeric field: label, unit, scale, usual span; None for a field that has none."""
    info = type(model).model_fields.get(field)
    extra = info.json_schema_extra if info else None
    found = extra.get("rule") if isinstance(extra, dict) else None
    return found if isinstance(found, dict) else None


def no_twins(members: Sequence[Any], what: str) -> None:
    """ValueError where two members have the same id (those without one may be many); `what` says what they are."""
    seen: set[str] = set()
    for member in members:
        if member.id and member.id in seen:
            raise ValueError(f"two {what} “{member.id}”")
        seen.add(member.id)


class Key(Settings):
    """Which lane is listened to, and where along it."""

    lane: str = Field("lead", max_length=40)
    tap: Literal["raw", "treated", "after_fader"] = "treated"


class Passage(Settings):
    """A stretch of the song with a gain of its own, in seconds from its beginning."""

    start_s: float = Field(ge=0, allow_inf_nan=False)
    end_s: float = Field(ge=0, allow_inf_nan=False)
    gain_db: float = Field(0.0, ge=-60, le=36, allow_inf_nan=False)

    @model_validator(mode="after")
    def _ends_after_it_begins(self) -> "Passage":
        if self.end_s <= self.start_s:
            raise ValueError(f"a passage from {self.start_s} s to {self.end_s} s ends before it begins")
        return self


def in_order(passages: tuple[Passage, ...]) -> tuple[Passage, ...]:
    """The passages themselves; ValueError where one begins before the one before it ends."""
    for before, after in itertools.pairwise(passages):
        if after.start_s < before.end_s - 1e-9:
            raise ValueError(f"the passage at {after.start_s} s begins before the one before it ends")
    return passages


class Processor:
    """One running stage. Blocks of any length in, blocks of the same length out, `latency` frames late.

    `process(x, key)` takes float64 (channels, n) and, for keyed stages, the key of the same n frames; it returns a
    new array and leaves in `gain_db` (n,) the gain it applied, or None where a single gain does not describe it, and
    in `parts_db` (k, n) the gains of its parts where it has several that move.
    The result does not depend on how the sound is cut into blocks.
    """

    latency: int = 0
    gain_db: np.ndarray | None = None
    parts_db: np.ndarray | None = None

    def start_at(self, frame: int) -> None:
        """Take up what depends on the place in the song (a modulation's phase) at the first frame, before any block."""

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        raise NotImplementedError


class Stage(Settings):
    """Settings of one stage. A subclass with its own `kind` registers itself."""

    title: ClassVar[str] = ""
    summary: ClassVar[str] = ""
    widens: ClassVar[bool] = False
    insertable: ClassVar[bool] = True
    takes_lane: ClassVar[bool] = False  # it works from its lane's phrases and events, so only a lane can have it
    for_returns: ClassVar[bool] = False  # it belongs on a return
    kinds: ClassVar[dict[str, type["Stage"]]] = {}

    kind: str
    id: str = Field("", max_length=40, pattern=r"^[A-Za-z0-9_-]*$")
    name: str = Field("", max_length=120)
    on: bool = True

    @classmethod
    def __pydantic_init_subclass__(cls, **kwargs: Any) -> None:
        super().__pydantic_init_subclass__(**kwargs)
        default = cls.model_fields["kind"].default
        if isinstance(default, str):
            Stage.kinds[default] = cls

    @property
    def label(self) -> str:
        """What the stage is called on screen."""
        return self.name or self.title

    def listens(self) -> Key | None:
        """The key that its processor wants to hear, None for a stage that hears only itself."""
        return None

    def listens_also(self) -> tuple[Key, ...]:
        """Further keys, heard together with the first."""
        return ()

    def sounds(self) -> tuple[str, ...]:
        """Content hashes of the files it needs; none for most."""
        return ()

    def placed_on(self, lane: Any, rate: int) -> "Stage":
        """The stage with what it takes from its lane (phrases, breaths) written into it; itself for most."""
        return self

    def at_tempo(self, tempo_bpm: float) -> "Stage":
        """The stage with what it counts in notes written into it as times; itself for most."""
        return self

    def build(self, rate: int, channels: int) -> Processor:
        """A fresh processor in its zero state for `channels` channels at `rate`."""
        raise NotImplementedError

    def latency_frames(self, rate: int) -> int:
        """The latency that the built processor declares."""
        return 0

    def memory_s(self) -> float:
        """Seconds after which what came before matters less than −90 dB."""
        return 0.05

    def tail_s(self) -> float:
        """Seconds that the stage sounds on after its input has ended."""
        return 0.0

    def channels_out(self, channels: int) -> int:
        """Channels that come out when `channels` go in."""
        return max(channels, 2) if self.widens else channels


Note = Literal[
    "ms", "1/1", "1/2", "1/2d", "1/2t", "1/4", "1/4d", "1/4t", "1/8", "1/8d", "1/8t", "1/16", "1/16d", "1/16t", "1/32",
    "1/64", "1/128",
]  # fmt: skip


def with_note(stage: Stage, note: str, ms: str, tempo_bpm: float) -> Stage:
    """A stage whose field `ms` is as long as the note in its field `note`, even if longer than can be set."""
    value = getattr(stage, note)
    return stage if value == "ms" else stage.model_copy(update={ms: beat_ms(value, tempo_bpm)})


def load_kinds(skip: str = "") -> dict[str, type[Stage]]:
    """Every stage kind there is, by importing each module of this package but `skip`."""
    from miclane.core import stages

    for module in pkgutil.iter_modules(stages.__path__):
        if module.name != skip:
            importlib.import_module(f"{stages.__name__}.{module.name}")
    return Stage.kinds


def one_pole(time_ms: float, rate: int) -> float:
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
