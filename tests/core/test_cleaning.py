"""Trims, rides, gates and dynamic bands: what they do to the level, and what they leave alone."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import butter, sosfiltfilt

from conftest import RATE, db, noise, one_lane, reader, residue_db, run, sine
from miclane.core.audio import read_sound
from miclane.core.engine.builder import Builder
from miclane.core.engine.render import Renderer
from miclane.core.findings.rules import gate_threshold_db
from miclane.core.measure.loudness import integrated_lufs, weighted_power
from miclane.core.measure.makeup import makeup_edits
from miclane.core.measure.noise import noise_floor_dbfs
from miclane.core.measure.phrases import Span, find_phrases
from miclane.core.measure.plosives import find_breaths
from miclane.core.measure.ride import ride_points
from miclane.core.measure.spectrum import middle_and_side_power
from miclane.core.measure.take import measure_take
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Set, apply
from miclane.core.stages.base import Passage, Stage
from miclane.core.stages.eq import Band, Dynamic, Eq
from miclane.core.stages.gate import Gate
from miclane.core.stages.ride import Point, Ride
from miclane.core.stages.trim import Trim
from miclane.demo.seed import SONG
from speech import sing, with_noise


def moving(change_db: float = -6, q: float = 6, f: float = 655, **more) -> Eq:
    dynamic = Dynamic(threshold_db=-24, change_db=change_db, **more)
    return Eq(bands=(Band(frequency_hz=f, q=q, dynamic=dynamic),), auto_makeup=False)


# ---- dynamic bands ----


@pytest.mark.parametrize("f", [120, 655, 3000, 9000])
@pytest.mark.parametrize("change_db", [-12, -6, -2, 4, 9])
def test_a_dynamic_band_is_as_deep_as_set_12_db_past_its_threshold_and_idle_below(f: float, change_db: float) -> None:
    for level, wanted in ((-12, change_db), (-24.5, 0.0), (-50, 0.0)):
        y = run(moving(change_db, f=f), sine(f, level, 0.8)).y[0, RATE // 2 :]
        assert abs(db(np.abs(y).max()) - level - wanted) < (0.5 if wanted else 0.1)


@pytest.mark.parametrize("shape", ["low_shelf", "high_shelf"])
def test_dynamic_shelves_too(shape: str) -> None:
    f = 60 if shape == "low_shelf" else 12000
    band = Band(shape=shape, frequency_hz=500, q=0.7, dynamic=Dynamic(threshold_db=-30, change_db=-6))
    y = run(Eq(bands=(band,)), sine(f, -18, 0.8)).y[0, RATE // 2 :]
    assert abs(db(np.abs(y).max()) + 24) < 0.5


def test_at_its_whole_change_a_dynamic_band_is_the_static_one() -> None:
    axis = np.geomspace(30, 18000, 300)
    for f, q in ((200, 1), (3000, 4), (9000, 2)):
        dynamic = Band(frequency_hz=f, q=q, dynamic=Dynamic(change_db=-6))
        static = Eq(bands=(Band(frequency_hz=f, q=q, gain_db=-6),))
        whole = Eq(bands=(dynamic,)).bands[0].moving(-6, RATE)
        turn = np.exp(-2j * np.pi * axis / RATE)
        response = np.polyval(whole[2::-1], turn) / np.polyval(whole[:2:-1], turn)
        assert np.abs(20 * np.log10(np.abs(response)) - static.response_db(axis, RATE)).max() < 0.01


def test_attack_and_release_of_a_dynamic_band() -> None:
    x = np.concatenate([sine(1000, -60, 0.5), sine(1000, -10, 1.0), sine(1000, -60, 1.0)], axis=1)
    gain = run(moving(-8, q=2, f=1000, attack_ms=20, release_ms=150), x).gain_db
    at = round(0.5 * RATE) + np.flatnonzero(gain[round(0.5 * RATE) :] < -8 * 0.632)[0]
    assert abs((at / RATE - 0.5) * 1000 - 20) < 4
    back = round(1.5 * RATE) + np.flatnonzero(gain[round(1.5 * RATE) :] > -8 * 0.368)[0]
    assert abs((back / RATE - 1.5) * 1000 - 150) < 16


def keyed_session(lead: np.ndarray, other: np.ndarray, tap: str = "treated") -> tuple[Session, dict]:
    dynamic = {"threshold_db": -30, "change_db": -6, "keyed_by": "key", "attack_ms": 2, "release_ms": 20}
    bands = [{"frequency_hz": 1000, "q": 2, "dynamic": dynamic}]
    eq = {"kind": "eq", "id": "eq", "auto_makeup": False, "key": {"lane": "other", "tap": tap}, "bands": bands}
    lanes = [
        {"id": name, "name": name, "bus": "lead", "stages": stages,
         "sound": {"digest": digest * 64, "channels": 1, "frames": audio.shape[1]}}
        for name, digest, audio, stages in (("lead", "a", lead, [eq]), ("other", "b", other, []))
    ]  # fmt: skip
    return Session.model_validate({"name": "test", "lanes": lanes}), {"a" * 64: lead, "b" * 64: other}


@pytest.mark.parametrize("tap", ["raw", "treated", "after_fader"])
def test_keyed_by_another_lane_it_follows_that_lane_only(tap: str) -> None:
    loud, key = sine(1000, -6, 3.0), sine(1000, -12, 3.0)
    key[:, :RATE] = 0
    key[:, 2 * RATE :] = 0
    session, sounds = keyed_session(loud, key, tap)
    graph = Builder(session).build()
    found = Renderer(reader(sounds)).loop(graph, graph.places["lane:lead:treated"], 0, 3 * RATE)
    gain = found.trace(graph.places["lane:lead:stage:eq"]).gain_db
    assert np.abs(gain[10:195]).max() < 0.01
    assert np.abs(gain[220:395] + 6).max() < 0.1
    assert np.abs(gain[440:595]).max() < 0.1


def test_lanes_that_would_listen_to_one_another_are_refused_by_name() -> None:
    session, _ = keyed_session(noise(1), noise(1))
    tree = session.model_dump(mode="json")
    back = tree["lanes"][0]["stages"][0]
    tree["lanes"][1]["stages"] = [{**back, "key": {"lane": "lead", "tap": "treated"}}]
    with pytest.raises(ValueError, match="would listen to one another"):
        Session.model_validate(tree)
    tree["lanes"][1]["stages"][0]["key"]["tap"] = "raw"
    Session.model_validate(tree)


def test_the_note_that_jumps_out_of_the_demo_is_tamed_and_those_around_it_are_not(
    lead: np.ndarray, truth: dict
) -> None:
    """The two notes before it and the one after; “Salt” at the start of the phrase is as bright there by its vowel."""
    jump = truth["faults"]["jumping_note"]
    dynamic = Dynamic(threshold_db=-44, change_db=-10, attack_ms=5, release_ms=60)
    band = Band(frequency_hz=jump["frequency_hz"], q=10, dynamic=dynamic)
    gain = run(Eq(bands=(band,)), lead[:, 20 * RATE : 26 * RATE]).gain_db
    notes = [n for p in truth["lanes"]["lead"] for n in p["notes"] if 20 < n["start_s"] < 25.4]
    done = {}
    for n in notes:
        a, b = round((n["start_s"] + 0.1 - 20) * RATE), round((n["end_s"] - 0.05 - 20) * RATE)
        done[round(n["start_s"], 2)] = round(float(-np.median(gain[a:b])), 1)
    print("turned down in each note by", done)
    starts = [n["start_s"] for n in notes]
    at = int(np.argmin(np.abs(np.array(starts) - jump["start_s"])))
    values = list(done.values())
    assert values[at] > 4
    assert max(*values[at - 2 : at], values[at + 1]) < 0.5


def test_a_cut_that_is_dynamic_is_refused_in_words() -> None:
    with pytest.raises(ValueError, match="low cut cannot be dynamic"):
        Band(shape="low_cut", dynamic=Dynamic())


@settings(max_examples=20)
@given(
    st.floats(40, 15000),
    st.floats(0.3, 20),
    st.floats(-20, 20),
    st.floats(-60, -10),
    st.sampled_from(["stereo", "middle", "side", "left", "right"]),
)
def test_a_moving_band_stays_finite_and_bounded(f, q, change, threshold, target) -> None:
    band = Band(
        frequency_hz=f,
        q=q,
        target=target,
        dynamic=Dynamic(threshold_db=threshold, change_db=change, attack_ms=0.1, release_ms=5),
    )
    x = noise(0.3, 0.2, 2)
    y = run(Eq(bands=(band,)), x).y
    assert np.isfinite(y).all()
    assert np.abs(y).max() < np.abs(x).max() * 10 ** (max(change, 0) / 20) * 3


# ---- gate ----


@pytest.fixture(scope="module")
def sung() -> tuple[np.ndarray, list[Span], list]:
    song = sing(1)
    x = with_noise(song.audio, -58)
    return x, find_phrases(x, RATE), song.phrases


def gate_for(x: np.ndarray, phrases: list[Span], **more) -> Gate:
    return Gate(threshold_db=gate_threshold_db(measure_take(x, RATE)), **more)


def test_the_suggested_gate_quiets_gaps_and_keeps_the_first_consonants(sung) -> None:
    x, phrases, labels = sung
    spans = [{"id": f"p{k}", "start": p.start, "end": p.end} for k, p in enumerate(phrases)]
    lane = one_lane(x, [], lane={"phrases": spans})[2].lanes[0]
    r = run(gate_for(x, phrases).placed_on(lane, RATE), x)
    assert noise_floor_dbfs(r.y, RATE, phrases) < noise_floor_dbfs(x, RATE, phrases) - 12
    worst = 0.0
    for phones in labels:
        a = round(phones[0].start_s * RATE)
        before, after = (np.sum(s[0, a : a + round(0.03 * RATE)] ** 2) for s in (x, r.y))
        worst = max(worst, abs(10 * np.log10(after / before)))
    print(f"first 30 ms of {len(labels)} phrases: within {worst:.2f} dB")
    assert worst < 0.5


def test_the_demo_keeps_its_first_consonants_through_the_suggested_gate(lead: np.ndarray, truth: dict) -> None:
    gate = gate_for(lead, find_phrases(lead, RATE), keep_breaths=False)
    y = run(gate, lead).y
    for told in truth["lanes"]["lead"]:
        a = round(told["start_s"] * RATE)
        before, after = (np.sum(s[0, a : a + round(0.03 * RATE)] ** 2) for s in (lead, y))
        assert abs(10 * np.log10(after / before)) < 0.5


def test_a_gate_opens_without_a_click() -> None:
    x = noise(2.0, 1e-4)
    t = np.arange(RATE) / RATE
    x[0, RATE // 2 : RATE // 2 + RATE] += 0.25 * np.sin(2 * np.pi * 200 * t) * np.clip(t / 0.02, 0, 1)
    r = run(Gate(threshold_db=-50, range_db=40, keep_breaths=False), x)
    top = butter(6, 5000, "high", fs=RATE, output="sos")
    opening = slice(RATE // 2 - 2400, RATE // 2 + 4800)
    loudest = np.abs(sosfiltfilt(top, r.y)[0, opening]).max()
    before = np.abs(sosfiltfilt(top, x)[0, opening]).max()
    print(f"above 5 kHz at the opening: {db(loudest):.1f} dBFS, {db(before):.1f} without the gate")
    assert db(loudest) < db(before) + 3


def test_hysteresis_hold_and_range() -> None:
    x = np.concatenate([sine(500, level, 0.6) for level in (-30, -49.5, -60)], axis=1)
    gate = Gate(threshold_db=-47, hysteresis_db=8, hold_ms=200, range_db=18, release_ms=10, lookahead_ms=0)
    gain = run(gate, x).gain_db
    assert np.abs(gain[round(0.3 * RATE) : round(1.2 * RATE)]).max() < 0.01  # between the two thresholds it stays open
    closing = 1.2 + 0.2
    assert np.abs(gain[: round((closing - 0.02) * RATE)][round(0.3 * RATE) :]).max() < 0.01
    assert abs(gain[-1] + 18) < 0.1


def test_an_expander_goes_by_its_ratio() -> None:
    x = sine(500, -57, 1.5)  # RMS −60
    gain = run(Gate(threshold_db=-50, ratio=2, range_db=40, keep_breaths=False), x).gain_db
    assert abs(gain[RATE] + 10) < 0.3


def test_breaths_keep_the_gain_that_is_theirs(lead: np.ndarray) -> None:
    phrases = find_phrases(lead, RATE)
    found = find_breaths(lead, RATE, phrases, noise_floor_dbfs(lead, RATE, phrases))[:4]
    spans = tuple(
        Passage(start_s=b.start / RATE, end_s=b.end / RATE, gain_db=g)
        for b, g in zip(found, (0, -6, 0, -60), strict=True)
    )
    gate = Gate(threshold_db=-30, range_db=30, breaths=spans)
    gain = run(gate, lead[:, : 23 * RATE]).gain_db
    for p in spans:
        inside = gain[round(p.start_s * RATE) : round(p.end_s * RATE)]
        assert np.abs(inside - p.gain_db).max() < 0.01
    bare = run(gate.model_copy(update={"keep_breaths": False}), lead[:, : 23 * RATE]).gain_db
    assert bare[round((spans[0].start_s + 0.1) * RATE)] < -20


# ---- trims and rides ----


def voice_lane(lead: np.ndarray, stages: list, trims: list[float]) -> tuple[Session, list[Span]]:
    spans = find_phrases(lead, RATE)
    phrases = [
        {"id": f"p{k}", "start": s.start, "end": s.end, "trim_db": g}
        for k, (s, g) in enumerate(zip(spans, trims, strict=True))
    ]
    _, _, session = one_lane(lead, stages, lane={"phrases": phrases})
    return session, spans


def treated(session: Session, lead: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    graph = Builder(session).build()
    found = Renderer(reader({"a" * 64: lead})).loop(graph, graph.places["lane:lead:treated"], 0, lead.shape[1])
    return found.audio, found.trace(graph.places["lane:lead:stage:s0"]).gain_db


def test_phrase_trims_bring_the_phrases_together_and_ramp_in_gaps_only(lead: np.ndarray) -> None:
    spans = find_phrases(lead, RATE)
    loudness = [integrated_lufs(lead[:, s.start : s.end], RATE) for s in spans]
    trims = [round(-20 - v, 1) for v in loudness]
    session, _ = voice_lane(lead, [{"kind": "trim"}], trims)
    y, gain = treated(session, lead)
    after = [integrated_lufs(y[:, s.start : s.end], RATE) for s in spans]
    print(f"range of phrase loudness: {np.ptp(loudness):.1f} LU before, {np.ptp(after):.2f} LU after")
    assert np.ptp(loudness) > 8
    assert np.ptp(after) < 0.3
    for s, g in zip(spans, trims, strict=True):
        inside = gain[s.start // 240 + 1 : s.end // 240 - 1]
        assert np.abs(inside - g).max() < 1e-6


def test_phrases_that_touch_change_gain_without_a_click() -> None:
    x = sine(200, -20, 3.0)
    spans = (Passage(start_s=0.5, end_s=1.5), Passage(start_s=1.5, end_s=2.5, gain_db=12))
    y = run(Trim(passages=spans), x).y
    top = sosfiltfilt(butter(6, 5000, "high", fs=RATE, output="sos"), y)[0]
    assert db(np.abs(top[RATE : 2 * RATE]).max()) < -90
    assert abs(db(np.abs(y[0, round(1.6 * RATE) : 2 * RATE]).max()) + 8) < 0.01


def test_a_gate_does_not_close_where_a_phrase_was_split() -> None:
    x = noise(3.0, 1e-4)
    spans = (Passage(start_s=0.5, end_s=1.5), Passage(start_s=1.5, end_s=2.5))
    gain = run(Gate(threshold_db=-40, phrases=spans), x).gain_db
    assert np.abs(gain[round(0.5 * RATE) : round(2.5 * RATE)]).max() < 1e-6
    assert gain[round(0.3 * RATE)] < -10


@pytest.mark.parametrize("kind", ["trim", "gate"])
def test_passages_that_overlap_or_run_backwards_are_refused(kind: str) -> None:
    name = "passages" if kind == "trim" else "phrases"
    for spans, words in (
        ([{"start_s": 2, "end_s": 1}], "ends before it begins"),
        ([{"start_s": 0, "end_s": 2}, {"start_s": 1, "end_s": 3}], "begins before the one before it ends"),
    ):
        with pytest.raises(ValueError, match=words):
            Stage.kinds[kind].model_validate({"kind": kind, name: spans})


def test_only_the_first_trim_applies_the_phrases() -> None:
    x = sine(300, -20, 3.0)
    lane = {"phrases": [{"id": "p", "start": RATE, "end": 2 * RATE, "trim_db": 6}]}
    graph, read, _ = one_lane(x, [{"kind": "trim"}, {"kind": "trim"}], lane=lane)
    y = Renderer(read).loop(graph, graph.places["lane:lead:treated"], 0, 3 * RATE).audio
    assert abs(db(np.abs(y[0, RATE + 4000 : 2 * RATE - 4000]).max()) + 14) < 0.01


def test_a_ride_evens_the_phrases_and_moves_slowly_with_nothing_in_gaps(lead: np.ndarray) -> None:
    spans = find_phrases(lead, RATE)
    ride = Ride(target_lufs=-20, share=1.0, up_db=8, down_db=8)
    points = ride_points(weighted_power(lead, RATE), spans, RATE, ride)
    y = run(ride.model_copy(update={"points": points}), lead)
    before, after = ([integrated_lufs(x[:, s.start : s.end], RATE) for s in spans] for x in (lead, y.y))
    print(f"range of phrase loudness: {np.ptp(before):.1f} LU before, {np.ptp(after):.1f} LU after the ride")
    assert np.ptp(after) < 0.45 * np.ptp(before)
    assert np.abs(np.diff(y.gain_db)).max() * RATE < 120  # dB a second, in the gaps; slow inside
    for s in spans:
        assert np.abs(np.diff(y.gain_db[s.start : s.end])).max() * RATE < 15
    for a, b in itertools.pairwise(spans):  # a gap stays at the gain of the phrase before most of the way
        gap = y.gain_db[a.end + 2400 : a.end + round(0.7 * (b.start - a.end))]
        assert np.ptp(gap) < 0.6
    assert max(p.gain_db for p in points) <= 8
    assert min(p.gain_db for p in points) >= -8


def test_points_drawn_by_hand_stay_when_the_ride_is_drawn_again(lead: np.ndarray) -> None:
    hand = (Point(time_s=6.5, gain_db=-3.3, by_hand=True), Point(time_s=21.0, gain_db=2.2, by_hand=True))
    points = ride_points(weighted_power(lead, RATE), find_phrases(lead, RATE), RATE, Ride(points=hand))
    assert [p for p in points if p.by_hand] == list(hand)
    assert all(p.by_hand or min(abs(p.time_s - h.time_s) for h in hand) > 0.19 for p in points)


def test_a_ride_with_points_out_of_order_is_refused() -> None:
    with pytest.raises(ValueError, match="in order of time"):
        Ride(points=(Point(time_s=2, gain_db=0), Point(time_s=1, gain_db=0)))


def test_trims_and_rides_know_where_they_are_in_the_song() -> None:
    x = noise(3.0, 0.1)
    for stage in (
        Trim(passages=(Passage(start_s=1, end_s=2, gain_db=6),)),
        Ride(points=(Point(time_s=1, gain_db=0), Point(time_s=2, gain_db=6))),
    ):
        whole = run(stage, x).y
        part = stage.build(RATE, 1)
        part.start_at(RATE)
        assert residue_db(part.process(np.ascontiguousarray(x[:, RATE:])), whole[:, RATE:]) < -200


@pytest.mark.parametrize("target", ["stereo", "middle", "side", "left", "right"])
def test_a_stereo_eq_makes_up_its_level_whatever_part_it_acts_on(target: str) -> None:
    x = noise(4.0, 0.1, 2, seed=6)
    band = {"shape": "high_shelf", "frequency_hz": 1500, "gain_db": -9, "q": 0.7, "target": target}
    _, _, session = one_lane(x, [{"kind": "eq", "bands": [band]}])
    spectrum = middle_and_side_power(x, RATE, [])
    session = apply(session, makeup_edits(session, [Set(path="lanes/lead")], lambda lane: spectrum)).session
    y = run(session.lanes[0].stages[0], x).y
    assert session.lanes[0].stages[0].makeup_db > 1
    assert abs(integrated_lufs(y, RATE) - integrated_lufs(x, RATE)) < 0.3


@pytest.mark.parametrize("lane", ["lead", "double"])
def test_an_eq_that_makes_up_its_level_is_as_loud_as_none(lane: str) -> None:

    audio = read_sound(SONG / f"{lane}.flac").audio
    spans = find_phrases(audio, RATE)
    spectrum = middle_and_side_power(audio, RATE, spans)
    bands = [
        {"shape": "low_cut", "frequency_hz": 160, "slope_db_per_octave": 24},
        {"frequency_hz": 400, "gain_db": -6, "q": 0.8},
        {"frequency_hz": 3000, "gain_db": 5, "q": 0.7},
        {"shape": "high_shelf", "frequency_hz": 9000, "gain_db": 4, "q": 0.7},
    ]
    _, _, session = one_lane(audio, [{"kind": "eq", "bands": bands}, {"kind": "eq", "bands": bands[1:2]}])
    edits = makeup_edits(session, [Set(path="lanes/lead")], lambda lane: spectrum)
    assert len(edits) == 2
    session = apply(session, edits).session
    y = audio
    for eq in session.lanes[0].stages:
        y, before = run(eq, y).y, y
        loud = [np.mean([integrated_lufs(x[:, s.start : s.end], RATE) for s in spans]) for x in (before, y)]
        assert abs(loud[1] - loud[0]) < 0.4


def test_the_spectrum_of_a_take_is_asked_for_only_where_an_eq_makes_up_its_level() -> None:
    asked = []
    bell = {"frequency_hz": 400, "gain_db": -6, "q": 0.8}
    for stages in ([{"kind": "compressor"}], [{"kind": "eq", "bands": [bell], "auto_makeup": False}]):
        _, _, session = one_lane(noise(1.0, 0.1), stages)
        assert makeup_edits(session, [Set(path="lanes/lead")], asked.append) == []
    assert asked == []


def test_one_channel_has_no_side() -> None:
    x = noise(1.0, 0.1)
    twice = middle_and_side_power(np.vstack([x, x]), RATE, [])
    assert np.array_equal(middle_and_side_power(x, RATE, []), twice)


def test_trims_are_the_same_bits_however_the_sound_is_cut() -> None:
    spans = [(0.31, 0.62, 3.3), (0.9, 1.4, -2.7), (1.4, 1.8, 1.1)]
    passages = tuple(Passage(start_s=a, end_s=b, gain_db=g) for a, b, g in spans)
    x = noise(2.2, 0.1)

    def made(size: int) -> np.ndarray:
        processor = Trim(gain_db=-1.7, passages=passages).build(RATE, 1)
        return np.concatenate([processor.process(x[:, k : k + size]) for k in range(0, x.shape[1], size)], axis=1)

    whole = made(x.shape[1])
    for size in (1, 997, 16384):
        assert np.array_equal(made(size)[:, : len(whole[0])], whole)
