"""The picture of a sway: what moves on either side over the loop, and between what the spectrum goes to and fro."""

from typing import Any

import numpy as np

from ...core.stages.sway import Sway
from ...core.units import show_value
from .paths import path_of

LEFT, RIGHT, TOP, TALL = 52.0, 618.0, 26.0, 84.0
_SEEN_TOP, _SEEN_TALL, _ALONE_TALL = 150.0, 84.0, 200.0
_HZ = np.geomspace(100, 16000, 220)
_MOMENTS = np.arange(32) / 32
_TICKS = ((100, "100"), (200, "200"), (500, "500"), (1000, "1k"), (2000, "2k"), (5000, "5k"), (10000, "10k"))
_POINTS = 900


def sway_picture(stage: Sway, first_s: float, last_s: float) -> dict[str, Any]:
    """Paths and words of its picture over a loop in seconds of the song."""
    unit, name = {
        "tremolo": ("dB", "gain"),
        "phase": ("Hz", "corner"),
        "flange": ("ms", "delay"),
        "vibrato": ("cents", "pitch"),
    }[stage.works]
    time_s = np.linspace(first_s, last_s, _POINTS)
    sides = [stage.moved(time_s, side) for side in (0, 1)]
    turn = stage.moved(np.arange(256) / 256 / stage.rate_hz, 0)
    low, high = float(turn.min()), float(turn.max())
    in_log = stage.works in ("phase", "flange")
    spectrum = _spectrum(stage)
    tall = TALL if spectrum["seen"] else _ALONE_TALL

    def y(value: np.ndarray) -> np.ndarray:
        if high - low < 1e-6:
            return np.full(np.shape(value), TOP + tall / 2)
        share = np.log(value / low) / np.log(high / low) if in_log else (value - low) / (high - low)
        return np.asarray(TOP + tall * (1 - share))

    x = np.linspace(LEFT, RIGHT, _POINTS)
    many = (last_s - first_s) * stage.rate_hz > 120
    return {
        "name": name,
        "left_path": "" if many else path_of(x, y(sides[0])),
        "right_path": path_of(x, y(sides[1])) if stage.spread > 0 and not many else "",
        "many": many,
        "high": " ".join(show_value(high, unit)).strip(),
        "low": " ".join(show_value(low, unit)).strip(),
        "turns": (last_s - first_s) * stage.rate_hz,
        "turn_s": 1 / stage.rate_hz,
        "rate": show_value(stage.rate_hz, "Hz")[0] if stage.rate_hz >= 10 else f"{stage.rate_hz:.3g}",
        "mono": stage.in_mono() if stage.spread > 0 else None,
        "bottom": TOP + tall,
        **spectrum,
    }


def _spectrum(stage: Sway) -> dict[str, Any]:
    """Between what each place of the spectrum goes to and fro, on a side and in the mono sum."""
    if stage.works not in ("phase", "flange") and not (stage.works == "vibrato" and stage.spread > 0):
        return {"seen": "", "seen_mono": "", "ticks": (), "seen_db": ()}
    left, right = (stage.response(_MOMENTS, side, _HZ) for side in (0, 1))
    x = LEFT + np.log(_HZ / _HZ[0]) / np.log(_HZ[-1] / _HZ[0]) * (RIGHT - LEFT)

    def between(gain: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        level = 20 * np.log10(np.maximum(np.abs(gain), 1e-6))
        return level.min(axis=0), level.max(axis=0)

    one, both = between(left), between((left + right) / 2)
    top = 6.0 * max(1.0, np.ceil(max(one[1].max(), both[1].max()) / 6))
    deepest = min(one[0].min(), both[0].min())
    bottom = next((b for b in (-6.0, -12.0) if deepest > b), -24.0)

    def y(level: np.ndarray) -> np.ndarray:
        return np.asarray(_SEEN_TOP + _SEEN_TALL * (top - np.clip(level, bottom, top)) / (top - bottom))

    return {
        "seen": path_of(x, y(one[0])) + "L" + path_of(x[::-1], y(one[1])[::-1])[1:] + "Z",
        "seen_mono": " ".join(path_of(x, y(edge)) for edge in both) if stage.spread > 0 else "",
        "ticks": [(round(LEFT + np.log(hz / 100) / np.log(160) * (RIGHT - LEFT), 1), text) for hz, text in _TICKS],
        "seen_db": [
            (round(float(y(np.array(db))), 1), f"{db:+.0f}".replace("-", "−") if db else "0")
            for db in (top, 0.0, bottom / 2, bottom)
        ],
    }
