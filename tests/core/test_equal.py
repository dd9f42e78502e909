"""Equally loud: what a side of a comparison is turned by."""

import pytest

from miclane.core.measure.equal import gain_db, gains_db


def test_a_side_is_brought_to_the_loudness_of_the_reference_within_what_can_be_turned() -> None:
    assert gain_db(-20.0, -17.5) == 2.5
    assert gain_db(-60.0, -10.0) == 30.0
    assert gain_db(-10.0, -60.0) == -30.0
    assert gain_db(-120.0, -20.0) == gain_db(-20.0, -200.0) == 0.0


def test_several_are_brought_to_one_of_them_or_down_to_the_quietest() -> None:
    levels = {"a": -20.0, "b": -16.0, "c": -23.5}
    assert gains_db(levels, "a") == {"a": 0.0, "b": -4.0, "c": 3.5}
    assert gains_db(levels) == pytest.approx({"a": -3.5, "b": -7.5, "c": 0.0})
    assert max(gains_db(levels).values()) == 0.0
