"""The picture of the phrase trims: a bar a phrase against the target."""

import itertools
from typing import Any

import numpy as np

from ...core.mix.document import Lane, Phrase
from ...core.stages.trim import Trim
from ...store.state import State
from ...studio.studio import Studio
from .paths import shorten

TOP, BOTTOM, HEIGHT = 18.0, 252.0, 296.0
LEFT, RIGHT = 46.0, 700.0
MOST = 60


def lay_trims(studio: Studio, state: State, lane: Lane, stage: Trim) -> dict[str, Any]:
    """Bars, sections, ticks and the target of a trim stage, in the coordinates of its drawing."""
    if lane.sound is None or not lane.phrases:
        return {"bars": []}
    phrases = lane.phrases[:MOST]
    raw = studio.takes.phrase_loudness(lane, state.session.rate)[:MOST]
    now = [v + p.trim_db + stage.gain_db for v, p in zip(raw, phrases, strict=True)]
    sung = [v for v in (*raw, *now, stage.target_lufs) if v > -70]
    low, high = np.floor(min(sung) / 3) * 3 - 3, np.ceil(max(sung) / 3) * 3 + 3

    def y(level: float) -> float:
        share = (min(max(level, low), high) - low) / (high - low)
        return round(float(BOTTOM - share * (BOTTOM - TOP)), 1)

    pitch = (RIGHT - LEFT) / len(phrases)
    bars = []
    for k, (p, a, b) in enumerate(zip(phrases, raw, now, strict=True)):
        name = p.words or f"phrase {k + 1}"
        bars.append(
            {
                "id": p.id,
                "name": name,
                "short": shorten(name, pitch - 2),
                "section": p.section,
                "x": round(LEFT + k * pitch + 0.14 * pitch, 1),
                "width": round(0.72 * pitch, 1),
                "raw_lufs": round(a, 2),
                "raw_shown": f"{a:.1f}".replace("-", "−"),
                "raw_y": y(a + stage.gain_db),
                "now_y": y(b),
                "trim_db": p.trim_db,
                "shown": f"{p.trim_db:+.1f}".replace("-", "−") if p.trim_db else "0.0",
            }
        )
    step = 3 if high - low <= 24 else 6
    return {
        "bars": bars,
        "sections": _sections(phrases, pitch),
        "ticks": [
            ("" if abs(v - stage.target_lufs) < 0.4 * step else f"{v:.0f}".replace("-", "−"), y(v))
            for v in np.arange(low + step, high, step)
        ],
        "target_y": y(stage.target_lufs),
        "low": low,
        "high": high,
        "top": TOP,
        "bottom": BOTTOM,
        "height": HEIGHT,
        "spread_raw": _spread(raw),
        "spread_now": _spread(now),
    }


def _spread(levels: list[float]) -> str:
    sung = [v for v in levels if v > -70]
    return f"{max(sung) - min(sung):.1f}" if sung else "0.0"


def _sections(phrases: tuple[Phrase, ...], pitch: float) -> list[dict[str, Any]]:
    found, at = [], 0
    for name, group in itertools.groupby(phrases, key=lambda p: p.section):
        count = len(list(group))
        if name:
            x, width = LEFT + (at + 0.1) * pitch, (count - 0.2) * pitch
            found.append({"name": name, "short": shorten(name, width), "x": round(x, 1), "width": round(width, 1)})
        at += count
    return found
