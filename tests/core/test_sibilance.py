"""Sibilants and plosives: found by kind on labelled speech, tamed by excess, never lisping; sibilants apart."""

from dataclasses import dataclass

import numpy as np
import pytest
import soxr
from scipy.signal import butter, fftconvolve, lfilter, sosfilt, sosfiltfilt

from conftest import RATE, noise, one_lane, run
from miclane.core.audio import read_sound
from miclane.core.engine.builder import Builder
from miclane.core.engine.render import Renderer
from miclane.core.errors import UnusableChainError
from miclane.core.measure.events import SHARP, find_sibilants
from miclane.core.measure.phrases import find_phrases
from miclane.core.measure.sibilance import (
    LISP_DB,
    STANDS_OUT_DB,
    balance_db,
    deess_back,
    deess_start,
    excess_db,
    fallen,
    plosive_start,
    stop_at_line,
)
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Set, apply
from miclane.core.stages.apart import Apart
from miclane.core.stages.base import HEARD, TAKEN, Passage
from miclane.core.stages.deess import Deess
from miclane.core.stages.detector import PeakLevel, cut_sections
from miclane.core.stages.eq import Eq
from miclane.core.stages.linear_band import LinearBand, band_taps
from miclane.core.stages.plosive import Plosive
from miclane.demo.seed import SONG
from speech import VOWELS, sing, with_noise

VOICED = VOWELS | set(["ah", "ao", "aw", "ax", "ay", "ey", "ih", "uh", "m", "n", "ng", "l"])
STRONG = ("s", "sh", "ch")


@dataclass
class Labelled:
    """A take with its phones as (name, start, end) in seconds."""

    name: str
    audio: np.ndarray
    phones: list[tuple[str, float, float]]

    def meets(self, event, phone) -> bool:
        return event.start / RATE < phone[2] and event.end / RATE > phone[1]

    def voiced(self, edge_s: float = 0.015) -> list[slice]:
        spans = [(a + edge_s, b - edge_s) for n, a, b in self.phones if n in VOICED and b - a > 4 * edge_s]
        return [slice(round(a * RATE), round(b * RATE)) for a, b in spans]


@pytest.fixture(scope="module")
def takes(truth: dict, lead: np.ndarray) -> list[Labelled]:
    """The demo's voices and made songs: as they are, a sixth higher and lower, louder and quieter, with noise."""
    found = []
    for lane in ("lead", "double", "high_harmony", "low_harmony"):
        audio = lead if lane == "lead" else read_sound(SONG / f"{lane}.flac").audio
        phones = [(p["name"], p["start_s"], p["end_s"]) for q in truth["lanes"][lane] for p in q["phones"]]
        found.append(Labelled(lane, audio, phones))
        if lane in ("lead", "high_harmony"):
            for f in (1.15, 1 / 1.15):
                moved = soxr.resample(audio.T, RATE * f, RATE, quality="HQ").T
                found.append(Labelled(f"{lane}, pitch x {f:.2f}", moved, [(n, a / f, b / f) for n, a, b in phones]))
        if lane == "lead":
            for gain in (-12, 12):
                found.append(Labelled(f"lead {gain:+d} dB", audio * 10 ** (gain / 20), phones))
            found.append(Labelled("lead, noise -50 dBFS", with_noise(audio, -50), phones))
    for seed, transpose in ((1, 0.0), (2, 2.4), (3, -2.8)):
        song = sing(seed, transpose=transpose)
        phones = [(p.name, p.start_s, p.end_s) for q in song.phrases for p in q]
        found.append(Labelled(f"made {seed}, {transpose:+.1f} st", song.audio, phones))
        found.append(Labelled(f"made {seed}, noise -50 dBFS", with_noise(song.audio, -50), phones))
    return found


def test_sharp_sounds_are_found_and_none_inside_vowels_and_nasals(takes: list[Labelled], capsys) -> None:
    lines, recalled, wanted, inside, minutes = [], 0, 0, 0, 0.0
    for take in takes:
        events = find_sibilants(take.audio, RATE)
        sharp = [p for p in take.phones if p[0] in STRONG]
        hit = sum(any(take.meets(e, p) for e in events) for p in sharp)
        wrong = 0
        for e in events:
            names = {p[0] for p in take.phones if take.meets(e, p)}
            wrong += bool(names) and names <= VOICED
        lines.append(f"{take.name:26s} {hit:3d} of {len(sharp):3d}  in vowels and nasals {wrong}")
        assert hit >= 0.95 * len(sharp)
        recalled, wanted, inside = recalled + hit, wanted + len(sharp), inside + wrong
        minutes += take.audio.shape[1] / RATE / 60
    with capsys.disabled():
        print(
            "\n" + "\n".join(lines), f"\nin all {recalled} of {wanted}, {inside / minutes:.2f} a minute inside vowels"
        )
    assert recalled >= 0.95 * wanted
    assert inside / minutes < 1


def test_events_have_a_kind_a_centre_and_an_excess_that_do_not_depend_on_level(takes: list[Labelled]) -> None:
    take = takes[0]
    events = find_sibilants(take.audio, RATE)
    quiet = find_sibilants(take.audio * 10 ** (-12 / 20), RATE)
    assert [(e.kind, e.start) for e in events if e.kind in SHARP] == [
        (e.kind, e.start) for e in quiet if e.kind in SHARP
    ]
    assert np.allclose([e.excess_db for e in events[:10]], [e.excess_db for e in quiet[:10]], atol=0.1)
    right = {"s": 0, "ch": 0}
    for name, kinds in (("s", ("s",)), ("ch", ("t", "sh"))):
        phones = [p for t in takes for p in t.phones if p[0] == name and t.name == "lead"]
        for p in phones:
            met = [e for e in events if take.meets(e, p)]
            right[name] += any(e.kind in kinds for e in met)
        assert right[name] >= 0.8 * len(phones)
    centres = [e.centre_hz for e in events if e.kind == "s"], [e.centre_hz for e in events if e.kind == "sh"]
    assert min(map(len, centres)) >= 3
    assert np.median(centres[0]) > np.median(centres[1]) + 800


@pytest.mark.parametrize("seconds", [0.0, 0.01, 0.5])
def test_nothing_is_found_where_nothing_is(seconds: float) -> None:
    assert find_sibilants(np.zeros((1, round(seconds * RATE))), RATE) == []


def test_one_press_tames_what_stands_out_and_leaves_the_rest(takes: list[Labelled], capsys) -> None:
    lines = []
    for take in takes:
        settings = deess_start(take.audio, RATE)
        sharp = [e for e in find_sibilants(take.audio, RATE) if e.kind in SHARP]
        before = excess_db(take.audio, RATE, sharp)
        if not settings:
            assert before.max() <= STANDS_OUT_DB + 0.1
            continue
        done = run(Deess(**settings), take.audio)
        down = before - excess_db(done.y, RATE, sharp)
        out = before > STANDS_OUT_DB
        change = [10 * np.log10(np.mean(done.y[:, s] ** 2) / np.mean(take.audio[:, s] ** 2)) for s in take.voiced()]
        touched = np.percentile(np.abs(change), 95)
        lines.append(f"{take.name:26s} {out.sum()} stood out, down by {down[out].min():.1f} to {down.max():.1f} dB, "
                     f"vowels {touched:.2f} dB")  # fmt: skip
        assert down[out].min() >= 1.0
        assert fallen(take.audio, done.y, RATE, sharp) == []
        assert touched < 0.3
    with capsys.disabled():
        print("\n" + "\n".join(lines))
    assert len(lines) >= 8


def test_one_press_is_the_same_at_any_level(takes: list[Labelled]) -> None:
    by_name = {t.name: deess_start(t.audio, RATE) for t in takes}
    assert by_name["lead"] == by_name["lead -12 dB"] == by_name["lead +12 dB"]


def test_the_lisp_guard_tells_how_far_and_the_cut_it_offers_is_enough(lead: np.ndarray) -> None:
    part = lead[:, : 20 * RATE]
    events = find_sibilants(part, RATE)
    stage = Deess(threshold_db=-30, max_cut_db=24, mode="wide")
    deep = run(stage, part)
    fell = fallen(part, deep.y, RATE, events)
    assert len(fell) >= 4
    after = {e.start: v for e, v in zip(events, excess_db(deep.y, RATE, events), strict=True)}
    for f in fell:
        assert f.under_db == pytest.approx(LISP_DB - after[f.start], abs=0.01)
    offered = stop_at_line(part, part, RATE, events, stage)
    assert offered is not None and 1 < offered < 12
    assert fallen(part, run(stage.model_copy(update={"max_cut_db": offered}), part).y, RATE, events) == []
    assert fallen(part, run(stage.model_copy(update={"max_cut_db": offered + 0.5}), part).y, RATE, events) != []
    assert stop_at_line(part, part, RATE, events, stage.model_copy(update={"max_cut_db": offered})) is None


@pytest.mark.parametrize("mode", ["split", "narrow", "wide"])
def test_removed_and_treated_are_the_untreated(mode: str, lead: np.ndarray) -> None:
    x = lead[:, 5 * RATE : 12 * RATE]
    stage = {"kind": "deess", "mode": mode, "threshold_db": -18, "max_cut_db": 12}
    graph, read, session = one_lane(x, [stage])
    taken = Builder(session, alone=("lead", "s0", TAKEN)).build()
    renderer = Renderer(read)
    treated, removed = (renderer.loop(g, g.places["lane:lead:treated"], 0, x.shape[1]).audio for g in (graph, taken))
    assert np.abs(removed).max() > 1e-3
    assert np.abs(treated + removed - x).max() < 10 ** (-120 / 20)


def test_what_it_listens_to_is_its_band() -> None:
    x = noise(2)
    _, read, session = one_lane(x, [{"kind": "deess", "low_hz": 5000, "high_hz": 9000}])
    graph = Builder(session, alone=("lead", "s0", HEARD)).build()
    heard = Renderer(read).loop(graph, graph.places["lane:lead:treated"], 0, x.shape[1]).audio[0]
    power = np.abs(np.fft.rfft(heard)) ** 2
    f = np.fft.rfftfreq(len(heard), 1 / RATE)
    assert power[(f > 5500) & (f < 8500)].mean() > 1000 * power[(f > 500) & (f < 2000)].mean()


def test_a_narrow_cut_follows_the_centre_of_the_event(lead: np.ndarray) -> None:
    voice = lead[:, 5 * RATE : 9 * RATE]
    spots = {4800.0: round(0.9 * RATE), 9500.0: round(2.2 * RATE)}
    x = voice.copy()
    rng = np.random.default_rng(1)
    for centre, at in spots.items():
        band = butter(2, [centre * 0.95, centre * 1.05], "band", fs=RATE, output="sos")
        hiss = sosfiltfilt(band, rng.standard_normal(round(0.12 * RATE)))
        x[:, at : at + len(hiss)] *= 0.05
        x[:, at : at + len(hiss)] += 0.25 * np.abs(voice).max() * hiss / hiss.std()
        x[:, at : at + len(hiss)] += 0.01 * rng.standard_normal(len(hiss))
    settings = {"low_hz": 4000, "high_hz": 12000, "threshold_db": -20, "max_cut_db": 9}
    for centre, at in spots.items():
        part = slice(at + round(0.03 * RATE), at + round(0.1 * RATE))
        far = butter(6, [9000, 11500] if centre < 7000 else [4100, 5500], "band", fs=RATE, output="sos")
        depth, beside = {}, {}
        for mode in ("split", "narrow"):
            done = run(Deess(mode=mode, **settings), x)
            depth[mode] = 10 * np.log10(np.mean(x[:, part] ** 2) / np.mean(done.y[:, part] ** 2))
            before, after = (np.mean(sosfiltfilt(far, y)[:, part] ** 2) for y in (x, done.y))
            beside[mode] = 10 * np.log10(before / after)
        assert min(depth.values()) > 8, (centre, depth)
        assert beside["split"] > 7, (centre, beside)
        assert abs(beside["narrow"]) < 1, (centre, beside)


def test_an_event_cut_by_hand_has_its_own_gain_and_no_other_is_touched(lead: np.ndarray) -> None:
    x = lead[:, : 12 * RATE]
    events = [e for e in find_sibilants(x, RATE) if e.kind == "s"]
    one, other = events[0], events[1]
    plain = run(Deess(threshold_db=-14, max_cut_db=8), x)
    hand = Passage(start_s=one.start / RATE, end_s=one.end / RATE, gain_db=-15.0)
    done = run(Deess(threshold_db=-14, max_cut_db=8, by_hand=(hand,)), x)
    assert np.allclose(done.gain_db[one.start + 10 : one.end - 10], -15.0)
    assert np.array_equal(done.gain_db[other.start : other.end], plain.gain_db[other.start : other.end])
    left = run(Deess(threshold_db=-30, max_cut_db=8, by_hand=(hand.model_copy(update={"gain_db": 0.0}),)), x)
    inside = slice(one.start + 10, one.end - 10)
    assert np.abs(left.y[:, inside] - x[:, inside]).max() < 1e-12


def test_plosives_of_the_demo_are_turned_down_and_notes_left_alone(truth: dict, lead: np.ndarray) -> None:
    settings = plosive_start(lead, RATE, find_phrases(lead, RATE), 218.0)
    done = run(Plosive(**settings), lead)
    for burst in truth["faults"]["plosives"]:
        at = round(burst["start_s"] * RATE)
        assert done.gain_db[at : at + RATE // 6].min() < -5
    changes = []
    for phrase in truth["lanes"]["lead"]:
        for n in phrase["notes"]:
            a, b = round((n["start_s"] + 0.05) * RATE), round((n["end_s"] - 0.05) * RATE)
            if b - a < RATE // 12:
                continue
            f0, f = 440 * 2 ** ((n["midi"] - 69) / 12), np.fft.rfftfreq(b - a, 1 / RATE)
            near = (f > 0.94 * f0) & (f < 1.06 * f0)
            powers = [(np.abs(np.fft.rfft(v[0, a:b] * np.hanning(b - a))) ** 2)[near].sum() for v in (lead, done.y)]
            changes.append(10 * np.log10(powers[1] / powers[0]))
    assert len(changes) > 40
    assert np.abs(changes).max() < 0.3


def test_a_low_voice_keeps_its_fundamental() -> None:
    song = sing(4, transpose=-17)  # down to E2
    settings = plosive_start(song.audio, RATE, find_phrases(song.audio, RATE), 82.0)
    done = run(Plosive(**settings, **({} if settings else {"high_hz": 60.0})), song.audio)
    low = butter(4, [70, 180], "band", fs=RATE, output="sos")
    levels = [np.mean(sosfiltfilt(low, v) ** 2) for v in (song.audio, done.y)]
    assert abs(10 * np.log10(levels[1] / levels[0])) < 0.3


def apart(x: np.ndarray, spans: list[tuple[int, int]], inner: list[dict], **sibilants) -> dict:
    branches = [
        {"id": "v", "name": "Voice", "blend_db": 0, "stages": [{"kind": "apart", "id": "w1", "part": "rest"}, *inner]},
        {"id": "s", "name": "Sibilants", "blend_db": 0, "stages": [{"kind": "apart", "id": "w2"}], **sibilants},
    ]
    lane = {"apart": [{"id": f"a{k}", "start": a, "end": b} for k, (a, b) in enumerate(spans)]}
    return {"stages": [{"kind": "split", "dry_db": -60, "branches": branches}], "lane": lane}


def test_sibilants_apart_null_when_neutral_and_skip_what_stands_in_the_other_path(lead: np.ndarray) -> None:
    x = lead[:, 5 * RATE : 12 * RATE]
    events = [e for e in find_sibilants(x, RATE) if e.kind in SHARP]
    spans = [(e.start, e.end) for e in events]
    neutral = apart(x, spans, [])
    graph, read, _ = one_lane(x, neutral["stages"], lane=neutral["lane"])
    got = Renderer(read).loop(graph, graph.places["lane:lead:treated"], 0, x.shape[1]).audio
    assert np.abs(got - x).max() < 10 ** (-120 / 20)
    boost = {"kind": "eq", "id": "boost", "auto_makeup": False, "bands": [
        {"shape": "high_shelf", "frequency_hz": 3000, "gain_db": 9, "q": 0.7}]}  # fmt: skip
    driven = apart(x, spans, [boost])
    graph, read, _ = one_lane(x, driven["stages"], lane=driven["lane"])
    got = Renderer(read).loop(graph, graph.places["lane:lead:treated"], 0, x.shape[1]).audio
    whole = run(Eq.model_validate(boost), x).y
    for e in events:
        inside = slice(e.start + 100, e.end - 100)
        rise = 10 * np.log10(np.mean(got[:, inside] ** 2) / np.mean(x[:, inside] ** 2))
        full = 10 * np.log10(np.mean(whole[:, inside] ** 2) / np.mean(x[:, inside] ** 2))
        assert rise < 0.3 < full
    edges = np.abs(np.diff(got[0], 2))
    assert edges.max() < 1.5 * np.abs(np.diff(whole[0], 2)).max()


def test_sibilants_apart_have_a_send_of_their_own(lead: np.ndarray) -> None:
    x = lead[:, 5 * RATE : 9 * RATE]
    events = [e for e in find_sibilants(x, RATE) if e.kind in SHARP]
    made = apart(x, [(e.start, e.end) for e in events], [], sends=[{"id": "plate", "level_db": -6.0}])
    graph, read, session = one_lane(x, made["stages"], lane=made["lane"], returns=[{"id": "plate", "name": "Plate"}])
    sent = Renderer(read).loop(graph, graph.places["return:plate:raw"], 0, x.shape[1]).audio[0]
    e = events[0]
    inside = slice(e.start + 100, e.end - 100)
    assert np.allclose(sent[inside], x[0, inside] * 10 ** (-6 / 20) * np.sqrt(0.5), atol=1e-9)
    outside = np.ones(len(sent), bool)
    for e in events:
        outside[max(0, e.start - RATE // 50) : e.end + RATE // 50] = False
    assert np.abs(sent[outside]).max() == 0
    with pytest.raises(UnusableChainError, match="sends to a return that is not there"):
        apply(session, [Set(path="lanes/lead/stages/s0/branches/s/sends", value=[{"id": "hall"}])])


def test_passages_that_nearly_meet_become_one() -> None:
    spans = (Passage(start_s=0.2, end_s=0.3), Passage(start_s=0.305, end_s=0.4))
    x = np.ones((1, RATE // 2))
    only = run(Apart(passages=spans), x).y[0]
    rest = run(Apart(passages=spans, part="rest"), x).y[0]
    assert np.array_equal(only + rest, x[0])
    assert np.all(only[round(0.2 * RATE) : round(0.4 * RATE)] == 1.0)
    assert only[: round(0.19 * RATE)].max() == 0.0


def test_the_balance_rises_along_the_chain_and_a_second_deesser_brings_it_back(demo) -> None:
    session: Session = demo.session
    graph = Builder(session).build()
    span = (round(4.8 * RATE), round(9.9 * RATE))
    found = Renderer(demo.studio.sounds.reader(RATE)).loop(graph, graph.places["lane:lead:treated"], *span)
    sounds = {name: found.cut(graph.places[f"lane:lead:{name}"])
              for name in ("raw", "stage:deess", "stage:tone", "before:again")}  # fmt: skip
    events = [e for e in find_sibilants(sounds["raw"], RATE) if e.kind in SHARP]
    first, risen = balance_db(sounds["stage:deess"], RATE, events), balance_db(sounds["stage:tone"], RATE, events)
    assert risen > first + 2
    stage = next(s for s in session.lane("lead").stages if s.id == "again")
    assert isinstance(stage, Deess)
    settings = deess_back(sounds["before:again"], RATE, events, stage, first)
    after = run(stage.model_copy(update=settings), sounds["before:again"]).y
    assert abs(balance_db(after, RATE, events) - first) < 1.0
    assert deess_back(after, RATE, events, stage, first + 3) == {}


def test_the_balance_of_a_take_without_sibilants_is_no_number() -> None:
    assert np.isnan(balance_db(noise(1), RATE, []))
    assert deess_start(np.zeros((1, RATE)), RATE) == {}
    assert plosive_start(np.zeros((1, RATE)), RATE, [], 0.0) == {}


@pytest.mark.parametrize(
    ("edges", "rate"),
    [
        ((20.0, 120.0), 48000),
        ((20.0, 120.0), 44100),
        ((2000.0, 9000.0), 48000),
        ((2000.0, 4000.0), 192000),  # every other frame
        ((2000.0, 4000.0), 96000),
    ],
)
def test_a_band_worked_out_every_few_frames_is_the_band_of_all_frames(edges: tuple[float, float], rate: int) -> None:
    x = noise(3.0, 0.1, 2, rate=rate, seed=5)
    x[:, rate : 2 * rate] += 0.2 * np.sin(2 * np.pi * 70 * np.arange(rate) / rate)
    latency = round(0.25 * rate)
    gain_db = np.zeros(x.shape[1] + 8)
    gain_db[rate // 2 : -rate // 3] = -12.0
    band = LinearBand((edges,), rate, 2, latency, 1.0)
    band.start_at(777)
    got, at = np.empty_like(x), 0
    for count in [4096, 17, 9000, 501] * 50:
        stop = min(at + count, x.shape[1])
        got[:, at:stop] = band.process(np.ascontiguousarray(x[:, at:stop]), gain_db[at : stop + 8].copy())
        at = stop
    whole = np.stack([fftconvolve(row, band_taps((edges,), rate)[0], "same") for row in x])
    late = np.pad(x, ((0, 0), (latency, 0)))[:, : x.shape[1]]
    share = 1 - 10 ** (gain_db[: x.shape[1]] / 20)
    wanted = late - share * np.pad(whole, ((0, 0), (latency, 0)))[:, : x.shape[1]]
    assert np.abs(got - wanted).max() < 3e-4 * np.abs(whole).max()


@pytest.mark.parametrize("edges", [((3000.0, 12000.0),), ((4000.0, 6000.0), (5000.0, 7500.0))])
def test_a_band_is_turned_down_to_120_db_exactly(edges: tuple[tuple[float, float], ...]) -> None:
    x = noise(1.0, 0.1, 1, seed=6)
    latency = round(0.25 * RATE)
    band = LinearBand(edges, RATE, 1, latency, 1.0)
    places = np.full(x.shape[1], 0.5) if len(edges) > 1 else None
    got = band.process(x, np.full(x.shape[1] + 8, -12.0), places)
    taps = band_taps(edges, RATE).mean(axis=0)
    whole = np.pad(x[0] - (1 - 10 ** (-12 / 20)) * fftconvolve(x[0], taps, "same"), (latency, 0))[: x.shape[1]]
    inside = slice(latency + len(taps), None)
    assert np.abs(got[0] - whole)[inside].max() < 10 ** (-120 / 20) * np.abs(x).max()


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_a_cut_in_groups_of_frames_is_the_cut_of_every_frame(rate: int) -> None:
    """In blocks of any length; worked out anew frame by frame, from the mean squares to the gain that follows."""
    n = 4 * rate
    t, rng = np.arange(n) / rate, np.random.default_rng(3)
    x = 0.1 * np.sin(2 * np.pi * 220 * t) * (t % 1 < 0.7)
    for at in (0.75, 1.2, 1.75, 2.71, 3.05):
        hiss = sosfiltfilt(butter(4, (5500, 9000), "bandpass", fs=rate, output="sos"), rng.standard_normal(rate // 8))
        x[round(at * rate) :][: len(hiss)] += 0.15 * np.hanning(len(hiss)) * hiss
    stage = Deess(threshold_db=-12, max_cut_db=9)
    made, got = stage.build(rate, 1), []
    made.start_at(777)
    for part in np.split(x[None], [1001, 1002, 30000, 61234], axis=1):
        made.process(np.ascontiguousarray(part))
        got.append(made.gain_db)

    def power(sections: np.ndarray, ms: float) -> np.ndarray:
        c = 1 - np.exp(-1000 / (ms * rate))
        return lfilter([c], [1, c - 1], sosfilt(sections, x) ** 2)

    ahead = round(0.25 * rate)
    voice_sections = cut_sections(100.0, 3500.0, rate)
    slow = np.sqrt(power(voice_sections, 40.0))
    around = PeakLevel(1750, rate)
    around.start_at(777)
    around_db = 20 * np.log10(np.maximum(around.process(slow[None])[:n], 10 ** (stage.floor_db / 20)))
    band, voice = (
        10 * np.log10(np.pad(power(sections, ms), (ahead, 0))[:n] + 1e-12)
        for sections, ms in ((stage.band_sections(rate), 2.0), (voice_sections, 4.0))
    )
    goals = -np.clip(band - around_db + 12, 0, 9) * np.clip((band - voice + 3) / 6, 0, 1)
    down, up = (1 - np.exp(-1000 / (ms * rate)) for ms in (stage.attack_ms, stage.release_ms))
    wanted, gain = [], 0.0
    for goal in goals.tolist():
        gain += (down if goal < gain else up) * (goal - gain)
        wanted.append(gain)
    assert min(wanted) < -6
    assert np.abs(np.concatenate(got) - wanted).max() < 0.25, "no steeper than by a group of frames"
    assert abs(np.mean(np.concatenate(got) - wanted)) < 0.005
