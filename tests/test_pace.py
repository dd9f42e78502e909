"""How long it is waited for a hand that makes one change after another."""

import pytest

from miclane.studio.pace import Pace


@pytest.mark.parametrize(
    ("times", "waits"),
    [
        ((0.0,), 0.6),  # one change: a moment
        ((0.0, 0.02, 0.04, 0.06), 0.6),  # a drag
        ((0.0, 0.8), 1.04),  # by steps: its next is waited for
        ((0.0, 0.8, 1.0, 1.1), 1.04),  # as long as it has paused between its last steps
        ((0.0, 0.8, 1.0, 1.1, 1.2), 0.6),  # the longest of the last three
        ((0.0, 0.8, 2.0), 0.6),  # it has listened meanwhile
    ],
)
def test_a_hand_is_waited_for_as_it_goes(times: tuple[float, ...], waits: float) -> None:
    pace = Pace(0.6)
    assert [pace.after(t) for t in times][-1] == pytest.approx(waits)
