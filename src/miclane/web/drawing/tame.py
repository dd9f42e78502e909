"""The picture of a ring tamer: what sticks out of the loop against the line, what is taken, where in time and pitch."""

from typing import Any

import numpy as np

from ...core.butterworth import band_without_phase
from ...core.measure.taming import sticking
from ...core.stages.standing_out import BANDS_HZ, HIGH_HZ, LOW_HZ
from ...core.stages.tame import LinePoint, Tame
from .paths import path_of

LEFT, RIGHT, TOP, BOTTOM, LOW_DB, HIGH_DB = 40.0, 700.0, 22.0, 190.0, -3.0, 24.0
_MAP_TOP, _MAP_TALL, _COLUMNS, _ROWS = 214.0, 44.0, 110, 22
_TICKS = ((200, "200"), (500, "500"), (1000, "1k"), (2000, "2k"), (5000, "5k"), (10000, "10k"))
_PER_DB, _SEEN_DB = 3.2, 0.3
_BODY_HZ, THIN_DB = (200.0, 800.0), 3.0  # a ring of 9 dB in it has 2.5 of its power


def x_of(frequency_hz: Any) -> Any:
    """Where a frequency lies."""
    share = np.log2(np.asarray(frequency_hz, float) / LOW_HZ) / np.log2(HIGH_HZ / LOW_HZ)
    return LEFT + np.clip(share, 0, 1) * (RIGHT - LEFT)


def y_of(level_db: Any) -> Any:
    """Where an excess in dB lies."""
    share = (np.clip(level_db, LOW_DB, HIGH_DB) - LOW_DB) / (HIGH_DB - LOW_DB)
    return BOTTOM - share * (BOTTOM - TOP)


def tame_picture(
    stage: Tame, before: np.ndarray, after: np.ndarray, rate: int, first: int, heard: np.ndarray
) -> dict[str, Any]:
    """Paths, points of the line, the map of cuts, and by how much the body of the voice gets thinner.

    `heard` is what it listens to: what comes in, or its key.
    """
    if heard is not before and len(heard) == 1:
        found = sticking(heard, rate, stage.model_copy(update={"target": "stereo"}), first)
    else:
        found = sticking(heard, rate, stage, first)
    held = found.held_db[found.loud]
    x, line = x_of(BANDS_HZ), stage.line_at(BANDS_HZ)
    cuts = stage.cuts(found.held_db, line)
    most = cuts.max(axis=0) if len(cuts) else np.zeros(len(BANDS_HZ))
    mean = cuts[found.loud].mean(axis=0) if len(held) else np.zeros(len(BANDS_HZ))
    half, often = (np.percentile(held, q, axis=0) for q in (50, 97)) if len(held) else (most, most)
    body = [_body_db(a, rate) for a in (before, after)]
    return {
        "often": path_of(x, y_of(often)) + f"L{RIGHT} {BOTTOM}L{LEFT} {BOTTOM}Z",
        "half": path_of(x, y_of(half)),
        "line": path_of(x, y_of(line)),
        "most": path_of(x, TOP - 14 + most * _PER_DB) + f"L{RIGHT} {TOP - 14}L{LEFT} {TOP - 14}Z",
        "mean": path_of(x, TOP - 14 + mean * _PER_DB),
        "points": [_point(stage, p) for p in stage.line],
        "levels": [(round(float(y_of(db)), 1), f"{db:+d}" if db else "0") for db in (0, 6, 12, 18, 24)],
        "ticks": [(round(float(x_of(hz)), 1), text) for hz, text in _TICKS],
        "cells": _map(cuts),
        "map_top": _MAP_TOP,
        "map_tall": _MAP_TALL,
        "sung": bool(len(held)),
        "most_db": float(most.max()),
        "most_hz": float(BANDS_HZ[int(np.argmax(most))]),
        "thinner_db": body[0] - body[1],
        "thin": body[0] - body[1] > THIN_DB,
    }


def _point(stage: Tame, p: LinePoint) -> dict[str, float]:
    over = stage.line_db + p.by_db
    x, y = float(x_of(p.frequency_hz)), float(y_of(over))
    return {"x": round(x, 1), "y": round(y, 1), "hz": p.frequency_hz, "by": p.by_db, "over": round(over, 1)}


def _map(cuts: np.ndarray) -> list[dict[str, float]]:
    """Cells of time and pitch in which something is taken: where, and how dark."""
    if not len(cuts) or cuts.max() < _SEEN_DB:
        return []
    when = np.linspace(0, len(cuts), min(_COLUMNS, len(cuts)) + 1).astype(int)
    which = np.linspace(0, cuts.shape[1], _ROWS + 1).astype(int)
    table = np.maximum.reduceat(np.maximum.reduceat(cuts, when[:-1], axis=0), which[:-1], axis=1)
    width, tall = (RIGHT - LEFT) / len(table), _MAP_TALL / _ROWS
    return [
        {
            "x": round(LEFT + i * width, 1),
            "y": round(_MAP_TOP + _MAP_TALL - (k + 1) * tall, 1),
            "w": round(width + 0.2, 1),
            "h": round(tall, 1),
            "o": round(min(1.0, 0.25 + table[i, k] / 12), 2),
        }
        for i, k in zip(*np.nonzero(table >= _SEEN_DB), strict=True)
    ]


def _body_db(audio: np.ndarray, rate: int) -> float:
    """Level from 200 to 800 Hz."""
    if not audio.shape[1]:
        return -200.0
    body = band_without_phase(audio.mean(axis=0), 2, *_BODY_HZ, rate)
    return float(10 * np.log10(np.mean(body**2) + 1e-20))
