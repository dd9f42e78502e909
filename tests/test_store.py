"""The store: undo survives restarts, damaged files are noticed."""

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile

from conftest import RATE, noise, residue_db
from miclane.core.errors import (
    ConflictError,
    CutShortError,
    MicLaneError,
    UnknownPlaceError,
    UnusableChainError,
    UnusableSoundError,
)
from miclane.core.mix.chain import read_session
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Edit, Insert, Remove, Set, apply, apply_with
from miclane.store.sessions import SessionStore
from miclane.store.sounds import PIECE_BYTES
from miclane.store.writing import document_of
from miclane.studio.studio import Studio


def small() -> Session:
    stages = [{"kind": "eq", "id": "e", "bands": [{}, {}]}, {"kind": "compressor", "id": "c"}]
    return Session.model_validate({"name": "Small", "lanes": [{"id": "lead", "name": "Lead", "stages": stages}]})


def test_undo_and_redo_across_restarts(tmp_path: Path) -> None:
    Studio(tmp_path).sessions.create(small(), "m")
    for value in (100.0, 110.0, 120.0):
        Studio(tmp_path).sessions.edit("m", [Set(path="tempo_bpm", value=value)])
    assert Studio(tmp_path).sessions.undo("m").session.tempo_bpm == 110
    assert Studio(tmp_path).sessions.undo("m").session.tempo_bpm == 100
    assert Studio(tmp_path).sessions.redo("m").session.tempo_bpm == 110
    state = Studio(tmp_path).sessions.edit("m", [Set(path="key", value="D minor")])
    assert state.ahead == 0
    with pytest.raises(MicLaneError, match="nothing to redo"):
        Studio(tmp_path).sessions.redo("m")
    for _ in range(3):
        state = Studio(tmp_path).sessions.undo("m")
    assert state.session == small()
    with pytest.raises(MicLaneError, match="nothing to undo"):
        Studio(tmp_path).sessions.undo("m")


def test_one_drag_is_one_step(studio: Studio) -> None:
    studio.sessions.create(small(), "m")
    for value in range(30):
        studio.sessions.edit("m", [Set(path="lanes/lead/stages/c/threshold_db", value=-float(value))], gesture="drag1")
    state = studio.sessions.edit("m", [Set(path="lanes/lead/stages/c/threshold_db", value=-3.0)], gesture="drag2")
    assert state.steps == 2
    assert studio.sessions.undo("m").session.lanes[0].stages[1].threshold_db == -29
    assert studio.sessions.undo("m").session == small()


def test_a_drag_goes_on_as_one_step_whoever_has_made_the_last_of_it(tmp_path: Path) -> None:
    threshold, ratio = "lanes/lead/stages/c/threshold_db", "lanes/lead/stages/c/ratio"
    one, other = Studio(tmp_path).sessions, Studio(tmp_path).sessions
    one.create(small(), "m")

    def drag(store: SessionStore, path: str, value: float) -> None:
        assert store.edit("m", [Set(path=path, value=value)], gesture="drag").steps == 1

    drag(one, threshold, -3.0)
    drag(one, threshold, -4.0)
    drag(other, ratio, 5.0)  # what the first one has in mind is not the last any more
    drag(one, threshold, -5.0)
    one.forget()
    drag(one, ratio, 6.0)
    assert one.undo("m").session == small()
    after = one.redo("m").session.lanes[0].stages[1]
    assert (after.threshold_db, after.ratio) == (-5, 6)
    assert one.edit("m", [Set(path=ratio, value=7.0)], gesture="drag").steps == 2  # what was made again is finished


def test_a_document_written_in_parts_is_the_document(studio: Studio) -> None:
    session = small()
    for value in (3.0, 4.0, 3.0):
        session = apply(session, [Set(path="lanes/lead/stages/c/ratio", value=value)]).session
        assert json.loads(document_of(session)) == session.model_dump(mode="json")
        assert read_session(document_of(session)) == session
    bare = Session(name="no “lanes”, at all")
    assert read_session(document_of(bare)) == bare


def test_edits_of_two_windows_merge_or_are_refused(studio: Studio) -> None:
    base = studio.sessions.create(small(), "m").version
    studio.sessions.edit("m", [Set(path="lanes/lead/stages/c/ratio", value=5.0)], base)
    state = studio.sessions.edit("m", [Set(path="lanes/lead/stages/e/bands/0/gain_db", value=2.0)], base)
    assert state.session.lanes[0].stages[1].ratio == 5
    with pytest.raises(ConflictError, match="another window"):
        studio.sessions.edit("m", [Set(path="lanes/lead/stages/c/ratio", value=9.0)], base)
    with pytest.raises(ConflictError):
        studio.sessions.edit("m", [Remove(path="lanes/lead/stages/c")], base)
    assert studio.sessions.get("m") == state


def test_a_refused_edit_changes_nothing(studio: Studio) -> None:
    state = studio.sessions.create(small(), "m")
    with pytest.raises(MicLaneError):
        studio.sessions.edit("m", [Set(path="tempo_bpm", value=100.0), Set(path="tempo_bpm", value=-1)])
    with pytest.raises(UnknownPlaceError):
        studio.sessions.edit("m", [Insert(path="lanes/ghost/stages", index=0, value={})])
    assert studio.sessions.get("m") == state
    with pytest.raises(UnknownPlaceError):
        studio.sessions.get("nobody")


def test_sounds_are_kept_once_and_checked_on_read(tmp_path: Path) -> None:
    studio = Studio(tmp_path / "data")
    x = noise(1.0, 0.1)
    soundfile.write(tmp_path / "a.wav", x[0], RATE, "FLOAT")
    (tmp_path / "b.wav").write_bytes((tmp_path / "a.wav").read_bytes())  # a second one says when it was written
    first, second = (studio.sounds.add(tmp_path / n, n, RATE) for n in ("a.wav", "b.wav"))
    originals = list((tmp_path / "data" / "sounds" / "originals").rglob("*.wav"))
    assert first.digest == second.digest
    assert len(originals) == 1
    frames = next((tmp_path / "data" / "sounds" / "frames").rglob("*.f32"))
    frames.write_bytes(b"\0" * 1000)
    again = Studio(tmp_path / "data").sounds.reader(RATE)(first.digest, 0, RATE)
    assert residue_db(again, x) < -120
    frames.unlink()
    originals[0].write_bytes(originals[0].read_bytes()[:-500])
    with pytest.raises(UnusableSoundError, match="missing or damaged"):
        Studio(tmp_path / "data").sounds.reader(RATE)(first.digest, 0, RATE)


def test_what_comes_a_second_time_is_not_converted_again_and_mends_what_was_damaged(tmp_path: Path) -> None:
    sounds = Studio(tmp_path / "data").sounds
    x = noise(1.0, 0.1, 2)
    soundfile.write(tmp_path / "a.wav", x.T, RATE, "FLOAT")
    first = sounds.add(tmp_path / "a.wav", "a.wav", RATE)
    (original,) = (tmp_path / "data" / "sounds" / "originals").rglob("*.wav")
    (frames,) = (tmp_path / "data" / "sounds" / "frames").rglob("*.f32")
    made = frames.stat().st_mtime_ns
    original.write_bytes(original.read_bytes()[:-500] + bytes(500))
    with pytest.raises(UnusableSoundError, match="import it again"):
        sounds.original(first.digest)
    assert sounds.add(tmp_path / "a.wav", "b.wav", RATE) == first.model_copy(update={"file_name": "b.wav"})
    assert sounds.original(first.digest).read_bytes() == (tmp_path / "a.wav").read_bytes()
    assert frames.stat().st_mtime_ns == made
    other = Studio(tmp_path / "data").sounds
    frames.write_bytes(frames.read_bytes()[:-8])
    assert other.add(tmp_path / "a.wav", "a.wav", RATE) == first
    assert residue_db(other.reader(RATE)(first.digest, 0, RATE), x) < -120


def test_what_is_cut_short_is_asked_about_each_time(tmp_path: Path) -> None:
    sounds = Studio(tmp_path / "data").sounds
    soundfile.write(tmp_path / "a.wav", noise(1.0, 0.1)[0], RATE, "FLOAT")
    (tmp_path / "a.wav").write_bytes((tmp_path / "a.wav").read_bytes()[:100_000])
    for _ in range(2):
        with pytest.raises(CutShortError):
            sounds.add(tmp_path / "a.wav", "a.wav", RATE)
        assert 0 < sounds.add(tmp_path / "a.wav", "a.wav", RATE, take_short=True).frames < RATE


def test_a_sound_is_compared_where_it_is_read_and_made_anew_where_it_is_damaged(tmp_path: Path) -> None:
    studio = Studio(tmp_path / "data", owner=True)
    x = noise(24.0, 0.1, 2)
    soundfile.write(tmp_path / "a.wav", x.T, RATE, "FLOAT")
    digest = studio.sounds.add(tmp_path / "a.wav", "a.wav", RATE).digest
    studio.close()
    path = next((tmp_path / "data" / "sounds" / "frames").rglob("*.f32"))
    whole = path.read_bytes()
    at = 4 * (x.shape[1] + 20 * RATE)  # in the second channel
    path.write_bytes(whole[:at] + bytes([whole[at] ^ 64]) + whole[at + 1 :])
    note = path.with_suffix(".json")
    for checks_known in (True, False):
        told = json.loads(note.read_bytes())
        if not checks_known:  # as it was written when a mebibyte was compared by its hash
            del told["crc32"]
            note.write_text(json.dumps(told | {"pieces": ["0"]}))
            path.write_bytes(bytes(8) + whole[8:])
        studio = Studio(tmp_path / "data", owner=True)
        read = studio.sounds.reader(RATE)
        assert residue_db(read(digest, 0, RATE), x[:, :RATE]) < -120
        seen = studio.sounds._known[digest, RATE].looked_at
        channel = 4 * x.shape[1]
        assert seen == {*range(3), *range(channel // PIECE_BYTES, -(-(channel + 4 * RATE) // PIECE_BYTES))}
        assert residue_db(read(digest, 19 * RATE, 22 * RATE), x[:, 19 * RATE : 22 * RATE]) < -120
        assert residue_db(read(digest, 0, 24 * RATE), x) < -120
        studio.close()
        assert path.read_bytes() == whole
        told = json.loads(note.read_bytes())
        assert len(told["crc32"]) == -(-len(whole) // PIECE_BYTES)
        assert "pieces" not in told


def test_half_written_files_are_swept_and_never_used(tmp_path: Path) -> None:
    studio = Studio(tmp_path)
    soundfile.write(tmp_path / "a.wav", noise(0.2)[0], RATE)
    sound = studio.sounds.add(tmp_path / "a.wav", "a.wav", RATE)
    half = tmp_path / "sounds" / "originals" / sound.digest[:2] / f".{sound.digest}.wav.1234.part"
    half.write_bytes(b"RIFF")
    part = tmp_path / "incoming" / "tmpabc.part"
    part.parent.mkdir()
    part.write_bytes(b"RIFF")
    Studio(tmp_path).close()
    assert half.exists(), "a program that only reads leaves it to the owner"
    fresh = Studio(tmp_path, owner=True)
    assert not half.exists()
    assert not part.exists()
    assert fresh.sounds.reader(RATE)(sound.digest, 0, 100).shape == (1, 100)


def test_reading_past_the_end_gives_zeros(tmp_path: Path) -> None:
    studio = Studio(tmp_path)
    soundfile.write(tmp_path / "a.wav", np.full(100, 0.5), RATE)
    sound = studio.sounds.add(tmp_path / "a.wav", "a.wav", RATE)
    part = studio.sounds.reader(RATE)(sound.digest, 50, 200)
    assert part[0, :50].min() > 0.49
    assert not part[0, 50:].any()


def test_what_another_program_has_changed_is_seen_at_once_and_built_on(tmp_path: Path) -> None:
    """As `miclane chain apply` beside a server: neither keeps an old view of the database."""
    here = Studio(tmp_path).sessions
    there = Studio(tmp_path).sessions
    here.create(small(), "song")
    for k in range(3):
        here.edit("song", [Set(path="lanes/lead/fader_db", value=-1.0 - k)], token=f"here {k}")
        assert there.get("song").session.lane("lead").fader_db == -1.0 - k
        here.edit("song", [Set(path="lanes/lead/fader_db", value=3.0)])
        assert there.get("song").session.lane("lead").fader_db == 3.0, "who only looks on sees it too"
        there.edit("song", [Set(path="lanes/lead/pan", value=0.1 * k)], token=f"there {k}")
        assert here.get("song").session.lane("lead").pan == 0.1 * k
        version = here.get("song").version
        here.edit("song", [Set(path="lanes/lead/pan", value=0.9)], token=f"there {k}")  # sent again: it is made already
        assert (here.get("song").version, there.get("song").session.lane("lead").pan) == (version, 0.1 * k)
    for store in (here, there):
        store.database.close()


def test_an_edit_of_what_another_program_has_just_made_is_refused_only_where_it_is_gone(tmp_path: Path) -> None:
    """What is held here is built on without a look; where that is not the newest, nothing of it is written or said."""
    here, there = Studio(tmp_path).sessions, Studio(tmp_path).sessions
    here.create(small(), "song")
    there.edit("song", [Insert(path="lanes/lead/stages", index=0, value={"kind": "trim", "id": "new"})], token="once")
    here.edit("song", [Set(path="lanes/lead/stages/new/gain_db", value=-2.0)])
    again = Insert(path="lanes/lead/stages", index=0, value={"kind": "trim", "id": "new"})
    assert here.edit("song", [again], token="once").version == here.get("song").version, "made already"
    assert [s.id for s in there.get("song").session.lane("lead").stages].count("new") == 1
    there.edit("song", [Remove(path="lanes/lead/stages/new")])
    with pytest.raises(UnknownPlaceError, match="new"):
        here.edit("song", [Set(path="lanes/lead/stages/new/gain_db", value=-3.0)])
    there.remove("song")
    with pytest.raises(UnknownPlaceError, match="no session"):
        here.edit("song", [Set(path="lanes/lead/pan", value=0.1)])
    for store in (here, there):
        store.database.close()


def test_what_is_asked_for_is_to_blame_before_what_follows_from_it() -> None:
    session = small()
    twin: list[Edit] = [Insert(path="lanes", index=0, value=session.lanes[0].model_dump())]

    def fails(after: Session, made: list[Edit]) -> list[Edit]:
        raise RuntimeError(f"{len(after.lanes)} lanes")

    with pytest.raises(UnusableChainError, match="two things are called lane"):
        apply_with(session, twin, fails)
    with pytest.raises(UnusableChainError, match="two things are called lane"):
        apply_with(session, twin, lambda after, made: [Set(path="lanes/lead/pan", value=0.1)])
    louder: list[Edit] = [Set(path="lanes/lead/fader_db", value=1.0)]
    with pytest.raises(RuntimeError, match=f"{len(session.lanes)} lanes"):
        apply_with(session, louder, fails)
    with pytest.raises(UnusableChainError, match="pan"):
        apply_with(session, louder, lambda after, made: [Set(path="lanes/lead/pan", value=7.0)])
    done = apply_with(session, louder, lambda after, made: [Set(path="lanes/lead/pan", value=0.1)])
    assert [e.path for e in done.made] == ["lanes/lead/fader_db", "lanes/lead/pan"]
    assert apply(done.session, done.inverses).session == session
