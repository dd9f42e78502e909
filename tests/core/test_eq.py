"""The equaliser against its analogue prototypes."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import RATE, noise, residue_db, run
from miclane.core.stages.eq import Band, Eq
from miclane.core.stages.eq_design import BUTTERWORTH_SLOPES, magnitude, response, section, slowest_pole

AXIS = np.geomspace(20, 18000, 500)


def measured_db(eq: Eq, rate: int = RATE) -> np.ndarray:
    """Response on AXIS from an impulse through the running processor."""
    x = np.zeros((1, 1 << 16))
    x[0, 0] = 1.0
    y = run(eq, x, rate=rate).y[0]
    turn = np.exp(-2j * np.pi * np.outer(AXIS[::5], np.arange(len(y))) / rate)
    return 20 * np.log10(np.abs(turn @ y) + 1e-12)


@pytest.mark.parametrize(("gain_db", "within_db"), [(1, 0.3), (-3, 0.3), (6, 0.3), (-6, 0.3), (12, 0.5), (-12, 0.5)])
@pytest.mark.parametrize("shape", ["bell", "low_shelf", "high_shelf", "tilt"])
@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_gain_shapes_follow_the_analogue_prototype(shape: str, gain_db: float, within_db: float, rate: int) -> None:
    worst = 0.0
    for frequency in (40, 120, 400, 1000, 2500, 6000, 9000, 12000):
        for q in (0.5, 0.707, 1, 3, 10) if shape == "bell" else (0.5, 0.707, 1):
            band = Band(shape=shape, frequency_hz=frequency, gain_db=gain_db, q=q)
            worst = max(worst, float(np.abs(Eq(bands=(band,)).response_db(AXIS, rate) - band.analogue_db(AXIS)).max()))
    assert worst < within_db


@pytest.mark.parametrize("slope", BUTTERWORTH_SLOPES)
def test_cuts_are_butterworth(slope: int) -> None:
    for shape, frequencies in (("low_cut", (40, 118, 400, 1500)), ("high_cut", (2000, 6000, 10000))):
        for frequency in frequencies:
            band = Band(shape=shape, frequency_hz=frequency, slope_db_per_octave=slope)
            ratio = (AXIS / frequency) ** (-2 if shape == "low_cut" else 2)
            butterworth = -10 * np.log10(1 + ratio ** (slope // 6))
            heard = butterworth > -60
            error = (Eq(bands=(band,)).response_db(AXIS, RATE) - butterworth)[heard]
            assert np.abs(error).max() < 0.3
            assert abs(float(Eq(bands=(band,)).response_db(np.array([float(frequency)]), RATE)[0]) + 3.01) < 0.2


def worst_and_step(bands: list[Band], rate: int, down_db: float = 60.0) -> tuple[float, float]:
    """Greatest error of bands against the analogue curve up to 18 kHz, of what stands less
    than `down_db` under its top; and the greatest change of that error from one band to the next."""
    axis = AXIS[::3][AXIS[::3] < 0.41 * rate]
    worst, step, before = 0.0, 0.0, None
    for band in bands:
        true = band.analogue_db(axis)
        error = np.where(true > true.max() - down_db, Eq(bands=(band,)).response_db(axis, rate) - true, 0.0)
        worst = max(worst, float(np.abs(error).max()))
        both = (error != 0) & (before != 0) if before is not None else error != 0
        step = max(step, float(np.abs(error - before)[both].max(initial=0.0))) if before is not None else step
        before = error
    return worst, step


TWENTY_FOURTHS = 20 * 2 ** (np.arange(0, 223) / 24)


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_a_high_cut_leaves_what_is_below_and_nothing_jumps_as_it_moves(rate: int) -> None:
    below = np.geomspace(20, 2000, 40)
    for slope in BUTTERWORTH_SLOPES:
        before = None
        for f in 10 ** np.linspace(np.log10(9000), np.log10(18000), 25):
            band = Band(shape="high_cut", frequency_hz=float(f), slope_db_per_octave=slope)
            error = Eq(bands=(band,)).response_db(below, rate) - band.analogue_db(below)
            assert np.abs(error).max() < 0.08
            assert before is None or np.abs(error - before).max() < 0.03
            before = error


@pytest.mark.parametrize("rate", [44100, 48000, 88200, 96000])
@pytest.mark.parametrize(
    ("shape", "gain_db", "q", "slope", "within_db"),
    [
        *(("bell", gain, q, 12, 0.15) for gain in (6, -12) for q in (0.5, 3.0)),
        *((shape, gain, q, 12, 0.15) for shape in ("low_shelf", "high_shelf") for gain in (-6, 12) for q in (0.5, 1.0)),
        ("tilt", 6, 1.0, 12, 0.1),
        *(("notch", 0, q, 12, 0.4) for q in (0.5, 1.0, 10.0)),
        *(("high_cut", 0, 1.0, slope, 0.3) for slope in BUTTERWORTH_SLOPES),
        *(("low_cut", 0, 1.0, slope, 0.3 if slope < 72 else 0.5) for slope in BUTTERWORTH_SLOPES),
    ],
)
def test_every_shape_and_slope_over_the_octaves(
    shape: str, gain_db: float, q: float, slope: int, within_db: float, rate: int
) -> None:
    first = (slope + rate) % 7
    bands = [
        Band(shape=shape, frequency_hz=float(f), gain_db=gain_db, q=q, slope_db_per_octave=slope)
        for f in TWENTY_FOURTHS[first::12]
    ]
    near = [
        b.model_copy(update={"frequency_hz": float(f)})
        for b, f in zip([bands[0]] * 12, TWENTY_FOURTHS[-12:], strict=True)
    ]
    down_db = 20.0 if shape == "notch" else 60.0
    assert worst_and_step(bands, rate, down_db)[0] < within_db
    worst, step = worst_and_step(near, rate, down_db)
    assert worst < within_db
    assert step < (0.1 if slope < 96 else 0.13)


@settings(max_examples=16)
@given(
    st.sampled_from(["bell", "low_shelf", "high_shelf", "low_cut", "high_cut", "tilt"]),
    st.floats(30, 12000),
    st.floats(-12, 12),
    st.floats(0.5, 12),
    st.sampled_from(BUTTERWORTH_SLOPES),
)
def test_the_curve_drawn_is_the_response_measured(shape, frequency, gain, q, slope) -> None:
    band = Band(shape=shape, frequency_hz=frequency, gain_db=gain, q=q, slope_db_per_octave=slope)
    eq = Eq(bands=(band,))
    drawn = eq.response_db(AXIS[::5], RATE)
    heard = drawn > -60
    assert np.abs(measured_db(eq) - drawn)[heard].max() < 0.05


def test_a_cut_undoes_the_same_boost() -> None:
    x = noise(1.0)
    both = Eq(bands=(Band(frequency_hz=3100, gain_db=7, q=2), Band(frequency_hz=3100, gain_db=-7, q=2)))
    assert residue_db(run(both, x).y, x) < -200


@settings(max_examples=40)
@given(
    st.floats(16, 22000), st.floats(-30, 30), st.floats(0.1, 40), st.sampled_from([8000, 22050, 44100, 48000, 192000])
)
def test_every_section_is_stable(frequency, gain, q, rate) -> None:
    for shape in (
        "bell",
        "low_shelf",
        "high_shelf",
        "tilt",
        "notch",
        "low_pass",
        "high_pass",
        "low_pass_1",
        "high_pass_1",
    ):
        assert np.abs(np.roots(section(shape, frequency, gain, q, rate)[3:])).max() < 1


def test_bands_for_the_side_leave_the_middle_alone() -> None:
    x = np.repeat(noise(0.5), 2, axis=0)
    assert residue_db(run(Eq(bands=(Band(frequency_hz=900, gain_db=9, target="side"),)), x).y, x) < -200
    left = run(Eq(bands=(Band(frequency_hz=900, gain_db=9, target="left"),)), x).y
    assert residue_db(left[1], x[1]) < -300
    assert residue_db(left[0], x[0]) > -40


@pytest.mark.parametrize("rate", [44100, 48000, 88200, 96000])
@pytest.mark.parametrize(("shape", "most"), [("bell", 8.5), ("low_shelf", 6.5), ("high_shelf", 6.5)])
def test_no_boost_rings_where_the_band_ends(rate: int, shape: str, most: float) -> None:
    to_the_top, far = np.linspace(100, rate / 2, 4000), np.geomspace(20, 4e5, 4000)
    for q in (0.1, 0.5, 1.5, 4, 10, 17.4, 40):
        for f in np.geomspace(5000, 22000, 12):
            for gain in (-48, -20, 6, 12, 25.5, 30, 48):
                made = section(shape, float(f), float(gain), q, rate)
                over = 20 * np.log10(np.abs(response(made[None], to_the_top, rate)).max())
                asked = 10 * np.log10(magnitude(shape, f, gain, q)(far).max())
                assert over < asked + (2.5 if q <= 4 else most)
                assert slowest_pole(made) < 0.99995
