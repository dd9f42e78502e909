"""Handles: several settings moved by one number, over ranges of their own."""

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from miclane.core.errors import MicLaneError, UnusableChainError
from miclane.core.mix.chain import read_chain
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Insert, Move, Remove, Set, apply
from miclane.core.mix.handle import HandleMove
from miclane.core.mix.handling import gathered, handle_edits, position_of, renumbered, shifted
from miclane.core.mix.pasting import copied_chain
from miclane.core.mix.swapping import keeps_as_file, keeps_of_file, put_chain

EQ = {
    "kind": "eq",
    "id": "e",
    "bands": [{"shape": "bell", "frequency_hz": 200}, {"shape": "bell", "frequency_hz": 500}],
}
INNER = {"id": "b", "name": "Crush", "stages": [{"kind": "compressor", "id": "in", "threshold_db": -30}]}
STAGES = [{"kind": "compressor", "id": "c"}, EQ, {"kind": "split", "id": "s", "branches": [INNER]}]
SESSION = Session.model_validate(
    {"name": "M", "lanes": [{"id": "lead", "name": "Lead", "stages": STAGES}, {"id": "low", "name": "Low"}]}
)
LEAD = "lanes/lead/stages"


def moved(*edits: Set) -> Session:
    return apply(SESSION, list(edits)).session


def with_handle(*edits: Set) -> Session:
    after = moved(*edits)
    made = gathered(after, "lead", position_of(SESSION, "lead"), "Grip")
    return apply(after, [Insert(path="lanes/lead/handles", index=0, value=made.model_dump(mode="json"))]).session


FOUR = (
    Set(path=f"{LEAD}/c/threshold_db", value=-33.0),
    Set(path=f"{LEAD}/e/bands/1/frequency_hz", value=800.0),
    Set(path=f"{LEAD}/s/branches/b/blend_db", value=-20.0),
    Set(path=f"{LEAD}/s/branches/b/stages/in/ratio", value=9.0),
)


def test_a_handle_is_gathered_from_what_was_moved_and_nothing_else() -> None:
    handle = with_handle(*FOUR).lane("lead").handles[0]
    assert [(m.at, m.at_0, m.at_1, m.scale) for m in handle.moves] == [
        ("stages/c/threshold_db", -20.0, -33.0, "linear"),
        ("stages/e/bands/1/frequency_hz", 500.0, 800.0, "log"),
        ("stages/s/branches/b/blend_db", -14.0, -20.0, "linear"),
        ("stages/s/branches/b/stages/in/ratio", 3.0, 9.0, "log"),
    ]
    assert handle.value == 1.0 and handle.name == "Grip"
    with pytest.raises(MicLaneError, match="no setting lies otherwise"):
        gathered(SESSION, "lead", position_of(SESSION, "lead"))


def test_its_ends_are_exact_and_between_them_it_goes_by_its_scale() -> None:
    session = with_handle(*FOUR)
    path = f"lanes/lead/handles/{session.lane('lead').handles[0].id}/value"
    for value, wanted in (
        (0.0, (-20.0, 500.0, -14.0, 3.0)),
        (1.0, (-33.0, 800.0, -20.0, 9.0)),
        (0.5, (-26.5, 632.4555, -17.0, 5.1962)),
    ):
        done = apply(session, [Set(path=path, value=value)])
        after = apply(done.session, handle_edits(done.session, done.made)).session
        assert tuple(position_of(after, "lead")[m.at] for m in after.lane("lead").handles[0].moves) == wanted


@settings(max_examples=200)
@given(a=st.floats(-60, 60), b=st.floats(-60, 60), at=st.floats(0, 1))
def test_it_never_leaves_its_range(a: float, b: float, at: float) -> None:
    move = HandleMove.model_validate({"at": "x", "from": a, "to": b})
    assert min(a, b) - 1e-4 <= move.value(at) <= max(a, b) + 1e-4
    assert (move.value(0), move.value(1)) == (a, b)


def test_bands_put_in_and_taken_out_are_followed() -> None:
    session = with_handle(*FOUR)
    band = {"shape": "bell", "frequency_hz": 100}
    for edit, wanted in (
        (Insert(path=f"{LEAD}/e/bands", index=0, value=band), "stages/e/bands/2/frequency_hz"),
        (Remove(path=f"{LEAD}/e/bands/0"), "stages/e/bands/0/frequency_hz"),
        (Move(path=f"{LEAD}/e/bands/1", index=0), "stages/e/bands/0/frequency_hz"),
        (Remove(path=f"{LEAD}/e/bands/1"), None),
    ):
        done = apply(session, [edit])
        after = apply(done.session, renumbered(done.session, done.made)).session
        places = [m.at for m in after.lane("lead").handles[0].moves if "bands" in m.at]
        assert places == ([wanted] if wanted else [])


def test_what_is_measured_anew_takes_the_range_along() -> None:
    session = with_handle(*FOUR)
    edits = [Set(path=f"{LEAD}/c/threshold_db", value=-23.0), Set(path=f"{LEAD}/e/bands/1/frequency_hz", value=400.0)]
    after = apply(session, [*edits, *shifted(session, edits)]).session
    first, second, *_ = after.lane("lead").handles[0].moves
    assert (first.at_0, first.at_1) == (-10.0, -23.0)
    assert (second.at_0, second.at_1) == (250.0, 400.0)


def test_a_chain_carries_handles_by_number_and_they_come_to_the_stages_it_gets() -> None:
    chain = copied_chain(with_handle(*FOUR), "lead", [])
    text = chain.model_dump_json()
    assert [m["at"] for m in json.loads(text)["handles"][0]["moves"]] == [
        "stages/0/threshold_db",
        "stages/1/bands/1/frequency_hz",
        "stages/2/branches/0/blend_db",
        "stages/2/branches/0/stages/0/ratio",
    ]
    assert set(json.loads(text)["handles"][0]["moves"][0]) == {"at", "from", "to", "scale"}
    assert read_chain(text) == chain
    after = apply(SESSION, put_chain(SESSION, "low", chain, "replace").edits).session
    low, lead = after.lane("low"), with_handle(*FOUR).lane("lead")
    assert [position_of(after, "low")[m.at] for m in low.handles[0].moves] == [m.at_1 for m in lead.handles[0].moves]
    assert not {s.id for s in low.stages} & {s.id for s in lead.stages}
    part = copied_chain(with_handle(*FOUR), "lead", ["c"])
    assert [m.at for m in part.handles[0].moves] == ["stages/0/threshold_db"]
    again = apply(after, put_chain(after, "low", part, "replace").edits).session.lane("low")
    assert len(again.handles) == 1 and len(again.handles[0].moves) == 1
    twice = apply(after, put_chain(after, "low", part, "after").edits).session.lane("low")
    assert len(twice.handles) == 2


@pytest.mark.parametrize(
    ("move", "words"),
    [
        ({"at": "stages/1/ratio", "from": 1, "to": 2}, "stages/1/ratio"),
        ({"at": "stages/0/kind", "from": 1, "to": 2}, "is no number"),
        ({"at": "stages/0/ratio", "from": 0.5, "to": 2}, "not between 1 and 100"),
        ({"at": "stages/0/makeup_db", "from": 0, "to": 2, "scale": "log"}, "over 0"),
        ({"at": "stages/0/ratio", "from": 1, "to": 2, "way": 1}, "no such field"),
        ({"at": "stages/0/ratio", "to": 2}, "from"),
    ],
)
def test_a_wrong_handle_in_a_chain_is_refused_with_its_place(move: dict, words: str) -> None:
    handles = [{"id": "h", "name": "H", "moves": [move]}]
    chain = {"format": "mic-lane/chain", "version": 1, "stages": [{"kind": "compressor"}], "handles": handles}
    with pytest.raises(UnusableChainError, match="handles") as found:
        read_chain(json.dumps(chain))
    assert words in str(found.value)
    with pytest.raises(UnusableChainError, match="handles"):
        read_chain(json.dumps({**chain, "handles": [{"id": f"h{k}", "name": "H"} for k in range(9)]}))


def test_what_a_swap_keeps_reads_the_same_in_a_file() -> None:
    names = ("levels", "mix", "sends")
    told = keeps_as_file(names)
    assert "stages/*/mix" in told and "sends/*/level_db" in told
    assert keeps_of_file(told) == names
    assert keeps_of_file(("stages/*/mix", "stages/*/ratio")) == ("mix", "stages/*/ratio")
    chain = {"format": "mic-lane/chain", "version": 1, "stages": [{"kind": "trim"}], "keeps": ["stages/*/mix"]}
    assert read_chain(json.dumps(chain)).keeps == ("stages/*/mix",)
    with pytest.raises(UnusableChainError, match="keeps"):
        read_chain(json.dumps({**chain, "keeps": ["everything"]}))
