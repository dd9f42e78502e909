"""What the passes of a lane set out to mend, each as a value of a take that can be measured after every stage."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..findings.finding import Finding, Role
from ..findings.rules import (
    BUILD_UP_DB,
    HUM_CLEAR_DB,
    NOISE_CLEAR_DB,
    RUMBLE_CLEAR_DB,
    UNEVEN_LU,
    find,
    measure_again,
)
from ..measure.balance import WIDE_DB
from ..measure.loudness import SILENCE_LUFS
from ..measure.rings import LEAST_GAIN_DB
from ..measure.sibilance import STANDS_OUT_DB
from ..measure.take import Take
from .order import PassId
from .trail import Trail

LOUD_DB, QUIET_DB = 6.0, 9.0  # of the voiced moments about their median, as `SungLevels`
LOUDER_LU = 3.0
ROOM_MS, _LONGER_MS = 150.0, 50.0  # a voice with no room behind it ends within some 30 to 100 ms
_RING_GOOD_DB = 2.0
SHARPER_DB = 3.0  # than raw: flattened vowels bring every s nearer, and a voice that is near may have more of it
_WORST_DB = 5.0
_ROOM_DB = 6.0  # that the limits of a raw take leave for what compression brings up


@dataclass(frozen=True)
class Aim:
    """Something to mend in the pass `of`: its name, a word for where there is little room, the limit of a good value.

    `finding` is what the raw-take report says of it, where it does; `taste` where that only offers.
    """

    id: str
    of: PassId
    name: str
    word: str
    unit: str
    good: float
    margin: float
    finding: Finding | None = None
    taste: bool = False


Value = Callable[[Take], float | None]  # None where it cannot be told: then it is taken to be as it was before


def aims_of(raw: Take, role: Role, comes_in: Take | None = None) -> list[tuple[Aim, Value]]:
    """What is to be mended on a raw take, and what the stages must not bring in, pass by pass; none of the music.

    Each with how it is measured in a take. What `comes_in` is as loud as the take is meant to be, else the raw one is.
    """
    if not raw.phrases or role == "music":
        return []
    found = {f.id: f for f in find(raw, role) if f.compared}
    told: list[tuple[Aim, Value]] = []

    def add(kind: str, of: PassId, name: str, word: str, unit: str, good: float, margin: float) -> None:
        finding = found.get(kind)
        stub = finding or Finding(kind, name, "", 0.0, unit, good)
        taste = kind.startswith("dull")
        told.append((Aim(kind, of, name, word, unit, good, margin, finding, taste), lambda t: measure_again(stub, t)))

    if "pitch" in found:
        add("pitch", "level", "Notes out of tune", "out of tune", "notes", 0.0, 0.5)
    add("uneven", "level", "Phrases apart", "uneven", "LU", UNEVEN_LU, 0.5)
    add("noise", "clean", "Noise to the voice", "noise", "dB to the voice", -NOISE_CLEAR_DB, _ROOM_DB)
    add("hum", "clean", "Hum to the voice", "hum", "dB to the voice", -HUM_CLEAR_DB, _ROOM_DB)
    add("rumble", "clean", "Rumble to the voice", "rumble", "dB to the voice", -RUMBLE_CLEAR_DB, _ROOM_DB)
    add("plosives", "clean", "Plosives", "plosives", "bursts", 0.0, 0.5)
    for ring in (f for f in found.values() if f.id.startswith("ring-")):
        name, margin = f"Ring at {ring.frequency_hz:.0f} Hz", LEAST_GAIN_DB - _RING_GOOD_DB
        add(ring.id, "clean", name, f"ring {ring.frequency_hz:.0f} Hz", "dB", _RING_GOOD_DB, margin)
    if raw.room_ms is not None:
        name = "Room behind the words"
        told.append((Aim("room", "clean", name, "room", "ms", ROOM_MS, _LONGER_MS), lambda t: t.room_ms))
    add("build-up", "clean", "Low middle to the rest", "low middle", "dB", BUILD_UP_DB, 0.5)
    add("sibilance", "deess", "Worst sibilant to the voice", "s", "dB to the voice", STANDS_OUT_DB, _WORST_DB)
    sharper, louder = _sharper_than(raw), _louder_than(comes_in or raw)
    told.append((Aim("sharper", "deess", "Sibilants, over the raw take", "s together", "dB", 0.0, SHARPER_DB), sharper))
    told.append((Aim("loud", "control", "Loud words over the rest", "loud words", "dB", LOUD_DB, 1.0), _loud))
    told.append((Aim("louder", "control", "Louder than it came in", "level", "LU", LOUDER_LU, 0.5), louder))
    told.append((Aim("quiet", "weight", "Quiet words under the rest", "quiet words", "dB", QUIET_DB, 1.0), _quiet))
    for key in ("presence", "air"):
        if f"dull-{key}" in found:
            add(f"dull-{key}", "tone", f"Little {key}", f"{key}", "dB short", 0.75 * WIDE_DB, 0.5)
    add("harsh-presence", "tone", "Harsh, 2 to 5 kHz", "harsh", "dB", WIDE_DB, 0.5)
    add("harsh-edge", "tone", "Hard edge, 5 to 9 kHz", "edge", "dB", WIDE_DB, 0.5)
    return told


def _loud(take: Take) -> float:
    return take.sung.loud_db if take.sung else 0.0


def _quiet(take: Take) -> float:
    return take.sung.quiet_db if take.sung else 0.0


def _sharper_than(raw: Take) -> Value:
    """By how much what is sharp of a take is more to the voice than of the raw one, in dB."""

    def sharper(take: Take) -> float:
        return take.sharp_db - raw.sharp_db if take.sharp_db is not None and raw.sharp_db is not None else 0.0

    return sharper


def _louder_than(before: Take) -> Value:
    """By how much the phrases of a take are louder than those of `before`, the median, in LU."""

    def louder(take: Take) -> float:
        pairs = zip(take.phrase_lufs, before.phrase_lufs, strict=True)
        apart = [a - b for a, b in pairs if a > SILENCE_LUFS and b > SILENCE_LUFS]
        return float(np.median(apart)) if apart else 0.0

    return louder


def trails(takes: list[Take], role: Role, prepared: int) -> list[tuple[Aim, Trail]]:
    """The aims of the first of the takes, which is raw, along all of them: those after each stage, in order.

    After the first `prepared` stages the take is as loud as it is meant to come in.
    """
    found = []
    for aim, value in aims_of(takes[0], role, takes[prepared]):
        values: list[float] = []
        for take in takes:
            told = value(take)
            values.append(values[-1] if told is None else told)
        if aim.id == "louder":
            values[:prepared] = [0.0] * prepared
        found.append((aim, Trail(tuple(values), aim.good, aim.margin)))
    return found
