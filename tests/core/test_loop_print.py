"""A loop is the print, for legal chains picked at random, and says so where it cannot be."""

from typing import Any

import numpy as np
import pytest
from bench.fuzz import KINDS, legal

from conftest import RATE, db, noise, one_lane
from miclane.core.engine.render import Renderer
from miclane.core.engine.stream import stream
from miclane.core.errors import UnsoundError
from miclane.core.stages.base import Stage
from miclane.core.stages.delay import Echo
from miclane.core.stages.impulse import Impulse

SECONDS, TEMPO = 36, 92.0
HEARD_DB = -90.0


def sung(seed: int) -> np.ndarray:
    """Half a minute of bursts between silences, loud and soft, then a few soft ones."""
    rng, n = np.random.default_rng(seed), SECONDS * RATE
    level = 10 ** (np.repeat(rng.uniform(-50, -3, 8 * SECONDS), n // (8 * SECONDS)) / 20)
    level *= np.repeat(rng.random(2 * SECONDS) < 0.6, n // (2 * SECONDS))
    level[30 * RATE :] *= 0.05
    t = np.arange(n) / RATE
    tones = sum(np.sin(2 * np.pi * f * t + f) / 3 for f in (110, 440, 1500, 7000))
    return (level * (0.5 * tones + 0.2 * rng.standard_normal(n)))[None] * 0.6


def differs_db(stages: list[dict[str, Any]], x: np.ndarray, start_s: int) -> float:
    """Peak of loop less print over a second, in dBFS, or to the print's peak where that is over full scale.

    −400 where both are stopped by the guard.
    """
    graph, read, _ = one_lane(x, stages, tempo_bpm=TEMPO)
    key = graph.places["lane:lead:treated"]
    start, stop = start_s * RATE, (start_s + 1) * RATE
    try:
        whole = np.concatenate([b[0] for b in stream(graph, [key], stop, read)], axis=1)
    except UnsoundError:
        return -400.0
    apart = np.abs(Renderer(read).loop(graph, key, start, stop).audio - whole[:, start:stop]).max()
    return db(float(apart) / max(1.0, float(np.abs(whole).max())))


def told(stage: Stage) -> dict[str, Any]:
    """A stage for a session of one lane: what listens hears that lane as it came."""
    tree = stage.model_dump(mode="json", exclude={"id"})
    if tree.get("key"):
        tree["key"] = {"lane": "lead", "tap": "raw"}
    return {**tree, "also": []} if "also" in tree else tree


@pytest.mark.parametrize("seed", range(2 * len(KINDS)))
def test_a_loop_is_the_print(seed: int) -> None:
    rng = np.random.default_rng(seed)
    stages = [legal(KINDS[seed % len(KINDS)], rng), *(legal(str(k), rng) for k in rng.choice(KINDS, seed % 2))]
    known = max(s.at_tempo(TEMPO).missing_in_loops_db() for s in stages)
    assert differs_db([told(s) for s in stages], sung(seed), 34) < max(HEARD_DB, known + 12), stages


@pytest.mark.parametrize(
    ("stage", "missing"),
    [
        (Echo(note="ms", time_ms=1000, feedback=0.6, high_cut_hz=20000, low_cut_hz=0), False),
        (Echo(note="ms", time_ms=1000, feedback=0.9, high_cut_hz=20000, low_cut_hz=0), True),
        (Echo(note="1/1", feedback=0.98, high_cut_hz=20000, low_cut_hz=0), True),
        (Impulse(response="car_deck", length_s=12), False),
    ],
)
def test_long_echoes_are_in_a_loop_or_it_says_what_is_missing(stage: Stage, missing: bool) -> None:
    said = stage.at_tempo(TEMPO).missing_in_loops_db()
    assert (said > HEARD_DB) == missing
    found = differs_db([told(stage)], sung(1), 35)
    assert found < max(HEARD_DB, said + 12)  # many echoes at once may add up


@pytest.mark.parametrize(
    "stages",
    [
        [
            {
                "kind": "eq",
                "bands": [
                    {"frequency_hz": 30, "gain_db": 18, "q": 40},
                    {"shape": "low_cut", "frequency_hz": 25, "slope_db_per_octave": 96},
                ],
            }
        ],
        [{"kind": "eq", "bands": [{"shape": "notch", "frequency_hz": 50, "q": 40}]}],
        [{"kind": "eq", "bands": [{"shape": "low_cut", "frequency_hz": 20, "slope_db_per_octave": 96}]}] * 2,
    ],
)
def test_a_loop_is_the_print_where_filters_ring_long(stages: list[dict[str, Any]]) -> None:
    x = noise(20.0, 0.1) * (np.arange(20 * RATE) < 13 * RATE)
    assert max(differs_db(stages, x, start_s) for start_s in (12, 14)) < HEARD_DB
