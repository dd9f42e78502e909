"""What follows from a value along a path, and the passes in their order."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from miclane.core.passes.order import PASSES
from miclane.core.passes.trail import Trail

VALUES = st.lists(st.floats(-60, 60).map(lambda v: round(v, 2)), min_size=1, max_size=12)


@pytest.mark.parametrize(
    ("values", "standing", "mended_at", "by"),
    [
        ((5.0,), "open", None, []),
        ((-3.0,), "fine", None, []),
        ((5.0, -1.0), "mended", 1, []),
        ((5.0, -1.0, 2.9), "mended", 1, []),
        ((5.0, -1.0, 3.1), "again", 1, [2]),
        ((-1.0, 3.1), "again", None, [1]),
        ((5.0, 4.0, 7.0), "open", None, [2]),
        ((5.0, -2.0, 0.5, 2.5, 9.0, 9.5), "again", 1, [4]),  # since it was within the limit last, not since it was good
        ((5.0, -2.0, 8.0, 1.0, 4.0), "again", 1, [4]),  # what was mended once more does not count
        ((5.0, -2.0, 5.0, 8.0, 4.0), "again", 1, [2, 3]),
        ((5.0, -2.0, 5.0, 5.5, 4.0), "again", 1, [2]),  # what is far less is not named beside it
    ],
)
def test_what_is_mended_open_again_and_whose_doing_it_is(
    values: tuple[float, ...], standing: str, mended_at: int | None, by: list[int]
) -> None:
    trail = Trail(values, 0.0, 3.0)
    assert trail.standing == standing
    assert trail.mended_at == mended_at
    assert [r.place for r in trail.rises if trail.standing in ("open", "again")] == by


@given(VALUES, st.floats(0, 10))
def test_only_a_place_that_raised_it_is_named_and_what_is_open_again_has_one(
    values: list[float], margin: float
) -> None:
    trail = Trail(tuple(values), 0.0, margin)
    assert (trail.last > (margin if min(values) <= 0 else 0.0)) == (trail.standing in ("open", "again"))
    rises = trail.rises
    assert all(r.by == pytest.approx(values[r.place] - values[r.place - 1]) and r.by > 0 for r in rises)
    assert [r.by for r in rises] == sorted((r.by for r in rises), reverse=True)
    if trail.standing == "again":
        within = [k for k, v in enumerate(values) if v <= margin]
        steps = np.diff(values)[within[-1] :]
        assert rises and rises[0].by == pytest.approx(steps.max()) and rises[0].place > within[-1]


def test_passes_are_numbered_as_they_are_worked_through() -> None:
    order = ["level", "clean", "deess", "control", "weight", "tone", "space", "backings", "fit", "keep"]
    assert [p.id for p in PASSES] == order
    assert [p.id for p in PASSES if p.of_lane] == order[:6]
    assert all(p.does.endswith(".") and p.hear.endswith(".") for p in PASSES)
