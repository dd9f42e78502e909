"""What follows from an edit: makeup of compressors, drives, EQs, kept with no page open, and on the command line."""

import json
import threading
import time

import numpy as np
import pytest
import soundfile

from conftest import RATE, seeded
from miclane.core.engine.builder import Builder
from miclane.core.measure.loudness import integrated_lufs
from miclane.core.mix.chain import Chain
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Edit, Insert, Set
from miclane.core.process import process
from miclane.core.stages.compressor import Compressor
from miclane.core.stages.drive import Drive
from miclane.demo.seed import SONG
from miclane.store.tables import SessionRow
from miclane.studio.follows import EXCERPT_S, excerpt
from miclane.studio.studio import Studio

LEVEL = "lanes/lead/stages/level"


@pytest.fixture
def song(studio: Studio) -> Studio:
    seeded(studio)
    studio.sessions.edit("salt-ferry", [Set(path=f"{LEVEL}/auto_makeup", value=True)])
    return studio


def level(studio: Studio) -> Compressor:
    return next(s for s in studio.sessions.get("salt-ferry").session.lane("lead").stages if s.id == "level")


def grit(studio: Studio) -> Drive:
    return next(s for s in studio.sessions.get("salt-ferry").session.lane("lead").stages if s.id == "grit")


def off_by(studio: Studio) -> float:
    """How much louder the excerpt comes out of the compressor than it goes in, in LU."""
    session = studio.sessions.get("salt-ferry").session
    path = "lane:lead"
    from miclane.core.mix.paths import find_path

    start, stop = excerpt(session, find_path(session, "lead"))
    assert stop - start == EXCERPT_S * RATE
    graph = Builder(session).build()
    render = studio.renderer(RATE)
    before, after = (
        render.loop(graph, graph.places[f"{path}:{w}:level"], start, stop).audio for w in ("before", "stage")
    )
    return integrated_lufs(after, RATE) - integrated_lufs(before, RATE)


def test_a_compressors_makeup_follows_its_own_settings_in_the_same_step(song: Studio) -> None:
    assert abs(off_by(song)) < 0.15
    before = song.sessions.get("salt-ferry")
    for k in range(5):
        song.edit("salt-ferry", [Set(path=f"{LEVEL}/threshold_db", value=-30 - k)], gesture="drag")
    assert level(song).makeup_db > 3
    assert abs(off_by(song)) < 0.15
    assert song.sessions.get("salt-ferry").steps == before.steps + 1
    assert song.sessions.undo("salt-ferry").session == before.session


@pytest.mark.parametrize(
    "edit",
    [
        Set(path="lanes/lead/stages/clean/bands/1/gain_db", value=9.0),
        Set(path="lanes/lead/stages/peaks/on", value=False),
        Insert(path="lanes/lead/stages", index=1, value={"kind": "trim", "gain_db": 9}),
    ],
)
def test_it_follows_what_is_done_before_it(song: Studio, edit: Edit) -> None:
    before = level(song).makeup_db
    song.edit("salt-ferry", [edit])
    assert level(song).makeup_db != before
    assert abs(off_by(song)) < 0.15


def test_in_a_gesture_before_it_it_is_matched_once_the_hand_rests(song: Studio) -> None:
    before = song.sessions.get("salt-ferry")
    for k in range(4):
        song.edit("salt-ferry", [Set(path="lanes/lead/stages/trim/gain_db", value=2.0 * k + 2)], gesture="drag")
    assert level(song).makeup_db == before.session.lane("lead").stages[4].makeup_db
    deadline = time.monotonic() + 60
    while level(song).makeup_db == before.session.lane("lead").stages[4].makeup_db and time.monotonic() < deadline:
        time.sleep(0.02)
    assert abs(off_by(song)) < 0.15
    assert song.sessions.get("salt-ferry").steps == before.steps + 1
    assert song.sessions.undo("salt-ferry").session == before.session


def test_no_edit_waits_for_what_is_matched_at_rest_nor_is_undone_by_it(song: Studio) -> None:
    song.edit("salt-ferry", [Set(path="lanes/lead/stages/trim/gain_db", value=2.0)], gesture="drag")
    begun, go_on = threading.Event(), threading.Event()

    def slow(session: Session) -> list[Edit]:
        begun.set()
        assert go_on.wait(60)
        return [Set(path="lanes/lead/stages/trim/gain_db", value=9.0)]

    at_rest = threading.Thread(target=song.sessions.settle, args=("salt-ferry", "drag", slow))
    at_rest.start()
    assert begun.wait(60)
    edit = threading.Thread(
        target=song.edit, args=("salt-ferry", [Set(path="lanes/lead/stages/trim/gain_db", value=3.0)])
    )
    edit.start()
    edit.join(30)
    assert not edit.is_alive()
    go_on.set()
    at_rest.join()
    assert song.sessions.get("salt-ferry").session.lane("lead").stages[0].gain_db == 3.0


def test_a_drive_is_as_loud_as_before_and_was_when_it_found_its_level_while_playing(song: Studio) -> None:
    drive = {"kind": "drive", "id": "grit", "amount_db": 15}
    song.edit("salt-ferry", [Insert(path="lanes/lead/stages", index=2, value=drive)])
    assert grit(song).makeup_db > 1
    song.edit("salt-ferry", [Set(path="lanes/lead/stages/grit/amount_db", value=3.0)], gesture="drag")
    assert 0 < grit(song).makeup_db < 1
    song.edit("salt-ferry", [Set(path="lanes/lead/stages/grit/amount_db", value=15.0)])
    found = grit(song).makeup_db
    with song.database.writing() as db:  # as version 3 had it
        row = db.get_one(SessionRow, "salt-ferry")
        tree = json.loads(row.document) | {"version": 3}
        old = next(s for lane in tree["lanes"] for s in lane["stages"] if s["id"] == "grit")
        old["level_matched"] = old.pop("auto_makeup")
        del old["makeup_db"]
        row.document = json.dumps(tree)
        db.commit()
    song.sessions.forget()
    assert grit(song).makeup_db == found


def test_on_the_command_line_an_eq_makes_up_its_level_where_the_chain_says_so() -> None:
    audio, rate = soundfile.read(SONG / "lead.flac", frames=10 * RATE, start=18 * RATE)
    x = np.ascontiguousarray(audio[None])
    eq = {"kind": "eq", "bands": [{"shape": "low_shelf", "frequency_hz": 400, "gain_db": -9, "q": 0.7}]}
    louder = []
    for more in ({}, {"auto_makeup": False}, {"auto_makeup": True}):
        for stages in (
            [{**eq, **more}],
            [{"kind": "split", "branches": [{"stages": [{**eq, **more}], "blend_db": 0}], "dry_db": -60}],
        ):
            chain = Chain.model_validate({"format": "mic-lane/chain", "version": 1, "stages": stages})
            louder.append(integrated_lufs(process(x, rate, chain)[0], rate) - integrated_lufs(x, rate))
    assert max(louder[:4]) < -2
    assert abs(louder[4]) < 0.3
    assert abs(louder[5]) < 0.3


def test_what_comes_after_it_leaves_it_alone(song: Studio) -> None:
    before = level(song).makeup_db
    song.edit("salt-ferry", [Set(path="lanes/lead/stages/tone/bands/0/gain_db", value=6.0)])
    song.edit("salt-ferry", [Set(path="lanes/double/stages/level/threshold_db", value=-40.0)])
    assert level(song).makeup_db == before


def test_on_the_command_line_a_chain_makes_up_its_own_level() -> None:
    audio, rate = soundfile.read(SONG / "lead.flac", frames=10 * RATE, start=18 * RATE)
    x = np.ascontiguousarray(audio[None])
    stage = {"kind": "compressor", "threshold_db": -34, "ratio": 6, "auto_makeup": True}
    for mix in (1.0, 0.5):
        chain = Chain.model_validate({"format": "mic-lane/chain", "version": 1, "stages": [{**stage, "mix": mix}] * 2})
        out, _ = process(x, rate, chain)
        assert abs(integrated_lufs(out, rate) - integrated_lufs(x, rate)) < 0.25
    plain = Chain.model_validate(
        {"format": "mic-lane/chain", "version": 1, "stages": [{**stage, "auto_makeup": False}]}
    )
    assert integrated_lufs(process(x, rate, plain)[0], rate) < integrated_lufs(x, rate) - 3


def test_what_was_made_to_know_a_makeup_is_taken_for_what_it_would_be_made_again() -> None:
    audio, rate = soundfile.read(SONG / "lead.flac", frames=6 * RATE, start=18 * RATE)
    level = {"kind": "compressor", "threshold_db": -34, "ratio": 6, "auto_makeup": True}
    inside = {"kind": "split", "branches": [{"stages": [{"kind": "drive"}], "blend_db": -6}]}
    for stages in (
        [level, {"kind": "deess"}, {"kind": "drive", "amount_db": 8}, {"kind": "limiter", "ceiling_dbtp": -12}],
        [level, inside, {"kind": "drive", "mix": 0.4}, {"kind": "reverb", "decay_s": 0.6}],
        [{"kind": "drive"}, {"kind": "duck"}],
    ):
        chain = Chain.model_validate({"format": "mic-lane/chain", "version": 1, "stages": stages})
        x = np.ascontiguousarray(audio[None])
        in_pieces, (whole, _) = process(x, rate, chain)[0], process(x, rate, chain, traces=True)
        assert in_pieces.shape == whole.shape
        assert np.abs(in_pieces - whole).max() < 1e-9


def test_another_response_is_as_loud_as_what_comes_in(song: Studio) -> None:
    song.edit("salt-ferry", [Set(path=f"{LEVEL}/auto_makeup", value=False)])
    song.edit("salt-ferry", [Set(path=f"{LEVEL}/makeup_db", value=9.0)])
    assert level(song).makeup_db == 9
    before = song.sessions.get("salt-ferry")
    song.edit("salt-ferry", [Set(path=f"{LEVEL}/response", value="optical")])
    assert abs(off_by(song)) < 0.15
    assert song.sessions.get("salt-ferry").steps == before.steps + 1
    assert song.sessions.undo("salt-ferry").session == before.session
