"""No silent field: whatever can be set changes the sound, as the others stand that it needs."""

import json
from contextlib import suppress
from typing import Any, Literal, get_args, get_origin

import numpy as np
import pytest
from pydantic import ValidationError

from conftest import RATE
from miclane.core.mix.chain import read_chain
from miclane.core.stages.base import Note, Settings, Stage, applies, load_kinds, rule_of
from miclane.core.stages.delay import Echo
from miclane.core.stages.eq import Eq

# What is not heard by itself: names, what follows from other things, and what a test of its own looks at.
ELSEWHERE = {"kind", "id", "name", "on", "auto_makeup", "linked"}
DRAWN_BY = {
    "ride": {"target_lufs", "up_db", "down_db", "speed_s", "share", "freeze"},
    "trim": {"target_lufs", "phrases"},
}
PASSAGES = [{"start_s": 0.3, "end_s": 0.6, "gain_db": -9}, {"start_s": 1.1, "end_s": 1.4, "gain_db": -9}]
BASES: dict[str, dict[str, Any]] = {  # settings at which a kind has something to do
    "apart": {"passages": PASSAGES},
    "drive": {"follow": 0.5},
    "gate": {"threshold_db": -16, "phrases": PASSAGES[:1], "breaths": PASSAGES[1:]},
    "sending": {"openings": [{"start_s": 0.4, "end_s": 0.8, "level_db": -3}]},
    "delay": {"note": "ms", "time_ms": 90},
    "tune": {"notes": [{"start_s": 0.1, "end_s": 0.9, "pitch": 57.4}, {"start_s": 0.9, "end_s": 1.8, "pitch": 57.3}]},
}
NEEDS = {("delay", "other_note"): {"sides": "two times"}, ("delay", "other_ms"): {"sides": "two times"}}


def sung(seed: int) -> np.ndarray:
    """Two channels of bursts between 45 dB apart, low and high, with clicks, pauses and a little noise."""
    rng, n = np.random.default_rng(seed), 2 * RATE
    t = np.arange(n) / RATE
    level = 10 ** (np.repeat(rng.uniform(-42, -2, 16), n // 16) / 20) * (np.sin(2 * np.pi * 4 * t) > -0.4)
    voice = sum(np.sin(2 * np.pi * f * t + f) / k for k, f in enumerate((60, 220, 660, 1800, 4200, 9000), 1))
    x = np.stack([level * voice, np.roll(level, 3000) * (voice + rng.standard_normal(n) * 0.3)]) * 0.4
    x[:, RATE :: RATE // 3] += 0.9
    return np.ascontiguousarray(x + rng.standard_normal((2, n)) * 1e-4)


X, KEY = sung(1), sung(2)[:1]


def heard(stage: Stage) -> np.ndarray:
    stage = stage.at_tempo(92.0)
    processor = stage.build(RATE, 2)
    y = processor.process(X.copy(), KEY.copy() if stage.listens() else None)
    return y


def values(model: Settings, field: str) -> list[Any]:
    """Other values that a field may have; [] for what is no number, choice or switch."""
    info = type(model).model_fields[field]
    if rule_of(model, field):
        low, high = (next(getattr(m, b) for m in info.metadata if hasattr(m, b)) for b in ("ge", "le"))
        return [low, high, low + 0.3 * (high - low), low + 0.03 * (high - low)]
    if get_origin(info.annotation) is Literal:
        options = ("ms", "1/16") if info.annotation is Note else get_args(info.annotation)  # as long as what is sung
        return [v for v in options if v != getattr(model, field)]
    return [not getattr(model, field)] if info.annotation is bool else []


def needed(model: Settings, field: str) -> dict[str, Any]:
    """The settings that a field needs of others."""
    extra = type(model).model_fields[field].json_schema_extra
    when = extra.get("when") if isinstance(extra, dict) else None
    found = NEEDS.get((getattr(model, "kind", ""), field), {})
    if not when:
        return found
    return found | needed(model, when[0]) | {when[0]: when[1][0] if isinstance(when[1], list | tuple) else when[1]}


def variants(kind: str) -> list[Settings]:
    """A kind as it comes, and with each of its choices and switches as it can be."""
    cls = load_kinds()[kind]
    plain = cls.model_validate({"kind": kind, **BASES.get(kind, {})})
    found = [plain]
    for name, info in cls.model_fields.items():
        if name in ELSEWHERE or not (get_origin(info.annotation) is Literal or info.annotation is bool):
            continue
        for value in values(plain, name):
            with suppress(ValidationError):
                found.append(cls.model_validate({**plain.model_dump(), **needed(plain, name), name: value}))
    return found


FIELDS = [
    (kind, name)
    for kind, cls in sorted(load_kinds().items())
    for name in cls.model_fields
    if kind != "split" and name not in ELSEWHERE | DRAWN_BY.get(kind, set()) and values(cls.model_construct(), name)
]


def test_a_time_in_milliseconds_is_meant_where_no_note_is_named() -> None:
    found = Echo.model_validate({"time_ms": 300, "other_ms": 200, "sides": "two times"}).at_tempo(92)
    assert (found.time_ms, found.other_ms) == (300, 200)
    assert Echo.model_validate({"note": "1/4", "time_ms": 300}).at_tempo(60).time_ms == 1000


def test_a_band_that_listens_to_nobody_is_refused_and_was_listening_to_itself() -> None:
    band = {"frequency_hz": 800, "dynamic": {"keyed_by": "key"}}
    with pytest.raises(ValidationError, match="band 1 listens to a key"):
        Eq.model_validate({"bands": [band]})
    Eq.model_validate({"bands": [band], "key": {"lane": "lead"}})
    old = {"format": "mic-lane/chain", "version": 1, "stages": [{"kind": "eq", "bands": [band]}]}
    assert read_chain(json.dumps(old)).stages[0].bands[0].dynamic.keyed_by == "itself"


@pytest.mark.parametrize(("kind", "field"), FIELDS)
def test_every_field_moved_alone_changes_the_sound_or_is_not_shown(kind: str, field: str) -> None:
    cls = load_kinds()[kind]
    tried = 0
    for base in variants(kind):
        if not tried:
            base = cls.model_validate({**base.model_dump(), **needed(base, field)})
        if not applies(base, field):
            continue
        tried += 1
        before, moves = heard(base), False
        for value in values(base, field):
            with suppress(ValidationError):
                after = heard(cls.model_validate({**base.model_dump(), field: value}))
                moves = after.shape != before.shape or bool(np.abs(after - before).max() > 1e-6)
            if moves:
                break
        assert moves, f"{kind}.{field} does nothing in {base!r}"
    assert tried
