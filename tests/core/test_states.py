"""What is changed under the playhead goes on from what stages had in them."""

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from bench.fuzz import chain

from conftest import RATE, db, noise, one_lane, residue_db
from miclane.core.engine.builder import Builder
from miclane.core.engine.cache import Rendered
from miclane.core.engine.casts import Mould
from miclane.core.engine.giving_way import Cancel
from miclane.core.engine.graph import Node
from miclane.core.engine.node import BLOCK, Worker
from miclane.core.engine.render import Renderer, plan
from miclane.core.engine.states import States
from miclane.core.engine.stream import flow, stream
from miclane.core.errors import UnsoundError
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Set, apply
from miclane.core.stages.tame import Tame

LONG = [
    {"kind": "eq", "id": "eq", "bands": [{"shape": "bell", "frequency_hz": 900, "gain_db": 3, "q": 1}]},
    {"kind": "compressor", "id": "opto", "response": "optical", "threshold_db": -30, "ratio": 6, "release_ms": 2000},
    {"kind": "delay", "id": "echo", "time_ms": 900, "feedback": 0.8, "mix": 0.5},
]
TREATED = "lane:lead:treated"


def shapes(thing: Any, seen: set[int]) -> list[tuple[Any, ...]]:
    """What compiled loops take the arrays of a running thing for."""
    if isinstance(thing, np.ndarray):
        return [(thing.dtype, thing.shape, thing.flags.c_contiguous, thing.flags.writeable)]
    if id(thing) in seen:
        return []
    seen.add(id(thing))
    own = {k: v for k, v in getattr(thing, "__dict__", {}).items() if k not in ("_gain_db", "_parts_db")}
    inside = thing if isinstance(thing, list | tuple) else own.values()
    return [each for one in inside for each in shapes(one, seen)]


@pytest.mark.parametrize("part", range(4))
def test_a_copy_goes_on_bit_for_bit_and_leaves_the_other_alone(part: int) -> None:
    gone_on = 0
    for seed in range(part, 300, 4):
        stages, rate, channels = chain(seed)
        for stage in stages:
            if stage.kind == "split":
                continue
            worker = Worker(stage, rate, channels, 1000)
            x = np.random.default_rng(seed).normal(0, 0.05, (4, channels, 5000))
            key = x[0, :1] if stage.listens() else None
            try:
                worker.push(x[0].copy(), key)
                pattern = Mould(worker).pattern
                worker.push(x[1].copy(), key)
                mould = Mould(worker, pattern)
                copies = mould.cast(), mould.cast()
                assert all(shapes(c.processor, set()) == shapes(worker.processor, set()) for c in copies)
                first = [copies[0].push(block.copy(), key) for block in x[2:]]
            except UnsoundError:  # a legal setting that makes it as loud
                continue
            gone_on += 1
            for other in (worker, copies[1], mould.cast()):
                again = [other.push(block.copy(), key) for block in x[2:]]
                assert all(np.array_equal(a, b) for a, b in zip(first, again, strict=True)), stage
    assert gone_on > 100


def test_places_that_hang_together_alike_are_of_one_pattern_however_many_they_are() -> None:
    _, _, session = one_lane(noise(0.1), LONG[:1])
    states, stage = States(), session.lane("lead").stages[0]
    for name in ("one", "other", "third"):
        worker = Worker(stage, RATE, 1)
        for k in range(3):
            states.note(Node(name, stage=stage, twin=name), k * BLOCK, worker)
            worker.push(np.ones((1, BLOCK)), None)
    assert len(states._kept) == 9
    patterns = [kept.mould.pattern for kept in states._kept.values()]
    assert len(set(map(id, patterns))) == len(set(patterns)) == 2  # before its first block, and after it


class Running:
    """What a processor may be made of."""

    SHARED = ("table",)

    def __init__(self) -> None:
        self.line, self.table, self._gain_db = np.zeros(3), np.ones(2), None
        self.parts = (self.line, np.zeros(4)[::2], [np.ones(1), 4.0])
        self.levels = {"low": np.zeros(1), "most": 3}


@pytest.mark.parametrize(
    ("change", "same"),
    [
        ("x.line[:] = 5", True),
        ("x._gain_db = np.ones(9)", True),
        ("x.parts[2][1] = 5.0", True),
        ("x.levels['low'] = np.ones(8)", True),
        ("x.line = np.zeros(3)", False),  # no more the one that is among the parts
        ("x.levels['low'] = x.parts[2][0]", False),  # now one and the same
        ("x.levels['high'] = np.zeros(1)", False),
        ("x.levels['most'] = np.zeros(1)", False),
        ("x.parts[2].append(np.zeros(1))", False),
        ("x.more = 3", False),
    ],
)
def test_how_a_thing_hangs_together_is_found_out_anew_only_where_it_has_changed(change: str, same: bool) -> None:
    x = Running()
    pattern = Mould(x).pattern
    exec(change, {"x": x, "np": np})
    mould = Mould(x, pattern)
    assert (mould.pattern is pattern) == same
    assert mould.nbytes == Mould(x).nbytes
    one, other = mould.cast(), mould.cast()
    assert one.__dict__.keys() == x.__dict__.keys()
    assert one.table is x.table
    assert one._gain_db is None
    for a, b in ((one.line, x.line), (one.parts[2][0], x.parts[2][0]), (one.levels["low"], x.levels["low"])):
        assert np.array_equal(a, b)
        assert not np.shares_memory(a, b)
    assert (one.parts[0] is one.line) == (x.parts[0] is x.line)
    assert (one.levels["low"] is one.parts[2][0]) == (x.levels["low"] is x.parts[2][0])
    assert not one.parts[1].flags.forc  # with gaps as well
    assert (one.parts[2][1:], one.levels["most"]) == (x.parts[2][1:], x.levels["most"])
    one.line += 1
    assert not np.array_equal(one.line, other.line)


def test_of_what_nobody_hears_nothing_but_the_work_is_left_out() -> None:
    left_out = set()
    tame: dict[str, Any] = {"id": "tame", "line_db": 0.5, "sharpness": 1.0}
    chains = [
        ([Tame(**tame)], 48_000, 1),
        ([Tame(**tame, target="side")], 44_100, 2),
        *(chain(seed) for seed in range(200)),
    ]
    for seed, (stages, rate, channels) in enumerate(chains):
        for stage in stages:
            if stage.kind == "split":
                continue
            workers = [Worker(stage, rate, channels, 1000) for _ in range(2)]
            x = np.random.default_rng(seed).normal(0, 0.05, (4, channels, 7000))
            try:
                whole, rest = [], []
                for at, block in enumerate(x):
                    key = x[at - 1, :1] if stage.listens() else None
                    whole.append(workers[0].push(block.copy(), key))
                    workers[1].unheard = 9001 if at == 0 else workers[1].unheard
                    rest.append(workers[1].push(block.copy(), key))
            except UnsoundError:  # a legal setting that makes it as loud
                continue
            one, other = np.concatenate(whole, axis=1), np.concatenate(rest, axis=1)
            assert np.array_equal(one[:, 9001:], other[:, 9001:]), stage
            left_out |= {stage.kind} if not np.array_equal(one, other) else set()
    assert left_out == {"deess", "tame"}


def sung(seconds: int) -> np.ndarray:
    """Loud for a while, then soft: what came before is heard long after."""
    x = noise(seconds, 0.3)
    x[:, 4 * RATE :] *= 0.02
    return x


def opened(x: np.ndarray, *changes: Set) -> tuple[Any, Any, Session]:
    """The session of one lane with the long chain, its graph under a name, and the reader of its sound."""
    _, read, session = one_lane(x, LONG)
    session = apply(session, list(changes)).session if changes else session
    return Builder(session, name="s").build(), read, session


def test_downstream_of_a_change_what_was_sounding_sounds_on() -> None:
    x = sung(12)
    before, read, _ = opened(x)
    after, _, _ = opened(x, Set(path="lanes/lead/stages/eq/bands/0/gain_db", value=3.01))
    loop, soon = (5 * RATE, 11 * RATE), (7 * RATE, 7 * RATE + 20000)
    fresh, used = Renderer(read), Renderer(read)
    used.loop(before, before.places[TREATED], *loop)
    exact = fresh.loop(after, after.places[TREATED], *loop).audio[:, soon[0] - loop[0] : soon[1] - loop[0]]

    def off_db(renderer: Renderer) -> float:
        heard = renderer.preview(after, after.places[TREATED], *soon, loop)
        return db(float(np.abs(heard - exact).max())) - db(float(np.abs(exact).max()))

    assert off_db(used) < -50
    assert off_db(Renderer(read)) > -10  # without a state, what came before is not known


def test_a_song_begins_with_what_still_sounds_there() -> None:
    x = sung(12)
    graph, read, _ = opened(x)
    key, states, start = graph.places[TREATED], States(), 8 * RATE + 77
    printed = np.concatenate([b for (b,) in stream(graph, [key], 12 * RATE, read)], axis=1)

    def heard(kept: States | None) -> np.ndarray:
        return np.concatenate(list(flow(graph, key, start, 10 * RATE, read, RATE, Cancel(), kept)), axis=1)

    assert db(float(np.abs(heard(states) - printed[:, start : 10 * RATE]).max())) > -60
    for _ in flow(graph, key, 0, 12 * RATE, read, 0, Cancel(), states):
        pass
    assert heard(states).shape == heard(None).shape == (2, 2 * RATE - 77)
    assert db(float(np.abs(heard(states) - printed[:, start : 10 * RATE]).max())) < -180


def test_what_was_run_in_from_nothing_leaves_no_state_of_before_it_was_heard() -> None:
    graph, read, _ = opened(sung(12))
    key, states, start = graph.places[TREATED], States(), 8 * RATE
    for _ in flow(graph, key, start, 10 * RATE, read, 2 * RATE, Cancel(), states):
        pass
    named = [node for node in graph.needed(key) if node.twin]
    assert all(states.before(node, start - BLOCK, 0, RATE) is None for node in named)
    assert all(states.before(node, 10 * RATE - 1, start, RATE) is not None for node in named)


def test_states_are_those_of_a_place_its_settings_and_its_session() -> None:
    x = sung(6)
    (graph, _, session), changed = opened(x), opened(x, Set(path="lanes/lead/stages/opto/release_ms", value=300.0))[0]
    other = Builder(session, name="another").build()

    def twins(graph: Any) -> list[str]:
        return [node.twin for node in graph.needed(graph.places[TREATED]) if node.twin]

    assert [a == b for a, b in zip(twins(graph), twins(changed), strict=True)] == [True, False, True]
    assert not set(twins(graph)) & set(twins(other))
    assert len(set(twins(graph))) == 3


@pytest.mark.parametrize(
    ("stage", "turns"),
    [
        (
            {"kind": "tame", "line_db": 6.0},
            (("line_db", 1.0, True), ("max_cut_db", 3.0, True), ("attack_ms", 300.0, False)),
        ),
        (
            {"kind": "compressor", "threshold_db": -30},
            (("mix", 0.3, True), ("makeup_db", 6.0, True), ("release_ms", 300.0, False)),
        ),
        ({"kind": "reverb", "decay_s": 3.0}, (("mix", 0.3, True), ("width", 0.4, True), ("size", 0.9, False))),
        ({"kind": "delay", "time_ms": 400}, (("mix", 0.3, True), ("width", 0.4, True), ("time_ms", 300.0, False))),
    ],
)
def test_what_does_not_remember_a_setting_goes_on_when_that_is_turned(stage: dict, turns: Any) -> None:
    x = sung(9)
    x[0] += 0.2 * np.sin(2 * np.pi * 1300 * np.arange(x.shape[1]) / RATE)
    _, read, session = one_lane(x, [{**stage, "id": "it"}])

    def graph_of(*changes: Set) -> Any:
        return Builder(apply(session, list(changes)).session if changes else session, name="s").build()

    graph, states, start = graph_of(), States(), 5 * RATE + 77
    for _ in flow(graph, graph.places[TREATED], 0, 9 * RATE, read, 0, Cancel(), states):
        pass
    for name, value, goes_on in turns:
        other = graph_of(Set(path=f"lanes/lead/stages/it/{name}", value=value))
        key = other.places[TREATED]
        printed = np.concatenate([b for (b,) in stream(other, [key], 9 * RATE, read)], axis=1)[:, start : 7 * RATE]
        heard = np.concatenate(list(flow(other, key, start, 7 * RATE, read, 0, Cancel(), states)), axis=1)
        assert (np.abs(heard - printed).max() < 1e-13) == goes_on
    assert np.abs(printed - x[:, start : 7 * RATE]).max() > 0.01


def near_db(stage: dict, changes: dict[str, Any]) -> tuple[float, float]:
    """How far what is heard at once when a stage is turned is from what the loop will be, of a twin and of none."""
    x = sung(12)
    _, read, session = one_lane(x, [{**stage, "id": "it"}])
    edits = [Set(path=f"lanes/lead/stages/it/{name}", value=value) for name, value in changes.items()]
    turned = apply(session, edits).session
    before, after, unnamed = (
        Builder(session, name="s").build(),
        Builder(turned, name="s").build(),
        Builder(turned).build(),
    )
    key, loop = after.places[TREATED], (3 * RATE, 9 * RATE)
    renderer = Renderer(read)
    renderer.loop(before, before.places[TREATED], *loop)
    exact = Renderer(read).loop(after, key, *loop).audio
    there, none = -400.0, -400.0
    for start in (4 * RATE + 77, 5 * RATE + 77, 6 * RATE + 5, 7 * RATE + 4000, 8 * RATE + 6001):
        wanted = exact[:, start - loop[0] : start - loop[0] + 10000]
        loud = db(float(np.abs(wanted).max()))
        heard = renderer.preview(after, key, start, start + 10000, loop)
        there = max(there, residue_db(heard, wanted) - loud)
        heard = Renderer(read).preview(unnamed, unnamed.places[TREATED], start, start + 10000, loop)
        none = max(none, residue_db(heard, wanted) - loud)
    return there, none


@pytest.mark.parametrize("response", ["clean", "fet", "optical", "variable_mu"])
@pytest.mark.parametrize(
    ("name", "value"), [("threshold_db", -30.5), ("ratio", 6.3), ("knee_db", 8.0), ("attack_ms", 8.0), ("mix", 0.7)]
)
def test_a_compressor_that_is_turned_goes_on_from_the_gain_it_has(response: str, name: str, value: float) -> None:
    """What it has held down for longer than a run-in is not let go of first."""
    long = {"kind": "compressor", "response": response, "threshold_db": -30, "ratio": 6, "release_ms": 2000}
    there, none = near_db(long, {name: value})
    assert there < -25 < -10 < none


BELL = {"shape": "bell", "frequency_hz": 300, "gain_db": 6, "q": 2}
SHARP = {**BELL, "frequency_hz": 120, "q": 12}
MOVES = {"frequency_hz": 900, "dynamic": {"threshold_db": -40, "change_db": -8, "release_ms": 900}}
LOUD = {"ceiling_dbtp": -12, "gain_db": 10, "release_ms": 1000}
SHUTS = {"threshold_db": -30, "release_ms": 800, "hold_ms": 10}
CUTS = {"threshold_db": -12, "release_ms": 200}


@pytest.mark.parametrize(
    ("stage", "changes"),
    [
        ({"kind": "eq", "bands": [BELL, MOVES]}, {"bands/0/frequency_hz": 310}),
        ({"kind": "eq", "bands": [BELL, MOVES]}, {"bands/0/gain_db": 18}),
        ({"kind": "eq", "bands": [BELL, MOVES]}, {"bands/0/q": 8}),
        ({"kind": "eq", "bands": [BELL, MOVES]}, {"bands/1/dynamic/threshold_db": -42}),
        ({"kind": "eq", "bands": [BELL, MOVES]}, {"bands/1/dynamic/change_db": -9, "bands/1/q": 2}),
        ({"kind": "eq", "bands": [SHARP]}, {"bands/0/frequency_hz": 123}),
        ({"kind": "eq", "bands": [SHARP]}, {"bands/0/gain_db": -6}),
        ({"kind": "eq", "bands": [{"shape": "low_cut", "frequency_hz": 80}]}, {"bands/0/frequency_hz": 85}),
        ({"kind": "eq", "bands": [{"shape": "low_cut", "frequency_hz": 80}]}, {"bands/0/frequency_hz": 800}),
        ({"kind": "deess", **CUTS}, {"threshold_db": -12.5}),
        ({"kind": "deess", **CUTS}, {"max_cut_db": 7.9}),
        ({"kind": "deess", **CUTS, "mode": "narrow"}, {"release_ms": 210}),
        ({"kind": "deess", **CUTS, "mode": "wide"}, {"mix": 0.7, "attack_ms": 2}),
        ({"kind": "limiter", **LOUD}, {"ceiling_dbtp": -13}),
        ({"kind": "limiter", **LOUD}, {"gain_db": 11, "release_ms": 990}),
        ({"kind": "gate", **SHUTS}, {"threshold_db": -17}),
        ({"kind": "gate", **SHUTS}, {"range_db": 18.2, "hold_ms": 12}),
        ({"kind": "drive", "amount_db": 12, "mix": 0.5}, {"amount_db": 13}),
        ({"kind": "duck", **SHUTS}, {"threshold_db": -31}),
        ({"kind": "duck", **SHUTS}, {"depth_db": 9.3, "release_ms": 900}),
    ],
)
def test_what_is_turned_is_at_once_nearly_what_the_loop_will_be(stage: dict, changes: dict[str, Any]) -> None:
    there, none = near_db(stage, changes)
    assert there < -25
    assert none > there + 15 or there < -80  # and nearer than what is run in


WAITS = [{"kind": "trim", "id": "it"}, {"kind": "deess", "id": "one"}, {"kind": "duck", "id": "two"}]
WAITS += [{"kind": "deess", "id": "three"}]


@pytest.mark.parametrize("chain", [WAITS, [*WAITS, {"kind": "plosive"}], [WAITS[0], {"kind": "tame"}, *WAITS[1:]]])
def test_what_waits_to_be_heard_is_not_heard_as_it_was(chain: list[dict]) -> None:
    """Stages that look a quarter of a second ahead have that much in them of what came before something was turned."""
    x = noise(10, 0.05)
    _, read, session = one_lane(x, chain)
    turned = apply(session, [Set(path="lanes/lead/stages/it/gain_db", value=-12.0)]).session
    before, after = (Builder(each, name="s").build() for each in (session, turned))
    key, loop = after.places[TREATED], (2 * RATE, 8 * RATE)
    renderer, states = Renderer(read), States()
    renderer.loop(before, before.places[TREATED], *loop)
    exact = Renderer(read).loop(after, key, *loop).audio
    for _ in flow(before, before.places[TREATED], 0, 10 * RATE, read, 0, Cancel(), states):
        pass
    for start in range(4 * RATE, 4 * RATE + 2 * BLOCK, 2500):
        wanted = exact[:, start - loop[0] : start - loop[0] + 10000]
        song = np.concatenate(list(flow(after, key, start, start + 10000, read, RATE, Cancel(), states)), axis=1)
        for heard in (renderer.preview(after, key, start, start + 10000, loop), song):
            assert heard.shape == wanted.shape
            for at in range(0, 10000, 1000):
                parts = heard[:, at : at + 1000], wanted[:, at : at + 1000]
                louder = np.subtract(*(db(float(np.sqrt((part**2).mean()))) for part in parts))
                assert abs(louder) < 2.5, f"{at} frames after it was turned down by 12 dB, at {start}"


def test_a_state_is_no_later_than_what_is_due_unless_the_same_came_into_it() -> None:
    graph, read, session = one_lane(noise(6), [WAITS[0], WAITS[1]])
    graph = Builder(session, name="s").build()
    node, states = graph.nodes[graph.places[TREATED]], States()
    for _ in flow(graph, node.key, 0, 6 * RATE, read, 0, Cancel(), states):
        pass
    other, frame = replace(node, inputs=("another",)), 4 * RATE
    found, without = (states.before(each, frame, 0, RATE) for each in (node, other))
    assert found is not None and without is not None
    assert frame - BLOCK * 8 < without[0] <= frame < frame + node.latency
    assert without[0] <= found[0] <= frame + node.latency


def test_stages_that_wait_differently_long_go_on_from_the_same_place() -> None:
    """A song begun anywhere: were their states at places of their own, each would need more of the one before it."""
    chain: list[dict] = []
    for k in range(4):  # what is beside a branch that waits does not wait itself
        chain.append({"kind": "compressor", "id": f"c{k}", "release_ms": 300})
        waits = [{"kind": "deess", "id": f"d{k}"}]
        chain.append({"kind": "split", "id": f"s{k}", "branches": [{"id": f"b{k}", "stages": waits}]})
    graph, read, session = one_lane(noise(12), [*chain, {"kind": "limiter", "id": "ceiling"}])
    graph = Builder(session, name="s").build()
    key, states = graph.places[TREATED], States()
    for _ in flow(graph, key, 0, 12 * RATE, read, 0, Cancel(), states):
        pass
    for start in range(7 * RATE, 10 * RATE, 20_011):
        pieces = plan(graph, key, (start, start + RATE), RATE, states)
        assert all(pieces[n.key].worker for n in graph.needed(key) if n.stage)
        assert start - min(piece.start for piece in pieces.values()) <= 6 * BLOCK


def test_what_only_tells_how_much_to_turn_down_is_not_made_for_a_piece_that_is_wanted_soon() -> None:
    _, read, session = one_lane(noise(10), WAITS)
    turned = apply(session, [Set(path="lanes/lead/stages/it/gain_db", value=-1.0)]).session
    before, after = (Builder(each, name="s").build() for each in (session, turned))
    key, loop, wanted = after.places[TREATED], (2 * RATE, 8 * RATE), (4 * RATE, 4 * RATE + 10000)
    renderer = Renderer(read)
    first = after.nodes[after.places["lane:lead:stage:it"]].key
    held = {node.key: Rendered(0, np.zeros((1, 10 * RATE))) for node in after.needed(key) if node.digest}

    def further() -> int:
        return plan(after, key, wanted, RATE, renderer.states, 0, held, renderer.ahead)[first].stop - wanted[1]

    assert further() == after.latency_to(key) > 0.6 * RATE
    renderer.loop(before, before.places[TREATED], *loop)
    assert further() < 0.1 * RATE
    renderer.store.shrink(0)
    assert further() == after.latency_to(key)  # what is not kept cannot tell


REVERB = {"kind": "reverb", "model": "hall", "decay_s": 2.5}
DELAY = {"kind": "delay", "time_ms": 300, "feedback": 0.7}
IMPULSE = {"kind": "impulse", "response": "boathouse"}


@pytest.mark.parametrize(
    ("stage", "name", "value"),
    [
        (REVERB, "decay_s", 2.6),
        (REVERB, "damping", 0.55),
        (REVERB, "damping_hz", 4500.0),
        (REVERB, "density", 0.7),
        (REVERB, "early", 0.7),
        (REVERB, "low_cut_hz", 250.0),
        (REVERB, "high_cut_hz", 7000.0),
        (DELAY, "feedback", 0.72),
        (DELAY, "low_cut_hz", 300.0),
        (DELAY, "high_cut_hz", 5000.0),
        (DELAY, "drive_db", 3.0),
        (IMPULSE, "level_db", -2.0),
        (IMPULSE, "length_s", 3.0),
        (IMPULSE, "high_cut_hz", 7000.0),
    ],
)
def test_a_tail_sounds_on_while_its_effect_is_turned(stage: dict, name: str, value: float) -> None:
    x = noise(6.0, 0.2)
    x[:, 3 * RATE :] = 0.0
    _, read, session = one_lane(x, [{**stage, "id": "it"}])
    turned = apply(session, [Set(path=f"lanes/lead/stages/it/{name}", value=value)]).session
    before, after = (Builder(each, name="s").build() for each in (session, turned))
    key, loop, soon = after.places[TREATED], (0, 6 * RATE), (round(3.9 * RATE), round(4.15 * RATE))
    renderer = Renderer(read)
    renderer.loop(before, before.places[TREATED], *loop)
    heard = renderer.preview(after, key, *soon, loop)
    exact = Renderer(read).loop(after, key, *loop).audio[:, soon[0] : soon[1]]
    assert abs(db(float(np.sqrt((heard**2).mean()))) - db(float(np.sqrt((exact**2).mean())))) < 1.5


@pytest.mark.parametrize(
    ("name", "value"), [("level_db", -2.0), ("length_s", 1.2), ("response", "stairwell"), ("mix", 0.4)]
)
def test_what_came_into_a_place_is_answered_by_another_at_once(name: str, value: Any) -> None:
    x = noise(6.0, 0.2)
    x[:, 3 * RATE :] = 0.0
    _, read, session = one_lane(x, [{"kind": "impulse", "response": "car_deck", "id": "it"}])
    turned = apply(session, [Set(path=f"lanes/lead/stages/it/{name}", value=value)]).session
    before, after = (Builder(each, name="s").build() for each in (session, turned))
    key, loop = after.places[TREATED], (RATE, 5 * RATE)
    renderer = Renderer(read)
    renderer.loop(before, before.places[TREATED], *loop)
    exact = Renderer(read).loop(after, key, *loop).audio
    for start in (RATE, 2 * RATE + 77, 3 * RATE, 4 * RATE + 5):
        heard = renderer.preview(after, key, start, start + RATE // 4, loop)
        assert np.abs(heard - exact[:, start - RATE : start - RATE + RATE // 4]).max() < 1e-12


def test_where_there_is_little_room_large_states_lie_half_as_close_and_none_is_missing() -> None:
    kinds = [{"kind": "deess"}, {"kind": "compressor"}, {"kind": "delay", "time_ms": 1500}]
    _, _, session = one_lane(noise(1), kinds)
    large, small, largest = (Node(s.kind, stage=s, twin=s.kind) for s in session.lane("lead").stages)
    states, blocks = States(40_000_000), 40
    for node in (small, largest, large):
        worker = Worker(node.stage, RATE, 1, 0)
        for at in range(1, blocks):
            worker.push(noise(0.5)[:, :BLOCK], None)
            states.note(node, at * BLOCK, worker)

    def far(node: Node) -> list[int]:
        found = [states.before(node, at * BLOCK, 0, RATE) for at in range(6, blocks)]
        return [at - f[0] // BLOCK if f else blocks for at, f in enumerate(found, 6)]

    assert far(small) == [0] * (blocks - 6)
    seldom = far(largest)
    assert set(far(large)) == {0} and max(seldom) > 1
    states.shrink(states.held_bytes - 2_500_000)
    assert max(far(large)) == 1 and far(large)[-3:] == [0, 0, 0], "the newest are as close as can be"
    assert far(largest) == seldom, "what lies far apart stays"
    assert far(small) == [0] * (blocks - 6) and set(far(large)) == {0, 1}


def test_states_take_no_more_than_they_may() -> None:
    _, _, session = opened(sung(1))
    echo = session.lane("lead").stages[2]
    states = States(2_000_000)
    worker, node = Worker(echo, RATE, 1, 0), Node("echo", stage=echo, twin="echo")
    for at in range(0, 60 * BLOCK, BLOCK):
        states.note(node, at, worker)
        worker.push(noise(0.1)[:, :100], None)
    assert 0 < states.held_bytes <= 2_000_000
    found = states.before(node, 60 * BLOCK, 0, RATE)
    assert found is not None and found[0] > 50 * BLOCK
    assert states.before(node, BLOCK, 0, RATE) is None  # the oldest have gone
    assert states.before(replace(node, twin=""), 60 * BLOCK, 0, RATE) is None
    states.shrink(0)
    assert states.held_bytes == 0 and states.before(node, 60 * BLOCK, 0, RATE) is None
