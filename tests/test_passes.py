"""The passes of a session: a table of made faults, each named with what brought it, and nothing else."""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile

from conftest import RATE, seeded
from miclane.core.findings.answers import answer_edits
from miclane.core.findings.rules import find, measure_again
from miclane.core.measure.sibilance import balance_db
from miclane.core.mix.document import Lane, Session
from miclane.core.mix.edits import Edit, Insert, Set
from miclane.core.stages.reverb import Reverb
from miclane.demo.seed import SESSION_ID, SONG
from miclane.store.state import State
from miclane.studio.passes import Aimed, known_of_lane, known_of_song, passes_of_lane, passes_of_song
from miclane.studio.studio import Studio

LEAD = "lanes/lead/stages"


@pytest.fixture(scope="module")
def song(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Studio]:
    studio = Studio(tmp_path_factory.mktemp("passes"))
    seeded(studio)
    yield studio
    studio.close()


def made(studio: Studio, edits: list[Edit]) -> State:
    """The demo with a fault, as a session that is not kept."""
    while studio.sessions.get(SESSION_ID).steps:
        studio.sessions.undo(SESSION_ID)
    return studio.edit(SESSION_ID, edits) if edits else studio.sessions.get(SESSION_ID)


def stage(index: int, kind: str, **settings: Any) -> Insert:
    return Insert(path=LEAD, index=index, value={"kind": kind, "id": "fault", **settings})


def bands(*several: dict[str, Any]) -> dict[str, Any]:
    return {"bands": list(several)}


def again(found: list[Aimed]) -> dict[str, str]:
    """What is open again, and the stage, lane or return that is named first."""
    return {a.aim.id: a.by[0][0].stage or a.by[0][0].path for a in found if a.trail.standing == "again"}


UP = {"threshold_db": -60.0, "change_db": 8.0}
LOUD_ONLY = {"kind": "gate", "threshold_db": -17, "range_db": 60, "release_ms": 60, "hold_ms": 20}
COPY = {"name": "Copy", "blend_db": -1.0, "stages": [{**LOUD_ONLY, "keep_phrases": False}]}
LIFT = {"threshold_db": -20, "most_db": 16, "noise_db": -90, "limit_db": -20, "ratio": 8}
LOUDER = {"amount_db": 4, "auto_makeup": False, "makeup_db": 2.5}

FAULTS: dict[str, tuple[list[Edit], dict[str, str]]] = {
    "nothing": ([], {}),
    "a shelf raised": (
        [Set(path=f"{LEAD}/tone/bands/1/gain_db", value=8.8)],
        {"sibilance": "tone", "sharper": "tone"},
    ),
    "a de-esser turned off": ([Set(path=f"{LEAD}/again/on", value=False)], {"sibilance": "tone", "sharper": "tone"}),
    "a band compressed upwards": (
        [stage(9, "eq", **bands({"frequency_hz": 523, "q": 7.6, "gain_db": 0, "dynamic": UP}))],
        {"ring-515": "fault"},
    ),
    "a split that lets loud words through": (
        [stage(9, "split", dry_db=-7, branches=[COPY])],
        {"uneven": "fault", "quiet": "fault"},
    ),
    "a drive that is louder": ([stage(9, "drive", **LOUDER)], {"louder": "fault"}),
    "a shelf under the voice": (
        [
            stage(
                9, "eq", auto_makeup=False, **bands({"shape": "low_shelf", "frequency_hz": 90, "gain_db": 15, "q": 0.7})
            )
        ],
        {"plosives": "fault"},
    ),
    "a boost at the low middle": (
        [
            Set(path=f"{LEAD}/tone/bands/0/frequency_hz", value=350),
            Set(path=f"{LEAD}/tone/bands/0/gain_db", value=4.5),
        ],
        {"build-up": "tone"},
    ),
}


@pytest.mark.parametrize("name", FAULTS)
def test_a_made_fault_is_named_with_its_stage_and_nothing_else_is(song: Studio, name: str) -> None:
    edits, named = FAULTS[name]
    state = made(song, edits)
    assert again(passes_of_lane(song, state, state.session.lane("lead"))) == named


def test_noise_that_a_lift_brings_back_is_named(song: Studio) -> None:
    state = made(song, [])
    take = song.takes.raw(state.session.lane("lead").sound, RATE)
    noise = next(f for f in find(take) if f.id == "noise")
    assert {
        a.aim.id for a in passes_of_lane(song, state, state.session.lane("lead")) if a.trail.standing == "open"
    } == {"noise", "hum", "pitch"}  # the flat notes of the take are left to her
    gated = answer_edits(state.session.lane("lead"), noise)
    gate = next(e.value["id"] for e in gated if isinstance(e, Insert))
    state = song.edit(SESSION_ID, [*gated, Set(path=f"{LEAD}/{gate}/range_db", value=24)])
    found = {a.aim.id: a.trail.standing for a in passes_of_lane(song, state, state.session.lane("lead"))}
    assert found["noise"] == found["hum"] == "mended" and "again" not in found.values()
    state = song.edit(SESSION_ID, [stage(8, "lift", **LIFT)])
    assert again(passes_of_lane(song, state, state.session.lane("lead"))) == {"noise": "fault", "hum": "fault"}


def test_what_backings_and_a_return_cost_the_words_is_named(song: Studio) -> None:
    assert again(passes_of_song(song, made(song, []))) == {}
    state = made(song, [Set(path="returns/plate/fader_db", value=10.0)])
    found = passes_of_song(song, state)
    assert [(a.aim.of, a.by[0][0].path) for a in found if a.trail.standing == "again"] == [("space", "return:plate")]
    assert known_of_song(song, state) == found
    state = made(song, [Set(path="lanes/double/fader_db", value=3.0)])
    found = passes_of_song(song, state)
    assert [(a.aim.of, a.by[0][0].path) for a in found if a.trail.standing == "again"] == [("backings", "double")]
    (clarity,) = (a for a in found if a.aim.of == "fit")
    assert clarity.trail.last < clarity.trail.first  # treated is clearer than raw


def test_what_is_measured_along_a_lane_is_what_the_report_says_of_it(song: Studio) -> None:
    state = made(song, [])
    lane = state.session.lane("lead")
    found = {a.aim.id: a for a in passes_of_lane(song, state, lane)}
    assert known_of_lane(song, state, lane) == list(found.values())
    graph = song.graph(state)
    take, treated = song.takes.raw(lane.sound, RATE), song.takes.treated(graph, lane, song.renderer(RATE))
    for finding in find(take):
        if finding.compared:
            trail = found[finding.id].trail
            assert trail.first == pytest.approx(measure_again(finding, take), abs=1e-6)
            assert trail.last == pytest.approx(measure_again(finding, treated), abs=1e-9)
    audio = song.takes.whole(graph, graph.places["lane:lead:treated"], lane.sound.frames, song.renderer(RATE))
    raw = song.sounds.reader(RATE)(lane.sound.digest, 0, lane.sound.frames)
    sharp = [e for e in take.sibilants if e.kind in ("s", "sh", "t")]
    apart = balance_db(audio, RATE, sharp) - balance_db(raw, RATE, sharp)
    assert found["sharper"].trail.last == pytest.approx(apart, abs=0.05)
    assert [p.stage for p in found["noise"].places] == ["take", *(s.id for s in lane.stages)]


def test_only_what_has_changed_is_measured_again(song: Studio) -> None:
    state = made(song, [])
    passes_of_lane(song, state, state.session.lane("lead"))
    asked = []
    measure = song.takes.measurer.measure

    def counted(*args: Any) -> Any:
        asked.append(args[0].shape)
        return measure(*args)

    song.takes.measurer.measure = counted  # type: ignore[method-assign]
    try:
        passes_of_lane(song, state, state.session.lane("lead"))
        assert asked == []
        state = made(song, [Set(path=f"{LEAD}/tone/bands/0/gain_db", value=1.3)])
        assert known_of_lane(song, state, state.session.lane("lead")) is None
        passes_of_lane(song, state, state.session.lane("lead"))
        assert len(asked) == 3  # the tone, and the two stages after it
    finally:
        song.takes.measurer.measure = measure  # type: ignore[method-assign]


def test_a_take_without_a_stage_shows_what_is_to_be_done_and_nothing_sung_shows_nothing(
    studio: Studio, tmp_path: Path
) -> None:
    soundfile.write(tmp_path / "hush.wav", np.zeros(2 * RATE), RATE)
    lanes = []
    for name, path, role in (
        ("raw", SONG / "lead.flac", "lead"),
        ("hush", tmp_path / "hush.wav", "backing"),
        ("pad", SONG / "pad.flac", "music"),
    ):
        lanes.append(Lane(id=name, name=name, role=role, sound=studio.sounds.add(path, path.name, RATE)))  # type: ignore[arg-type]
    lanes.append(Lane(id="none", name="none", role="backing"))
    state = studio.sessions.create(Session(name="new", lanes=tuple(lanes)))
    found = passes_of_lane(studio, state, state.session.lane("raw"))
    assert {"noise", "hum", "rumble", "plosives", "ring-515", "sibilance", "uneven", "loud"} <= {
        a.aim.id for a in found if a.trail.standing == "open"
    }
    assert again(found) == {} and all(len(a.trail.values) == 1 for a in found)
    for name in ("hush", "pad", "none"):
        assert passes_of_lane(studio, state, state.session.lane(name)) == []
    studio.close()


def test_a_room_that_a_compressor_brings_forward_is_named(studio: Studio, tmp_path: Path) -> None:
    lead = soundfile.read(SONG / "lead.flac")[0]
    room = Reverb(decay_s=0.6, predelay_ms=5).build(RATE, 1)
    wet = room.process(np.concatenate([lead, np.zeros(RATE)])[None])[:, room.latency :][:, : len(lead)].mean(axis=0)
    roomy = lead + 0.3 * wet * np.sqrt(np.mean(lead**2) / np.mean(wet**2))
    soundfile.write(tmp_path / "room.wav", roomy, RATE, subtype="FLOAT")
    sound = studio.sounds.add(tmp_path / "room.wav", "room.wav", RATE)
    gate = {"kind": "gate", "id": "gate", "threshold_db": -48, "range_db": 10}
    hard = {"kind": "compressor", "id": "hard", "threshold_db": -28, "ratio": 4, "attack_ms": 3, "makeup_db": 8}
    lane = {"id": "lead", "name": "Lead", "role": "lead", "sound": sound, "stages": [gate, hard]}
    state = studio.sessions.create(Session.model_validate({"name": "room", "lanes": [lane]}))
    found = passes_of_lane(studio, state, state.session.lane("lead"))
    assert again(found)["room"] == "hard"
    (aimed,) = (a for a in found if a.aim.id == "room")
    assert aimed.trail.first < 150 < 200 < aimed.trail.last
    studio.close()
