"""Chains that the schema allows, at its ends above all: what comes out is a sound, and the same whatever the blocks."""

import sys
import time
import types
import typing
from collections import Counter
from typing import Any, Literal, get_args, get_origin

import numpy as np
from pydantic import ValidationError
from pydantic_core import PydanticUndefined

from miclane.core.stages.base import Passage, Settings, Stage, load_kinds, rule_of

RATES = (44100, 48000, 88200, 96000)
SECONDS = 0.45
LEFT_OUT = {"id", "name", "kind", "on", "auto_makeup"}
MOST_OVER_DB, BLOCKS_APART = 40.0, 1e-9  # −180 dBFS: a gain under 1e-9 dB is let go of where a block ends
KINDS = sorted(set(load_kinds()) - {"split"})  # a split has no processor: what is inside it has


def run(count: str = "10000") -> None:
    """So many chains from seed 0 on; what was found is listed, and ends the program with 1."""
    begun, faults, kinds = time.perf_counter(), [], Counter()
    for seed in range(int(count)):
        stages, rate, _ = chain(seed)
        kinds.update(s.kind for s in stages)
        if fault := fault_of(seed):
            faults.append(fault)
            print(f"seed {seed}, {rate} Hz: {fault}")
    took = time.perf_counter() - begun
    print(f"{count} legal chains at {len(RATES)} rates in {took:.0f} s: {len(faults)} faults")
    print("stages:", ", ".join(f"{kind} {n}" for kind, n in sorted(kinds.items())))
    if faults:
        sys.exit(1)


def chain(seed: int) -> tuple[list[Stage], int, int]:
    """One to three legal stages, a rate and a number of channels; the same for the same seed."""
    rng = np.random.default_rng(seed)
    kinds = [KINDS[seed % len(KINDS)], *(str(k) for k in rng.choice(KINDS, int(rng.integers(0, 3))))]
    return (
        [legal(kind, rng).at_tempo(float(rng.uniform(40, 240))) for kind in kinds],
        int(rng.choice(RATES)),
        1 + seed // 7 % 2,
    )


def fault_of(seed: int, every: int = 1) -> str:
    """What is wrong with what a chain makes of half a second of bursts; "" where nothing is.

    One chain in `every` is also run in one block, and another one a second time.
    """
    stages, rate, channels = chain(seed)
    rng = np.random.default_rng([seed, 1])
    x, key = bursts(rng, channels, rate), bursts(rng, 1, rate)
    for stage in stages:
        begin = int(rng.integers(0, 10**7))
        blocks = rng.integers(1, 6000, x.shape[1] // 500 + 8)
        latency, y = _made(stage, x, key, rate, begin, blocks)
        in_one = np.array([x.shape[1]])
        whole = _made(stage, x, key, rate, begin, in_one)[1] if seed % every == 0 else y
        told = f"{stage!r} on {x.shape[0]} channels"
        if latency != stage.latency_frames(rate):
            return f"{latency} frames late, says {stage.latency_frames(rate)}: {told}"
        if y.shape != (stage.channels_out(x.shape[0]), x.shape[1]):
            return f"{y.shape} of {x.shape}: {told}"
        if not np.isfinite(y).all():
            return f"not finite: {told}"
        if float(np.abs(y - whole).max()) > BLOCKS_APART:
            return f"not the same in other blocks, by {np.abs(y - whole).max():.1e}: {told}"
        if (seed + 1) % every == 0 and not np.array_equal(y, _made(stage, x, key, rate, begin, blocks)[1]):
            return f"other bits the second time: {told}"
        over = 20 * np.log10(max(float(np.abs(y).max()), 1e-9) / float(np.abs(x).max()))
        if over > asked_db(stage) + MOST_OVER_DB:
            return f"{over:.0f} dB louder, {asked_db(stage):.0f} are asked for: {told}"
        x = y / max(1.0, float(np.abs(y).max()))
        if float(np.abs(x).max()) < 1e-9:
            break
    return ""


def _made(
    stage: Stage, x: np.ndarray, key: np.ndarray, rate: int, begin: int, blocks: np.ndarray
) -> tuple[int, np.ndarray]:
    processor, out, at = stage.build(rate, x.shape[0]), [], 0
    processor.start_at(begin)
    for count in np.resize(blocks, x.shape[1]):
        if at >= x.shape[1]:
            break
        part = slice(at, at + int(count))
        heard = key[:, part].copy() if stage.listens() else None
        out.append(processor.process(x[:, part].copy(), heard))
        at += int(count)
    return processor.latency, np.concatenate(out, axis=1)


def bursts(rng: np.random.Generator, channels: int, rate: int) -> np.ndarray:
    """Half a second (channels, n) of tones and noise that come and go, with clicks, silence and a loud end."""
    n = round(SECONDS * rate)
    t = np.arange(n) / rate
    steps = np.repeat(rng.uniform(-60, 0, 10), -(-n // 10))[:n]
    tones = sum(np.sin(2 * np.pi * f * t + f) for f in rng.uniform([60, 200, 900, 4000], [200, 900, 4000, 12000]))
    x = 10 ** (steps / 20) * (0.2 * tones + 0.3 * rng.standard_normal((channels, n)))
    x[:, n // 4 : n // 4 + n // 8] = 0.0
    x[:, rng.integers(0, n, 3)] = rng.choice([-1.0, 1.0], 3)
    return np.ascontiguousarray(np.clip(x, -1, 1))


def asked_db(model: Settings) -> float:
    """All that its settings in decibels add, taken together."""
    total = 0.0
    for name in type(model).model_fields:
        value = getattr(model, name)
        if (rule_of(model, name) or {}).get("unit") == "dB":
            total += max(float(value), 0.0)
        for inside in value if isinstance(value, tuple) else (value,):
            total += asked_db(inside) if isinstance(inside, Settings) else 0.0
    return total


def legal(kind: str, rng: np.random.Generator) -> Stage:
    """A stage that the schema allows; of numbers every second one at an end."""
    cls = load_kinds()[kind]
    for _ in range(60):
        try:
            return typing.cast(Stage, cls.model_validate({"kind": kind, **_fields(cls, rng)}))
        except ValidationError:
            continue
    return cls.model_validate({"kind": kind})


def _fields(cls: type[Settings], rng: np.random.Generator) -> dict[str, Any]:
    found = {}
    for name, info in cls.model_fields.items():
        if name in LEFT_OUT or (rng.random() < 0.3 and not info.is_required()):
            continue
        value = _value(info.annotation, list(info.metadata), rng)
        if value is not PydanticUndefined:
            found[name] = value
    return found


def _value(kind: Any, limits: list[Any], rng: np.random.Generator) -> Any:
    """A value of a type within its limits; PydanticUndefined where it is best left as it comes."""
    bounds = {b: getattr(m, b) for m in limits for b in ("ge", "le", "max_length") if getattr(m, b, None) is not None}
    if get_origin(kind) is typing.Annotated:
        return _value(get_args(kind)[0], limits, rng)
    if get_origin(kind) is Literal:
        return get_args(kind)[int(rng.integers(len(get_args(kind))))]
    if kind is bool:
        return bool(rng.random() < 0.5)
    if kind in (float, int) and {"ge", "le"} <= set(bounds):
        low, high = bounds["ge"], bounds["le"]
        at = rng.choice([0.0, 1.0, rng.random(), rng.random()])
        return kind(low + at * (high - low))
    if get_origin(kind) in (typing.Union, types.UnionType):
        return _value(get_args(kind)[int(rng.integers(len(get_args(kind))))], [], rng)
    if kind is type(None):
        return None
    if get_origin(kind) is tuple and len(get_args(kind)) == 2 and get_args(kind)[1] is ...:
        inside = get_args(kind)[0]
        count = int(rng.integers(0, min(bounds.get("max_length", 4), 6) + 1))
        if inside is Passage:
            ends = np.sort(rng.uniform(0.3, 1.3, 2 * count)) + 1e-3 * np.arange(2 * count)
            return [
                {"start_s": a, "end_s": b, "gain_db": rng.choice([-60.0, 36.0, rng.uniform(-60, 36)])}
                for a, b in ends.reshape(-1, 2)
            ]
        return [_value(inside, [], rng) for _ in range(count)]
    if isinstance(kind, type) and issubclass(kind, Settings):
        return _fields(kind, rng)
    return PydanticUndefined
