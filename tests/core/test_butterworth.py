"""Butterworth band passes against SciPy's."""

import numpy as np
import pytest
from scipy.signal import butter, sosfiltfilt, sosfreqz

from conftest import RATE, noise, residue_db
from miclane.core.butterworth import band_pass, band_without_phase


@pytest.mark.parametrize(
    ("order", "low_hz", "high_hz", "rate"),
    [(3, 88, 177, 48000), (3, 5657, 11314, 44100), (1, 20, 20000, 48000), (5, 30, 23000, 48000), (4, 30, 40000, 96000)],
)
def test_a_band_pass_is_scipys(order: int, low_hz: float, high_hz: float, rate: int) -> None:
    sections = band_pass(order, low_hz, high_hz, rate)
    assert sections.shape == (order, 6)
    at = np.geomspace(10, 0.49 * rate, 300)
    wanted = sosfreqz(butter(order, [low_hz, high_hz], "band", fs=rate, output="sos"), at, fs=rate)[1]
    assert np.abs(sosfreqz(sections, at, fs=rate)[1] - wanted).max() < 1e-9


def test_without_phase_it_is_scipys_forwards_and_backwards_where_that_knows_nothing_of_the_ends() -> None:
    x = np.zeros((2, 3 * RATE))
    x[:, RATE : 2 * RATE] = noise(1.0, channels=2)
    for order, low, high in ((3, 88, 177), (2, 200, 800), (3, 5657, 11314)):
        wanted = sosfiltfilt(butter(order, [low, high], "band", fs=RATE, output="sos"), x, axis=-1)
        assert residue_db(band_without_phase(x, order, low, high, RATE), wanted) < -150
    assert residue_db(band_without_phase(x[0], 3, 88, 177, RATE), band_without_phase(x, 3, 88, 177, RATE)[0]) < -250


@pytest.mark.parametrize("edges", [(0, 100), (200, 200), (300, 200), (100, 24000)])
def test_a_band_that_is_none_is_refused(edges: tuple[float, float]) -> None:
    with pytest.raises(ValueError, match="no band lies from"):
        band_pass(2, *edges, 48000)
    with pytest.raises(ValueError, match="no band lies from"):
        band_without_phase(np.zeros(8), 2, *edges, 48000)
