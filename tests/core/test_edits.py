"""One way to validate: whatever is edited, quickly or slowly, has the same verdict; circles are refused everywhere."""

import json
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from miclane.core.engine.builder import Builder
from miclane.core.errors import MicLaneError, UnusableChainError
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Edit, Insert, Move, Remove, Set, apply
from miclane.core.mix.plain import apply_to_tree
from miclane.core.stages.base import Stage

KEYED = {"shape": "bell", "dynamic": {"threshold_db": -30, "keyed_by": "key"}}
SINGLE: dict[str, dict[str, Any]] = {kind: {"kind": kind} for kind, cls in Stage.kinds.items() if cls.insertable}


def document() -> Session:
    lead = [
        {"kind": "eq", "id": "e", "on": False, "bands": [KEYED, {}], "key": {"lane": "double"}},
        {"kind": "compressor", "id": "c"},
        {
            "kind": "split",
            "id": "s",
            "branches": [{"id": "b", "stages": [{"kind": "deess", "id": "d"}], "sends": [{"id": "plate"}]}],
        },
    ]
    double = [{"kind": "eq", "id": "e", "bands": [KEYED], "key": {"lane": "lead"}}, {"kind": "multiband", "id": "m"}]
    phrases = [{"id": "p1", "start": 0, "end": 900}, {"id": "p2", "start": 1000, "end": 2000, "words": "salt"}]
    lanes = [
        {"id": "lead", "name": "Lead", "stages": lead, "sends": [{"id": "plate"}], "phrases": phrases},
        {"id": "double", "name": "Double", "stages": double, "bus": "backings"},
    ]
    duck = {"kind": "duck", "id": "k", "key": {"lane": "lead"}}
    plate = {"id": "plate", "name": "Plate", "stages": [{"kind": "reverb", "id": "r"}, duck]}
    return Session.model_validate({"name": "m", "lanes": lanes, "returns": [plate]})


def apply_plainly(session: Session, edits: list[Edit]) -> Session:
    """The slow and simple way: the whole document as a tree, and the whole of it validated afterwards."""
    tree = session.model_dump(mode="json")
    apply_to_tree(tree, edits)
    try:
        return Session.model_validate(tree)
    except ValidationError as error:
        raise UnusableChainError(str(error)) from error


def places(tree: Any, path: str = "") -> list[tuple[str, Any]]:
    """Every place of a document, lists and models included."""
    found = [(path, tree)] if path else []
    if isinstance(tree, dict):
        for name, value in tree.items():
            found += places(value, f"{path}/{name}".lstrip("/"))
    elif isinstance(tree, list):
        for i, member in enumerate(tree):
            name = (isinstance(member, dict) and member.get("id")) or str(i)
            found += places(member, f"{path}/{name}")
    return found


TREE = document().model_dump(mode="json")
PLACES = [path for path, _ in places(TREE)]
LISTS = [path for path, value in places(TREE) if isinstance(value, list)]
VALUES = st.one_of(
    st.sampled_from(
        [True, False, None, 0, 1, -60, 1e9, -0.5, 440, "lead", "double", "plate", "mix", "nobody", "", "bell"]
    ),
    st.sampled_from(["low_cut", "key", "raw", "treated", [], {}, [{}], {"lane": "double"}, [KEYED], float("nan")]),
    st.floats(-100, 100),
)
NEW = st.sampled_from(
    [
        *({**value, "id": "new"} for value in SINGLE.values()),
        {"id": "plate", "level_db": -3},
        {"id": "e", "kind": "eq"},
        {"gain_db": -4},
        KEYED,
        {"id": "p9", "start": 950, "end": 990},
        {"id": "x", "name": "X", "into": "vocals"},
        {"id": "x", "name": "X"},
        {"id": "t", "start_s": 1, "end_s": 2},
        3,
    ]
)
EDITS: st.SearchStrategy[Edit] = st.one_of(
    st.tuples(st.sampled_from(PLACES), VALUES).map(lambda t: Set(path=t[0], value=t[1])),
    st.tuples(st.sampled_from(LISTS), st.integers(0, 4), NEW).map(lambda t: Insert(path=t[0], index=t[1], value=t[2])),
    st.sampled_from(PLACES).map(lambda p: Remove(path=p)),
    st.tuples(st.sampled_from(PLACES), st.integers(0, 4)).map(lambda t: Move(path=t[0], index=t[1])),
    st.sampled_from(["lanes/lead/stages/e/on", "lanes/double/stages/e/on"]).map(lambda p: Set(path=p, value=True)),
)


@settings(max_examples=400)
@given(st.lists(EDITS, min_size=1, max_size=4))
def test_every_edit_has_the_verdict_of_the_slow_way(edits: list[Edit]) -> None:
    before = document()
    try:
        done = apply(before, edits)
    except MicLaneError:
        if len(edits) == 1:  # of several, one may be refused that a later one would have taken away again
            with pytest.raises(MicLaneError):
                apply_plainly(before, edits)
        return
    assert apply_plainly(before, done.made) == done.session
    assert apply(before, done.made).session == done.session, "what was really made makes the same again"
    assert apply(done.session, done.inverses).session == before
    assert json.dumps([e.model_dump(mode="json") for e in done.made], allow_nan=False)
    assert before == document()


def test_a_circle_of_keys_is_refused_when_it_is_closed() -> None:
    with pytest.raises(UnusableChainError, match="listen to one another"):
        apply(document(), [Set(path="lanes/lead/stages/e/on", value=True)])
    opened = apply(document(), [Set(path="lanes/double/stages/e/on", value=False)]).session
    closed = apply(opened, [Set(path="lanes/lead/stages/e/on", value=True)]).session
    with pytest.raises(UnusableChainError, match="listen to one another"):
        apply(closed, [Set(path="lanes/double/stages/e/on", value=True)])


def test_the_builder_refuses_circles_by_itself() -> None:
    lead, double = document().lanes
    on = lead.stages[0].model_copy(update={"on": True})
    circle = document().model_copy(update={"lanes": (lead.model_copy(update={"stages": (on,)}), double)})
    with pytest.raises(UnusableChainError, match="listen to one another"):
        Builder(circle).build()
    buses = tuple(b.model_copy(update={"into": "lead" if b.id == "vocals" else b.into}) for b in document().buses)
    with pytest.raises(UnusableChainError, match="feeds itself"):
        Builder(document().model_copy(update={"buses": buses})).build()


def test_two_sends_to_one_return_are_refused() -> None:
    with pytest.raises(UnusableChainError, match="two sends"):
        apply(document(), [Insert(path="lanes/lead/sends", index=0, value={"id": "plate"})])
    inside = "lanes/lead/stages/s/branches/b/sends"
    with pytest.raises(UnusableChainError, match="two sends"):
        apply(document(), [Insert(path=inside, index=1, value={"id": "plate"})])


@pytest.mark.parametrize("field", ["raw", "throws"])
def test_what_a_branchs_send_cannot_do_is_refused(field: str) -> None:
    value = {"id": "plate", field: True if field == "raw" else []}
    path = "lanes/lead/stages/s/branches/b/sends"
    with pytest.raises(UnusableChainError, match=field):
        apply(document(), [Remove(path=f"{path}/plate"), Insert(path=path, index=0, value=value)])
