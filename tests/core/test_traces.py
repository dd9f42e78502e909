"""What a trace says against what happened to the sound."""

from itertools import pairwise
from typing import Any

import numpy as np
import pytest
from scipy.signal import butter, sosfiltfilt

from conftest import RATE, db, noise, run, sine
from miclane.core.measure.events import find_sibilants
from miclane.core.stages.base import Stage, load_kinds
from speech import sing

load_kinds()


def settled(x: np.ndarray) -> float:
    """Level in dB of the last half second."""
    return db(float(np.sqrt(np.mean(x[0, -RATE // 2 :] ** 2))))


@pytest.mark.parametrize("mix", [0.05, 0.3, 0.7, 1.0])
@pytest.mark.parametrize(
    "settings",
    [
        {"kind": "compressor", "threshold_db": -34, "ratio": 6},
        {"kind": "compressor", "threshold_db": -34, "ratio": 6, "makeup_db": 9},
        {"kind": "compressor", "threshold_db": -34, "ratio": 6, "response": "optical", "input_db": 6},
        {"kind": "compressor", "threshold_db": -34, "ratio": 6, "link": 0.5, "makeup_db": -6},
        {"kind": "lift", "threshold_db": -10},
        {"kind": "gate", "threshold_db": -6},
    ],
)
def test_what_is_drawn_as_turned_down_is_what_a_tone_is_turned_down_by(settings: dict[str, Any], mix: float) -> None:
    if settings["kind"] != "gate":
        settings = {**settings, "mix": mix}
    stage = Stage.kinds[settings["kind"]].model_validate(settings)
    still = stage.model_copy(update={"threshold_db": 0.0 if settings["kind"] == "compressor" else -80.0})
    x = sine(997, -20, 4, channels=2)
    made = run(stage, x)
    change = settled(made.y) - settled(run(still, x).y)
    assert abs(float(made.gain_db[-RATE // 4]) - change) < 0.1


def spectrum_db(x: np.ndarray, low_hz: float, high_hz: float, rate: int = RATE) -> float:
    """Level in dB of what lies between two frequencies."""
    power = np.abs(np.fft.rfft(x * np.hanning(len(x)))) ** 2
    at = np.fft.rfftfreq(len(x), 1 / rate)
    return float(10 * np.log10(power[(at >= low_hz) & (at < high_hz)].sum()))


@pytest.mark.parametrize("rate", [44100, 96000])
@pytest.mark.parametrize("mix", [0.4, 1.0])
@pytest.mark.parametrize(
    ("kind", "mode", "low_hz", "high_hz", "gain_db"),
    [
        ("deess", "split", 5200, 12000, -8),
        ("deess", "split", 1500, 4000, -24),
        ("deess", "split", 9000, 20000, -5),
        ("deess", "wide", 5200, 12000, -8),
        ("plosive", "split", 20, 120, -18),
        ("plosive", "split", 40, 60, -12),
        ("plosive", "wide", 20, 120, -18),
    ],
)
def test_a_stated_cut_is_that_of_its_band_from_edge_to_edge(
    kind: str, mode: str, low_hz: float, high_hz: float, gain_db: float, mix: float, rate: int
) -> None:
    """Of noise, in twelve parts of the band, each within half a decibel of what is drawn; beyond it nothing."""
    x = np.random.default_rng(5).standard_normal((1, 12 * rate)) * 0.05
    by_hand = [{"start_s": 1, "end_s": 12.5, "gain_db": gain_db}]
    told = {"kind": kind, "mode": mode, "low_hz": low_hz, "high_hz": high_hz, "mix": mix, "by_hand": by_hand}
    made = run(Stage.kinds[kind].model_validate(told), x, rate=rate)
    drawn = float(made.gain_db[6 * rate])
    part = slice(2 * rate, 11 * rate)
    top = min(high_hz, 0.46 * rate)
    edges = np.geomspace(low_hz, top, 13)
    for a, b in pairwise(edges):
        change = spectrum_db(made.y[0, part], a, b, rate) - spectrum_db(x[0, part], a, b, rate)
        assert abs(change - drawn) < 0.5, (a, b)
    if mode == "split":
        way = max(0.1 * low_hz, 24)
        beyond = [(high_hz + way, 3 * (high_hz + way))] + ([(low_hz / 3, low_hz - way)] if low_hz > 2 * way else [])
        for a, b in beyond:
            if b < rate / 2:
                change = spectrum_db(made.y[0, part], a, b, rate) - spectrum_db(x[0, part], a, b, rate)
                assert abs(change) < 0.02, (a, b)


@pytest.mark.parametrize("centre_hz", [6000, 7300, 8800, 10400])
def test_a_narrow_cut_is_that_of_half_an_octave_about_the_centre(centre_hz: float) -> None:
    x = noise(6.0, 0.05)
    spectrum = np.fft.rfft(x[0])
    at = np.fft.rfftfreq(x.shape[1], 1 / RATE)
    hiss = 10 ** (-40 * np.abs(np.log2(np.maximum(at, 1) / centre_hz)) / 20)
    x = np.fft.irfft(spectrum * hiss, x.shape[1])[None]
    by_hand = [{"start_s": 1, "end_s": 7, "gain_db": -9}]
    made = run(Stage.kinds["deess"].model_validate({"kind": "deess", "mode": "narrow", "by_hand": by_hand}), x)
    part, width = slice(2 * RATE, 5 * RATE), 2**0.25
    low, high = max(centre_hz / width, 5200), min(centre_hz * width, 12000)
    change = spectrum_db(made.y[0, part], low, high) - spectrum_db(x[0, part], low, high)
    assert abs(change - -9) < 0.5


@pytest.mark.parametrize("mode", ["split", "narrow", "wide"])
def test_what_is_drawn_over_a_sibilant_is_what_it_loses(mode: str) -> None:
    """Every event of made speech: the power of its band, weighed by the gain that is drawn, is what is left of it."""
    x = sing(2).audio
    stage = Stage.kinds["deess"].model_validate({"kind": "deess", "mode": mode, "threshold_db": -24, "release_ms": 300})
    made = run(stage, x)
    drawn = 10 ** (made.gain_db[: x.shape[1]] / 10)
    events = [e for e in find_sibilants(x, RATE) if drawn[e.start : e.end].min() < 10**-0.3]
    assert len(events) > 8
    missed = []
    for e in events:
        edges = (5600.0, 11000.0) if mode != "narrow" else (max(e.centre_hz / 2**0.2, 5300), e.centre_hz * 2**0.2)
        span, around = slice(e.start, e.end), slice(max(0, e.start - RATE // 4), e.end + RATE // 4)
        band = butter(6, edges, "band", fs=RATE, output="sos")
        before, after = np.zeros(x.shape[1]), np.zeros(x.shape[1])
        before[around], after[around] = (sosfiltfilt(band, y[0, around]) ** 2 for y in (x, made.y))
        lost = 10 * np.log10(after[span].sum() / before[span].sum())
        missed.append(lost - 10 * np.log10((before[span] * drawn[span]).sum() / before[span].sum()))
    print(mode, "drawn against lost, dB:", np.round(missed, 2))
    assert np.abs(missed).max() < (0.5 if mode != "narrow" else 1.0)


# Of every kind that draws a gain: settings at which a tone is turned up or down, and the tone in Hz and dBFS.
TONES: dict[str, tuple[dict[str, Any], float, float]] = {
    "compressor": ({"threshold_db": -34}, 997, -20),
    "lift": ({"threshold_db": -10}, 997, -30),
    "gate": ({"threshold_db": -6}, 997, -20),
    "limiter": ({"ceiling_dbtp": -12}, 997, -6),
    "duck": ({"threshold_db": -50, "depth_db": 7}, 997, -20),
    "trim": ({"gain_db": -5}, 997, -20),
    "ride": ({"points": [{"time_s": 0, "gain_db": 3}, {"time_s": 1, "gain_db": -4}]}, 997, -20),
    "deess": ({"by_hand": [{"start_s": 0.5, "end_s": 5, "gain_db": -8}]}, 7000, -20),
    "plosive": ({"by_hand": [{"start_s": 0.5, "end_s": 5, "gain_db": -12}]}, 60, -20),
    "multiband": ({}, 997, -14),
    "tame": ({"line_db": 3}, 3000, -20),
    "eq": ({"bands": [{"frequency_hz": 997, "q": 4, "dynamic": {"threshold_db": -40, "change_db": -7}}]}, 997, -14),
}


def gain_of(kind: str, settings: dict[str, Any], x: np.ndarray) -> tuple[np.ndarray, np.ndarray | None]:
    """Sound and drawn gain of a kind over x (2, n), its key being x as well, latency left in."""
    stage = Stage.kinds[kind].model_validate({"kind": kind, **settings})
    processor = stage.build(RATE, 2)
    y = processor.process(x.copy(), x.copy() if stage.listens() else None)
    return y, processor.gain_db


@pytest.mark.parametrize("kind", sorted(set(load_kinds()) - {"split"}))
def test_of_every_kind_the_gain_that_is_drawn_is_the_gain_there_is(kind: str) -> None:
    settings, hz, level = TONES.get(kind, ({}, 997, -20))
    x = sine(hz, level, 4, channels=2)
    y, drawn = gain_of(kind, settings, x)
    if kind not in TONES:
        assert drawn is None, f"{kind} draws a gain that no test looks at"
        return
    assert drawn is not None
    part = slice(-RATE // 2, None)
    change = db(float(np.sqrt(np.mean(y[:, part] ** 2) / np.mean(x[:, part] ** 2))))
    assert abs(change - float(np.mean(drawn[part]))) < 0.1
    assert abs(change) > 1
