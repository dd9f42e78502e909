"""Running medians and maxima are SciPy's."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from scipy.ndimage import maximum_filter1d, median_filter

from miclane.core.measure.running import running_max, running_median


@given(st.lists(st.floats(-1e6, 1e6), max_size=80), st.integers(0, 12))
def test_a_running_median_is_of_what_lies_about_each(numbers: list[float], reach: int) -> None:
    x = np.array(numbers)
    expected = median_filter(x, 2 * reach + 1, mode="nearest") if numbers else x
    assert np.array_equal(running_median(x, 2 * reach + 1), expected)


@given(st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=80), st.integers(0, 40), st.integers(0, 40))
def test_a_running_maximum_looks_as_far_ahead_and_back_as_is_said(numbers: list[float], past: int, ahead: int) -> None:
    x = np.array(numbers)
    expected = maximum_filter1d(
        x, past + ahead + 1, origin=(past - ahead) // 2, mode="constant", cval=-200.0
    )  # whose middle lies to the right where there are as many on both sides
    assert np.array_equal(running_max(x, past, ahead, -200.0), expected)
