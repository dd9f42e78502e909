"""A long take is measured with little more memory than it takes itself, and its pieces give what the whole does."""

import tracemalloc
from collections.abc import Callable

import numpy as np
import pytest

from conftest import RATE, noise
from miclane.core.measure.clipping import clipped_spans
from miclane.core.measure.events import find_sibilants
from miclane.core.measure.loudness import measure_loudness
from miclane.core.measure.noise import find_hum
from miclane.core.measure.phrases import Span
from miclane.core.measure.sibilance import balance_db
from miclane.core.measure.spectrum import mean_power

SECONDS = 60.0
EVENTS = [Span(k * RATE, k * RATE + RATE // 10) for k in range(1, 59, 3)]
MEASURES: dict[
    str, tuple[float, Callable[[np.ndarray], object]]
] = {  # share of the take's own memory, and what takes it
    "sibilants to the voice": (0.3, lambda x: balance_db(x, RATE, EVENTS)),
    "sibilants": (0.5, lambda x: find_sibilants(x, RATE)),
    "mean spectrum of phrases": (
        0.4,
        lambda x: mean_power([x[0, a * RATE : (a + 5) * RATE] for a in range(0, 54, 6)], RATE),
    ),
    "hum between phrases": (0.2, lambda x: find_hum(x, RATE, EVENTS)),
    "what was cut flat": (0.3, clipped_spans),
    "true peak and loudness": (0.6, lambda x: measure_loudness(x, RATE)),
}


@pytest.mark.parametrize("name", MEASURES)
def test_a_measure_takes_little_beside_its_take(name: str) -> None:
    x = noise(SECONDS, 0.1)
    share, measure = MEASURES[name]
    measure(x[:, : 10 * RATE])  # what is made once
    tracemalloc.start()
    measure(x)
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert peak < share * x.nbytes


@pytest.mark.parametrize("cuts", [[20_000], [3_000, 3_001, 9_000, 150_000, 170_000]])
def test_stretches_have_the_mean_spectrum_of_all_of_them_in_a_row(cuts: list[int]) -> None:
    x = noise(4.0, 0.1)[0]
    f, whole = mean_power(x, RATE)
    g, parts = mean_power(np.split(x, cuts), RATE)
    assert np.array_equal(f, g)
    assert np.array_equal(whole, parts)
    short = mean_power([x[:900], x[900:1500]], RATE)[1]
    assert np.array_equal(short, mean_power(x[:1500], RATE)[1])


def test_sibilance_of_many_moments_is_that_of_each() -> None:
    """Half a minute: more moments than are looked at in one go. By hand, a moment at a time."""
    x = noise(30.0, 0.1)
    events = [e for e in EVENTS if e.end < x.shape[1]]
    bins, window = np.fft.rfftfreq(1024, 1 / RATE), np.hanning(1024)
    starts = np.arange(0, x.shape[1] - 1023, 512)
    power = np.array([np.abs(np.fft.rfft(x[0, a : a + 1024] * window)) ** 2 for a in starts])
    air = power[:, (bins >= 2600) & (bins < 15000)].sum(axis=1)
    voice = power[:, (bins >= 100) & (bins < 3500)].sum(axis=1)
    inside = np.array([any(e.start <= a + 512 < e.end for e in events) for a in starts])
    sung = ~inside & (voice > voice.max() * 10**-2.5)
    expected = 10 * np.log10(air[inside].mean() / voice[sung].mean())
    assert abs(balance_db(x, RATE, events) - expected) < 1e-3
