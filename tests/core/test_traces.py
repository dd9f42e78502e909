"""What a trace says against what happened to the sound."""

from typing import Any

import numpy as np
import pytest

from conftest import RATE, db, noise, one_lane, run, sine
from miclane.core.engine.render import Renderer
from miclane.core.engine.stream import stream
from miclane.core.stages.base import Stage, load_kinds

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


@pytest.mark.parametrize("mix", [0.4, 1.0])
def test_a_narrow_cut_at_its_centre_and_a_wide_one_are_what_is_drawn(mix: float) -> None:
    for mode in ("split", "wide"):
        by_hand = [{"start_s": 0.5, "end_s": 3.0, "gain_db": -8}]
        stage = Stage.kinds["deess"].model_validate({"kind": "deess", "mode": mode, "mix": mix, "by_hand": by_hand})
        x = sine(float(np.sqrt(5200 * 12000)), -20, 3)
        made = run(stage, x)
        assert abs(settled(made.y) - settled(x) - float(made.gain_db[2 * RATE])) < 0.1


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
    graph, read, _ = one_lane(x, stages)
    key = graph.places["lane:lead:treated"]
    whole = np.concatenate([b[0] for b in stream(graph, [key], 20 * RATE, read)], axis=1)
    for start in (12, 14):
        part = Renderer(read).loop(graph, key, start * RATE, (start + 1) * RATE).audio
        assert db(float(np.abs(part - whole[:, start * RATE : (start + 1) * RATE]).max())) < -90
