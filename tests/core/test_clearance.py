"""Return clearance on levels that are known."""

import numpy as np
import pytest

from conftest import RATE
from miclane.core.engine.node import Trace
from miclane.core.measure.clearance import clearance, held
from miclane.core.measure.phrases import Span

PHRASES = [Span(RATE, 2 * RATE), Span(round(2.5 * RATE), 4 * RATE), Span(round(4.8 * RATE), 6 * RATE)]
HOP = RATE // 200


def test_dry_over_returns_is_the_ratio_of_their_powers() -> None:
    dry, wet = np.full(7 * RATE, 1e-6), np.full(7 * RATE, 1e-4)
    for p in PHRASES:
        dry[p.start : p.end], wet[p.start : p.end] = 0.1, 0.001
    found = clearance(dry, wet, PHRASES, 0, RATE)
    assert found.singing_db == pytest.approx(20)
    assert found.gaps_db == pytest.approx(-20)
    assert found.shortest_gap_ms == pytest.approx(500)
    part = clearance(dry[2 * RATE : 5 * RATE], wet[2 * RATE : 5 * RATE], PHRASES, 2 * RATE, RATE)
    assert part.singing_db == pytest.approx(20)
    assert part.shortest_gap_ms == pytest.approx(800)


def test_nothing_to_compare_is_nothing() -> None:
    silent = clearance(np.ones(RATE), np.zeros(RATE), PHRASES, RATE, RATE)
    assert silent.singing_db is None
    assert silent.gaps_db is None
    assert silent.shortest_gap_ms is None
    assert held(Trace(0, HOP, None, *np.zeros((3, 100))), PHRASES, 0, RATE, RATE).back_ms is None


def test_a_ducker_is_held_down_and_back_when_it_is() -> None:
    t = np.arange(7 * 200) / 200
    gain = np.zeros(len(t))
    for p in PHRASES:
        gain[(t >= p.start / RATE) & (t < p.end / RATE + 0.2)] = -9.0
    found = held(Trace(0, HOP, gain, *np.zeros((3, len(t)))), PHRASES, 0, 7 * RATE, RATE)
    assert found.back_ms == pytest.approx(200, abs=6)
    assert found.singing_db == pytest.approx(-9)
    assert found.gaps_db == pytest.approx(0)
