"""Space and Map through the server: returns, duckers that move together, what is just heard, responses, the picture."""

import io
import itertools

import numpy as np
import pytest
import soundfile

from conftest import RATE, db
from miclane.core.measure.clearance import clearance, held
from miclane.core.measure.phrases import Span
from miclane.core.mix.links import ducks_of
from miclane.core.stages.eq import Eq
from miclane.web.drawing.map import lay_map
from test_control_web import put
from test_web import web  # noqa: F401

SPACE = "/s/salt-ferry/space"
LOOP = {"first": 20 * RATE, "last": 34 * RATE}


def session_of(demo):
    return demo.studio.sessions.get("salt-ferry").session


def add_delay(web, identifier: str = "echo") -> None:  # noqa: F811
    stages = [
        {"kind": "delay", "id": "e", "note": "1/4", "feedback": 0.4},
        {"kind": "duck", "id": "k", "depth_db": 4, "threshold_db": -50},
    ]
    put(web, "returns", {"id": identifier, "name": "Echo", "bus": "vocals", "stages": stages}, 9)
    put(web, "lanes/lead/sends", {"id": identifier, "level_db": -10}, 9)


def told_by(demo, duck_first: bool = False, unducked: bool = False) -> tuple:
    """Dry over returns singing and in gaps, and what the ducker does, over the demo's loop."""
    studio, state = demo.studio, demo.studio.sessions.get("salt-ferry")
    graph = studio.graph(state, unducked=unducked, duck_first=duck_first)
    renderer, first, last = studio.renderer(RATE), LOOP["first"], LOOP["last"]
    mix = renderer.loop(graph, graph.places["bus:mix:out"], first, last)
    dry, wet = ((mix.cut(graph.places[p]) ** 2).sum(axis=0) for p in ("lane:lead:out", "return:plate:out"))
    phrases = [Span(p.start, p.end) for p in session_of(demo).lane("lead").phrases]
    over = clearance(dry, wet, phrases, first, RATE)
    trace = mix.trace(graph.places["return:plate:stage:duck"])
    return over, held(trace, phrases, first, last, RATE) if trace else None


def test_the_duck_on_the_demo_clears_the_words_and_fills_the_gaps(web, demo, capsys) -> None:  # noqa: F811
    assert web.post(f"{SPACE}/plate/duck/begin").status_code == 200
    after, does = told_by(demo)
    before, _ = told_by(demo, unducked=True)
    first, _ = told_by(demo, duck_first=True)
    with capsys.disabled():
        for name, over in (("no duck", before), ("duck", after), ("duck before the effect", first)):
            print(
                f"\n{name}: dry over return {over.singing_db:+.1f} dB singing, {over.gaps_db:+.1f} dB in gaps", end=""
            )
        print(f"; back within 1 dB {'in no gap' if does.back_ms is None else f'after {does.back_ms:.0f} ms'}", end="")
    assert after.singing_db > before.singing_db + 6
    assert after.gaps_db < before.gaps_db + 7.5  # a breath right before a phrase closes its gap earlier
    assert first.gaps_db > after.gaps_db + 2
    assert does.singing_db == pytest.approx(-9, abs=0.5)


def test_a_duck_is_begun_copied_and_linked(web, demo) -> None:  # noqa: F811
    add_delay(web)
    answer = web.post(f"{SPACE}/echo/duck/begin")
    assert answer.status_code == 200, answer.text
    begun = dict(ducks_of(session_of(demo)))["returns/echo/stages/k"]
    assert begun.threshold_db > -40
    assert begun.release_ms != 180
    assert web.post(f"{SPACE}/echo/duck/copy").json()["copied"] == 1
    plate = dict(ducks_of(session_of(demo)))["returns/plate/stages/duck"]
    assert (plate.threshold_db, plate.depth_db, plate.release_ms) == (begun.threshold_db, 4, begun.release_ms)
    for place in ("returns/echo/stages/k", "returns/plate/stages/duck"):
        edit = {"op": "set", "path": f"{place}/linked", "value": True}
        assert web.post("/s/salt-ferry/edits", json={"edits": [edit]}).status_code == 200
    edit = {"op": "set", "path": "returns/plate/stages/duck/depth_db", "value": 11.0}
    web.post("/s/salt-ferry/edits", json={"edits": [edit]})
    assert [d.depth_db for _, d in ducks_of(session_of(demo))] == [11.0, 11.0]
    web.post("/s/salt-ferry/undo")
    assert [d.depth_db for _, d in ducks_of(session_of(demo))] == [4.0, 4.0]


def test_copying_gives_a_duck_to_a_return_without_one(web, demo) -> None:  # noqa: F811
    put(web, "returns", {"id": "bare", "name": "Bare", "stages": [{"kind": "delay", "id": "d"}]}, 9)
    assert web.post(f"{SPACE}/plate/duck/copy").json()["copied"] == 1
    bare = next(r for r in session_of(demo).returns if r.id == "bare")
    assert [s.kind for s in bare.stages] == ["delay", "duck"]
    assert bare.stages[1].depth_db == 9
    assert web.post(f"{SPACE}/nowhere/duck/copy").status_code == 404


def test_a_return_is_brought_to_where_it_is_just_heard(web, demo) -> None:  # noqa: F811
    levels = []
    for start in (-20.0, 6.0):
        edit = {"op": "set", "path": "returns/plate/fader_db", "value": start}
        web.post("/s/salt-ferry/edits", json={"edits": [edit]})
        told = web.post(f"{SPACE}/plate/heard", params=LOOP).json()
        levels.append(told["fader_db"])
    assert levels[0] == pytest.approx(levels[1], abs=1.0)  # wherever it came from
    web.post(
        "/s/salt-ferry/edits",
        json={"edits": [{"op": "insert", "path": "returns", "index": 9, "value": {"id": "q", "name": "Q"}}]},
    )
    silent = web.post(f"{SPACE}/q/heard", params=LOOP)
    assert silent.status_code == 422
    assert "is silent in this loop" in silent.json()["error"]


def test_a_file_becomes_a_response_and_a_bad_one_is_refused_by_name(web, demo) -> None:  # noqa: F811
    stages = [{"kind": "impulse", "id": "i", "predelay_ms": 0, "low_cut_hz": 0, "high_cut_hz": 20000}]
    put(web, "returns", {"id": "place", "name": "Place", "stages": stages}, 9)
    put(web, "lanes/lead/sends", {"id": "place", "level_db": 0}, 9)
    h = np.zeros((4800, 1))
    h[2400] = 0.5
    file = io.BytesIO()
    soundfile.write(file, h, RATE, format="WAV", subtype="FLOAT")
    answer = web.post(f"{SPACE}/place/impulse/i", files={"file": ("Quay wall.wav", file.getvalue())})
    assert answer.status_code == 200, answer.text
    stage = next(r for r in session_of(demo).returns if r.id == "place").stages[0]
    assert stage.response_name == "Quay wall.wav"
    state = demo.studio.sessions.get("salt-ferry")
    places = demo.studio.graph(state).places
    found = demo.studio.renderer(RATE).loop(
        demo.studio.graph(state), places["return:place:treated"], 20 * RATE, 22 * RATE
    )
    sent = found.nodes[places["return:place:raw"]].cut(20 * RATE - 2400, 22 * RATE - 2400)
    assert db(float(np.abs(found.audio - 0.5 * sent).max())) < -100
    bad = web.post(f"{SPACE}/place/impulse/i", files={"file": ("words.wav", b"not a sound")})
    assert bad.status_code == 422
    assert "words.wav" in bad.json()["error"]


def test_effects_are_drawn_and_the_picture_holds_six_returns(web, demo) -> None:  # noqa: F811
    decay = web.get(f"{SPACE}/plate/effect/reverb").text
    assert decay.count("<rect") == 7
    assert "1.9" in decay
    for k in range(5):
        add_delay(web, f"echo{k}")
    repeats = web.get(f"{SPACE}/echo0/effect/e").text
    assert "652 ms" in repeats
    picture = web.get(f"{SPACE}/picture", params={**LOOP, "hear": "vocals", "lane": "lead", "before": True}).text
    assert picture.count('font-weight="600"') == 6
    assert "the same ducker before the effect" in picture
    assert web.get(f"{SPACE}?return_id=echo3").status_code == 200


def test_a_raw_send_goes_past_the_stages_and_hold_leaves_a_return_out(web, demo) -> None:  # noqa: F811
    def sound(**query) -> np.ndarray:
        place = {"lane": "lead", "start": 20 * RATE, "stop": 24 * RATE, "hear": "mix", **query}
        return np.frombuffer(web.get("/s/salt-ferry/sound", params=place).content, np.float32)

    whole, without = sound(), sound(variant="without", stage="plate")
    assert db(float(np.abs(whole - without).max())) > -50
    edits = [{"op": "set", "path": f"lanes/{x.id}/mute", "value": x.id != "lead"} for x in session_of(demo).lanes]
    edits += [{"op": "set", "path": "lanes/lead/sends/plate/raw", "value": True}]
    assert web.post("/s/salt-ferry/edits", json={"edits": edits}).status_code == 200
    state = demo.studio.sessions.get("salt-ferry")
    graph = demo.studio.graph(state)
    found = demo.studio.renderer(RATE).loop(graph, graph.places["return:plate:raw"], 20 * RATE, 21 * RATE)
    raw = demo.studio.renderer(RATE).read(session_of(demo).lane("lead").sound.digest, 20 * RATE, 21 * RATE)
    assert np.allclose(found.audio, raw * np.cos(np.pi / 4) * 10 ** (-9 / 20), atol=1e-9)


@pytest.mark.parametrize("lanes", [3, 24])
def test_the_map_lays_every_route_apart(demo, lanes: int) -> None:
    session = session_of(demo)
    extra = [
        session.lanes[1].model_copy(update={"id": f"v{k}", "name": f"Voice {k}"}) for k in range(max(0, lanes - 8))
    ]
    session = session.model_copy(update={"lanes": (*session.lanes[: min(lanes, 8)], *extra)})
    picture = lay_map(session)
    assert len(picture.rows) == lanes + 1
    heights = [r.y for r in picture.rows]
    assert min(b - a for a, b in itertools.pairwise(heights)) >= 27
    for row in picture.rows:
        places = [s["x"] for s in row.stations]
        assert all(b - a >= 20 for a, b in itertools.pairwise(places))
    columns: dict[float, list[float]] = {}
    for b in picture.buses:
        columns.setdefault(b["x"], []).append(b["y"])
    for ys in columns.values():
        assert all(b - a >= 58 for a, b in itertools.pairwise(sorted(ys)))
    assert [k["name"] for k in picture.keys] == ["Plate is held down by Lead"]
    assert len(picture.sends[0]["taps"]) == min(lanes, 4) + len(extra) if lanes > 3 else 3


def test_the_map_page_says_what_to_do_when_there_is_nothing(web) -> None:  # noqa: F811
    made = web.post("/sessions", json={"name": "Bare"})
    assert made.status_code < 300, made.text
    page = web.get(f"/s/{made.json()['id']}/map")
    assert page.status_code == 200
    assert "No lanes yet" in page.text


def test_the_map_draws_whoever_listens_to_another_lane(demo) -> None:
    session = session_of(demo)
    moving = {"shape": "bell", "frequency_hz": 900, "dynamic": {"keyed_by": "key"}}
    eq = Eq.model_validate(
        {"kind": "eq", "id": "q", "name": "Room for her", "key": {"lane": "lead"}, "bands": [moving]}
    )
    pad = session.lane("pad").model_copy(update={"stages": (eq,)})
    lanes = tuple(pad if x.id == "pad" else x for x in session.lanes)
    names = [k["name"] for k in lay_map(session.model_copy(update={"lanes": lanes})).keys]
    assert names == ["Plate is held down by Lead", "Pad listens, in Room for her, to Lead"]


@pytest.mark.parametrize(("feedback", "said"), [(0.4, False), (0.97, True)])
def test_a_delay_that_remembers_longer_than_a_loop_says_so(web, feedback: float, said: bool) -> None:  # noqa: F811
    stages = [{"kind": "delay", "id": "e", "note": "1/2", "feedback": feedback}]
    put(web, "returns", {"id": "long", "name": "Long", "bus": "vocals", "stages": stages}, 9)
    put(web, "lanes/lead/stages", {**stages[0], "id": "long-one"}, 9)
    for page in (f"{SPACE}?return_id=long", "/s/salt-ferry/lane/lead?stage=long-one"):
        answer = web.get(page)
        assert answer.status_code == 200, page
        assert ("a print has them" in answer.text) == said, page
