"""Alignment, incremental rendering, loops against prints, determinism."""

import gc
import itertools
import threading
import weakref
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import RATE, db, noise, one_lane, residue_db, run, sine
from miclane.core.audio import read_sound
from miclane.core.engine.builder import Builder
from miclane.core.engine.cache import Rendered, RenderStore
from miclane.core.engine.giving_way import Cancel
from miclane.core.engine.in_step import InStep, _Growing
from miclane.core.engine.node import BLOCK, Trace, joined
from miclane.core.engine.render import Renderer
from miclane.core.engine.states import States
from miclane.core.engine.stream import flow, stream
from miclane.core.errors import CancelledError
from miclane.core.mix.chain import Chain
from miclane.core.mix.edits import Set, apply
from miclane.core.printing import PrintRequest, print_session
from miclane.core.process import process
from miclane.core.stages.base import Stage, load_kinds

KINDS = sorted(k for k in load_kinds() if k != "split")


def whole(graph, key: str, frames: int, read) -> np.ndarray:
    return np.concatenate([b[0] for b in stream(graph, [key], frames, read)], axis=1)


def stage_of(kind: str) -> Stage:
    settings_of = {"eq": {"bands": [{"shape": "low_cut", "frequency_hz": 90}, {"gain_db": 4, "q": 2}]}}
    return Stage.kinds[kind].model_validate({"kind": kind, **settings_of.get(kind, {})})


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("channels", [1, 2])
def test_the_result_does_not_depend_on_the_blocks(kind: str, channels: int) -> None:
    x = noise(0.7, 0.3, channels)
    key = noise(0.7, 0.3, seed=5) if kind == "duck" else None
    first = run(stage_of(kind), x, key, block=len(x[0]) + 20000)
    for block in (64, 1000, 4097):
        assert residue_db(run(stage_of(kind), x, key, block=block).y, first.y) < -200


def test_in_a_print_what_waits_longest_and_what_waits_for_nothing_comes_in_the_same_blocks(demo) -> None:
    """The first of each lane was shorter by what it waits, so every later one was cut and copied to be added."""
    graph, read = Builder(demo.session).build(), demo.studio.sounds.reader(RATE)
    blocks = [b.shape[1] for (b,) in stream(graph, [graph.places["bus:mix:out"]], 5 * RATE, read, chunk=BLOCK)]
    assert blocks == [BLOCK] * (5 * RATE // BLOCK) + [5 * RATE % BLOCK]


@pytest.mark.parametrize("threads", [1, 2, 5])
def test_a_range_is_the_same_bits_however_many_threads_make_it(demo, threads: int) -> None:
    graph, read = Builder(demo.session).build(), demo.studio.sounds.reader(RATE)
    key, states = graph.places["bus:mix:out"], States()
    starts = dict.fromkeys(graph.nodes, 20 * RATE)
    one = Renderer(read, threads=1).loop(graph, key, 22 * RATE, 25 * RATE)
    with ThreadPoolExecutor(threads) as pool:
        for store in (RenderStore(), RenderStore(3_000_000)):  # also where much of it is not kept for the next
            for _ in range(2):
                work = InStep(graph, starts, 26 * RATE, read, store, states, 0, lambda: None)
                found = work.run(key, pool)
                assert set(found) == {n.key for n in graph.needed(key)}
                again = InStep(graph, starts, 26 * RATE, read, RenderStore(), states, 0, lambda: None).run(key, pool)
                assert np.array_equal(found[key].audio, again[key].audio)
        whole = Renderer(read).spans(graph, key, 22 * RATE, 25 * RATE)
        same = InStep(graph, *whole, read, RenderStore(), states, 0, lambda: None).run(key, pool)[key]
    assert np.array_equal(same.cut(22 * RATE, 25 * RATE), one.audio)


def test_a_range_that_is_given_up_leaves_nobody_waiting(demo) -> None:
    graph, read = Builder(demo.session).build(), demo.studio.sounds.reader(RATE)
    cancel, looks = Cancel(), iter(range(10**6))

    def check() -> None:
        if next(looks) == 150:
            cancel.set()
        cancel.check()

    with ThreadPoolExecutor(2) as pool:
        with pytest.raises(CancelledError):
            InStep(graph, dict.fromkeys(graph.nodes, 0), 30 * RATE, read, RenderStore(), States(), 0, check).run(
                graph.places["bus:mix:out"], pool
            )
        assert pool.submit(lambda: "free").result(10) == "free"
    assert next(looks) > 150


def test_a_range_that_is_given_up_is_forgotten_at_once(demo) -> None:
    """Not when the collector of circles next looks: it does not know how much sound hangs on one."""
    graph, read = Builder(demo.session).build(), demo.studio.sounds.reader(RATE)
    renderer, cancel, parts = Renderer(read), Cancel(), []

    def reading(digest: str, start: int, stop: int) -> np.ndarray:
        parts.append(weakref.ref(part := read(digest, start, stop)))
        return part

    def given_up(work: Callable[[], object]) -> None:
        timer = threading.Timer(0.2, cancel.set)
        timer.start()
        with pytest.raises(CancelledError):
            while True:
                work()

    def sounds() -> list[object]:
        return [x for x in gc.get_objects() if isinstance(x, _Growing | Rendered)]

    gc.collect()
    others = {id(x): x for x in sounds()}  # that other tests hold on to
    gc.disable()
    try:
        renderer.read, key, starts = reading, graph.places["bus:mix:out"], itertools.count()
        given_up(lambda: renderer.loop(graph, key, next(starts), 30 * RATE, cancel))
        given_up(lambda: renderer.preview(graph, key, 10 * RATE + next(starts), 20 * RATE, (0, 30 * RATE), cancel))
        renderer.store.shrink(0)
        alive = [x for x in sounds() if id(x) not in others]
        assert len(alive) <= 1  # the store keeps one
        assert parts
        assert sum(part() is not None for part in parts) <= 1
    finally:
        gc.enable()


def test_what_nobody_hears_of_a_song_is_run_in_few_goes_and_given_up_between_two_stations(demo) -> None:
    graph, plain, reads = Builder(demo.session).build(), demo.studio.sounds.reader(RATE), []
    key, cancel = graph.places["bus:mix:out"], Cancel()

    def read(digest: str, start: int, stop: int) -> np.ndarray:
        reads.append((digest, stop - start))
        return plain(digest, start, stop)

    def giving_up(digest: str, start: int, stop: int) -> np.ndarray:
        cancel.set()
        return read(digest, start, stop)

    stretch = 30 * RATE, 31 * RATE
    assert next(flow(graph, key, *stretch, read, RATE, cancel)).any()
    counts = Counter(digest for digest, _ in reads)
    assert set(counts) == {node.digest for node in graph.needed(key) if node.digest}
    assert max(counts.values()) <= 2, "a second before, what all are late by, and what is heard first"
    reads.clear()
    with pytest.raises(CancelledError):
        next(flow(graph, key, *stretch, giving_up, RATE, cancel))
    assert len(reads) == 1


@pytest.mark.parametrize("kind", KINDS)
def test_silence_stays_silent_and_latency_is_declared(kind: str) -> None:
    stage = stage_of(kind)
    processor = stage.build(RATE, 1)
    assert processor.latency == stage.latency_frames(RATE)
    assert not run(stage, np.zeros((1, 9000)), np.zeros((1, 9000)) if stage.listens() else None).y.any()


def test_a_loop_is_what_the_print_has_there(demo) -> None:
    graph = Builder(demo.session).build()
    read = demo.studio.sounds.reader(RATE)
    for place in ("lane:lead:out", "return:plate:out", "bus:mix:out"):
        key = graph.places[place]
        printed = whole(graph, key, 46 * RATE, read)
        for start, stop in ((20.2, 25.8), (36.0, 44.0), (31.00037, 33.1)):
            a, b = round(start * RATE), round(stop * RATE)
            loop = Renderer(read).loop(graph, key, a, b).audio
            assert residue_db(loop, printed[:, a:b]) < -90


def test_a_node_is_run_in_as_far_back_as_it_and_what_hears_it_remember(demo) -> None:
    graph = Builder(demo.session).build()
    key = graph.places["bus:mix:out"]
    a, b = 36 * RATE, 44 * RATE
    starts, last = Renderer(demo.studio.sounds.reader(RATE)).spans(graph, key, a, b)
    for node in graph.needed(key):
        assert a - starts[node.key] >= min(2.0, node.memory_s) * RATE
        assert all(starts[k] <= starts[node.key] for k in node.before)
        assert starts[node.key] % BLOCK == 0  # states are kept for the same frames everywhere
    first, end = starts[graph.places["lane:lead:raw"]], starts[key]
    assert first == min(starts.values()) and a - first >= 5 * RATE and 2 * RATE <= a - end < 3 * RATE
    renderer = Renderer(demo.studio.sounds.reader(RATE))
    alone = renderer.loop(graph, graph.places["lane:lead:out"], a, b)
    mix = renderer.loop(graph, key, a, b)
    assert all(mix.nodes[k] is found for k, found in alone.nodes.items())  # what was rendered of a lane alone serves
    treated = [n for n in graph.needed(key) if n.stage is not None]
    run = sum(last - starts[n.key] for n in treated) / (len(treated) * (last - first))
    assert run < 0.9  # of what it would be if all began with the first


def test_traces_that_begin_at_different_frames_are_joined_where_they_are() -> None:
    def ramp(start: int) -> Trace:
        middle = start + (np.arange(2000) + 0.5) * 240
        return Trace(start, 240, -middle, middle, middle, middle, np.stack([middle, -middle]))

    stretches = [[(0, 200_000), (300_000, 10**6)], [(200_000, 300_000)]]
    both = joined(list(zip(stretches, (ramp(4000), ramp(4000 + 3 * BLOCK)), strict=True)))
    assert both is not None and both.start == 4000 + 3 * BLOCK
    middle = both.start + (np.arange(len(both.mean_square_in)) + 0.5) * 240
    assert np.abs(both.mean_square_in - middle).max() <= 120 and np.abs(both.gain_db + middle).max() <= 120
    assert np.abs(both.parts_db[1] + middle).max() <= 120


def test_same_request_same_bits_whatever_was_rendered_before(demo) -> None:
    read = demo.studio.sounds.reader(RATE)
    graph = Builder(demo.session).build()
    key, span = graph.places["bus:mix:out"], (20 * RATE, 23 * RATE)
    fresh = Renderer(read).loop(graph, key, *span).audio
    used = Renderer(read)
    other = apply(demo.session, [Set(path="lanes/lead/stages/peaks/threshold_db", value=-30.0)]).session
    changed = Builder(other).build()
    used.loop(changed, changed.places["bus:mix:out"], *span)
    used.loop(graph, key, 19 * RATE, 23 * RATE)
    assert np.array_equal(used.loop(graph, key, *span).audio, fresh)


def test_moving_a_setting_renders_only_what_lies_downstream(demo) -> None:
    read = demo.studio.sounds.reader(RATE)
    renderer = Renderer(read)
    graph = Builder(demo.session).build()
    span = (20 * RATE, 24 * RATE)
    before = renderer.loop(graph, graph.places["bus:mix:out"], *span)
    other = apply(demo.session, [Set(path="lanes/lead/stages/tone/bands/0/gain_db", value=3.0)]).session
    changed = Builder(other).build()
    after = renderer.loop(changed, changed.places["bus:mix:out"], *span)
    kept = set(before.nodes) & set(after.nodes)
    assert all(before.nodes[k] is after.nodes[k] for k in kept)
    for place in ("lane:lead:stage:level", "lane:double:treated", "bus:music:out"):
        assert changed.places[place] in kept
    for place in ("lane:lead:stage:tone", "return:plate:out", "bus:mix:out"):
        assert changed.places[place] not in kept


def test_a_preview_is_near_what_the_loop_will_be(demo) -> None:
    read = demo.studio.sounds.reader(RATE)
    renderer = Renderer(read)
    graph = Builder(demo.session).build()
    loop = (20 * RATE, 26 * RATE)
    for place in ("lane:lead:out", "bus:mix:out"):
        renderer.loop(graph, graph.places[place], *loop)
        other = apply(demo.session, [Set(path="lanes/lead/stages/peaks/threshold_db", value=-21.0)]).session
        changed = Builder(other).build()
        key = changed.places[place]
        soon = renderer.preview(changed, key, 22 * RATE, 23 * RATE, loop)
        exact = renderer.loop(changed, key, *loop).audio[:, 2 * RATE : 3 * RATE]
        assert residue_db(soon, exact) < -45


def null_of(split: dict, x: np.ndarray) -> float:
    graph, read, _ = one_lane(x, [split])
    got = Renderer(read).loop(graph, graph.places["lane:lead:treated"], 0, x.shape[1]).audio
    streamed = whole(graph, graph.places["lane:lead:treated"], x.shape[1], read)
    copies = 1 + len(split["branches"])
    return max(residue_db(got, copies * x), residue_db(streamed, copies * x))


@pytest.mark.parametrize("lookahead", [0, 0.4, 5, 20])
def test_neutral_branches_and_dry_null_against_their_sum(lookahead: float) -> None:
    still = {"kind": "compressor", "ratio": 1, "lookahead_ms": lookahead}
    ceiling = {"kind": "limiter", "ceiling_dbtp": 0}
    branches = [
        {"id": "a", "blend_db": 0, "stages": [{**still, "id": "x"}, {**ceiling, "id": "y"}]},
        {"id": "b", "blend_db": 0, "stages": [{"kind": "deess", "id": "z", "max_cut_db": 0}]},
    ]
    assert null_of({"kind": "split", "branches": branches}, noise(1.0, 0.1)) < -120


@pytest.mark.parametrize("ahead", [0, 0.37, 12])
@pytest.mark.parametrize("oversampled", ["none", "drive", "limiter", "both"])
@pytest.mark.parametrize("more", ["lift", "gate", "nothing"])
def test_every_look_ahead_with_every_oversampling_is_aligned(ahead: float, oversampled: str, more: str) -> None:
    stages: list[dict] = [{"kind": "compressor", "ratio": 1, "lookahead_ms": ahead}]
    if oversampled in ("drive", "both"):
        stages.append({"kind": "drive", "mix": 0})
    if oversampled in ("limiter", "both"):
        stages.append({"kind": "limiter", "ceiling_dbtp": 0, "lookahead_ms": 2.3})
    if more == "lift":
        stages.append({"kind": "lift", "most_db": 0, "lookahead_ms": ahead / 2})
    if more == "gate":
        stages.append({"kind": "gate", "threshold_db": -90, "range_db": 0})
    branch = [{**s, "id": f"x{k}"} for k, s in enumerate(stages)]
    branches = [
        {"id": "a", "blend_db": 0, "stages": branch},
        {"id": "b", "blend_db": 0, "stages": [{"kind": "compressor", "id": "z", "ratio": 1, "lookahead_ms": 5}]},
    ]
    assert null_of({"kind": "split", "branches": branches}, noise(0.5, 0.1)) < -120


def test_a_bus_has_stages_and_is_heard_without_them() -> None:
    x = noise(1.0, 0.1)
    down = {"kind": "trim", "id": "t", "gain_db": -6}
    buses = [
        {"id": "vocals", "name": "Vocals", "into": "mix", "stages": [down]},
        {"id": "mix", "name": "Mix", "into": None, "stages": [{**down, "gain_db": -3}]},
    ]
    level = {}
    for untreated in ("", "bus:vocals", "bus:mix", "*"):
        graph, read, session = one_lane(x, [{**down, "gain_db": -1}], buses=buses, lane={"bus": "vocals"})
        graph = Builder(session, untreated).build()
        mix = Renderer(read).loop(graph, graph.places["bus:mix:out"], 0, x.shape[1]).audio
        level[untreated] = db(float(mix.std()) / float(x.std()))
    whole = -6 - 3 - 1 + 20 * np.log10(np.cos(np.pi / 4))
    assert level[""] == pytest.approx(whole, abs=0.01)
    assert level["bus:vocals"] == pytest.approx(whole + 6, abs=0.01)
    assert level["bus:mix"] == pytest.approx(whole + 3, abs=0.01)
    assert level["*"] == pytest.approx(whole + 1, abs=0.01)
    assert set(graph.places) >= {"bus:vocals:raw", "bus:vocals:treated", "bus:vocals:stage:t"}


def test_a_branch_and_a_band_are_heard_alone() -> None:
    x = noise(1.0, 0.1)
    branches = [{"id": "a", "stages": [{"kind": "trim", "id": "q", "gain_db": -20}]}, {"id": "b", "stages": []}]
    stages = [{"kind": "split", "id": "s", "branches": branches}, {"kind": "trim", "id": "after", "gain_db": 9}]
    _, read, session = one_lane(x, stages)
    graph = Builder(session, alone=("lead", "s", 0)).build()
    alone = Renderer(read).loop(graph, graph.places["lane:lead:treated"], 0, x.shape[1]).audio
    assert residue_db(alone, 0.1 * x) < -200
    bands = [{"up_to_hz": 300, "ratio": 1}, {"up_to_hz": 3000, "ratio": 1}, {"ratio": 1}]
    _, read, session = one_lane(x, [{"kind": "multiband", "id": "m", "bands": bands}])
    total = np.zeros_like(x)
    for k in range(3):
        graph = Builder(session, alone=("lead", "m", k)).build()
        total += Renderer(read).loop(graph, graph.places["lane:lead:treated"], 0, x.shape[1]).audio
    graph = Builder(session).build()
    whole = Renderer(read).loop(graph, graph.places["lane:lead:treated"], 0, x.shape[1]).audio
    assert residue_db(total, whole) < -200


def test_dry_sends_and_returns_meet_to_the_sample() -> None:
    x = noise(1.0, 0.1)
    stages = [{"kind": "compressor", "id": "c", "ratio": 1, "lookahead_ms": 7}]
    back = {
        "id": "r",
        "name": "R",
        "bus": "mix",
        "stages": [{"kind": "compressor", "id": "q", "ratio": 1, "lookahead_ms": 13}],
    }
    sends = [{"id": "r", "level_db": 0}]
    graph, read, _ = one_lane(x, stages, returns=[back], lane={"bus": "mix", "sends": sends})
    mix = Renderer(read).loop(graph, graph.places["bus:mix:out"], 0, x.shape[1]).audio
    assert residue_db(mix, 2 * np.repeat(x, 2, axis=0) * np.cos(np.pi / 4)) < -120


def test_pre_and_post_fader_sends() -> None:
    x = sine(500, -20, 1.0)
    level = {}
    for pre in (False, True):
        sends = [{"id": "r", "level_db": -6, "pre_fader": pre}]
        graph, read, _ = one_lane(x, [], returns=[{"id": "r", "name": "R"}], lane={"fader_db": -10, "sends": sends})
        out = Renderer(read).loop(graph, graph.places["return:r:out"], 0, RATE).audio
        level[pre] = 20 * np.log10(np.abs(out).max())
    assert abs(level[True] - (-20 - 6 - 3.01)) < 0.01
    assert abs(level[False] - (-20 - 6 - 3.01 - 10)) < 0.01


def test_no_node_only_copies_what_comes_into_it(demo) -> None:
    builder = Builder(demo.session)
    graph, stems = builder.build(), builder.stems()
    copies = [
        n for n in graph.nodes.values() if n.gains == ((1.0, 1.0),) and graph.nodes[n.inputs[0]].channels == n.channels
    ]
    assert len(graph.nodes) > 50 and not copies
    span = (20 * RATE, 22 * RATE)
    renderer = Renderer(demo.studio.sounds.reader(RATE))
    alone, beside = builder.beside(list(stems.values())), builder.together(list(stems.values()))
    found = renderer.loop(graph, alone, *span)
    assert found.audio.shape == (0, 2 * RATE)
    assert residue_db(sum(found.cut(k) for k in stems.values()), renderer.loop(graph, beside, *span).audio) < -280


def test_mute_solo_pan_and_buses() -> None:
    x = sine(500, -20, 0.2)
    graph, read, session = one_lane(x, [], lane={"pan": -1, "bus": "backings"})
    render = Renderer(read).loop
    out = render(graph, graph.places["bus:mix:out"], 0, 4800).audio
    assert abs(np.abs(out[0]).max() - 0.1) < 1e-6
    assert np.abs(out[1]).max() < 1e-9
    for path, value in (("lanes/lead/mute", True), ("buses/vocals/mute", True), ("buses/backings/fader_db", -60.0)):
        other = apply(session, [Set(path=path, value=value)]).session
        silent = Builder(other).build()
        assert not render(silent, silent.places["bus:mix:out"], 0, 4800).audio.any()


def test_traces_say_what_the_stage_did() -> None:
    x = sine(1000, -10, 2.0)
    graph, read, _ = one_lane(
        x, [{"kind": "compressor", "threshold_db": -20, "ratio": 2, "knee_db": 0, "makeup_db": 3}]
    )
    found = Renderer(read).loop(graph, graph.places["lane:lead:out"], RATE, 2 * RATE)
    trace = found.trace(graph.places["lane:lead:stage:s0"])
    assert RATE / trace.hop >= 200
    at = RATE // trace.hop + 50
    assert abs(trace.gain_db[at] + 5) < 0.1
    assert abs(10 * np.log10(trace.mean_square_in[at]) + 13.01) < 0.1
    assert abs(10 * np.log10(trace.mean_square_out[at]) + 15.01) < 0.1


def test_the_store_is_bounded_and_forgets_the_oldest() -> None:
    store = RenderStore(limit_bytes=1_000_000)
    for i in range(20):
        store.put(f"k{i}", 0, 1, Rendered(0, np.zeros((1, 12_500))))
    assert store.held_bytes <= 1_000_000
    assert store.get("k0", 0, 1) is None
    assert store.get("k19", 0, 1) is not None


def test_what_is_cheap_to_make_again_goes_first_and_what_is_dear_and_used_stays() -> None:
    store = RenderStore(limit_bytes=1_000_000)

    def put(name: str, seconds: float) -> None:
        store.put(name, 0, 1, Rendered(0, np.zeros((1, 12_500)), seconds=seconds))

    for i in range(5):
        put(f"dear {i}", 1.0)
        put(f"cheap {i}", 0.01)
    for i in range(40):
        assert store.get("dear 0", 0, 1) is not None
        put(f"middling {i}", 0.05)
    assert all(store.holds(f"dear {i}", 0, 1) for i in range(5))
    assert not any(store.holds(f"cheap {i}", 0, 1) for i in range(5))
    for i in range(400):  # what is dear and never wanted again goes in the end
        put(f"later {i}", 0.05)
        store.get("dear 0", 0, 1)
    assert [store.holds(f"dear {i}", 0, 1) for i in range(5)] == [True, *[False] * 4]
    store.shrink(250_000)
    assert 150_000 < store.held_bytes <= 250_000
    store.shrink(50_000)  # less than the least of them
    assert store.held_bytes == 0


def test_cancelled_work_gives_up(demo) -> None:
    cancel = Cancel()
    cancel.set()
    graph = Builder(demo.session).build()
    renderer = Renderer(demo.studio.sounds.reader(RATE))
    with pytest.raises(CancelledError):
        renderer.loop(graph, graph.places["bus:mix:out"], 0, RATE, cancel)


@settings(max_examples=12)
@given(st.lists(st.sampled_from(KINDS), min_size=1, max_size=5), st.integers(1, 2))
def test_any_chain_prints_finite_sound_of_the_right_length(kinds: list[str], channels: int) -> None:
    x = noise(0.4, 0.4, channels)
    graph, read, _ = one_lane(x, [{"kind": k} for k in kinds])
    key = graph.places["lane:lead:treated"]
    out = whole(graph, key, x.shape[1] + 4000, read)
    assert out.shape[1] == x.shape[1] + 4000
    assert np.isfinite(out).all()
    loop = Renderer(read).loop(graph, key, 0, x.shape[1]).audio
    assert residue_db(loop, out[:, : x.shape[1]]) < -200


def test_a_print_ends_when_all_has_sounded_and_not_before(tmp_path: Path) -> None:
    rng = np.random.default_rng(2)
    x = rng.standard_normal((1, RATE)) * 0.2
    echo = {"kind": "delay", "note": "ms", "feedback": 0.5, "high_cut_hz": 20000, "low_cut_hz": 0}
    _, read, session = one_lane(
        x,
        [{**echo, "time_ms": 900, "mix": 0.5}],
        lane={"sends": [{"id": "far", "level_db": -6}]},
        returns=[{"id": "far", "name": "Far", "bus": "vocals", "stages": [{**echo, "id": "e", "time_ms": 1700}]}],
    )
    graph = Builder(session).build()
    (far,) = print_session(session, PrintRequest(targets=("return:far",), format="wav-32"), tmp_path / "far", read)
    printed = read_sound(far.path).audio
    longer = whole(graph, graph.places["return:far:out"], 90 * RATE, read)
    length = printed.shape[1]
    assert np.abs(printed - longer[:, :length]).max() < 1e-6
    assert np.abs(longer[:, length:]).max() < 10 ** (-90 / 20)
    assert np.abs(longer[:, length - RATE // 2 : length]).max() > 10 ** (-90 / 20)
    _, read, session = one_lane(x, [{"kind": "compressor", "release_ms": 3000}])
    (dry,) = print_session(session, PrintRequest(format="wav-32"), tmp_path / "dry", read)
    assert read_sound(dry.path).audio.shape[1] < 1.2 * RATE


def test_a_chains_tail_counts_its_notes_and_ends(lead: np.ndarray) -> None:
    x = lead[:, 20 * RATE : 21 * RATE]
    for stage, longest in (({"note": "1/1", "feedback": 0.3}, 32), ({"note": "1/4", "feedback": 0.98}, 62)):
        chain = {"format": "mic-lane/chain", "version": 2, "stages": [{"kind": "delay", **stage}]}
        y, _ = process(x, RATE, Chain.model_validate(chain))
        assert 10 * RATE < y.shape[1] < longest * RATE
    first = round(4 * 60 / 92 * RATE)
    chain["stages"] = [{"kind": "delay", "note": "1/1", "feedback": 0}]
    whole_note, _ = process(x, RATE, Chain.model_validate(chain))
    assert np.abs(whole_note[:, first + RATE // 2 : first + RATE - 4800]).max() > 1e-3
