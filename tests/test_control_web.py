"""The dynamics pass through the server: starts, makeup, word starts, share of the work, paths that are no lanes."""

from types import SimpleNamespace

import httpx
import numpy as np
import pytest

from conftest import RATE
from miclane.core.engine.render import Renderer
from miclane.core.measure.loudness import integrated_lufs
from miclane.core.mix.paths import find_path
from miclane.studio.figures import figures, match_db
from test_web import web  # noqa: F401

LOOP = {"first": 20 * RATE, "last": 28 * RATE}
LANE = "/s/salt-ferry/lane"


def stage_of(demo: SimpleNamespace, name: str, stage: str):
    path = find_path(demo.studio.sessions.get("salt-ferry").session, name)
    return next(s for s in path.member.stages if s.id == stage)


def put(web: httpx.Client, path: str, value: dict, index: int = 0) -> None:  # noqa: F811
    edit = {"op": "insert", "path": path, "index": index, "value": value}
    answer = web.post("/s/salt-ferry/edits", json={"edits": [edit]})
    assert answer.status_code == 200, answer.text


def test_a_press_sets_a_threshold_and_an_equal_loudness(web, demo) -> None:  # noqa: F811
    for spread, most in (("natural", 5.0), ("forward", 10.0)):
        answer = web.post(f"{LANE}/lead/start/peaks", params={**LOOP, "spread": spread})
        assert answer.status_code == 200, answer.text
        told = web.get(
            "/s/salt-ferry/readings",
            params={"lane": "lead", "start": 0, "stop": 50 * RATE, "first": 0, "last": 50 * RATE},
        ).json()["stations"]["peaks"]
        assert told["p95_db"] == pytest.approx(most, abs=1.0)
    stage, state = stage_of(demo, "lead", "peaks"), demo.studio.sessions.get("salt-ferry")
    graph = demo.studio.graph(state)
    whole = Renderer(demo.studio.renderer(RATE).read).loop
    heard = [
        integrated_lufs(whole(graph, graph.places[f"lane:lead:{at}:peaks"], 0, 50 * RATE).audio, RATE)
        for at in ("before", "stage")
    ]
    assert heard[1] == pytest.approx(heard[0], abs=0.3)
    assert stage.threshold_db < -15


def test_makeup_is_matched_by_the_loudness_of_the_loop(web, demo) -> None:  # noqa: F811
    told = web.post(f"{LANE}/lead/makeup/level", params=LOOP).json()
    assert told["changed"]
    state = demo.studio.sessions.get("salt-ferry")
    found = demo.studio.range(state, "lane", "lead", LOOP["first"], LOOP["last"])
    places = demo.studio.graph(state).places
    heard = [integrated_lufs(found.cut(places[f"lane:lead:{at}:level"]), RATE) for at in ("before", "stage")]
    assert heard[1] == pytest.approx(heard[0], abs=0.1)
    assert not web.post(f"{LANE}/lead/makeup/level", params=LOOP).json()["changed"]
    refused = web.post(f"{LANE}/lead/makeup/clean", params=LOOP)
    assert refused.status_code == 404
    assert "has no makeup" in refused.json()["error"]


def test_the_bench_tells_word_starts_recovery_and_share(web) -> None:  # noqa: F811
    told = web.get(f"{LANE}/lead/control/peaks", params=LOOP).text
    assert "Word starts come out" in told
    assert told.count("data-attack=") == 5
    assert "that this lane is turned down while singing" in told
    work = web.get(f"{LANE}/lead/work", params=LOOP).text
    assert "Share of the work" in work
    assert all(f"<td>{name}</td>" in work for name in ("Peaks", "Level", "Ceiling"))
    assert "Crush" not in work  # beside the voice, not in a row with the others
    limited = web.get(f"{LANE}/lead/control/ceiling", params=LOOP).text
    assert "Normalised instead" in limited
    assert limited.count("LU spread") == 2


def test_a_stage_that_does_too_much_alone_is_pointed_out(web) -> None:  # noqa: F811
    edits = [{"op": "set", "path": "lanes/lead/stages/peaks/threshold_db", "value": -34}]
    assert web.post("/s/salt-ferry/edits", json={"edits": edits}).status_code == 200
    told = web.get(f"{LANE}/lead/control/peaks", params=LOOP).text
    assert "alone: let another stage do a part of it" in told
    assert "Level never works in this loop" in web.get(f"{LANE}/lead/work", params=LOOP).text


@pytest.mark.parametrize(
    "kind", ["lift", "multiband", "gate", "drive", "deess", "eq", "compressor", "limiter", "split"]
)
def test_every_stage_works_on_a_bus(web, demo, kind: str) -> None:  # noqa: F811
    value = {"kind": kind, "id": "new"}
    if kind == "split":
        value["branches"] = [{"id": "b", "name": "Copy", "blend_db": -12, "stages": []}]
    for bus in ("vocals", "music", "mix"):
        put(web, f"buses/{bus}/stages", value)
        body = web.get(f"{LANE}/bus:{bus}/body", params={"stage": "new"})
        assert body.status_code == 200
        assert 'data-stage="new"' in body.text
        query = {"start": LOOP["first"], "stop": LOOP["last"], **LOOP, "hear": "mix"}
        assert web.get(f"{LANE}/bus:{bus}/picture/new", params=query).status_code == 200
        if kind in ("lift", "multiband", "compressor"):
            answer = web.post(f"{LANE}/bus:{bus}/start/new", params=LOOP)
            assert answer.status_code == 200, answer.text
        if kind in ("compressor", "limiter", "multiband"):
            assert web.get(f"{LANE}/bus:{bus}/control/new", params=LOOP).status_code == 200
        rows = web.get("/s/salt-ferry/strip", params={"lane": f"bus:{bus}", "hear": "mix", "columns": 200, **query})
        assert rows.headers["x-rows"].startswith("raw-low,raw-high,treated-low,treated-high")
        sound = np.frombuffer(rows.content, np.float32).reshape(-1, 200)
        assert np.abs(sound[:4]).max() > 0.01
    assert web.get(f"{LANE}/bus:nowhere").status_code == 404


def test_a_return_is_opened_like_a_lane(web, demo) -> None:  # noqa: F811
    page = web.get(f"{LANE}/return:plate?stage=take").text
    assert "Plate, in" in page
    assert 'data-path="lanes/lead/sends/plate/level_db"' in page
    put(web, "returns", {"id": "crush", "name": "Shared", "stages": [{"kind": "compressor", "id": "c"}]}, 9)
    put(web, "lanes/lead/sends", {"id": "crush", "level_db": -12}, 9)
    put(web, "lanes/double/sends", {"id": "crush", "level_db": -12, "pre_fader": True}, 9)
    page = web.get(f"{LANE}/return:crush?stage=take").text
    assert page.count("before fader") == 2
    told = web.get(
        "/s/salt-ferry/readings",
        params={"lane": "return:crush", "start": LOOP["first"], "stop": LOOP["last"], **LOOP},
    ).json()
    assert told["stations"]["c"]["in_db"] > -60


def test_what_is_said_of_a_band_alone_is_of_the_band_and_not_of_the_lane(demo: SimpleNamespace) -> None:
    state, loop = demo.studio.sessions.get("salt-ferry"), (round(20.5 * 48000), round(24.5 * 48000))
    band = ("clean", 0)
    told = figures(demo.studio, state, "mix", "lead", *loop, loop, "band", band)
    assert told.match_db == pytest.approx(match_db(demo.studio, state, "mix", "lead", loop, "band", band), abs=1e-6)
    heard = demo.studio.sound(state, "mix", "lead", *loop, "band", band=band)
    assert told.untreated_lufs == pytest.approx(integrated_lufs(heard, 48000), abs=0.01)
