"""Tuning, told by another's pitch tracker and formants, on singing whose pitch and formants are known."""

import itertools
import json
import subprocess
import sys
from typing import Any

import numpy as np
import pytest
from bench.singing import (
    LEAD_S,
    RATE,
    VOICES,
    VOWELS,
    WORLD_VOICES,
    Sung,
    formants_hz,
    pitch_cents,
    rap,
    sing,
    smoothed,
    sung_by_world,
    voice,
)
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from conftest import one_lane
from miclane.core.audio import read_sound
from miclane.core.engine.builder import Builder
from miclane.core.engine.giving_way import Cancel
from miclane.core.engine.render import Renderer
from miclane.core.engine.stream import flow
from miclane.core.measure.notes import find_notes, notes_again
from miclane.core.measure.pitch import track_pitch
from miclane.core.measure.thresholds import after
from miclane.core.mix.chain import read_chain
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Set, apply
from miclane.core.mix.following import followed
from miclane.core.mix.pasting import copied_chain, of_no_take, paste_stages
from miclane.core.process import process
from miclane.core.stages.tune import SungNote, Tune
from miclane.demo.seed import SONG
from speech import sing as speak

TRUTH = json.loads((SONG / "truth.json").read_text())


def tune(sung: np.ndarray, **settings: Any) -> Tune:
    return Tune(notes=find_notes(sung, RATE), **{"leave_cents": 0.0, "settle_ms": 60.0, "keep": 1.0, **settings})


def through(stage: Tune, sung: np.ndarray) -> np.ndarray:
    return after(stage, sung, RATE)


def held(sung: Sung, audio: np.ndarray, kind: str, after_s: float = 0.16) -> list[tuple[float, float]]:
    """Of every note, from when it has settled: (cents off, how far its pitch goes to either side)."""
    times, cents = pitch_cents(audio, kind)
    found = []
    for start, end, midi in sung.notes:
        inside = cents[(times > start + after_s) & (times < end - 0.08)] - 100 * midi
        found.append((float(np.nanmean(inside)), float(np.nanstd(inside) * np.sqrt(2))))
    return found


def bands_db(audio: np.ndarray) -> np.ndarray:
    """Levels (bands, moments) of third-of-an-octave bands, 150 Hz to 8 kHz."""
    size, hop = 2048, 1024
    frames = np.lib.stride_tricks.sliding_window_view(audio[0], size)[::hop] * np.hanning(size)
    power, f = np.abs(np.fft.rfft(frames, axis=1)) ** 2, np.fft.rfftfreq(size, 1 / RATE)
    edges = np.geomspace(150, 8000, 18)
    return np.array(
        [10 * np.log10(power[:, (f >= a) & (f < b)].sum(axis=1) + 1e-9) for a, b in itertools.pairwise(edges)]
    )


@pytest.mark.parametrize("off", [-45, -20, 38])
@pytest.mark.parametrize("kind", sorted(VOICES))
def test_a_note_settles_on_its_note_its_formants_stay_and_no_octave_is_mistaken(kind: str, off: float) -> None:
    sung, right = sing(kind, off), sing(kind, 0.0)
    before = held(sung, sung.audio, kind)
    out = through(tune(sung.audio), sung.audio)
    for (cents, width), (was, moved) in zip(held(sung, out, kind), before, strict=True):
        assert abs(was - off) < 4 and abs(cents) < 5
        assert width == pytest.approx(moved, rel=0.1, abs=1.5)
    flat = held(sung, through(tune(sung.audio, keep=0.0), sung.audio), kind)
    assert all(abs(cents) < 5 and width < 5 for cents, width in flat)
    times, wanted = formants_hz(right.audio, kind)
    _, heard = formants_hz(out, kind)
    inside = (times > LEAD_S + 0.15) & (times < sung.notes[-1][1] - 0.1)
    assert np.nanmedian(np.abs(heard[inside] / wanted[inside] - 1), axis=0).max() < 0.03
    levels = [bands_db(x)[:, 15:-15] for x in (out, right.audio, sung.audio)]
    tuned, untuned = (np.abs(x - levels[1]).mean() for x in (levels[0], levels[2]))
    assert tuned < 1.8 and tuned < 0.8 * untuned


def loudness(audio: np.ndarray) -> np.ndarray:
    """Level (n,) over 5 ms about each frame, linear."""
    return np.sqrt(np.convolve(audio[0] ** 2, np.ones(240) / 240, "same"))


@pytest.mark.parametrize(("off", "scoop"), [(-45, 0.0), (-25, 200.0), (38, 0.0)])
@pytest.mark.parametrize("kind", sorted(WORLD_VOICES))
def test_a_line_that_another_program_sang_comes_to_pitch_and_its_words_stay(
    kind: str, off: float, scoop: float
) -> None:
    sung, voiced = sung_by_world(kind, off, scoop_cents=scoop)
    right, _ = sung_by_world(kind, scoop_cents=scoop)
    out = through(tune(sung.audio), sung.audio)
    lines = (held(sung, out, kind, 0.16 + scoop / 2000), held(right, right.audio, kind, 0.16 + scoop / 2000))
    for (cents, width), (_, moved) in zip(*lines, strict=True):
        assert abs(cents) < 5 and width == pytest.approx(moved, rel=0.1)
    times, wanted = formants_hz(right.audio, kind)
    heard = formants_hz(out, kind)[1]
    inside = np.any([(times > a + 0.15) & (times < b - 0.1) for a, b, _ in sung.notes], axis=0)
    assert np.nanmedian(np.abs(heard[inside] / wanted[inside] - 1), axis=0).max() < 0.03
    (_, was), (_, now) = pitch_cents(sung.audio, kind), pitch_cents(out, kind)
    assert np.isfinite(now).sum() > 800 and not np.any(np.abs(now - was) > 600)
    near = np.convolve(voiced, np.ones(2 * round(0.025 * RATE) + 1), "same") > 0
    assert (~near).sum() > RATE / 4 and np.array_equal(out[:, ~near], sung.audio[:, ~near])
    for start, _, _ in sung.notes:
        begins = [
            np.argmax(x[round((start - 0.08) * RATE) :] > 0.35 * x[round((start + 0.1) * RATE) :][:7200].max())
            for x in (loudness(sung.audio), loudness(out))
        ]
        assert abs(int(begins[1]) - int(begins[0])) < 0.003 * RATE
    levels = [bands_db(x)[:, 15:-15] for x in (out, right.audio, sung.audio)]
    assert np.abs(levels[0] - levels[1]).mean() < np.abs(levels[2] - levels[1]).mean()


@pytest.mark.parametrize("kind", sorted(WORLD_VOICES))
def test_a_scoop_does_not_pull_the_pitch_of_the_note_it_leads_to(kind: str) -> None:
    off = []
    for scoop in (150.0, 200.0):
        sung, _ = sung_by_world(kind, -25.0, scoop_cents=scoop)
        for note in find_notes(sung.audio, RATE):
            start, end, midi = min(sung.notes, key=lambda n: abs(n[0] + n[1] - note.start_s - note.end_s))
            assert start < (note.start_s + note.end_s) / 2 < end
            off.append(abs(100 * (note.pitch - midi) + 25))
    assert np.mean(off) < 3.2  # cents; they were 3.8 to 4.8 off


@pytest.mark.parametrize("keep", [0.0, 0.5, 1.0])
@pytest.mark.parametrize("kind", sorted(VOICES))
def test_vibrato_is_as_wide_as_asked_and_as_fast_as_it_was(kind: str, keep: float) -> None:
    sung = sing(kind, 30.0, vibrato_cents=60.0, steps=(3.0,), lengths_s=(2.5,))
    times, was = pitch_cents(sung.audio, kind)
    _, now = pitch_cents(through(tune(sung.audio, keep=keep), sung.audio), kind)
    inside = (times > LEAD_S + 0.5) & (times < LEAD_S + 2.3)
    turn = np.exp(2j * np.pi * 5.5 * times[inside])
    widths = [2 * abs(np.mean((c[inside] - np.nanmean(c[inside])) * turn)) for c in (was, now)]
    assert widths[1] / widths[0] == pytest.approx(keep, abs=0.1)


def test_a_note_has_drift_and_vibrato_of_its_own() -> None:
    sung = sing("alto", 25.0, vibrato_cents=40.0, steps=(2.0,), lengths_s=(2.0,))
    stage = tune(sung.audio)
    wider = stage.model_copy(update={"notes": (stage.notes[0].model_copy(update={"vibrato": 2.0}),)})
    (_, one), (_, two) = (held(sung, through(s, sung.audio), "alto")[0] for s in (stage, wider))
    assert two / one == pytest.approx(2.0, rel=0.1)
    moved = stage.model_copy(update={"notes": (stage.notes[0].model_copy(update={"to": 65.0}),)})
    assert held(sung, through(moved, sung.audio), "alto")[0][0] == pytest.approx(300, abs=5)
    left = stage.model_copy(update={"notes": (stage.notes[0].model_copy(update={"off": True}),)})
    assert np.array_equal(through(left, sung.audio), sung.audio)


@pytest.mark.parametrize("kind", sorted(VOICES))
def test_a_glide_stays_a_glide_and_a_scoop_stays_a_scoop(kind: str) -> None:
    sung = sing(kind, -30.0, vibrato_cents=0.0, steps=(0.0, 7.0), lengths_s=(1.0, 1.2), scoop_cents=250.0)
    out = through(tune(sung.audio, settle_ms=0.0), sung.audio)
    times, was = pitch_cents(sung.audio, kind)
    _, now = pitch_cents(out, kind)
    for start, _, _ in sung.notes:
        inside = (times > start + 0.06) & (times < start + 0.3)
        went = [np.nanmax(c[inside]) - np.nanmin(c[inside]) for c in (was, now)]
        assert went[1] == pytest.approx(went[0], rel=0.1, abs=3)


@pytest.mark.parametrize("settle_ms", [100, 250, 600])
def test_a_held_note_settles_in_the_time_that_is_set(settle_ms: float) -> None:
    sung = sing("alto", -40.0, vibrato_cents=0.0, steps=(2.0,), lengths_s=(1.6,))
    times, cents = pitch_cents(through(tune(sung.audio, settle_ms=settle_ms), sung.audio), "alto")
    off = cents - 6200
    start = find_notes(sung.audio, RATE)[0].start_s
    settled = times[(times > start + 0.03) & (np.abs(off) < 0.05 * 40)][0] - start
    assert settled * 1000 == pytest.approx(settle_ms, rel=0.2)


def test_what_has_no_pitch_passes_to_the_bit_and_words_begin_where_they_did() -> None:
    song = speak(2)
    out = through(tune(song.audio, keep=0.3), song.audio)
    same = (out == song.audio).all(axis=0)
    for phrase in song.phrases:
        for phone in phrase:
            if phone.name in ("s", "sh", "f", "t", "k", "p"):
                a, b = round((phone.start_s + 0.03) * RATE), round((phone.end_s - 0.03) * RATE)
                assert b <= a or same[a:b].mean() > 0.97, phone
    for start, end in song.breaths:
        assert same[round(start * RATE) : round(end * RATE)].all()

    def begins(x: np.ndarray) -> list[float]:
        level = smoothed(np.abs(x[0]), 0.004)
        return [
            float(np.argmax(level[a:] > 0.2 * level[a : a + 12000].max()))
            for phrase in song.phrases
            for a in [round((phrase[0].start_s - 0.02) * RATE)]
        ]

    shifts = np.abs(np.array(begins(out)) - np.array(begins(song.audio))) / RATE
    assert shifts.max() < 0.003


def test_a_loop_is_the_print_and_blocks_are_not_heard() -> None:
    sung = sing("alto", 33.0)
    stage = tune(sung.audio, keep=0.5)
    whole = through(stage, sung.audio)
    late = stage.latency_frames(RATE)
    padded = np.concatenate([sung.audio, np.zeros((1, late))], axis=1)
    for cuts in ((0, 1, 500, 4096, 90000), (0, 16384, 100000)):
        processor = stage.build(RATE, 1)
        parts = [processor.process(np.ascontiguousarray(padded[:, a:b])) for a, b in itertools.pairwise([*cuts, None])]
        assert np.array_equal(np.concatenate(parts, axis=1)[:, late:], whole)
    spoken = speak(1).audio
    stage = tune(spoken, keep=0.2)
    whole, memory = through(stage, spoken), round(stage.memory_s() * RATE)
    for first in (5 * RATE, 7 * RATE + 123, 9 * RATE):
        begin = max(0, first - memory)
        processor = stage.build(RATE, 1)
        processor.start_at(begin)
        y = processor.process(np.ascontiguousarray(np.concatenate([spoken[:, begin:], np.zeros((1, late))], axis=1)))
        assert np.abs(y[:, late + first - begin :] - whole[:, first:]).max() < 10 ** (-90 / 20)


def test_a_note_under_the_playhead_is_heard_as_it_is_set_at_once_and_wherever_a_song_begins() -> None:
    sung = sing("alto", -30.0).audio
    notes = [note.model_dump() for note in find_notes(sung, RATE)]
    _, read, session = one_lane(sung, [{"kind": "tune", "id": "t", "leave_cents": 0, "notes": notes, "amount": 0.3}])
    turned = apply(session, [Set(path="lanes/lead/stages/t/amount", value=0.8)]).session
    before, after = (Builder(each, name="s").build() for each in (session, turned))
    target, loop = "lane:lead:treated", (0, sung.shape[1])
    renderer = Renderer(read)
    renderer.loop(before, before.places[target], *loop)
    exact = Renderer(read).loop(after, after.places[target], *loop).audio
    assert np.abs(exact - sung).max() > 0.1
    for start in range(RATE, loop[1] - RATE // 4, RATE // 3):
        stop = start + RATE // 4
        soon = renderer.preview(after, after.places[target], start, stop, loop)
        song = np.concatenate(list(flow(after, after.places[target], start, stop, read, RATE, Cancel())), axis=1)
        assert max(np.abs(heard - exact[:, start:stop]).max() for heard in (soon, song)) < 1e-9


def test_noise_whispers_and_rough_voices_are_left_alone() -> None:
    rng = np.random.default_rng(0)
    assert not find_notes(0.1 * rng.standard_normal((1, 3 * RATE)), RATE)
    assert not find_notes(np.zeros((1, RATE)), RATE) and not find_notes(np.zeros((1, 100)), RATE)
    n = 2 * RATE
    formants = np.tile(np.array(VOWELS["aa"], float), (n, 1))
    rough = voice(np.full(n, 5030.0), formants, np.ones(n), rough=0.6)[None]
    assert not any(
        tune(rough, keep=0.5).active(note) for note in find_notes(rough, RATE) if note.end_s - note.start_s > 0.1
    )
    fast = sing("alto", 35.0, 0.0, steps=tuple(np.tile((0.0, 3.0, 5.0, 2.0), 5)), lengths_s=(0.07,) * 20).audio
    stage = tune(fast)
    assert np.mean([stage.why_not(note) in ("short", "fast", "rough") for note in stage.notes]) > 0.5


@pytest.mark.parametrize("kind", sorted(VOICES))
def test_rap_is_left_alone_and_a_run_of_short_notes_is_not(kind: str) -> None:
    for seed in range(3):
        spoken = rap(kind, seed)
        stage = Tune(notes=find_notes(spoken, RATE))
        changed = np.abs(through(stage, spoken) - spoken)[0] > 1e-3 * np.abs(spoken).max()
        assert len(stage.notes) >= 12 and changed.mean() < 0.1, (kind, seed, float(changed.mean()))
    run = sing(kind, 35.0, 0.0, steps=(0.0, 2.0, 4.0, 5.0, 7.0, 5.0, 4.0, 2.0), lengths_s=(0.16,) * 8).audio
    stage = tune(run)
    assert sum(not stage.why_not(note) for note in stage.notes) >= 6


def test_the_flat_notes_of_the_demo_are_found_and_brought_to_pitch() -> None:
    clip = read_sound(SONG / "lead.flac")
    stage = Tune(scale="D minor", notes=find_notes(clip.audio, clip.rate))
    flats = TRUTH["faults"]["flat_notes"]
    moved = sorted(stage.notes, key=lambda n: abs(stage.goes_to(n) - n.pitch) * (n.end_s - n.start_s > 0.25))[-2:]
    for flat in flats:
        note = next(n for n in stage.notes if n.start_s < (flat["start_s"] + flat["end_s"]) / 2 < n.end_s)
        assert note in moved and 100 * (note.pitch - flat["midi"]) == pytest.approx(flat["cents"], abs=5)
        assert stage.target(note) == flat["midi"]
    assert sum(stage.active(n) for n in stage.notes) < 0.2 * len(stage.notes)
    out = after(stage, clip.audio, clip.rate)
    for flat in flats:
        f0, _ = track_pitch(out, clip.rate)
        inside = f0[round((flat["start_s"] + 0.25) * 100) : round((flat["end_s"] - 0.12) * 100)]
        cents = 1200 * np.log2(inside[inside > 0] / 440) + 6900 - 100 * flat["midi"]
        assert abs(np.median(cents)) < 5
    sung = [n for phrase in TRUTH["lanes"]["lead"] for n in phrase["notes"] if n["end_s"] - n["start_s"] > 0.4]
    for n in sung:
        near = min(stage.notes, key=lambda m: abs(m.start_s + m.end_s - n["start_s"] - n["end_s"]))
        assert abs(near.pitch - n["midi"]) < 0.5


def test_a_note_goes_to_the_nearest_that_is_allowed() -> None:
    note = SungNote(start_s=0, end_s=1, pitch=61.4)
    assert Tune().target(note) == 61 and Tune(scale="D minor").target(note) == 62
    assert Tune(scale="C E G").target(note) == 60 and Tune().in_key("C E G").target(note) == 60  # type: ignore[attr-defined]
    assert Tune(scale="A minor").in_key("C# major").target(note) == 62  # type: ignore[attr-defined]
    assert Tune(scale="c Eb g").scale == "C Eb G"
    assert Tune(amount=0.5).goes_to(note) == pytest.approx(61.2)
    assert Tune(longer_than_ms=1200).why_not(note) == "brief" and Tune(leave_cents=45).why_not(note) == "in tune"
    with pytest.raises(ValidationError, match="is not a key"):
        Tune(scale="H dur")
    with pytest.raises(ValidationError, match="before the one before it ends"):
        Tune(notes=(note, SungNote(start_s=0.5, end_s=2, pitch=60)))


@given(
    st.lists(st.tuples(st.floats(0.05, 1.5), st.floats(0.0, 0.3), st.floats(50, 70), st.booleans()), max_size=12),
    st.lists(st.tuples(st.floats(0.05, 1.5), st.floats(0.0, 0.3), st.floats(50, 70), st.booleans()), max_size=12),
)
@settings(max_examples=80)
def test_found_again_what_was_set_by_hand_stays(old: list[Any], new: list[Any]) -> None:
    def row(lengths: list[Any], hand: bool) -> list[SungNote]:
        at, notes = 0.0, []
        for length, gap, pitch, by_hand in lengths:
            at += gap
            to = 60.0 if hand and by_hand else None
            notes.append(SungNote(id=f"n{round(1000 * at)}", start_s=at, end_s=at + length, pitch=pitch, to=to))
            at += length
        return notes

    before, found = row(old, True), row(new, False)
    now = notes_again(found, before)
    stage = Tune(notes=now)  # in order, none over another
    kept = [n for n in stage.notes if n.by_hand]
    assert [(n.start_s, n.end_s, n.to) for n in kept] == [(n.start_s, n.end_s, n.to) for n in before if n.by_hand]
    assert len({n.id for n in now}) == len(now)
    if not any(n.by_hand for n in before):
        assert [(n.start_s, n.end_s) for n in now] == [(n.start_s, n.end_s) for n in found]


def test_a_file_without_notes_has_them_found() -> None:
    sung = sing("alto", 30.0, vibrato_cents=0.0, steps=(0.0,), lengths_s=(1.5,))
    chain = '{"format": "mic-lane/chain", "version": 1, "stages": [{"kind": "tune", "scale": "C major", "keep": 1}]}'
    out, _ = process(sung.audio, RATE, read_chain(chain))
    assert held(sung, out, "alto")[0][0] == pytest.approx(0.0, abs=5)


NOTE = st.fixed_dictionaries(
    {
        "length": st.floats(0.01, 0.5),
        "gap": st.sampled_from([0.0, 0.0, 0.02, 0.2]),
        "pitch": st.floats(35, 100),
        "drift_cents": st.floats(-1200, 1200),
        "to": st.none() | st.floats(23, 122),
        "vibrato": st.floats(0, 2),
        "drift": st.floats(0, 2),
        "off": st.booleans(),
    }
)


@given(
    st.lists(NOTE, max_size=8),
    st.sampled_from([44100, 48000, 96000]),
    st.integers(1, 2),
    st.floats(0, 1),
    st.floats(0, 1000),
    st.sampled_from(["voice", "noise", "silence", "clicks"]),
    st.lists(st.integers(1, 9000), min_size=2, max_size=6).filter(lambda sizes: sum(sizes) > 2000),
)
@settings(max_examples=40)
def test_whatever_the_notes_a_sound_comes_out_and_the_same_in_any_blocks(
    rows: list[Any], rate: int, channels: int, keep: float, settle_ms: float, what: str, blocks: list[int]
) -> None:
    at, notes = 0.05, []
    for k, row in enumerate(rows):
        start = at + row.pop("gap")
        at = start + row.pop("length")
        notes.append(SungNote(id=f"n{k}", start_s=start, end_s=at, **row))
    stage = Tune(notes=tuple(notes), keep=keep, settle_ms=settle_ms, leave_cents=0)
    n = round(0.9 * rate)
    t, rng = np.arange(n) / rate, np.random.default_rng(len(rows))
    sound = {
        "voice": sum(np.sin(2 * np.pi * 180 * h * t + h) / h for h in range(1, 20)) * 0.2,
        "noise": 0.2 * rng.standard_normal(n),
        "silence": np.zeros(n),
        "clicks": np.where(np.arange(n) % 997 == 0, 0.9, 0.0),
    }[what]
    x = np.stack([sound, np.roll(sound, 37)][:channels])
    late = stage.latency_frames(rate)
    padded = np.concatenate([x, np.zeros((channels, late))], axis=1)
    made = []
    for cuts in (blocks, [padded.shape[1]]):
        processor, parts, begun = stage.build(rate, channels), [], 0
        for size in itertools.cycle(cuts):
            if begun >= padded.shape[1]:
                break
            parts.append(processor.process(np.ascontiguousarray(padded[:, begun : begun + size])))
            begun += size
        made.append(np.concatenate(parts, axis=1)[:, late:])
    assert np.array_equal(*made) and np.isfinite(made[0]).all()
    assert np.abs(made[0]).max() <= 2.5 * np.abs(x).max()
    spans, _, _ = stage.stretches(rate)
    beside = np.ones(n, bool)
    for a, b in spans:
        beside[int(a) : int(b) + 1] = False
    assert np.array_equal(made[0][:, beside], x[:, beside])


def test_notes_are_of_one_take_and_go_nowhere_else() -> None:
    """A follower, a paste and a batch have none of the notes of the take that they were found in."""
    note = {"start_s": 1.0, "end_s": 2.0, "pitch": 61.4, "to": 62.0}
    inside = [{"id": "d", "kind": "deess", "by_hand": [{"start_s": 1, "end_s": 1.2, "gain_db": -6}]}]
    stages = [
        {"kind": "tune", "id": "t", "notes": [note]},
        {"kind": "split", "id": "sp", "branches": [{"id": "b", "stages": inside}]},
    ]
    lanes = [{"id": "one", "name": "One", "stages": stages}, {"id": "two", "name": "Two", "role": "backing"}]
    session = Session.model_validate({"name": "S", "lanes": lanes})
    chain = copied_chain(session, "one", [])
    assert chain.stages[0].notes  # type: ignore[attr-defined]
    plain = of_no_take(chain)
    assert not plain.stages[0].notes and not plain.stages[1].branches[0].stages[0].by_hand  # type: ignore[attr-defined]
    there = apply(session, paste_stages(session, "lanes/two/stages", 0, chain, "one").edits).session
    assert not there.lane("two").stages[0].notes  # type: ignore[attr-defined]
    back = apply(session, paste_stages(session, "lanes/one/stages", 0, chain, "one").edits).session
    assert back.lane("one").stages[0].notes  # type: ignore[attr-defined]
    tree = followed(session.lane("one"), session.lane("two"))
    assert tree[0]["kind"] == "tune" and tree[0]["notes"] == []


def test_a_file_through_a_chain_without_notes_waits_for_nothing_that_finds_them() -> None:
    said = "import sys, miclane.core.process; print([m for m in sys.modules if m.startswith('scipy.ndimage')])"
    done = subprocess.run([sys.executable, "-c", said], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"
