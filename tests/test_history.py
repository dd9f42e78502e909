"""History: what is done is taken back and made again exactly, whatever it was; older databases open with all of it."""

import json
import random
import sqlite3
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import func, select

from conftest import seeded
from miclane.core.errors import ConflictError, MicLaneError, UnusableChainError
from miclane.core.mix.document import Session
from miclane.core.mix.edits import EDITS, Edit, Insert, Remove, Set, apply
from miclane.core.stages.base import Stage
from miclane.demo.seed import LANES, SONG
from miclane.store.database import Database
from miclane.store.history import one_step
from miclane.store.sessions import SessionStore
from miclane.store.state import State
from miclane.store.tables import ChangeRow
from miclane.store.writing import KEPT_CHANGES
from miclane.studio.studio import Studio

AGES = Path(__file__).parent / "ages"
DUCK: dict[str, Any] = {"kind": "duck"}
CRUSH = {"kind": "split", "branches": [{"name": "Crush", "stages": [{"kind": "compressor", "ratio": 12}]}]}


def sung(studio: Studio) -> str:
    """The demo, without any rendering: its id."""
    return seeded(studio).id


def steps_of_the_pages(rng: random.Random) -> list[list[dict[str, Any]]]:
    """One step of every kind that the pages send, in some order, with values that differ."""
    lead, plate = "lanes/lead/stages", "returns/plate/stages"
    gain = round(rng.uniform(-9, 9), 1)
    steps: list[list[dict[str, Any]]] = [
        [{"op": "insert", "path": lead, "index": rng.randrange(6), "value": {"kind": kind, "id": f"n{kind}"}}]
        for kind, cls in Stage.kinds.items()
        if cls.insertable and not cls.for_returns
    ]
    steps += [
        [
            {
                "op": "insert",
                "path": lead,
                "index": 2,
                "value": {"kind": "eq", "bands": [{"frequency_hz": 3000, "gain_db": gain}]},
            }
        ],
        [{"op": "insert", "path": plate, "index": 2, "value": DUCK}],
        [{"op": "insert", "path": lead, "index": 3, "value": CRUSH}],
        [{"op": "insert", "path": f"{lead}/clean/bands", "index": 1, "value": {"shape": "bell", "gain_db": gain}}],
        [{"op": "remove", "path": f"{lead}/clean/bands/0"}],
        [{"op": "move", "path": f"{lead}/peaks", "index": rng.randrange(5)}],
        [{"op": "remove", "path": f"{lead}/level"}],
        [{"op": "set", "path": f"{lead}/clean/on", "value": False}],
        [{"op": "set", "path": "lanes/lead/phrases/p2/words", "value": "you <3 me"}],
        [{"op": "set", "path": f"{lead}/deess/by_hand", "value": [{"start_s": 1, "end_s": 1.2, "gain_db": -4}]}],
        [
            {
                "op": "insert",
                "path": "returns",
                "index": 1,
                "value": {"id": "slap", "name": "Slap", "stages": [{"kind": "delay"}, DUCK]},
            },
            {"op": "insert", "path": "lanes/lead/sends", "index": 1, "value": {"id": "slap"}},
        ],
        [{"op": "insert", "path": "lanes/lead/sends/plate/throws", "index": 0, "value": {"start_s": 20, "end_s": 21}}],
        [{"op": "set", "path": "lanes/double/pan", "value": -0.4}],
        [{"op": "insert", "path": "buses", "index": 0, "value": {"id": "new", "name": "New bus", "into": "mix"}}],
        [{"op": "remove", "path": "lanes/low_harmony"}],
        [{"op": "set", "path": "tempo_bpm", "value": 95}],
    ]
    rng.shuffle(steps)
    return steps


def test_undo_all_then_redo_all_is_the_same_document(studio: Studio) -> None:
    name = sung(studio)
    store = studio.sessions
    for trial in range(4):
        rng = random.Random(trial)
        begun = store.get(name)
        for edits in steps_of_the_pages(rng):
            try:
                state = store.edit(name, EDITS.validate_python(edits), gesture=rng.choice(["", "", f"g{trial}"]))
            except MicLaneError:
                continue
        made = [state.session]
        for _ in range(state.steps - begun.steps):
            made.append(store.undo(name).session)
        assert made[-1] == begun.session
        for wanted in reversed(made[:-1]):
            assert store.redo(name).session == wanted
        for _ in range(state.steps - begun.steps):
            store.undo(name)


def test_an_added_eq_and_an_added_ducker_can_be_made_again(studio: Studio) -> None:
    name, store = sung(studio), studio.sessions
    eq = Insert(path="lanes/lead/stages", index=2, value={"kind": "eq", "id": "n", "bands": [{"gain_db": 5}]})
    store.edit(name, [eq])
    assert store.get(name).session.lane("lead").stages[2].makeup_db != 0, "its makeup follows in the same step"
    store.edit(name, [Set(path="lanes/lead/stages/n/bands/0/gain_db", value=7)])
    duck = store.edit(name, [Insert(path="returns/plate/stages", index=2, value=DUCK)]).session.returns[0].stages[2]
    last = store.edit(name, [Set(path=f"returns/plate/stages/{duck.id}/depth_db", value=5)]).session
    for _ in range(4):
        store.undo(name)
    for _ in range(4):
        state = store.redo(name)
    assert state.session == last
    assert state.session.returns[0].stages[2].id == duck.id


def test_a_gesture_that_sets_a_part_and_then_the_whole_is_kept_in_order() -> None:
    part, whole = Set(path="a/b/c", value=1), Set(path="a/b", value={"c": 5})
    made, back = one_step([part, whole], [Set(path="a/b", value=0), Set(path="a/b/c", value=0)], [part], [whole])
    assert [e.path for e in made] == ["a/b/c", "a/b", "a/b/c"]
    assert len(back) == 3
    made, back = one_step([part], [Set(path="a/b/c", value=0)], [Set(path="a/b/c", value=9)], [part])
    assert made == [Set(path="a/b/c", value=9)]
    assert back == [Set(path="a/b/c", value=0)]


def test_changes_are_kept_for_a_while_only(studio: Studio) -> None:
    name, store = sung(studio), studio.sessions
    for k in range(KEPT_CHANGES + 40):
        state = store.edit(name, [Set(path="lanes/double/fader_db", value=-k / 20)], gesture="one")
    with studio.database.reading() as db:
        rows = db.scalar(select(func.count()).select_from(ChangeRow).where(ChangeRow.session_id == name))
    assert KEPT_CHANGES <= rows < KEPT_CHANGES + 16
    assert state.steps == 1
    with pytest.raises(ConflictError):
        store.edit(name, [Set(path="tempo_bpm", value=99)], base=2)


def test_what_is_not_there_cannot_be_named(studio: Studio) -> None:
    name, store = sung(studio), studio.sessions
    sound = store.get(name).session.lanes[0].sound
    for edit in (
        Set(path="lanes/lead/sound", value={**sound.model_dump(), "digest": "f" * 64}),
        Insert(path="returns/plate/stages", index=0, value={"kind": "impulse", "response": "nowhere"}),
        Set(path="lanes/lead/bus", value="nowhere"),
    ):
        with pytest.raises(UnusableChainError):
            store.edit(name, [edit])
    with pytest.raises(MicLaneError, match="not in the store"):
        store.create(store.get(name).session.model_copy(update={"lanes": (_ghost(store.get(name).session),)}))


def _ghost(session: Session) -> Any:
    lane = session.lanes[0]
    return lane.model_copy(update={"sound": lane.sound.model_copy(update={"digest": "e" * 64})})


def test_edits_with_a_token_are_made_once(studio: Studio) -> None:
    name, store = sung(studio), studio.sessions
    trim: list[Edit] = [Insert(path="lanes/lead/stages", index=0, value={"kind": "trim"})]
    first = store.edit(name, trim, token="t1")
    assert store.edit(name, trim, base=1, token="t1") == first
    assert store.edit(name, trim, token="t2").version == first.version + 1


def test_what_edits_will_make_is_told_before_it_is_written(studio: Studio) -> None:
    name, store = sung(studio), studio.sessions
    before = store.get(name)
    told: list[State] = []

    def look(state: State) -> None:
        assert store.get(name) == before
        told.append(state)

    kept = store.edit(name, [Set(path="lanes/lead/stages/clean/bands/1/gain_db", value=-4.5)], foreseen=look)
    assert told[0].session is kept.session and told[0].version == kept.version == before.version + 1
    assert told[0].followed == kept.followed != ()
    before = kept
    with pytest.raises(UnusableChainError):
        store.edit(name, [Set(path="lanes/lead/stages/peaks/ratio", value=-5)], foreseen=look)
    store.edit(name, [Set(path="lanes/lead/note", value="of old")], base=kept.version - 1, foreseen=look)
    assert len(told) == 1, "of what is refused, or made against what is old, nothing can be told"


def test_what_was_told_of_is_made_anew_where_somebody_else_was_quicker(studio: Studio) -> None:
    name, store, told = sung(studio), studio.sessions, list[State]()
    store.edit(name, [Set(path="lanes/lead/note", value="here")])
    beside = SessionStore(Database(studio.sounds.folder.parent / "miclane.sqlite"))
    beside.edit(name, [Set(path="lanes/lead/name", value="Ana")])
    kept = store.edit(name, [Set(path="lanes/lead/note", value="once more")], foreseen=told.append)
    lane = kept.session.lane("lead")
    assert (lane.name, lane.note) == ("Ana", "once more")
    assert told[0].session is not kept.session and told[0].session.lane("lead").name == "Lead"
    beside.database.close()


def old_database(folder: Path, age: int) -> Path:
    """A data folder as Mic Lane of that age left it."""
    folder.mkdir(exist_ok=True)
    connection = sqlite3.connect(folder / "miclane.sqlite")
    connection.executescript((AGES / f"{age}.sql").read_text())
    connection.close()
    return folder


def without_spans(session: Session) -> Session:
    """A session without its phrases and breaths."""
    bare = [lane.model_copy(update={"phrases": (), "breaths": ()}) for lane in session.lanes]
    return session.model_copy(update={"lanes": tuple(bare)})


BACKINGS = (("double", -7.0), ("high_harmony", -3.0), ("low_harmony", -3.5))


@pytest.mark.parametrize("age", [int(p.stem) for p in sorted(AGES.glob("*.sql"))])
def test_a_database_of_every_age_opens_with_all_of_its_history(tmp_path: Path, age: int) -> None:
    studio = Studio(old_database(tmp_path, age))
    for lane in LANES:
        studio.sounds.add(SONG / f"{lane['id']}.flac", f"{lane['id']}.flac", 48000)
    assert bool(studio.database.known_backups()) == (age < 7), "a migration is preceded by a backup; 7 needs none"
    state = studio.sessions.get("salt-ferry")
    assert (state.steps, state.ahead) == (18 if age == 3 else 12, 3)
    every = state.steps + state.ahead
    for _ in range(3):
        newest = studio.sessions.redo("salt-ferry")
    for _ in range(every):
        state = studio.sessions.undo("salt-ferry")
    begun = Studio(tmp_path / "new")
    ahead_ms = 10.0 if age < 4 else 35.0  # a default has changed since
    as_it_was = [Set(path="returns/plate/stages/duck/lookahead_ms", value=ahead_ms)]
    held_less = BACKINGS if age < 5 else ()
    for lane, fader_db in held_less:  # held down by less now
        as_it_was.append(Set(path=f"lanes/{lane}/fader_db", value=fader_db))
        for name, value in (("threshold_db", -27.0), ("ratio", 4.0), ("makeup_db", 4.0)):
            as_it_was.append(Set(path=f"lanes/{lane}/stages/level/{name}", value=value))
    sharp: dict[str, dict[str, float]] = {  # and de-essed by less
        "lead/stages/deess": {"threshold_db": -13, "max_cut_db": 8, "low_hz": 5200},
        "lead/stages/again": {"threshold_db": -10, "max_cut_db": 6, "low_hz": 5600},
    }
    sharp |= {f"{x}/stages/deess": {"threshold_db": -14, "max_cut_db": 10, "low_hz": 5200} for x, _ in BACKINGS}
    if age < 7:
        as_it_was += [Set(path=f"lanes/{at}/{k}", value=v) for at, all_of in sharp.items() for k, v in all_of.items()]
    fresh = apply(seeded(begun).session, as_it_was).session
    assert without_spans(state.session) == without_spans(fresh)
    for old, new in zip(state.session.lanes, fresh.lanes, strict=True):  # found anew, by better rules
        for was, now in zip(old.phrases, new.phrases, strict=True):
            assert (was.words, was.section) == (now.words, now.section)
            assert max(abs(was.start - now.start), abs(was.end - now.end)) < 0.06 * state.session.rate
    for _ in range(every):
        state = studio.sessions.redo("salt-ferry")
    assert state.session == newest.session


def test_an_old_lane_with_two_sends_to_one_return_is_mended(tmp_path: Path) -> None:
    Studio(old_database(tmp_path, 1)).database.close()
    database = sqlite3.connect(tmp_path / "miclane.sqlite")
    (text,) = database.execute("select document from sessions").fetchone()
    twice = text.replace('"sends":[{"id":"plate"', '"sends":[{"id":"plate"},{"id":"plate"', 1).replace(
        '"version":2', '"version":1'
    )
    database.execute("update sessions set document = ?", (twice,))
    database.commit()
    database.close()
    lead = SessionStore(Database(tmp_path / "miclane.sqlite")).get("salt-ferry").session.lanes[0]
    assert [s.id for s in lead.sends].count("plate") == 1


def test_edges_that_crossed_in_an_old_session_are_put_in_order(tmp_path: Path) -> None:
    Studio(old_database(tmp_path, 2)).database.close()
    database = sqlite3.connect(tmp_path / "miclane.sqlite")
    (text,) = database.execute("select document from sessions").fetchone()
    tree = json.loads(text)
    deess = next(s for s in tree["lanes"][0]["stages"] if s["id"] == "deess")
    deess |= {"low_hz": 9000.0, "high_hz": 5000.0}
    tree["returns"][0]["stages"].append({"kind": "delay", "id": "d", "low_cut_hz": 800, "high_cut_hz": 800})
    database.execute("update sessions set document = ?", (json.dumps(tree),))
    database.commit()
    database.close()
    session = SessionStore(Database(tmp_path / "miclane.sqlite")).get("salt-ferry").session
    mended = next(s for s in session.lanes[0].stages if s.id == "deess")
    assert (mended.low_hz, mended.high_hz) == (5000, 9000)
    assert 800 * 1.059 < session.returns[0].stages[-1].high_cut_hz < 850


def test_removing_a_member_and_taking_it_back_keeps_its_place(studio: Studio) -> None:
    name, store = sung(studio), studio.sessions
    before = store.get(name).session
    store.edit(name, [Remove(path="lanes/double")])
    assert store.undo(name).session == before
