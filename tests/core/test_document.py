"""The session document, its edits with their inverses, chain files, and the rules of the layers."""

import ast
import json
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import miclane
from miclane.core.errors import MicLaneError, UnknownPlaceError, UnusableChainError
from miclane.core.mix.chain import read_chain, schema
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Insert, Move, Remove, Set, apply, touches
from miclane.core.mix.labels import describe_edits
from miclane.core.mix.places import walk
from miclane.core.stages.base import Stage
from miclane.core.units import beat_ms, note_hz, note_name, parse_value, show_value

EXAMPLE = {
    "format": "mic-lane/chain",
    "version": 1,
    "name": "Example",
    "stages": [
        {
            "kind": "eq",
            "name": "Clean EQ",
            "on": True,
            "bands": [
                {"shape": "low_cut", "frequency_hz": 96, "slope_db_per_octave": 12},
                {"shape": "bell", "frequency_hz": 523, "gain_db": -5.6, "q": 4.2, "target": "stereo"},
            ],
        },
        {"kind": "deess", "mode": "split", "low_hz": 5200, "high_hz": 12000, "threshold_db": -6, "max_cut_db": 8},
        {
            "kind": "compressor",
            "response": "clean",
            "threshold_db": -20,
            "ratio": 4,
            "knee_db": 6,
            "attack_ms": 3.5,
            "release_ms": 60,
            "makeup_db": 0,
            "mix": 1.0,
            "detector": "peak",
            "key_low_cut_hz": 0,
        },
        {
            "kind": "split",
            "dry_db": 0,
            "branches": [
                {"name": "Crush", "blend_db": -14, "stages": [{"kind": "compressor", "ratio": 12}, {"kind": "limiter"}]}
            ],
        },
        {"kind": "limiter", "ceiling_dbtp": -1.0, "gain_db": 0},
        {
            "kind": "duck",
            "key": {"lane": "lead", "tap": "treated"},
            "threshold_db": -32,
            "depth_db": 9,
            "attack_ms": 17,
            "hold_ms": 40,
            "release_ms": 180,
        },
    ],
}


def session() -> Session:
    stages = [
        {"kind": "eq", "id": "e", "name": "Clean EQ", "bands": [{"gain_db": 1.0}, {"gain_db": 2.0}, {"gain_db": 3.0}]},
        {"kind": "compressor", "id": "c"},
        {"kind": "split", "id": "s", "branches": [{"id": "b", "stages": [{"kind": "limiter", "id": "l"}]}]},
    ]
    lanes = [
        {"id": "lead", "name": "Lead", "bus": "lead", "stages": stages},
        {"id": "double", "name": "Double", "bus": "backings"},
    ]
    return Session.model_validate({"name": "Test", "lanes": lanes, "returns": [{"id": "plate", "name": "Plate"}]})


def test_the_published_example_is_read_and_defaults_fill_the_rest() -> None:
    chain = read_chain(json.dumps(EXAMPLE))
    assert [s.kind for s in chain.stages] == ["eq", "deess", "compressor", "split", "limiter", "duck"]
    assert chain.stages[2].hold_ms == 0
    assert read_chain(json.dumps({"format": "mic-lane/chain", "version": 1, **chain.model_dump(mode="json")})) == chain


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda c: c["stages"][0].update(kind="flanger"), "stages[0]"),
        (lambda c: c["stages"][0]["bands"][1].update(frequncy=3), "stages[0].bands[1].frequncy: no such field"),
        (
            lambda c: c["stages"][3]["branches"][0]["stages"][0].update(ratio=0.2),
            "stages[3].branches[0].stages[0].ratio",
        ),
        (lambda c: c["stages"][0]["bands"][0].update(slope_db_per_octave=13), "slope_db_per_octave must be one of 6"),
        (lambda c: c["stages"][2].update(threshold_db="loud"), "stages[2].threshold_db"),
        (lambda c: c.update(version=4), "version"),
        (lambda c: c.update(format="other"), "format"),
        (lambda c: c["stages"][4].pop("kind"), "stages[4]: has no “kind”"),
        (lambda c: c["stages"][2].update(attack_ms=float("nan")), "stages[2].attack_ms"),
    ],
)
def test_a_wrong_chain_is_refused_with_its_place(change, words: str) -> None:
    chain = json.loads(json.dumps(EXAMPLE))
    change(chain)
    with pytest.raises(UnusableChainError) as error:
        read_chain(json.dumps(chain))
    assert words in str(error.value)


@pytest.mark.parametrize("text", ["", "{", "[]", "null", '"x"', "[" * 100_000, b"\xff\xfe"])
def test_text_that_is_no_chain_is_refused(text) -> None:
    with pytest.raises(UnusableChainError):
        read_chain(text)


def test_schemas_name_every_kind() -> None:
    for which in ("chain", "session"):
        text = json.dumps(schema(which))
        assert all(f'"{kind}"' in text for kind in Stage.kinds)
        assert "deess" in text


EDITS = st.one_of(
    st.floats(-20, 20).map(lambda v: Set(path="lanes/lead/stages/e/bands/1/gain_db", value=v)),
    st.booleans().map(lambda v: Set(path="lanes/lead/stages/c/on", value=v)),
    st.floats(-60, 12).map(lambda v: Set(path="lanes/lead/stages/s/branches/b/blend_db", value=v)),
    st.integers(0, 5).map(lambda i: Insert(path="lanes/lead/stages", index=i, value={"kind": "trim"})),
    st.integers(0, 5).map(lambda i: Insert(path="lanes/lead/stages/e/bands", index=i, value={"gain_db": -4})),
    st.integers(0, 2).map(lambda i: Remove(path=f"lanes/lead/stages/e/bands/{i}")),
    st.sampled_from(["c", "s", "e"]).map(lambda i: Remove(path=f"lanes/lead/stages/{i}")),
    st.tuples(st.sampled_from(["c", "s", "e"]), st.integers(0, 4)).map(
        lambda t: Move(path=f"lanes/lead/stages/{t[0]}", index=t[1])
    ),
    st.just(Insert(path="lanes/double/sends", index=0, value={"id": "plate"})),
)


@settings(max_examples=80)
@given(st.lists(EDITS, max_size=12))
def test_inverses_take_every_edit_back(edits) -> None:
    at = session()
    undo = []
    for edit in edits:
        try:
            done = apply(at, [edit])
        except MicLaneError:
            continue
        at = done.session
        undo.append(done.inverses)
    for inverses in reversed(undo):
        at = apply(at, inverses).session
    assert at == session()


@pytest.mark.parametrize(
    "edit",
    [
        Set(path="lanes/nobody/fader_db", value=0),
        Set(path="lanes/lead/stages/e/bands/7/gain_db", value=0),
        Set(path="lanes/lead/volume", value=0),
        Set(path="lanes/lead/id", value="x"),
        Remove(path="lanes"),
        Insert(path="lanes/lead", index=0, value={}),
        Move(path="name", index=1),
        Set(path="", value=1),
    ],
)
def test_edits_that_lead_nowhere_are_refused(edit) -> None:
    with pytest.raises(UnknownPlaceError):
        apply(session(), [edit])


@pytest.mark.parametrize(
    "edit",
    [
        Set(path="lanes/lead/fader_db", value=1e9),
        Set(path="lanes/lead/bus", value="nowhere"),
        Insert(path="lanes/double/sends", index=0, value={"id": "nothing"}),
        Remove(path="buses/vocals"),
        Set(path="buses/vocals/into", value="lead"),
        Insert(path="lanes", index=0, value={"id": "lead", "name": "x"}),
        Set(path="lanes/lead/stages/c/ratio", value=None),
        Remove(path="buses/mix"),
    ],
)
def test_edits_that_break_the_session_are_refused(edit) -> None:
    with pytest.raises(UnusableChainError):
        apply(session(), [edit])


def test_what_clashes_and_what_does_not() -> None:
    gain = Set(path="lanes/lead/stages/e/bands/1/gain_db", value=1)
    assert touches([gain], [Set(path="lanes/lead/stages/e/bands/1/gain_db", value=2)])
    assert touches([gain], [Remove(path="lanes/lead/stages/e")])
    assert touches([gain], [Remove(path="lanes/lead/stages/e/bands/0")])
    assert not touches([gain], [Set(path="lanes/lead/stages/e/bands/1/q", value=2)])
    assert not touches([gain], [Insert(path="lanes/lead/stages", index=0, value={})])
    assert not touches([gain], [Set(path="lanes/double/fader_db", value=1)])


def test_history_speaks_the_engineers_words() -> None:
    said = describe_edits(session(), [Set(path="lanes/lead/stages/e/bands/1/frequency_hz", value=523.0)])
    assert said == "Lead · Clean EQ · band 2 · Frequency 523 Hz"
    assert describe_edits(session(), [Set(path="lanes/lead/stages/c/on", value=False)]) == "Lead · Compressor · on off"
    assert walk(session(), "lanes/lead/stages/e/bands/2/gain_db")[-1].value == 3.0


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("1.5k", "Hz", 1500),
        ("c5", "Hz", 523.25),
        ("A4", "Hz", 440),
        ("f#3", "Hz", 185.0),
        ("−3,5 dB", "dB", -3.5),
        ("4:1", ":1", 4),
        ("80 %", "%", 0.8),
        ("1/8", "ms", 326.09),
        ("1/8d", "ms", 489.13),
        ("1/4t", "s", 0.4348),
        ("0.2 s", "ms", 200),
        ("250 ms", "s", 0.25),
        ("2.5 kHz", "Hz", 2500),
        ("L 35", "pan", -0.35),
    ],
)
def test_typed_values(text: str, unit: str, value: float) -> None:
    assert abs(parse_value(text, unit, 92.0) / value - 1) < 1e-3


@pytest.mark.parametrize("text", ["", "loud", "1/0", "h3", "--3", "1 2"])
def test_typed_nonsense_is_refused_in_words(text: str) -> None:
    with pytest.raises(MicLaneError, match="not a"):
        parse_value(text, "ms")


def test_units_shown() -> None:
    assert show_value(1500, "Hz") == ("1.5", "kHz")
    assert show_value(-5.6, "dB") == ("−5.6", "dB")
    assert show_value(9, "dB", signed=False) == ("9.0", "dB")
    assert show_value(0.35, "pan") == ("R 35", "")
    assert show_value(0.0, "pan") == ("C", "")
    assert note_name(523.25) == "C5 +0c"
    assert abs(note_hz("b3") - 246.94) < 0.01
    assert abs(beat_ms("1/4", 120) - 500) < 1e-9


def test_the_core_knows_nothing_of_the_store_or_the_pages() -> None:
    root = Path(miclane.__file__).parent / "core"
    for path in root.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            names = [a.name for a in node.names] if isinstance(node, ast.Import) else []
            if isinstance(node, ast.ImportFrom):
                names = [node.module or "", *("." * node.level + a.name for a in node.names)]
            for name in names:
                assert not any(part in name.split(".") for part in ("store", "web", "fastapi", "sqlalchemy")), path


@pytest.mark.parametrize(
    ("path", "value"),
    [
        ("lanes/lead/stages/peaks/threshold_db", -31.5),
        ("lanes/lead/stages/clean/bands/1/gain_db", -2),
        ("lanes/lead/mute", True),
        ("returns/plate/stages/reverb/decay_s", 2.25),
        ("tempo_bpm", 95.0),
    ],
)
def test_setting_a_number_quickly_is_setting_it(demo, path: str, value: object) -> None:
    session = demo.session
    done = apply(session, [Set(path=path, value=value)])
    tree = session.model_dump(mode="json")
    *parts, name = path.split("/")
    at = tree
    for part in parts:
        at = at[part] if isinstance(at, dict) else next((m for m in at if m.get("id") == part), None) or at[int(part)]
    at[name] = value
    assert done.session == Session.model_validate(tree)
    assert apply(done.session, done.inverses).session == session
