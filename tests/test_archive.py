"""A session as one archive: all of it comes back, prints the same bits, and what is damaged is named."""

import json
import random
import re
import shutil
import zipfile
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import select

from miclane.core.audio import read_sound
from miclane.core.errors import MicLaneError, UnusableArchiveError
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Insert, Set
from miclane.core.printing import PrintRequest, print_session
from miclane.store.tables import HearingRow, SessionRow, SnapshotRow, StepRow, now
from miclane.studio.importing import import_sound
from miclane.studio.library import keep_chain
from miclane.studio.packing import pack
from miclane.studio.studio import Studio
from miclane.studio.unpacking import unpack
from miclane.studio.upkeep import forget_sound
from program import miclane

RATE = 48000


def sung(folder: Path, name: str, hz: float) -> Path:
    t = np.arange(RATE * 2) / RATE
    path = folder / name
    soundfile.write(path, 0.3 * np.sin(2 * np.pi * hz * t) * (0.5 + 0.5 * np.sin(2 * np.pi * 1.5 * t)), RATE, "PCM_16")
    return path


@pytest.fixture
def full(tmp_path: Path):
    """A studio with a session of two lanes, a history with an undone step, an alternative, a snapshot, a blind result,
    a chain; and its archive."""
    studio = Studio(tmp_path / "data", owner=True)
    first = Session.model_validate({"name": "Ferry", "lanes": []})
    studio.sessions.create(first, "ferry")
    import_sound(studio, "ferry", sung(tmp_path, "lead.wav", 220), "lead.wav", "lead")
    state, _ = import_sound(studio, "ferry", sung(tmp_path, "low.wav", 110), "low double.wav", "backing")
    stage = {"kind": "compressor", "id": "c", "threshold_db": -30, "ratio": 4}
    studio.edit("ferry", [Insert(path="lanes/lead/stages", index=0, value=stage)])
    state = studio.edit("ferry", [Set(path="lanes/lead/fader_db", value=-3.0)])
    studio.snapshots.take(state, "Before", "as it was")
    alternative = {
        "id": "a1",
        "name": "B",
        "scope": "lanes/lead",
        "edits": [{"op": "set", "path": "lanes/lead/fader_db", "value": -9}],
    }
    studio.edit("ferry", [Insert(path="alternatives", index=0, value=alternative)])
    studio.edit("ferry", [Set(path="lanes/lead/pan", value=0.2)])
    studio.sessions.undo("ferry")
    kept = keep_chain(studio, studio.sessions.get("ferry"), "lead", ["c"], "Held", "for it", ["alto"])
    studio.chains.remember(kept.id, ["stages/*/mix"])
    with studio.database.writing() as db:
        told = {"trials": 3, "right": 2}
        db.add(
            HearingRow(
                id="h1", session_id="ferry", question="which", first=0, last=9, told=json.dumps(told), created=now()
            )
        )
        db.commit()
    archive = tmp_path / "ferry.zip"
    pack(studio, "ferry", archive)
    yield studio, archive
    studio.close()


def record(studio: Studio, identifier: str) -> dict:
    """All that the database has of a session, but its id and times of ours."""
    with studio.database.reading() as db:
        row = db.get(SessionRow, identifier)
        steps = list(db.scalars(select(StepRow).where(StepRow.session_id == identifier).order_by(StepRow.position)))
        shots = list(db.scalars(select(SnapshotRow).where(SnapshotRow.session_id == identifier)))
        heard = list(db.scalars(select(HearingRow).where(HearingRow.session_id == identifier)))
    return {
        "document": row.document,
        "position": row.position,
        "steps": [(s.position, s.label, s.gesture, s.edits, s.inverses, s.document_version, s.created) for s in steps],
        "snapshots": [(s.name, s.note, s.step, json.loads(s.document), s.created) for s in shots],
        "hearings": [(h.question, h.first, h.last, json.loads(h.told), h.created) for h in heard],
    }


def printed(studio: Studio, identifier: str, folder: Path) -> list[bytes]:
    session = studio.sessions.get(identifier).session
    request = PrintRequest(targets=("mix", "lane:lead"), format="wav-16")
    return [f.path.read_bytes() for f in print_session(session, request, folder, studio.sounds.reader(session.rate))]


def test_all_of_it_comes_back_on_another_machine_and_prints_the_same_bits(full, tmp_path: Path) -> None:
    studio, archive = full
    other = Studio(tmp_path / "other", owner=True)
    done = unpack(other, archive)
    assert done.missing == () and done.state.id == "ferry"
    assert record(other, "ferry") == record(studio, "ferry")
    assert other.sessions.redo("ferry").session.lane("lead").pan == 0.2
    assert other.sessions.undo("ferry").session == studio.sessions.get("ferry").session
    assert other.sessions.go_to("ferry", 0).session.lanes == ()
    other.sessions.go_to("ferry", done.state.steps)
    assert printed(other, "ferry", tmp_path / "a") == printed(studio, "ferry", tmp_path / "b")
    kept = next(k for k in other.chains.all() if k.name == "Held")
    assert (kept.note, kept.tags, kept.keeps, kept.made["of"]) == ("for it", ("alto",), ("stages/*/mix",), "ferry")
    again = unpack(other, archive)  # a second time it is another session, and no chain comes twice
    assert again.state.id != "ferry" and again.state.session == done.state.session
    assert len([k for k in other.chains.all() if k.name == "Held"]) == 1
    assert not list((tmp_path / "other" / "incoming").iterdir())
    other.close()


def test_what_an_archive_holds_is_named_with_its_hash(full) -> None:
    _, archive = full
    with zipfile.ZipFile(archive) as found:
        names = found.namelist()
        index = json.loads(found.read("archive.json"))
        assert found.testzip() is None
    assert names[:3] == ["archive.json", "session.json", "history.json"]
    assert sorted(n.split("/")[0] for n in names[3:]) == ["chains", "chains", "sounds", "sounds"]
    assert set(index["members"]) == set(names) - {"archive.json"}
    assert {s["needed_by"] for s in index["sounds"].values()} == {"lane “Lead”", "lane “Low double”"}


def rewritten(archive: Path, to: Path, change) -> Path:
    with zipfile.ZipFile(archive) as old, zipfile.ZipFile(to, "w") as new:
        for info in old.infolist():
            data = change(info.filename, old.read(info))
            if data is not None:
                new.writestr(info.filename, data)
    return to


def test_a_sound_that_is_damaged_is_named_and_its_lane_is_there_without_it(full, tmp_path: Path) -> None:
    studio, archive = full
    low = studio.sessions.get("ferry").session.lanes[1]
    broken = rewritten(archive, tmp_path / "b.zip", lambda n, d: d[:-9] + b"123456789" if low.sound.digest in n else d)
    other = Studio(tmp_path / "other", owner=True)
    done = unpack(other, broken)
    assert done.missing == ("the sound low double.wav, of lane “Low double”",)
    session = done.state.session
    assert session.lanes[1].sound is None and session.lanes[0].sound is not None
    assert len(printed(other, "ferry", tmp_path / "p")) == 2
    import_sound(other, "ferry", tmp_path / "low.wav", "low.wav", "backing")
    assert other.sessions.get("ferry").session.lanes[-1].sound == low.sound.model_copy(update={"file_name": "low.wav"})
    other.close()


def test_each_part_that_is_gone_is_named_and_the_rest_opens(full, tmp_path: Path) -> None:
    _, archive = full
    for name, words in (
        ("session.json", "newest document"),
        ("history.json", "history, snapshots and blind results"),
        ("chains/Held.chain.json", "the chain “Held”"),
        ("chains/about.json", "notes and tags"),
        ("archive.json", "list of contents"),
    ):
        other = Studio(tmp_path / name.replace("/", "-"), owner=True)
        done = unpack(other, rewritten(archive, tmp_path / "b.zip", lambda n, d, name=name: None if n == name else d))
        assert len(done.missing) == 1 and words in done.missing[0], done.missing
        assert [x.name for x in done.state.session.lanes] == ["Lead", "Low double"]
        other.close()


@pytest.mark.parametrize(
    ("data", "words"),
    [(b"", "nothing of it"), (b"PK\x05\x06" + bytes(18), "not an archive"), (b"RIFF" * 400, "not an archive")],
)
def test_what_is_no_archive_is_refused_in_words(data: bytes, words: str, tmp_path: Path) -> None:
    (tmp_path / "x.zip").write_bytes(data)
    studio = Studio(tmp_path / "data", owner=True)
    with pytest.raises(UnusableArchiveError, match=words):
        unpack(studio, tmp_path / "x.zip")
    studio.close()


def test_one_of_a_newer_version_is_refused_and_says_so(full, tmp_path: Path) -> None:
    studio, archive = full
    newer = rewritten(
        archive,
        tmp_path / "n.zip",
        lambda n, d: d.replace(b'"version": 1', b'"version": 2') if n == "archive.json" else d,
    )
    with pytest.raises(UnusableArchiveError, match=r"n\.zip is of version 2; this Mic Lane reads up to 1"):
        unpack(studio, newer)


def _damaged(rng: random.Random, data: bytes) -> bytes:
    out = bytearray(data)
    text = data.index(b"sounds/")

    def place() -> int:
        return rng.randrange(text if rng.random() < 0.5 else len(out))  # what is small is hit as often as sound

    match rng.randrange(6):
        case 0:
            return bytes(out[: place()])
        case 1:
            for _ in range(rng.choice([1, 1, 3, 40])):
                out[place()] ^= 1 << rng.randrange(8)
        case 2:
            at = place()
            out[at : at + 300] = rng.randbytes(300)
        case 3:
            at = place()
            del out[at : at + rng.randrange(1, 4000)]
        case 4:
            at = place()
            out[at:at] = rng.randbytes(rng.randrange(1, 400))
        case _:
            at = max(0, len(out) - rng.randrange(1, 900))  # the directory at its end
            out[at : at + 20] = rng.randbytes(min(20, len(out) - at))
    return bytes(out)


def test_three_hundred_damaged_ones_crash_nothing_and_leave_no_half_session(full, tmp_path: Path) -> None:
    studio, archive = full
    whole, rng = archive.read_bytes(), random.Random(7)
    other = Studio(tmp_path / "other", owner=True)
    reference = record(studio, "ferry")
    refused = opened = named = 0
    for _ in range(300):
        broken = tmp_path / "broken.zip"
        broken.write_bytes(_damaged(rng, whole))
        before = other.sessions.names()
        try:
            done = unpack(other, broken)
        except MicLaneError as error:
            refused += 1
            assert str(error).startswith("broken.zip") and len(str(error)) > 30
            assert other.sessions.names() == before
            continue
        opened += 1
        named += bool(done.missing)
        session = done.state.session
        for lane in session.lanes:
            if lane.sound is not None:
                other.sounds.original(lane.sound.digest)
        found = record(other, done.state.id)
        # every part is as it was, or not there and named
        assert found["steps"] in ([], reference["steps"]) and found["snapshots"] in ([], reference["snapshots"])
        assert bool(found["steps"]) or any("history" in line or "contents" in line for line in done.missing)
        if not done.missing:
            assert found == reference
        other.sessions.remove(done.state.id)
        for lane in session.lanes:
            if lane.sound is not None:
                forget_sound(other, lane.sound.digest)
    assert opened > 150 and refused > 30 and named > 100, (opened, refused, named)
    assert not list((tmp_path / "other" / "incoming").iterdir())
    assert list(other.database.faults()) == []
    other.close()


names = st.text(st.characters(codec="utf-8", exclude_categories=("Cs", "Cc")), min_size=1, max_size=40)


@settings(max_examples=15, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    title=names,
    lane=names,
    gains=st.lists(st.floats(-24, 12, width=32), min_size=1, max_size=4),
    undone=st.integers(0, 3),
)
def test_any_session_comes_back_equal(tmp_path: Path, title: str, lane: str, gains: list[float], undone: int) -> None:
    for name in ("one", "two"):
        shutil.rmtree(tmp_path / name, ignore_errors=True)
    one, two = (Studio(tmp_path / name, owner=True) for name in ("one", "two"))
    one.sessions.create(Session.model_validate({"name": title, "lanes": [{"id": "l", "name": lane}]}), "s")
    for gain in gains:
        one.edit("s", [Set(path="lanes/l/fader_db", value=gain)])
    for _ in range(min(undone, one.sessions.get("s").steps)):
        one.sessions.undo("s")
    pack(one, "s", tmp_path / "s.zip")
    assert unpack(two, tmp_path / "s.zip").missing == ()
    assert record(two, "s") == record(one, "s")
    one.close()
    two.close()


def test_the_command_line_packs_and_unpacks(full, tmp_path: Path) -> None:
    studio, archive = full
    made = miclane("pack", "Ferry", "--out", str(tmp_path / "c.zip"), "--data", str(studio.data))
    assert made.returncode == 0, made.stderr
    with zipfile.ZipFile(tmp_path / "c.zip") as one, zipfile.ZipFile(archive) as other:
        assert one.namelist() == other.namelist()
        for name in one.namelist():
            if name != "archive.json":  # which tells when it was made
                assert one.read(name) == other.read(name)
    opened = miclane("unpack", str(tmp_path / "c.zip"), "--data", str(tmp_path / "third"))
    assert (opened.returncode, opened.stdout) == (0, "ferry  Ferry\n")
    (tmp_path / "short.zip").write_bytes(archive.read_bytes()[:-100_000])
    short = miclane("unpack", str(tmp_path / "short.zip"), "--data", str(tmp_path / "fourth"))
    assert short.returncode == 1 and re.search(r"missing or damaged: the sound .*\.wav, of lane", short.stderr)
    none = miclane("unpack", str(tmp_path / "lead.wav"), "--data", str(tmp_path / "fifth"))
    assert none.returncode == 2 and none.stderr.startswith("miclane: lead.wav is not an archive")
    assert read_sound(tmp_path / "lead.wav").rate == RATE
