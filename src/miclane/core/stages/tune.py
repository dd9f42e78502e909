"""Tuning: sung notes brought to the notes of a scale, as far, as fast and with as much of their movement as is set.

What is done to a note is worked out from the pitch as it is sung; the sound is pitch-synchronous overlap-add (Moulines
& Charpentier, Speech Communication 9, 1990; `kernels/periods.py`), so that formants stay. Where nothing is sung, and in
notes that need nothing, frames pass as they came. docs/tuning.md says what else was tried.
"""

import bisect
from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field, field_validator, model_validator

from ..errors import UnusableValueError
from ..kernels.periods import COLUMNS, KEPT, listened, retuned
from ..kernels.swaying import fractions
from ..readings import StageReading
from ..same import once_each
from ..tonality import parse_key, pitch_classes
from ..units import note_of, show_time
from .base import Settings, Stage, rule, setting
from .processor import Delay, Processor, one_pole

Unsure = Literal["", "short", "rough", "fast"]
LATE_S = 0.2  # eight periods of the lowest note, as long as they are taken to be
FURTHEST = 12.0  # semitones that a note is moved
_JOINED_S = 0.035  # notes with no more between them are one stretch
_LONGEST_S = 8.0  # of a stretch: it is followed from its beginning
_BEFORE_S = 0.06  # of what came is kept
_LISTENS_S = 0.3  # before a stretch, until what is listened to has settled


class SungNote(Settings):
    """A note as it was sung, in seconds of the song, and what is to become of it.

    `pitch` is a MIDI number with its fraction; `drift_cents` from end to end, `vibrato_cents` to either side. Set by
    hand: `to`, the note it is to be; `drift` and `vibrato`, how much of what stays of those does; `off`, it is left
    alone; `cut`, its ends.
    """

    id: str = Field("", max_length=40, pattern=r"^[A-Za-z0-9_-]*$")
    start_s: float = Field(ge=0, le=7200, allow_inf_nan=False)
    end_s: float = Field(ge=0, le=7200, allow_inf_nan=False)
    pitch: float = Field(ge=35, le=110, allow_inf_nan=False)
    drift_cents: float = Field(0.0, ge=-1200, le=1200, allow_inf_nan=False)
    vibrato_cents: float = Field(0.0, ge=0, le=600, allow_inf_nan=False)
    vibrato_hz: float = Field(0.0, ge=0, le=20, allow_inf_nan=False)
    unsure: Unsure = ""
    to: float | None = Field(None, ge=23, le=122, allow_inf_nan=False)
    vibrato: float = rule(1.0, "Its vibrato and glides", "%", 0, 2, usual=(0.5, 1), hint="100 %: as all others")
    drift: float = rule(1.0, "Its drift", "%", 0, 2, usual=(0, 1), hint="0 %: level from end to end")
    off: bool = False
    cut: bool = False

    @model_validator(mode="after")
    def _ends_after_it_begins(self) -> "SungNote":
        if self.end_s <= self.start_s:
            raise ValueError(f"a note from {self.start_s} s to {self.end_s} s ends before it begins")
        return self

    @property
    def label(self) -> str:
        """What it is called among others."""
        return f"{note_of(round(self.pitch))} at {show_time(self.start_s)}"

    def said(self, field: str, value: Any) -> str:
        """A value of it in words; "" for what says enough itself."""
        if field == "to":
            return "as found" if value is None else f"to {note_of(float(value))}"
        return {"off": {True: "left alone", False: "tuned again"}}.get(field, {}).get(value, "")

    @property
    def by_hand(self) -> bool:
        """Whether anything about it was set by hand."""
        return self.cut or self.off or self.to is not None or self.drift != 1 or self.vibrato != 1


class TuneProcessor(Processor):
    """What has come, the same with the notes changed as far as they are known, and where the voice has got to."""

    SHARED = ("table", "islands", "notes", "first_note")  # never written to

    def __init__(self, s: "Tune", rate: int, channels: int) -> None:
        self.rate, self.latency = rate, s.latency_frames(rate)
        self.islands, self.notes, self.first_note = s.stretches(rate)
        self.settle = s.settle_ms * rate / 1000
        self.table = fractions()
        self.begun = self.base = 0
        self.came = np.zeros((channels, 0))
        self.heard, self.made = np.zeros(0), np.zeros((channels, 0))
        self.poles, self.held = (
            np.array([one_pole(1000 / (2 * np.pi * hz), rate) for hz in (60.0, 2000.0)]),
            np.zeros(3),
        )
        self.state, self.numbers = np.zeros(4, np.int64), np.zeros(4)
        self.epochs, self.lags = np.zeros(KEPT), np.zeros(KEPT)
        self.kept = round(_BEFORE_S * rate)
        self.waits = Delay(channels, self.latency)

    def start_at(self, frame: int) -> None:
        self.begun = self.base = frame

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        if not len(self.islands):
            return self.waits.process(x)
        n = x.shape[1]
        heard = np.empty(n)
        listened(x, self.poles, self.held, heard)
        self.came = np.concatenate([self.came, x], axis=1)
        self.made = np.concatenate([self.made, x], axis=1)
        self.heard = np.concatenate([self.heard, heard])
        filled = self.came.shape[1]
        retuned(
            self.came, self.heard, self.made, self.base, filled, self.begun, self.islands, self.notes, self.first_note,
            self.settle, float(self.rate), self.table, self.state, self.numbers, self.epochs, self.lags,
        )  # fmt: skip
        stop = filled - self.latency  # of what is due
        start = stop - n
        y = np.zeros_like(x)
        if stop > 0:
            first = max(start, 0)
            y[:, first - start :] = self.made[:, first:stop]
        drop = max(0, stop - self.kept)
        if drop:
            self.base += drop
            self.came, self.made = (np.ascontiguousarray(a[:, drop:]) for a in (self.came, self.made))
            self.heard = self.heard[drop:].copy()
        return y


@lru_cache(maxsize=20_000)  # asked of every note, at every change of the chain it is in
def _nearest(pitch: float, allowed: tuple[int, ...]) -> float:
    octave = int(pitch) // 12
    around = [12 * k + c for k in (octave - 1, octave, octave + 1) for c in allowed]
    return float(min(around, key=lambda midi: (abs(midi - pitch), midi)))


class Tune(Stage):
    """Notes brought to those of a scale, by as much as is set."""

    title: ClassVar[str] = "Tune"
    summary: ClassVar[str] = "brings notes to those of the scale; consonants and formants stay"
    prepares: ClassVar[bool] = True
    takes_lane: ClassVar[bool] = True
    in_branches: ClassVar[bool] = False
    picture: ClassVar[str] = "tune"
    before: ClassVar[tuple[str, ...]] = ("tune_find", "tune_note")
    after: ClassVar[tuple[str, ...]] = ("tune_scale",)
    drawn: ClassVar[str] = "tune"
    in_strip: ClassVar[bool] = False
    also_warm: ClassVar[tuple[dict[str, object], ...]] = (
        {"notes": [{"start_s": 0.0, "end_s": 0.2, "pitch": 60.3}], "leave_cents": 0},
    )

    kind: Literal["tune"] = "tune"
    scale: str = setting("", "Notes", shown=False)
    amount: float = rule(1.0, "How far", "%", 0, 1, usual=(0.6, 1), hint="share of the way to the note")
    keep: float = rule(
        0.9, "Movement kept", "%", 0, 1, usual=(0.7, 1), hint="vibrato, glides, scoops; 0 % flattens them"
    )
    settle_ms: float = rule(120.0, "Settles in", "ms", 0, 1000, usual=(60, 250), step=1)
    leave_cents: float = rule(15.0, "Left alone within", "cents", 0, 60, usual=(5, 20), step=1)
    longer_than_ms: float = rule(0.0, "Only notes longer than", "ms", 0, 1500, usual=(0, 400), step=10)
    notes: tuple[SungNote, ...] = Field((), max_length=20_000)

    @field_validator("scale")
    @classmethod
    def _a_key(cls, scale: str) -> str:
        try:
            return parse_key(scale)
        except UnusableValueError as error:
            raise ValueError(str(error)) from error

    @model_validator(mode="after")
    def _one_after_another(self) -> "Tune":
        for before, after in zip(self.notes, self.notes[1:], strict=False):
            if after.start_s < before.end_s - 1e-6:
                raise ValueError(f"the note at {after.start_s} s begins before the one before it ends")
        return self

    def says(self, reading: StageReading) -> str:
        moved = [n for n in self.notes if self.active(n)]
        if not self.notes:
            return "no notes yet: find them"
        return f"{len(moved)} of {len(self.notes)} notes are moved"

    def figure(self, reading: StageReading) -> str:
        return f"{sum(self.active(n) for n in self.notes)} notes"

    def in_key(self, key: str) -> Stage:
        """With the key of the song where it has none of its own."""
        return self if self.scale else self.model_copy(update={"scale": key})

    @property
    def allowed(self) -> tuple[int, ...]:
        """The pitch classes that notes may have, 0 is C; all twelve without a key."""
        return pitch_classes(self.scale) or tuple(range(12))

    def target(self, note: SungNote) -> float:
        """The note that one is to be, as a MIDI number: that set by hand, or the nearest that is allowed."""
        if note.to is not None:
            return note.to
        return _nearest(note.pitch, self.allowed)

    def goes_to(self, note: SungNote) -> float:
        """Where its centre comes to lie, as a MIDI number."""
        if not self.active(note):
            return note.pitch
        share = 1.0 if note.to is not None else self.amount
        by = share * (self.target(note) - note.pitch)
        return note.pitch + min(max(by, -FURTHEST), FURTHEST)

    def why_not(self, note: SungNote) -> str:
        """Why a note is left alone, in a word; "" for one that is not."""
        if note.by_hand and not note.off:
            return ""
        if note.off:
            return "by hand"
        if note.unsure:
            return note.unsure
        if (note.end_s - note.start_s) * 1000 < self.longer_than_ms:
            return "brief"
        return "in tune" if abs(self.target(note) - note.pitch) * 100 <= self.leave_cents else ""

    def active(self, note: SungNote) -> bool:
        """Whether it is changed at all."""
        return not self.why_not(note)

    def stretches(self, rate: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """What `retuned` wants: stretches that are followed (k, 2), notes (m, COLUMNS), the first note of each stretch.

        A stretch is notes in a row without a gap, of which one is changed; one of more than 8 s is cut between notes.
        """
        spans, rows, first = [], [], [0]
        for group, changed in _stretches(self):
            if not any(changed):
                continue
            for note, active in zip(group, changed, strict=True):
                start, end = note.start_s * rate, note.end_s * rate
                slope = note.drift_cents / (end - start)
                drift, vibrato = self.keep * note.drift, self.keep * note.vibrato
                rows.append(
                    [
                        start,
                        end,
                        100 * note.pitch,
                        100 * self.goes_to(note),
                        slope,
                        drift,
                        vibrato,
                        float(active),
                    ]
                )
            first.append(len(rows))
            spans.append([round(group[0].start_s * rate), round(group[-1].end_s * rate)])
        return (
            np.array(spans, np.float64).reshape(-1, 2),
            np.array(rows, np.float64).reshape(-1, COLUMNS),
            np.array(first, np.int64),
        )

    def note_at(self, time_s: float) -> SungNote | None:
        """The note that is sung at a moment."""
        k = bisect.bisect_right([n.start_s for n in self.notes], time_s) - 1
        return self.notes[k] if k >= 0 and time_s < self.notes[k].end_s else None

    def build(self, rate: int, channels: int) -> Processor:
        return TuneProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return round(LATE_S * rate)

    def memory_s(self) -> float:
        longest = max((g[-1].end_s - g[0].start_s for g, changed in _stretches(self) if any(changed)), default=0.0)
        return longest + _LISTENS_S

    def begins_by(self, frame: int, rate: int) -> int:
        """A stretch is followed from its beginning or not at all."""
        for group, changed in _stretches(self):
            if group[-1].end_s * rate >= frame:
                begins = max(0, round((group[0].start_s - _LISTENS_S) * rate))
                return begins if group[0].start_s * rate < frame and any(changed) else frame
        return frame

    def tail_s(self) -> float:
        return 0.0


@once_each(64)  # asked for several times at every change of the chain it is in
def _stretches(tune: Tune) -> list[tuple[list[SungNote], list[bool]]]:
    """Notes in a row without a gap, and which of them are changed."""
    groups: list[list[SungNote]] = []
    for note in tune.notes:
        group = groups[-1] if groups else []
        if group and note.start_s - group[-1].end_s <= _JOINED_S and note.end_s - group[0].start_s <= _LONGEST_S:
            group.append(note)
        else:
            groups.append([note])
    return [(group, [tune.active(n) for n in group]) for group in groups]
