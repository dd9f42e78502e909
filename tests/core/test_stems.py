"""Levels that stay: of a lane that becomes stereo, of stems beside their mix, of what a stage takes."""

from pathlib import Path

import numpy as np
import pytest

from conftest import RATE, db, noise, one_lane, residue_db, run, sine
from miclane.core.audio import read_sound
from miclane.core.engine.builder import Builder
from miclane.core.engine.render import Renderer
from miclane.core.mix.edits import Insert, Set, apply
from miclane.core.print_targets import left_out
from miclane.core.printing import PrintRequest, peaks_dbfs, print_session
from miclane.core.stages.base import TAKEN, Stage, load_kinds
from miclane.core.units import amplitude

KINDS = sorted(k for k in load_kinds() if k != "split")


@pytest.mark.parametrize("pan", [0.0, -0.35, 0.8])
@pytest.mark.parametrize(
    "stage", [{"kind": "chorus", "mix": 0}, {"kind": "delay", "mix": 0}, {"kind": "reverb", "mix": 0}]
)
def test_a_lane_that_a_stage_makes_stereo_stays_as_loud(pan: float, stage: dict) -> None:
    x = noise(1.0, 0.1)
    level = []
    for stages in ([], [stage]):
        graph, read, _ = one_lane(x, stages, lane={"pan": pan})
        out = Renderer(read).loop(graph, graph.places["lane:lead:out"], 0, RATE).audio
        level.append([20 * np.log10(np.sqrt(np.mean(side**2))) for side in out])
    assert np.abs(np.subtract(*level)).max() < 0.1


def test_a_stereo_take_keeps_its_level_in_the_middle() -> None:
    x = noise(1.0, 0.1, 2)
    graph, read, _ = one_lane(x, [])
    assert residue_db(Renderer(read).loop(graph, graph.places["lane:lead:out"], 0, RATE).audio, x) < -200


def test_stems_add_up_to_the_mix_through_faders_and_linear_stages(demo, tmp_path: Path) -> None:
    tone = {"kind": "eq", "id": "tone", "bands": [{"frequency_hz": 900, "gain_db": -5, "q": 0.8}]}
    room = {"kind": "reverb", "id": "room", "decay_s": 0.4, "mix": 0.2}
    edits = [
        Set(path="buses/mix/stages/ceiling/on", value=False),
        Set(path="buses/vocals/stages", value=[tone, room]),
        Set(path="buses/vocals/fader_db", value=-2.5),
        Set(path="lanes/double/mute", value=True),
    ]
    session = apply(demo.session, edits).session
    heard = [f"lane:{x.id}" for x in session.lanes if not x.mute]
    targets = ("mix", *heard, *(f"return:{r.id}" for r in session.returns))
    read = demo.studio.sounds.reader(RATE)
    request = PrintRequest(targets=targets, format="wav-32", stems=True)
    made = print_session(session, request, tmp_path, read)
    mix, *stems = (read_sound(f.path).audio for f in made)
    highest = [db(float(np.abs(sound).max())) for sound in (mix, *stems)]
    assert np.abs(np.subtract(peaks_dbfs(session, request, read), highest)).max() < 1e-4
    assert db(float(np.abs(mix).max())) > -12
    assert residue_db(sum(stems), mix) < -120
    assert not any(left_out(session, t) for t in targets)
    (alone,) = print_session(session, PrintRequest(targets=("lane:bass",), format="wav-32"), tmp_path / "b", read)
    dry = read_sound(alone.path).audio
    assert residue_db(stems[heard.index("lane:bass")][:, : dry.shape[1]], amplitude(-2.0) * dry) < -120


def test_what_a_stem_cannot_go_through_is_named(demo) -> None:
    assert left_out(demo.session, "lane:lead") == ["Ceiling of Mix"]
    assert left_out(demo.session, "mix") == []
    squeezed = {"kind": "compressor", "id": "glue", "name": "Glue"}
    session = apply(demo.session, [Insert(path="buses/lead/stages", index=0, value=squeezed)]).session
    assert left_out(session, "lane:lead") == ["Glue of Lead bus", "Ceiling of Mix"]
    assert left_out(session, "bus:lead") == ["Ceiling of Mix"]


LINEAR = {"eq", "reverb", "impulse", "delay", "chorus", "split", "sway"}


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_a_kind_that_calls_itself_linear_is(kind: str) -> None:
    stage = Stage.kinds[kind]()
    assert stage.linear == (kind in LINEAR)
    if kind in LINEAR - {"split"}:
        a, b = noise(0.5, 0.2, seed=1), noise(0.5, 0.3, seed=2)
        assert residue_db(run(stage, a + b).y, run(stage, a).y + run(stage, b).y) < -200


def test_what_a_stage_takes_is_told_without_its_makeup() -> None:
    x = sine(1000, -10, 1.0)
    squeezed = {"kind": "compressor", "threshold_db": -20, "ratio": 2, "knee_db": 0, "makeup_db": 9, "input_db": 0}
    _, read, session = one_lane(x, [squeezed, {"kind": "eq", "bands": []}])
    graph = Builder(session, alone=("lead", "s0", TAKEN)).build()
    out = Renderer(read).loop(graph, graph.places["lane:lead:out"], RATE // 2, RATE).audio
    taken = amplitude(-10) * (1 - amplitude(-5)) * amplitude(-3.01)
    assert abs(db(float(np.abs(out).max())) - db(taken)) < 0.05
    for quiet in ({**squeezed, "ratio": 1}, {**squeezed, "on": False}):
        _, read, session = one_lane(x, [quiet])
        graph = Builder(session, alone=("lead", "s0", TAKEN)).build()
        assert np.abs(Renderer(read).loop(graph, graph.places["lane:lead:out"], 0, RATE).audio).max() < 1e-9
