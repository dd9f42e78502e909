"""Alternatives: differences from what lies beneath; kept, dropped, put into one another, the rest stays as it is."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from core.test_differing import KINDS, session
from miclane.core.errors import MicLaneError
from miclane.core.mix.alternatives import (
    MOST,
    alternative_of,
    differences,
    drop_edits,
    edits_of,
    keep_edits,
    make_edits,
    put_edits,
    seen_as,
    told_of,
)
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Edit, Set, apply

THRESHOLD, RATIO = "lanes/lead/stages/press/threshold_db", "lanes/lead/stages/press/ratio"
PRESS = "lanes/lead/stages/press"


def make(at: Session, scope: str = "", under: str = "") -> tuple[Session, str]:
    edits, identifier = make_edits(at, scope, under)
    return apply(at, edits).session, identifier


def set_in(at: Session, identifier: str, *edits: Edit) -> Session:
    return apply(at, edits_of(at, identifier, list(edits))).session


def press(at: Session, identifier: str = "") -> tuple[float, float]:
    stage = next(s for s in seen_as(at, identifier).lane("lead").stages if s.id == "press")
    return stage.threshold_db, stage.ratio


def test_an_alternative_begins_as_what_is_there_and_differs_where_it_is_edited() -> None:
    at, b = make(session())
    assert seen_as(at, b).lanes == at.lanes and not differences(at, b)
    at = set_in(at, b, Set(path=THRESHOLD, value=-30))
    assert press(at) == (-17, 3) and press(at, b) == (-30, 3)
    assert [x.text for x in differences(at, b)] == ["Peaks: threshold −17.0 dB → −30.0 dB"]
    at = apply(at, [Set(path=RATIO, value=8), Set(path=THRESHOLD, value=-10)]).session
    assert press(at, b) == (-30, 8)  # what it does not differ in follows
    at = set_in(at, b, Set(path=THRESHOLD, value=-10))
    assert not differences(at, b)
    assert told_of(at)[0]["of"] == "the mix" and alternative_of(at, b).name == "B"


def test_one_lies_over_another_and_what_it_is_of_bounds_it() -> None:
    at, b = make(session(), PRESS)
    at = set_in(at, b, Set(path=THRESHOLD, value=-30), Set(path="lanes/lead/fader_db", value=-5))
    assert at.lane("lead").fader_db == -5 and press(at, b) == (-30, 3)  # the fader is not of the stage
    at, c = make(at, PRESS, under=b)
    at = set_in(at, c, Set(path=RATIO, value=9))
    assert press(at, c) == (-30, 9)
    at = set_in(at, b, Set(path=THRESHOLD, value=-40))
    assert press(at, c) == (-40, 9)
    dropped = apply(at, drop_edits(at, b)).session
    assert press(dropped, c) == (-40, 9) and press(dropped) == (-17, 3)
    kept = apply(at, keep_edits(at, b)).session
    assert press(kept) == (-40, 3) and press(kept, c) == (-40, 9) and len(kept.alternatives) == 1
    assert told_of(at)[1]["of"] == "Lead · Peaks"


def test_the_others_sound_as_they_did_when_one_is_kept() -> None:
    at, b = make(session())
    at, c = make(at)
    at = set_in(at, b, Set(path=THRESHOLD, value=-30))
    at = set_in(at, c, Set(path=RATIO, value=9))
    kept = apply(at, keep_edits(at, b)).session
    assert press(kept) == (-30, 3) and press(kept, c) == (-17, 9)


def test_one_difference_is_put_into_another() -> None:
    at, b = make(session())
    at, c = make(at)
    at = set_in(at, b, Set(path=THRESHOLD, value=-30), Set(path=RATIO, value=9))
    at = apply(at, put_edits(at, b, THRESHOLD, c)).session
    assert press(at, c) == (-30, 3)
    at = apply(at, put_edits(at, b, RATIO, "")).session
    assert press(at) == (-17, 9)
    with pytest.raises(MicLaneError, match="no difference"):
        put_edits(at, b, "lanes/lead/pan", c)


def test_there_are_up_to_eight_and_refusals_are_in_words() -> None:
    at = session()
    for _ in range(MOST):
        at, _ = make(at)
    assert sorted(x.name for x in at.alternatives) == list("BCDEFGHI")
    with pytest.raises(MicLaneError, match="8 alternatives already"):
        make(at)
    with pytest.raises(MicLaneError, match="cannot have"):
        make(session(), "lanes/lead/fader_db")
    with pytest.raises(MicLaneError, match="no alternative"):
        seen_as(at, "nothing")


@settings(max_examples=80)
@given(st.lists(st.tuples(st.sampled_from(["", "b", "c"]), st.sampled_from(range(len(KINDS)))), max_size=12))
def test_whatever_is_edited_where_keeping_and_dropping_change_nothing_else(drawn: list[tuple[str, int]]) -> None:
    at, b = make(session())
    at, c = make(at, under=b)
    for where, number in drawn:
        target = {"": "", "b": b, "c": c}[where]
        edits = [KINDS[number]]
        try:
            at = apply(at, edits_of(at, target, edits) if target else edits).session
        except MicLaneError:
            continue
    before = {i: seen_as(at, i) for i in (b, c)}

    def plain(one: Session) -> Session:
        return one.model_copy(update={"alternatives": ()})

    dropped = apply(at, drop_edits(at, b)).session
    assert plain(seen_as(dropped, c)) == plain(before[c]) and plain(dropped) == plain(at)
    kept = apply(at, keep_edits(at, b)).session
    assert plain(kept) == plain(before[b]) and plain(seen_as(kept, c)) == plain(before[c])
