"""Everything that is measured of one file, as plain data."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from ..measure.events import KIND_NAMES, Sibilant
from ..measure.phrases import Span
from ..measure.plosives import Breath, Plosive
from ..measure.take import Take, measure_take
from .rules import find


def measure_file(audio: np.ndarray, rate: int) -> dict[str, Any]:
    """Measures and findings of (channels, frames); times in seconds."""
    return describe_take(measure_take(audio, rate))


def describe_take(take: Take) -> dict[str, Any]:
    """A take's measures and, as of a lead, its findings."""
    rate, loudness = take.rate, take.loudness
    told: dict[str, Any] = {
        "seconds": round(take.frames / rate, 3),
        "rate": rate,
        "channels": take.channels,
        "integrated_lufs": round(loudness.integrated_lufs, 2),
        "loudness_range_lu": round(loudness.range_lu, 2),
        "momentary_max_lufs": round(loudness.momentary_max_lufs, 2),
        "short_term_max_lufs": round(loudness.short_term_max_lufs, 2),
        "true_peak_dbtp": round(loudness.true_peak_dbtp, 2),
        "samples_at_full_scale": sum(s.end - s.start for s in take.clipped),
        "voice_dbfs": round(take.voice_dbfs, 1),
        "noise_floor_dbfs": None if take.noise_floor_dbfs is None else round(take.noise_floor_dbfs, 1),
        "sides": take.sides,
        "hum": None,
        "rumble_dbfs": round(take.rumble.level_dbfs, 1),
        "pitch_range_hz": [round(take.lowest_hz, 1), round(take.highest_hz, 1)] if take.lowest_hz else None,
        "sung_spread_db": None if take.spread_db is None else round(take.spread_db, 1),
        "phrase_range_lu": round(take.phrase_range_lu, 1),
    }
    if take.hum:
        lines = [round(take.hum.frequency_hz * k) for k in take.hum.lines]
        told["hum"] = {"lines_hz": lines, "level_dbfs": round(take.hum.level_dbfs, 1)}
    told["phrases"] = [
        {**_where(p, rate), "integrated_lufs": round(v, 1)} for p, v in zip(take.phrases, take.phrase_lufs, strict=True)
    ]
    told["events"] = _events(take.sibilants, take.plosives, take.breaths, rate)
    told["rings_known"] = take.rings_known
    told["rings"] = [
        {
            "frequency_hz": round(r.frequency_hz, 1),
            "over_db": round(r.over_db, 1),
            "error_db": round(r.error_db, 1),
            "suggested_cut_db": round(r.cut_db, 1),
        }
        for r in take.rings
    ]
    told["findings"] = [
        {
            "id": f.id,
            "title": f.title,
            "evidence": f.evidence,
            "value": round(f.value, 2),
            "unit": f.unit,
            "places_s": [[round(s.start / rate, 3), round(s.end / rate, 3)] for s in f.places],
        }
        for f in find(take)
    ]
    return told


def _where(span: Span | Sibilant | Plosive | Breath, rate: int) -> dict[str, float]:
    return {"start_s": round(span.start / rate, 3), "end_s": round(span.end / rate, 3)}


def _events(
    sibilants: Sequence[Sibilant], plosives: Sequence[Plosive], breaths: Sequence[Breath], rate: int
) -> list[dict[str, Any]]:
    told: list[dict[str, Any]] = [
        {
            "kind": "sibilant",
            "sound": KIND_NAMES[e.kind],
            **_where(e, rate),
            "centre_hz": round(e.centre_hz),
            "excess_db": round(e.excess_db, 1),
        }
        for e in sibilants
        if e.kind != "breath"
    ]
    told += [{"kind": "plosive", **_where(e, rate), "excess_db": round(e.over_db, 1)} for e in plosives]
    told += [{"kind": "breath", **_where(e, rate), "level_dbfs": round(e.level_dbfs, 1)} for e in breaths]
    return sorted(told, key=lambda e: e["start_s"])
