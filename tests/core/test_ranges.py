"""Multiband and upward compression: flat when neutral, static curves, peaks and noise left alone."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import RATE, db, noise, run, sine
from miclane.core.stages.lift import Lift
from miclane.core.stages.multiband import Multiband, Range

EDGES = (180.0, 900.0, 5200.0)


def bands(count: int, **settings_: object) -> tuple[Range, ...]:
    return tuple(Range(up_to_hz=e, **settings_) for e in (*EDGES[: count - 1], 20000.0))


def response_db(stage: Multiband, rate: int) -> tuple[np.ndarray, np.ndarray]:
    x = np.zeros((1, 1 << 16))
    x[0, 64] = 1e-4
    y = run(stage, x, rate=rate).y[0] * 1e4
    return np.fft.rfftfreq(1 << 16, 1 / rate), 20 * np.log10(np.abs(np.fft.rfft(y)) + 1e-12)


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("count", [2, 3, 4])
def test_neutral_bands_sum_flat(count: int, rate: int) -> None:
    for mix in (1.0, 0.4):
        frequency, level = response_db(Multiband(bands=bands(count, ratio=1.0), mix=mix), rate)
        inside = (frequency > 20) & (frequency < 20000)
        assert np.abs(level[inside]).max() < 0.05


def test_each_band_ends_24_db_an_octave_beyond_its_edges() -> None:
    stage = Multiband(bands=bands(3, ratio=1.0))
    for k, (low, high) in enumerate(((None, 180.0), (180.0, 900.0), (900.0, None))):
        frequency, level = response_db(stage.alone(k), RATE)
        at = lambda f, freq=frequency, lev=level: lev[np.argmin(np.abs(freq - f))]  # noqa: E731
        for edge, outside in ((low, 0.25), (high, 4.0)):
            if edge:
                assert at(edge) == pytest.approx(-6.0, abs=0.3)
                assert at(edge * outside) < -44


@pytest.mark.parametrize("level", [-50.0, -34.0, -28.0, -20.0, -8.0])
@pytest.mark.parametrize("works", ["down", "up"])
def test_a_band_follows_its_static_curve_and_the_others_do_not_move(level: float, works: str) -> None:
    band = {"works": works, "threshold_db": -30, "ratio": 3, "most_db": 9, "noise_db": -90, "limit_db": -70}
    off = (Range(up_to_hz=60, on=False), Range(up_to_hz=5200, on=False), Range(on=False))
    stage = Multiband(bands=(off[0], Range(up_to_hz=5200, **band), off[2]))
    done = run(stage, sine(560, level, 1.2))
    past = level + 30
    knee = 3.0
    over = past if works == "down" else -past
    soft = 0.0 if over < -knee else over if over > knee else (over + knee) ** 2 / (4 * knee)
    wanted = (-1 if works == "down" else 1) * min(9.0, soft * (1 - 1 / 3))
    assert done.gain_db[RATE] == pytest.approx(wanted, abs=0.15)
    both = sine(560, level, 1.2) + sine(15000, level, 1.2)
    worked, plain = (run(s, both).y[0, -RATE:] for s in (stage, stage.model_copy(update={"bands": off})))
    spectrum = np.abs(np.fft.rfft([worked, plain], axis=1))
    assert 20 * np.log10(spectrum[0, 15000] / spectrum[1, 15000]) == pytest.approx(0, abs=0.1)


def test_an_edge_set_below_the_one_before_it_is_held_above_that() -> None:
    stage = Multiband(bands=(Range(up_to_hz=2000), Range(up_to_hz=300), Range()))
    assert stage.edges_hz(RATE) == pytest.approx((2000, 2000 * 2 ** (1 / 3)))
    with pytest.raises(ValueError, match="two to four bands"):
        Multiband(bands=(Range(),))


def test_lift_raises_quiet_words_and_leaves_peaks(lead: np.ndarray) -> None:
    stage = Lift(threshold_db=-24, ratio=3, most_db=9, noise_db=-48, limit_db=-45)
    y = run(stage, lead).y
    hop = 480
    n = lead.shape[1] // hop
    before, after = (20 * np.log10(np.abs(x[0, : n * hop]).reshape(n, hop).max(axis=1) + 1e-9) for x in (lead, y))
    rise = after - before
    loud, quiet = before > -18, (before > -40) & (before < -32)
    assert np.abs(rise[loud]).max() < 0.2
    assert db(float(np.abs(y).max())) == pytest.approx(db(float(np.abs(lead).max())), abs=0.2)
    assert np.median(rise[quiet]) > 2


@pytest.mark.parametrize("floor_dbfs", [-70.0, -58.0])
def test_lift_brings_no_noise_over_its_limit(floor_dbfs: float) -> None:
    x = noise(3.0, 10 ** (floor_dbfs / 20), seed=3)
    top = db(float(np.abs(x).max()))
    stage = Lift(threshold_db=-20, ratio=10, most_db=24, noise_db=top, limit_db=top + 4)
    assert db(float(np.abs(run(stage, x).y).max())) <= top + 4.01
    assert run(stage, x).gain_db.max() > 3


@settings(max_examples=40)
@given(
    threshold=st.floats(-70, 0),
    ratio=st.floats(1, 20),
    most=st.floats(0, 24),
    attack=st.floats(0.1, 50),
    release=st.floats(10, 2000),
    up=st.booleans(),
    count=st.integers(2, 4),
    look=st.floats(0, 20),
)
def test_any_setting_is_finite_keeps_silence_and_its_side_of_nothing(
    threshold, ratio, most, attack, release, up, count, look
) -> None:
    rng = np.random.default_rng(5)
    x = rng.standard_normal((2, 6000)) * np.repeat([0.001, 0.5, 0.03], 2000)
    each = {"threshold_db": threshold, "ratio": ratio, "most_db": most, "attack_ms": attack, "release_ms": release}
    lift = Lift(**each, lookahead_ms=look)
    several = Multiband(bands=bands(count, works="up" if up else "down", **each), lookahead_ms=look)
    for stage, lifts in ((lift, True), (several, up)):
        done = run(stage, x, block=1000)
        assert np.isfinite(done.y).all()
        assert (done.gain_db.min() >= -1e-9) if lifts else (done.gain_db.max() <= 1e-9)
        assert np.abs(done.gain_db).max() <= most + 1e-6
        assert np.array_equal(run(stage, np.zeros((1, 3000))).y, np.zeros((1, 3000)))
        assert np.allclose(run(stage, x, block=777).y, done.y, atol=1e-12)
