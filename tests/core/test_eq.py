"""The equaliser against its analogue prototypes."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import RATE, noise, residue_db, run
from miclane.core.stages.eq import Band, Eq
from miclane.core.stages.eq_design import BUTTERWORTH_SLOPES, section

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


def test_every_shape_and_slope_in_one_table() -> None:
    """Worst error to 18 kHz against the analogue curve, of what stands less than 60 dB under the pass band."""
    print("\nshape, slope           worst error at 44.1, 48, 88.2, 96 kHz, dB")
    frequencies = (40, 120, 400, 1000, 2500, 6000, 9000, 12000)
    gained = [
        (
            shape,
            [
                Band(shape=shape, frequency_hz=f, gain_db=g, q=q)
                for f in frequencies
                for g in (-12, -6, 6, 12)
                for q in qs
            ],
        )
        for shape, qs in (
            ("bell", (0.5, 1, 3, 10)),
            ("low_shelf", (0.5, 0.7, 1)),
            ("high_shelf", (0.5, 0.7, 1)),
            ("tilt", (1,)),
        )
    ]
    cuts = [
        (f"{shape} {slope}", [Band(shape=shape, frequency_hz=f, slope_db_per_octave=slope) for f in places])
        for shape, places in (("low_cut", (40, 118, 400, 1500)), ("high_cut", (2000, 6000, 10000)))
        for slope in BUTTERWORTH_SLOPES
    ]
    notches = [("notch", [Band(shape="notch", frequency_hz=f, q=q) for f in (50, 150, 1000, 3000) for q in (5, 20)])]
    worst = 0.0
    for name, bands in gained + cuts + notches:
        row = []
        for rate in (44100, 48000, 88200, 96000):
            errors = []
            for band in bands:
                true = band.analogue_db(AXIS)
                error = np.abs(Eq(bands=(band,)).response_db(AXIS, rate) - true)
                errors.append(error[true > (-20 if name == "notch" else -60)].max())
            row.append(max(errors))
        print(f"{name:<22} {'  '.join(f'{e:.3f}' for e in row)}")
        worst = max(worst, *row)
    print(f"worst of all: {worst:.3f} dB")
    assert worst < 0.5


@settings(max_examples=16, deadline=None)
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


@settings(max_examples=40, deadline=None)
@given(st.floats(16, 22000), st.floats(-30, 30), st.floats(0.1, 40), st.sampled_from([44100, 48000, 96000]))
def test_every_section_is_stable(frequency, gain, q, rate) -> None:
    for shape in ("bell", "low_shelf", "high_shelf", "notch", "low_pass", "high_pass"):
        assert np.abs(np.roots(section(shape, frequency, gain, q, rate)[3:])).max() < 1


def test_bands_for_the_side_leave_the_middle_alone() -> None:
    x = np.repeat(noise(0.5), 2, axis=0)
    assert residue_db(run(Eq(bands=(Band(frequency_hz=900, gain_db=9, target="side"),)), x).y, x) < -200
    left = run(Eq(bands=(Band(frequency_hz=900, gain_db=9, target="left"),)), x).y
    assert residue_db(left[1], x[1]) < -300
    assert residue_db(left[0], x[0]) > -40
