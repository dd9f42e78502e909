"""FET, optical and variable-mu compression, and a release that adjusts itself: static curves and step responses."""

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from conftest import RATE, run, sine
from miclane.core.stages.compressor import Compressor

RESPONSES = ("fet", "optical", "variable_mu")


def steps(*parts: tuple[float, float]) -> np.ndarray:
    """A 997 Hz sine at levels in dBFS, each for so many seconds."""
    return np.concatenate([sine(997, level, seconds) for level, seconds in parts], axis=1)


def within(off: np.ndarray, share: float) -> float:
    """Seconds until a reduction is down to a share of what it was."""
    return float(np.argmax(off <= off[0] * share)) / RATE


@pytest.mark.parametrize("response", RESPONSES)
@pytest.mark.parametrize("level", [-40.0, -30.0, -24.0, -18.0, -12.0, -6.0, 0.0])
def test_the_static_curve_is_the_one_that_is_drawn(response: str, level: float) -> None:
    stage = Compressor(response=response, threshold_db=-30, ratio=4, knee_db=6, attack_ms=2, release_ms=80)
    settled = run(stage, steps((level, 1.5))).gain_db[-1]
    assert settled == pytest.approx(stage.curve_db(level), abs=0.1)


def test_fet_follows_its_own_output_and_keeps_its_ratio() -> None:
    stage = Compressor(response="fet", threshold_db=-30, ratio=8, knee_db=0)
    assert stage.curve_db(-6.0) == pytest.approx(-24 * (1 - 1 / 8), abs=1e-6)


@pytest.mark.parametrize("attack_ms", [0.02, 0.1, 0.4, 1.0])
def test_fet_attacks_within_its_setting(attack_ms: float) -> None:
    stage = Compressor(response="fet", threshold_db=-30, ratio=4, knee_db=0, attack_ms=attack_ms, release_ms=80)
    x = np.concatenate([np.full((1, RATE // 4), 0.01), np.full((1, RATE // 4), 0.5)], axis=1)
    gain = run(stage, x).gain_db[RATE // 4 :]
    reached = (np.argmax(gain <= 0.632 * gain[-1]) + 1) / RATE * 1000
    assert abs(reached - attack_ms) < 0.1 * attack_ms + 1000 / RATE


def test_variable_mu_has_a_ratio_that_grows() -> None:
    stage = Compressor(response="variable_mu", threshold_db=-30, ratio=6, knee_db=0)
    out = np.array([level + stage.curve_db(level) for level in (-29.0, -27.0, -20.0, -18.0, -4.0, -2.0)])
    ratios = 2.0 / (out[1::2] - out[::2])
    assert ratios[0] < 1.5 < ratios[1] < ratios[2] < 6.0


@pytest.mark.parametrize("seconds", [0.1, 1.0, 4.0])
def test_optical_lets_go_of_half_at_once_and_of_the_rest_by_how_long_it_worked(seconds: float) -> None:
    stage = Compressor(response="optical", threshold_db=-30, ratio=4, attack_ms=2, release_ms=80)
    x = steps((-40, 0.5), (-10, seconds), (-40, 14))
    off = -run(stage, x).gain_db[round((0.5 + seconds) * RATE) :]
    assert 0.04 < within(off, 0.5) < 0.08
    rest = within(off, 0.5 / np.e)  # the slow half down to 37 %
    assert {0.1: 0.5, 1.0: 1.0, 4.0: 1.5}[seconds] < rest < 5.5


def test_optical_forgets_sooner_after_a_short_reduction() -> None:
    stage = Compressor(response="optical", threshold_db=-30, ratio=4, attack_ms=2, release_ms=80)
    took = []
    for seconds in (0.05, 0.5, 4.0):
        x = steps((-40, 0.5), (-10, seconds), (-40, 10))
        took.append(within(-run(stage, x).gain_db[round((0.5 + seconds) * RATE) :], 0.1))
    assert took[0] < took[1] < took[2]
    assert took[2] > 1.8 * took[0]


def test_a_self_adjusting_release_is_quick_after_a_peak_and_slow_after_a_long_note() -> None:
    stage = Compressor(threshold_db=-30, ratio=4, attack_ms=2, release_ms=100, self_adjusting=True)
    took = []
    for seconds in (0.03, 4.0):
        x = steps((-40, 0.5), (-6, seconds), (-40, 6))
        took.append(within(-run(stage, x).gain_db[round((0.5 + seconds) * RATE) :], 0.368))
    assert took[0] < 0.09
    assert took[1] > 2.2 * took[0]


@settings(max_examples=40)
@given(
    response=st.sampled_from((*RESPONSES, "clean")),
    threshold=st.floats(-60, 0),
    ratio=st.floats(1, 100),
    knee=st.floats(0, 36),
    attack=st.floats(0.02, 300),
    release=st.floats(2, 3000),
    adjusting=st.booleans(),
    detector=st.sampled_from(("peak", "rms")),
    works=st.sampled_from(("compress", "limit")),
    target=st.sampled_from(("stereo", "middle", "side", "left", "right")),
    link=st.floats(0, 1),
    look=st.floats(0, 20),
    emphasis=st.floats(0, 15),
    harmonics=st.sampled_from((0.0, 0.2)),
)
@example("clean", 0.0, 2.0, 0.0, 1.0, 2.0, False, "peak", "compress", "middle", 0.0, 0.0, 0.0, 0.0)
def test_any_setting_is_finite_keeps_silence_and_never_turns_up(
    response,
    threshold,
    ratio,
    knee,
    attack,
    release,
    adjusting,
    detector,
    works,
    target,
    link,
    look,
    emphasis,
    harmonics,
) -> None:
    stage = Compressor(
        response=response, threshold_db=threshold, ratio=ratio, knee_db=knee, attack_ms=attack, release_ms=release,
        self_adjusting=adjusting, detector=detector, works=works, target=target, link=link, lookahead_ms=look,
        key_emphasis_db=emphasis, harmonics=harmonics,
    )  # fmt: skip
    rng = np.random.default_rng(1)
    x = rng.standard_normal((2, 6000)) * np.repeat([0.001, 1.0, 0.03], 2000)
    done = run(stage, x, block=1000)
    assert np.isfinite(done.y).all()
    assert done.gain_db.max() <= 1e-9
    assert np.array_equal(run(stage, np.zeros((1, 3000))).y, np.zeros((1, 3000)))
    assert np.abs(run(stage, x, block=777).y - done.y).max() < 1e-9


def test_the_key_can_be_cut_to_a_band() -> None:
    stage = Compressor(threshold_db=-40, ratio=8, key_low_cut_hz=5000, key_high_cut_hz=9000)
    low, inside = (run(stage, sine(f, -10, 0.5)).gain_db[-1] for f in (500, 7000))
    assert low > -0.1
    assert inside < -20
