"""What every stage is: settings that validate themselves, and what they say of themselves."""

import importlib
import itertools
import pkgutil
from collections.abc import Sequence
from typing import Any, ClassVar, Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..readings import StageReading
from ..units import beat_ms, show_value
from .processor import Processor

Scale = Literal["linear", "log"]
EDGES_APART = 2 ** (1 / 12)  # two edges of a band, at the least
OF_THE_TAKE = ("by_hand", "passages", "phrases", "breaths", "points", "notes")  # lists at places of one take
HEARD, TAKEN = -1, -2  # parts of a stage that can be heard alone: what it listens to, what it takes


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
    off: float | None = None,
    group: str = "",
    when: tuple[str, Any] | None = None,
) -> Any:
    """A number the user sets: validated to [low, high], drawn as a rule with the usual span shaded.

    At `off`, one of its ends, it does nothing, and is shown as that. `group` and `when` as of `setting`.
    """
    extra: dict[str, Any] = {
        "label": label,
        "unit": unit,
        "scale": scale,
        "usual": list(usual) if usual else None,
        "hint": hint,
        "off": off,
        "signed": low < 0 < high,
    }
    extra["step"] = step or {"dB": 0.1, "Hz": 1.0, "ms": 0.1, "s": 0.01, "%": 0.01}.get(unit, 0.1)
    return Field(
        default,
        ge=low,
        le=high,
        allow_inf_nan=False,
        json_schema_extra={"rule": extra, "group": group, "when": list(when) if when else None},
    )


def setting(
    default: Any,
    label: str = "",
    *,
    names: dict[str, str] | None = None,
    group: str = "",
    when: tuple[str, Any] | None = None,
    part: str = "",
    shown: bool = True,
) -> Any:
    """A choice or a switch the user sets. `names` are what its values are called where that is not what they say.

    On the bench it stands in the `group` of that title (in none: at the head), only `when` a field has a value (or one
    of several), as the template `part` draws it; not `shown`, it is drawn by something else.
    """
    extra: dict[str, Any] = {"label": label, "names": names or {}, "group": group, "when": list(when) if when else None}
    return Field(default, json_schema_extra={**extra, "part": part, "shown": shown})


class Settings(BaseModel):
    """Base of every immutable settings object; unknown fields are refused."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    def silent(self) -> tuple[str, ...]:
        """Fields that change nothing as the others stand; they are not shown."""
        return ()

    def said(self, field: str, value: Any) -> str:
        """What setting a field to a value is called in the history; "" where its name and the value say it."""
        return ""


def applies(model: Settings, field: str) -> bool:
    """Whether a setting does anything, as the others stand."""
    extra = type(model).model_fields[field].json_schema_extra
    when = extra.get("when") if isinstance(extra, dict) else None
    if when:
        wanted = when[1] if isinstance(when[1], list | tuple) else (when[1],)  # type: ignore[index]
        if getattr(model, str(when[0])) not in wanted:  # type: ignore[index]
            return False
    return field not in model.silent()


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
    """Which lane is listened to, and where along it; `bus:ID` means all lanes that feed that bus, together."""

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


class Stage(Settings):
    """Settings of one stage. A subclass with its own `kind` registers itself."""

    title: ClassVar[str] = ""
    summary: ClassVar[str] = ""
    widens: ClassVar[bool] = False
    # where it may stand
    insertable: ClassVar[bool] = True
    takes_lane: ClassVar[bool] = False  # it works from its lane's phrases and events, so only a lane can have it
    for_returns: ClassVar[bool] = False  # it belongs on a return
    in_branches: ClassVar[bool] = True
    # what it is among others
    effect: ClassVar[bool] = False  # it makes the sound of a return
    effect_drawn: ClassVar[Literal["", "decay", "repeats"]] = ""  # and what of it
    ducks: ClassVar[bool] = False  # it holds a return down while its key sings
    levels: ClassVar[bool] = False  # it does a share of the work of turning down
    brings_up_sibilants: ClassVar[bool] = False
    prepares: ClassVar[bool] = False  # it belongs before everything that listens to level or tone
    lifts: ClassVar[bool] = False  # it raises what is quiet
    by_peak: ClassVar[bool] = False  # its threshold stands among peaks
    starts_return: ClassVar[dict[str, dict[str, Any]]] = {}  # returns that begin with it: name and settings
    looks_at_key: ClassVar[bool] = False  # its picture and its beginning are of its key, where it has one
    gains: ClassVar[tuple[str, ...]] = ("makeup_db",)  # settings that turn all of it up or down
    ceiling: ClassVar[str] = ""  # the setting that is a ceiling
    makes_up: ClassVar[bool] = False  # with `auto_makeup`, its `makeup_db` is found by ear from what comes into it
    # how it is shown: templates `bench_<picture>.html` on the left, `bench_<panel>.html` on the right, and in the panel
    # those named in `before` and `after` around its settings; findings whose ids begin with `report`
    picture: ClassVar[str] = "dynamics"
    panel: ClassVar[str] = "settings"
    before: ClassVar[tuple[str, ...]] = ()
    after: ClassVar[tuple[str, ...]] = ()
    report: ClassVar[str] = ""
    measured: ClassVar[bool] = True  # its picture is measured from the loop by `picture_<drawn>.svg`
    drawn: ClassVar[str] = "dynamics"
    in_strip: ClassVar[bool] = True  # what it turns down hangs as a row beneath the words
    on_space: ClassVar[tuple[str, ...]] = ()  # templates `effect_<name>.html` above its settings on Space
    low_picture: ClassVar[bool] = False  # its spectrogram is of the lows
    hunts: ClassVar[bool] = False  # a narrow boost can be swept on its picture
    splits: ClassVar[bool] = False  # it has branches
    begins_from: ClassVar[str] = ""  # what is measured for it to begin from
    fresh: ClassVar[dict[str, Any]] = {}  # settings that it is inserted with
    also_warm: ClassVar[tuple[dict[str, Any], ...]] = ()  # settings at which it runs loops that it does not as it comes
    edges: ClassVar[tuple[tuple[str, str], ...]] = ()  # settings in Hz of which the first must lie below the second
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

    @model_validator(mode="after")
    def _edges_do_not_cross(self) -> Self:
        for low, high in self.edges:
            below, above = getattr(self, low), getattr(self, high)
            if below > 0 and above > 0 and below * EDGES_APART > above * (1 + 1e-9):
                names = [(rule_of(self, field) or {}).get("label", field) for field in (low, high)]
                raise ValueError(
                    f"{names[0].lower()} {below:g} Hz does not lie below {names[1].lower()} {above:g} Hz"
                    f" (a semitone at the least)"
                )
        return self

    @property
    def label(self) -> str:
        """What the stage is called on screen."""
        return self.name or self.title

    @property
    def summary_now(self) -> str:
        """Its summary, as it stands."""
        return self.summary

    def says(self, reading: StageReading) -> str:
        """What it did over the loop, in a line; "" where its summary says enough."""
        if not reading.traced:
            return ""
        if reading.reduction_max_db < 0.05:
            return "does nothing in this loop"
        half, most = reading.reduction_median_db, reading.reduction_max_db
        return f"turns down {half:.1f} dB half of the time, {most:.1f} dB at most"

    def figure(self, reading: StageReading) -> str:
        """What stands under its station: by how much it turns down nearly all of the time, or changes the level."""
        if not reading.traced:
            return show_value(reading.change_db, "dB")[0]
        p95 = reading.reduction_p95_db
        return "0.0" if p95 < 0.05 else show_value(-p95, "dB")[0]

    def note_shown(self) -> str:
        """What of it is said of a return in a few letters; "" for most."""
        return ""

    def heard_alone(self, number: int) -> "Stage | None":
        """A stage that lets hear one part of it alone (a band, what it listens to); None without such a part."""
        return None

    def listens(self) -> Key | None:
        """The key that its processor wants to hear, None for a stage that hears only itself."""
        return None

    def listens_also(self) -> tuple[Key, ...]:
        """Further keys, heard together with the first."""
        return ()

    def sounds(self) -> tuple[str, ...]:
        """Content hashes of the files it needs; none for most."""
        return ()

    def forks(self) -> tuple[Any, ...]:
        """Its parallel branches; none but in a split."""
        return ()

    def placed_on(self, lane: Any, rate: int) -> "Stage":
        """The stage with what it takes from its lane (phrases, breaths) written into it; itself for most."""
        return self

    def at_tempo(self, tempo_bpm: float) -> "Stage":
        """The stage with what it counts in notes written into it as times; itself for most."""
        return self

    def in_key(self, key: str) -> "Stage":
        """The stage with the key of the song (as of `parse_key`) written into it where it asks for one; itself for
        most."""
        return self

    def in_song(self, tempo_bpm: float, key: str) -> "Stage":
        """The stage as it works in a song of that tempo and key."""
        return self.at_tempo(tempo_bpm).in_key(key)

    def build(self, rate: int, channels: int) -> Processor:
        """A fresh processor in its zero state for `channels` channels at `rate`."""
        raise NotImplementedError

    def sketch(self, rate: int, channels: int) -> Processor:
        """A processor as loud as the built one that may be coarser and quicker: it is measured, not heard."""
        return self.build(rate, channels)

    @property
    def noticed_by(self) -> tuple[str, float]:
        """The setting that is turned until what it does is just noticed, and its value that does most; "" for most."""
        return "", 0.0

    @property
    def makeup_is_gain(self) -> bool:
        """Whether a decibel of makeup is a decibel of what comes out."""
        return False

    def latency_frames(self, rate: int) -> int:
        """The latency that the built processor declares."""
        return 0

    def remembers(self) -> "Stage":
        """A stage that comes into the same states as this one; `Processor.turned` makes its states this one's."""
        return self

    def settles_s(self, before: "Stage") -> float:
        """Seconds after which it is hardly heard that it was turned from `before`, one that remembers the same."""
        return 0.0

    def heard_ahead_s(self) -> float:
        """How far ahead of what is heard its sound is made of what comes; further on it only listens, if at all."""
        return 1e9

    def but(self, *names: str) -> Self:
        """This one with the settings of these names as they are in a new one."""
        fields = type(self).model_fields
        return self.model_copy(update={name: fields[name].get_default(call_default_factory=True) for name in names})

    def memory_s(self) -> float:
        """Seconds after which what came before matters less than −90 dB."""
        return 0.05

    def begins_by(self, frame: int, rate: int) -> int:
        """The frame from which on it must have run, whatever it remembers, to do what it does at a frame."""
        return frame

    def missing_in_loops_db(self) -> float:
        """Level, to its own, of what a loop does not hear since it came too long before; −200 where that is nothing."""
        return -200.0

    def tail_s(self) -> float:
        """Seconds that the stage sounds on after its input has ended."""
        return 0.0

    def pause_s(self) -> float:
        """The longest silence that it can put between what comes in and the last that it makes of it, in seconds."""
        return 0.0

    @property
    def linear(self) -> bool:
        """Whether what it makes of a sum is the sum of what it makes of the parts."""
        return False

    def static_gain_db(self) -> float:
        """The gain that it has whatever comes in, its makeup; what it takes away is judged without that."""
        given = 10 ** (sum(getattr(self, name, 0.0) for name in self.gains) / 20)
        mix = getattr(self, "mix", 1.0)
        return float(20 * np.log10(1 - mix + mix * given))

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
