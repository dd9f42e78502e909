"""What is worked out once for each object: of the very same one only, and of what is equal to it again."""

from typing import Any

import pytest

from miclane.core.mix.document import Session
from miclane.core.mix.edits import Set, apply, tried
from miclane.core.same import Same, once_each
from miclane.core.stages.flat import flat_stages


def test_each_object_is_looked_at_once_and_its_equal_again() -> None:
    asked: list[Any] = []

    @once_each(2)
    def total(of: tuple[int, ...]) -> int:
        asked.append(of)
        return sum(of)

    one, equal = tuple([1, 2]), tuple([1, 2])
    assert [total(one), total(one), total(equal), total(one)] == [3, 3, 3, 3]
    assert len(asked) == 2
    assert asked[0] is one and asked[1] is equal
    total((4, 5))  # one too many: what was asked for longest ago is let go of
    total(equal)
    assert len(asked) == 4
    assert Same(one) == Same(one) != Same(equal)
    assert Same(one) != one


def test_what_could_not_be_worked_out_is_tried_again() -> None:
    tries = []

    @once_each(4)
    def never(of: object) -> None:
        tries.append(of)
        raise ValueError("no")

    for _ in range(2):
        with pytest.raises(ValueError, match="no"):
            never(tries)
    assert len(tries) == 2


def test_after_an_edit_only_what_it_reached_is_another_object() -> None:
    stages = [
        {"kind": "eq", "id": "e"},
        {"kind": "split", "id": "s", "branches": [{"id": "b", "stages": [{"kind": "drive", "id": "d"}]}]},
    ]
    lanes = [{"id": name, "name": name, "stages": stages} for name in ("lead", "other")]
    session = Session.model_validate({"name": "Two", "lanes": lanes})
    after = apply(session, [Set(path="lanes/lead/stages/s/branches/b/stages/d/amount_db", value=3.0)]).session
    assert after.lanes[1] is session.lanes[1]
    assert flat_stages(after.lanes[1].stages) is flat_stages(session.lanes[1].stages)
    found = flat_stages(after.lanes[0].stages)
    assert [s.id for s in found] == ["e", "s", "d"]
    assert found[2].amount_db == 3  # type: ignore[attr-defined]


def test_what_is_tried_is_what_is_applied_but_for_the_whole() -> None:
    session = Session.model_validate({"name": "One", "lanes": [{"id": "lead", "name": "Lead"}]})
    edits = [Set(path="lanes/lead/fader_db", value=-3.0)]
    assert tried(session, edits) == apply(session, edits)
    lost = tried(session, [Set(path="lanes/lead/bus", value="gone")]).session  # which `apply` refuses
    assert lost.lanes[0].bus == "gone"
