"""Stages and sends copied from one place and put in at another."""

from typing import Any

import pytest

from miclane.core.errors import UnknownPlaceError
from miclane.core.mix.edits import Insert, Set, apply
from miclane.core.mix.pasting import copied_chain, paste_sends, paste_stages
from miclane.core.stages.flat import flat_stages

HAND = {"start_s": 1.0, "end_s": 1.1, "gain_db": -4.0}


def pasted(session: Any, target: str, chain: Any, taken_from: str = "lead", index: int = 0) -> tuple[Any, list[str]]:
    done = paste_stages(session, target, index, chain, taken_from)
    return apply(session, done.edits).session, done.left_out


def test_a_whole_chain_goes_to_another_lane(demo) -> None:
    session = apply(demo.session, [Set(path="lanes/lead/stages/deess/by_hand", value=[HAND])]).session
    chain = copied_chain(session, "lead", [])
    assert [s.id for s in chain.stages] == [s.id for s in session.lane("lead").stages]
    after, left_out = pasted(session, "lanes/double/stages", chain)
    new = after.lane("double").stages[: len(chain.stages)]
    assert left_out == []
    assert [s.label for s in new] == [s.label for s in chain.stages]
    ids = [s.id for s in flat_stages(after.lane("double").stages)]
    assert len(set(ids)) == len(ids)
    assert not {s.id for s in flat_stages(new)} & {s.id for s in flat_stages(chain.stages)}
    deess = next(s for s in new if s.label == "De-ess")
    assert deess.by_hand == ()
    same, _ = pasted(session, "lanes/lead/stages", copied_chain(session, "lead", ["deess"]))
    assert same.lane("lead").stages[0].by_hand[0].gain_db == -4


def test_a_run_keeps_its_order_and_goes_inside_a_branch(demo) -> None:
    chain = copied_chain(demo.session, "lead", ["level", "peaks", "split"])
    assert [s.id for s in chain.stages] == ["peaks", "level", "split"]
    after, left_out = pasted(demo.session, "lanes/lead/stages/split/branches/crush/stages", chain, index=1)
    inside = next(s for s in after.lane("lead").stages if s.id == "split").branches[0].stages
    assert [s.label for s in inside] == ["Crush", "Peaks", "Level", "Catch"]
    assert left_out == ["Thicken: it cannot stand inside a branch"]


def test_what_cannot_stand_there_is_left_out_and_named(demo) -> None:
    _, left_out = pasted(demo.session, "returns/plate/stages", copied_chain(demo.session, "lead", ["trim", "level"]))
    assert left_out == ["Trim: it works from a take, so it stands on lanes only"]
    _, left_out = pasted(demo.session, "lanes/lead/stages", copied_chain(demo.session, "return:plate", []), "")
    assert left_out == [f"{name}: it stands on returns only" for name in ("Plate", "Duck")]
    with pytest.raises(UnknownPlaceError):
        paste_stages(demo.session, "lanes/nobody/stages", 0, copied_chain(demo.session, "lead", []))


def test_keys_and_sends_mean_something_where_they_come(demo) -> None:
    keyed = {"kind": "eq", "id": "k", "key": {"lane": "lead", "tap": "raw"}}
    branch = {"id": "b", "name": "B", "sends": [{"id": "plate"}], "stages": []}
    fork = {"kind": "split", "id": "f", "branches": [branch]}
    edits = [Insert(path="lanes/lead/stages", index=0, value=v) for v in (keyed, fork)]
    session = apply(demo.session, edits).session
    chain = copied_chain(session, "lead", ["k", "f"])
    here, _ = pasted(session, "lanes/double/stages", chain)
    split, eq = here.lane("double").stages[:2]
    assert eq.key.lane == "double"
    assert [s.id for s in split.branches[0].sends] == ["plate"]
    on_a_bus, _ = pasted(session, "buses/music/stages", chain)
    split, eq = next(b for b in on_a_bus.buses if b.id == "music").stages[:2]
    assert (eq.key.lane, split.branches[0].sends) == ("lead", ())
    bare = session.model_copy(update={"lanes": session.lanes[1:2], "returns": ()})
    bare = bare.model_copy(update={"lanes": (bare.lanes[0].model_copy(update={"sends": ()}),)})
    elsewhere, _ = pasted(bare, "lanes/double/stages", chain, "")
    split, eq = elsewhere.lane("double").stages[:2]
    assert (eq.key.lane, split.branches[0].sends) == ("double", ())


def test_sends_go_by_the_names_of_their_returns(demo) -> None:
    throw = {"id": "t", "start_s": 1, "end_s": 2}
    sends = [{"id": "elsewhere", "name": "plate", "level_db": -3.5, "throws": [throw]}, {"id": "no", "name": "Cave"}]
    done = paste_sends(demo.session, "bass", [dict(s) for s in sends])
    session = apply(demo.session, done.edits).session
    assert [(s.id, s.level_db, s.throws) for s in session.lane("bass").sends] == [("plate", -3.5, ())]
    assert done.left_out == ["there is no return “cave”"]
    session = apply(session, paste_sends(session, "double", [dict(s) for s in sends[:1]]).edits).session
    assert [(s.id, s.level_db) for s in session.lane("double").sends] == [("plate", -3.5)]
