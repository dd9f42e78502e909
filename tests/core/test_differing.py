"""Differences of two states as lines: all of them make the one the other, each alone can be taken or is refused."""

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from miclane.core.errors import MicLaneError
from miclane.core.mix.differing import applied, edits_between, lines_between
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Edit, Insert, Move, Remove, Set, apply

EQ = {"kind": "eq", "id": "eq", "name": "Tone", "bands": [{"gain_db": 2}, {"frequency_hz": 3000, "gain_db": -1}]}
PRESS = {"kind": "compressor", "id": "press", "name": "Peaks", "threshold_db": -17}
SPLIT = {"kind": "split", "id": "split", "branches": [{"id": "b1", "name": "Crush", "stages": [{**PRESS, "id": "in"}]}]}


def session() -> Session:
    phrases = [{"id": f"p{k}", "start": 1000 * k, "end": 1000 * k + 900, "words": f"line {k}"} for k in range(4)]
    lead = {"id": "lead", "name": "Lead", "stages": [EQ, PRESS, SPLIT], "phrases": phrases}
    lead["sends"] = [{"id": "plate", "throws": [{"id": "t1", "start_s": 1, "end_s": 2}]}]
    other = {"id": "other", "name": "Other", "role": "backing", "stages": [{**EQ, "id": "e2"}]}
    returns = [{"id": r, "name": r.title(), "stages": [{"kind": "reverb", "id": "v"}]} for r in ("plate", "hall")]
    return Session.model_validate({"name": "Song", "lanes": [lead, other], "returns": returns})


KINDS: list[Edit] = [
    Set(path="lanes/lead/stages/press/threshold_db", value=-21),
    Set(path="lanes/lead/stages/press/ratio", value=6),
    Set(path="lanes/lead/stages/eq/bands/1/gain_db", value=4),
    Set(path="lanes/lead/stages/eq/bands/0/dynamic", value={"change_db": -4}),
    Insert(path="lanes/lead/stages/eq/bands", index=1, value={"gain_db": 1}),
    Remove(path="lanes/lead/stages/eq/bands/0"),
    Insert(path="lanes/lead/stages", index=1, value={"kind": "drive", "id": "drive"}),
    Insert(path="lanes/lead/stages", index=0, value={"kind": "limiter", "id": "limit"}),
    Remove(path="lanes/lead/stages/press"),
    Move(path="lanes/lead/stages/split", index=0),
    Move(path="lanes/lead/stages/eq", index=9),
    Set(path="lanes/lead/stages/split/branches/b1/stages/in/ratio", value=10),
    Insert(path="lanes/lead/stages/split/branches", index=0, value={"id": "b2", "name": "Bite"}),
    Remove(path="lanes/lead/phrases/p1"),
    Set(path="lanes/lead/phrases/p2/words", value="other words"),
    Set(path="lanes/lead/phrases/p3/trim_db", value=2.5),
    Set(path="lanes/other/follows", value="lead"),
    Set(path="lanes/other/fader_db", value=-3),
    Remove(path="lanes/other"),
    Insert(path="lanes", index=0, value={"id": "third", "name": "Third"}),
    Move(path="lanes/lead", index=9),
    Insert(path="lanes/lead/sends", index=9, value={"id": "hall", "level_db": -8}),
    Set(path="lanes/lead/sends/plate/level_db", value=-3),
    Remove(path="lanes/lead/sends/plate/throws/t1"),
    Remove(path="lanes/lead/sends/plate"),
    Remove(path="returns/hall"),
    Set(path="buses/mix/stages", value=[{"kind": "limiter", "id": "c"}]),
    Set(path="buses/lead/into", value="mix"),
    Set(path="tempo_bpm", value=100),
    Set(path="lanes/lead/sound", value={"digest": "a" * 64, "channels": 1, "frames": 9}),
    Insert(path="local_values", index=0, value={"id": "v", "path": "lanes/lead/pan", "value": 1, "section": "x"}),
    Set(path="local_values/v/value", value=0.5),
    Remove(path="local_values/v"),
]
states = st.lists(st.sampled_from(range(len(KINDS))), max_size=9)


def state(numbers: list[int]) -> Session:
    return applied(session(), [KINDS[n] for n in numbers])


@settings(max_examples=200)
@given(states, states)
def test_all_lines_make_the_one_state_the_other_and_each_is_taken_or_refused(one: list[int], other: list[int]) -> None:
    before, after = state(one), state(other)
    assert apply(before, edits_between(before, after)).session == after
    for line in lines_between(before, after):
        assert line.group and line.what and "None" not in line.text
        try:
            alone = apply(before, list(line.edits)).session
        except MicLaneError as error:
            assert str(error)
        else:
            if isinstance(line.edits[0], Move):  # where it goes depends on the others that move
                continue
            assert alone != before
            rest = lines_between(alone, after)
            assert line.path not in {x.path for x in rest if x.edits == line.edits}


@pytest.mark.parametrize(
    ("edit", "group", "text"),
    [
        (KINDS[0], "Lead", "Peaks: threshold −17.0 dB → −21.0 dB"),
        (KINDS[2], "Lead", "Tone: band 2 · gain −1.0 dB → +4.0 dB"),
        (KINDS[6], "Lead", "Drive: put in"),
        (KINDS[8], "Lead", "Peaks: taken out"),
        (KINDS[9], "Lead", "Split: moved"),
        (KINDS[11], "Lead", "Peaks: Crush · ratio 3.0 :1 → 10.0 :1"),
        (KINDS[13], "Lead", "Lead: phrase “line 1” taken out"),
        (KINDS[15], "Lead", "Lead: phrase “line 3” · trim 0.0 dB → +2.5 dB"),
        (KINDS[18], "Other", "Other: taken out"),
        (KINDS[21], "Lead", "Lead: send to Hall put in"),
        (KINDS[22], "Lead", "Lead: send to Plate · send −14.0 dB → −3.0 dB"),
        (KINDS[28], "Session", "Session: tempo 92.00 bpm → 100.00 bpm"),
        (KINDS[30], "Lead", "Lead: pan in x as the song → R 100"),
    ],
)
def test_a_line_says_where_and_from_what_to_what(edit: Edit, group: str, text: str) -> None:
    (line,) = lines_between(session(), applied(session(), [edit]))
    assert (line.group, line.text) == (group, text)


def test_nothing_differs_from_itself() -> None:
    made: Any = session()
    assert lines_between(made, made) == []
