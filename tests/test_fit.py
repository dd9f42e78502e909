"""Fit in whole sessions: how clear the voice is, what would let it through, and pockets as they are played."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile

from conftest import RATE, db, seeded
from miclane.core.engine.builder import Builder
from miclane.core.errors import UnknownPlaceError
from miclane.core.measure.loudness import integrated_lufs
from miclane.core.measure.phrases import find_phrases
from miclane.core.mix.document import Bus, Lane, Phrase, Session
from miclane.core.mix.edits import Set, apply
from miclane.core.stages.eq import Eq
from miclane.demo.seed import SONG
from miclane.store.state import State
from miclane.studio.answers import Answer, answers
from miclane.studio.fitting import fit, sounds_of_phrase
from miclane.studio.room import rooms
from miclane.studio.studio import Studio
from miclane.studio.thinning import thinned

VOICE = 18 * RATE, 36 * RATE  # of the demo's lead


def music(kind: str, frames: int) -> np.ndarray:
    """Stereo music that stands over a voice: strummed chords, or a wide organ."""
    rng, t = np.random.default_rng(len(kind)), np.arange(frames) / RATE
    left, right = np.zeros(frames), np.zeros(frames)
    for k, f in enumerate((146.8, 220.0, 293.7, 349.2, 440.0, 587.3)):
        for harmonic in range(1, 14):
            phase = rng.uniform(0, 2 * np.pi, 2)
            level = harmonic**-0.8
            if kind == "strummed":
                level *= np.exp(-4 * ((t * 1.53 + 0.02 * k) % 1.0))
            left += level * np.sin(2 * np.pi * f * harmonic * t + phase[0])
            right += level * np.sin(2 * np.pi * f * 1.002 * harmonic * t + phase[1])
    both = np.stack([left, right])
    return both / np.sqrt(np.mean(both**2)) * 0.09


def made(studio: Studio, folder: Path, kind: str) -> State:
    """A song of the demo's lead and some made music, in a studio."""
    voice = soundfile.read(SONG / "lead.flac")[0][slice(*VOICE)]
    lanes = []
    for name, role, audio in (("voice", "lead", voice), ("band", "music", music(kind, len(voice)).T)):
        soundfile.write(folder / f"{name}.wav", audio, RATE, subtype="FLOAT")
        sound = studio.sounds.add(folder / f"{name}.wav", f"{name}.wav", RATE)
        lanes.append(Lane(id=name, name=name.title(), role=role, sound=sound, bus="mix"))
    spans = find_phrases(voice[None], RATE)
    phrases = tuple(Phrase(id=f"p{k}", start=s.start, end=s.end, words="one two three") for k, s in enumerate(spans))
    lanes[0] = lanes[0].model_copy(update={"phrases": phrases})
    return studio.sessions.create(Session(name=kind, lanes=tuple(lanes), buses=(Bus(id="mix", name="Mix", into=None),)))


@pytest.fixture(params=["demo", "strummed", "organ"])
def song(request, studio: Studio, tmp_path: Path) -> tuple[Studio, State, int, int]:
    """A studio, a session in it, and the stretch that is looked at."""
    if request.param == "demo":
        return studio, seeded(studio), 20 * RATE, 36 * RATE
    state = made(studio, tmp_path, request.param)
    return studio, state, 0, state.session.frames


def with_answer(state: State, answer: Answer) -> State:
    return replace(state, session=apply(state.session, list(answer.edits)).session, version=state.version + 1)


def lane_of(answer: Answer) -> tuple[str, str]:
    return answer.edits[0].path.split("/")[1], answer.edits[0].value["id"]


def pocket_of(studio: Studio, state: State, first: int, last: int) -> Answer:
    found = answers(studio, state, "", fit(studio, state, "", first, last))
    return next(a for a in found.found if a.name.startswith("Pocket"))


def test_a_pocket_lets_the_voice_through_and_takes_no_more_than_it_says(song, capsys) -> None:
    studio, state, first, last = song
    before = fit(studio, state, "", first, last)
    answer = pocket_of(studio, state, first, last)
    after_state = with_answer(state, answer)
    after = fit(studio, after_state, "", first, last)
    told = [(a.clarity, b.clarity) for a, b in zip(before.phrases, after.phrases, strict=True) if a.clarity is not None]
    with capsys.disabled():
        print(f"\n{state.session.name}: {answer.says}")
        print(", ".join(f"{a:.2f} to {b:.2f}" for a, b in told), f"all else {answer.rest_db:+.2f} dB")
    assert all(b > a + 0.002 for a, b in told) and answer.after > answer.before + 0.01
    assert -0.5 < answer.rest_db < 0  # as little as must
    assert after.clarity == pytest.approx(answer.after, abs=1e-3)  # what was said beforehand

    lane, stage = lane_of(answer)
    graph = studio.graph(after_state)
    node = graph.places[f"lane:{lane}:stage:{stage}"]
    found = studio.renderer(RATE).loop(graph, graph.places["bus:mix:out"], first, last)
    trace = found.trace(node)
    assert trace is not None and trace.parts_db is not None
    attack = round(4 * 20 / 1000 * RATE) // trace.hop  # after its attack
    for band, row in zip(answer.edits[0].value["bands"], trace.parts_db, strict=True):
        depth = band["dynamic"]["change_db"]
        for sung in after.phrases:
            a = (max(sung.phrase.start, first) - trace.start) // trace.hop + attack
            b = (min(sung.phrase.end, last) - trace.start) // trace.hop
            assert np.median(row[a:b]) == pytest.approx(depth, abs=0.5)
            assert np.mean(np.abs(row[a:b] - depth) < 0.5) > 0.8  # the last of a phrase dies away

    source, taken = found.cut(graph.places[f"lane:{lane}:before:{stage}"]), found.cut(node)
    side = [x[0] - x[-1] for x in (source, taken)]
    if source.shape[0] == 2:
        assert db(np.sqrt(np.mean(side[1] ** 2) / np.mean(side[0] ** 2))) == pytest.approx(0, abs=0.1)
        assert np.abs(side[1] - side[0]).max() < 1e-9
    lost = integrated_lufs(taken, RATE) - integrated_lufs(source, RATE)
    music = []
    for one in (state, after_state):
        whole = studio.graph(one)
        lanes = [x for x in one.session.lanes if x.role == "music"]
        song = one.session.frames
        heard = [studio.renderer(RATE).sound(whole, whole.places[f"lane:{x.id}:out"], 0, song) for x in lanes]
        music.append(integrated_lufs(np.sum(heard, axis=0), RATE))
    with capsys.disabled():
        print(f"loudness of what has the pocket {lost:+.2f} LU, of the music {music[1] - music[0]:+.2f} LU")
    assert -0.5 < music[1] - music[0] <= 0


def test_a_pocket_leaves_music_alone_bit_for_bit_while_its_key_is_silent(song) -> None:
    studio, state, first, last = song
    answer = pocket_of(studio, state, first, last)
    after = with_answer(state, answer)
    lane, stage = lane_of(answer)
    key = answer.edits[0].value["key"]["lane"]
    voices = [x if x.id != key else x.model_copy(update={"sound": None}) for x in after.session.lanes]
    graph = Builder(after.session.model_copy(update={"lanes": tuple(voices)})).build()
    found = studio.renderer(RATE).loop(graph, graph.places[f"lane:{lane}:stage:{stage}"], first, last)
    assert np.array_equal(found.audio, found.cut(graph.places[f"lane:{lane}:before:{stage}"]))


def test_a_pocket_rests_inside_a_held_note(studio: Studio, tmp_path: Path) -> None:
    state = made(studio, tmp_path, "organ")
    t = np.arange(6 * RATE) / RATE
    vibrato = 220 * 2 ** (0.4 * np.sin(2 * np.pi * 5.2 * t) / 12)
    phase = 2 * np.pi * np.cumsum(vibrato) / RATE
    note = sum(np.sin(k * phase) / k for k in range(1, 30)) * 0.1
    note[: 2 * RATE] = note[4 * RATE :] = 0
    soundfile.write(tmp_path / "note.wav", note, RATE, subtype="FLOAT")
    sound = studio.sounds.add(tmp_path / "note.wav", "note.wav", RATE)
    lead = state.session.lanes[0].model_copy(
        update={"sound": sound, "phrases": (Phrase(id="p", start=2 * RATE, end=4 * RATE),)}
    )
    state = replace(state, session=state.session.model_copy(update={"lanes": (lead, *state.session.lanes[1:])}))
    answer = pocket_of(studio, state, RATE, 6 * RATE)
    after = with_answer(state, answer)
    lane, stage = lane_of(answer)
    graph = studio.graph(after)
    trace = (
        studio.renderer(RATE)
        .loop(graph, graph.places["bus:mix:out"], RATE, 6 * RATE)
        .trace(graph.places[f"lane:{lane}:stage:{stage}"])
    )
    assert trace is not None and trace.parts_db is not None
    inside = slice((round(2.2 * RATE) - trace.start) // trace.hop, (round(3.95 * RATE) - trace.start) // trace.hop)
    for row in trace.parts_db:
        assert np.ptp(row[inside]) < 1.0
    gap = (round(5.5 * RATE) - trace.start) // trace.hop
    assert np.abs(trace.parts_db[:, gap]).max() < 0.1


def test_three_decibels_more_voice_are_clearer_in_every_phrase(studio: Studio) -> None:
    state = seeded(studio)
    lead = state.session.lane("lead").model_copy(update={"fader_db": state.session.lane("lead").fader_db + 3})
    louder = replace(state, session=state.session.model_copy(update={"lanes": (lead, *state.session.lanes[1:])}))
    before, after = (fit(studio, s, "", 20 * RATE, 36 * RATE) for s in (state, louder))
    for a, b in zip(before.phrases, after.phrases, strict=True):
        assert a.clarity is not None and b.clarity is not None and b.clarity > a.clarity + 0.03
        assert b.over_rest_db == pytest.approx(a.over_rest_db + 3, abs=0.8)  # its echo rises as well


def test_a_bus_can_be_the_voice_and_the_key(studio: Studio) -> None:
    state = seeded(studio)
    found = fit(studio, state, "bus:vocals", 40 * RATE, 52 * RATE)
    assert {"lead", "double", "high_harmony"}.isdisjoint(found.masked.names) and "pad" in found.masked.names
    told = answers(studio, state, "bus:vocals", found)
    pocket = next(a for a in told.found if a.name.startswith("Pocket"))
    assert pocket.edits[0].value["key"] == {"lane": "bus:vocals", "tap": "treated"}
    after = with_answer(state, pocket)
    lane, stage = lane_of(pocket)
    graph = studio.graph(after)
    node = graph.nodes[graph.places[f"lane:{lane}:stage:{stage}"]]
    heard = set(graph.nodes[node.keyed_by].inputs)
    assert {graph.places[f"lane:{x}:treated"] for x in ("lead", "double")} <= heard


def test_with_no_music_nothing_stands_over_the_voice(studio: Studio) -> None:
    state = seeded(studio)
    alone = state.session.model_copy(update={"lanes": state.session.lanes[:1], "returns": ()})
    alone = alone.model_copy(update={"lanes": (alone.lanes[0].model_copy(update={"sends": ()}),)})
    state = replace(state, session=alone)
    found = fit(studio, state, "", 20 * RATE, 36 * RATE)
    assert found.stands == () and found.clarity is not None and found.clarity > 0.85
    assert all(s.over_rest_db is None for s in found.phrases)
    assert answers(studio, state, "", found).found == ()


def test_the_whole_song_says_what_a_loop_says(studio: Studio) -> None:
    state = seeded(studio)
    whole = fit(studio, state, "", 0, 61 * RATE)  # longer than is held at once
    loop = fit(studio, state, "", 20 * RATE, 36 * RATE)
    inside = {s.number: s.clarity for s in whole.phrases}
    for sung in loop.phrases:
        assert inside[sung.number] == pytest.approx(sung.clarity, abs=0.01)


def test_room_says_how_full_each_bus_is_and_who_fills_it(studio: Studio) -> None:
    state = seeded(studio)
    found = {r.bus.id: r for r in rooms(studio, state, 20 * RATE, 30 * RATE)}
    assert list(found)[-1] == "mix" and found["mix"].ceiling_dbtp == -1.0
    assert found["mix"].true_peak_dbtp <= -0.95 and found["mix"].headroom_db == -1.0 - found["mix"].true_peak_dbtp
    assert found["lead"].brings == (("Lead", pytest.approx(1.0)),)
    assert sum(share for _, share in found["music"].brings) == pytest.approx(1.0, abs=0.06)
    assert all(r.over == 0 for r in found.values())

    lanes = [x.model_copy(update={"fader_db": 12.0}) if x.id == "brushes" else x for x in state.session.lanes]
    buses = [b.model_copy(update={"fader_db": 12.0}) if b.id == "music" else b for b in state.session.buses]
    loud = replace(state, version=state.version + 1)
    loud = replace(loud, session=state.session.model_copy(update={"lanes": tuple(lanes), "buses": tuple(buses)}))
    found = {r.bus.id: r for r in rooms(studio, loud, 20 * RATE, 30 * RATE)}
    assert found["music"].brings[0][0] == "Brushes" and found["mix"].brings[0][0] == "Music"
    assert found["mix"].over > 100 and found["music"].true_peak_dbtp > 0 > found["music"].headroom_db
    graph = studio.graph(loud)
    coming = studio.range(loud, "mix", "", 20 * RATE, 30 * RATE).cut(graph.places["bus:mix:raw"])
    assert found["mix"].over == int((np.abs(coming) > 1).any(axis=0).sum())

    silent = [x.model_copy(update={"mute": True}) for x in state.session.lanes]
    quiet = replace(state, version=state.version + 2, session=state.session.model_copy(update={"lanes": tuple(silent)}))
    assert all(r.crest_db is None and not r.brings for r in rooms(studio, quiet, 20 * RATE, 30 * RATE))


def test_thin_it_proposes_the_differences_of_a_backing_with_reasons(studio: Studio) -> None:
    state = seeded(studio)
    with pytest.raises(UnknownPlaceError, match="follows no other lane"):
        thinned(studio, state, "double")
    state = studio.sessions.edit(state.id, [Set(path="lanes/double/follows", value="lead")])
    state = studio.sessions.edit(state.id, [Set(path="lanes/double/pan", value=0.0)])
    told = thinned(studio, state, "double")
    names = " / ".join(p.name for p in told)
    assert [p.name.split()[0] for p in told] == ["Low", "No", told[2].name.split()[0], "Pan", "Plate"], names
    for proposal in told:
        state = studio.sessions.edit(state.id, list(proposal.edits))
    lead, double = state.session.lane("lead"), state.session.lane("double")
    cuts = [next(b.frequency_hz for s in x.stages if s.kind == "eq" for b in s.bands) for x in (lead, double)]
    assert 2 ** (4 / 12) - 0.01 < cuts[1] / cuts[0] < 2 ** (7 / 12) + 0.01 and cuts[1] < 200  # it sings 220 Hz
    lifts = [b for s in double.stages if isinstance(s, Eq) for b in s.bands if b.gain_db > 0 and b.frequency_hz > 1000]
    assert lifts == [] and abs(double.pan) > 0.3
    sends = [next(s.level_db for s in x.sends if s.id == "plate") for x in (lead, double)]
    assert sends[1] == pytest.approx(sends[0] + 3)
    assert any(d.endswith("/threshold_db") for d in double.differs)
    assert "lowest note" in told[0].why and "kHz" in told[1].why and "LU" in told[2].why
    assert not {"Low", "Pan", "Plate"} & {p.name.split()[0] for p in thinned(studio, state, "double")}


def test_what_is_not_heard_is_no_fault(studio: Studio) -> None:
    state = seeded(studio)
    silent = [x.model_copy(update={"mute": True}) for x in state.session.lanes]
    returns = [r.model_copy(update={"mute": True}) for r in state.session.returns]
    muted = state.session.model_copy(update={"lanes": tuple(silent), "returns": tuple(returns)})
    found = fit(studio, replace(state, session=muted, version=state.version + 1), "", 20 * RATE, 36 * RATE)
    assert [s.clarity for s in found.phrases] == [None] * len(found.phrases) and found.stands == ()
    alone = state.session.model_copy(update={"lanes": (silent[0], *state.session.lanes[1:])})
    found = fit(studio, replace(state, session=alone, version=state.version + 2), "", 20 * RATE, 36 * RATE)
    assert found.clarity is None and "pad" in found.masked.names
    for other, first, last in (("nobody", 20 * RATE, 21 * RATE), ("pad", 21 * RATE, 20 * RATE)):
        with pytest.raises(UnknownPlaceError, match="nothing is heard"):
            sounds_of_phrase(studio, state, "", other, first, last)
