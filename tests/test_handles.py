"""Handles as the application has them: gathered, moved as one step, otherwise in a section; the chains that ship."""

import json
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from starlette.testclient import TestClient

from miclane.core.audio import read_sound
from miclane.core.measure.loudness import integrated_lufs
from miclane.core.mix.chain import read_chain
from miclane.core.mix.local import seen_in
from miclane.core.mix.sections import SONG, Where
from miclane.core.process import process
from miclane.demo.seed import SONG as TAKES
from miclane.studio.library import measured_of, put_on
from miclane.studio.ours import FOLDER, ours
from miclane.studio.studio import Studio

SESSION = "/s/salt-ferry"
PEAKS, LEVEL = "lanes/lead/stages/peaks/threshold_db", "lanes/lead/stages/level/threshold_db"


@pytest.fixture
def web(demo: SimpleNamespace) -> TestClient:
    return TestClient(demo.app, base_url="http://localhost", headers={"accept": "application/json"})


def state(demo: SimpleNamespace) -> Any:
    return demo.studio.sessions.get("salt-ferry")


def edit(web: TestClient, *edits: tuple[str, Any], **more: Any) -> dict[str, Any]:
    body = {"edits": [{"op": "set", "path": p, "value": v} for p, v in edits], **more}
    answer = web.post(f"{SESSION}/edits", json=body)
    assert answer.status_code == 200, answer.text
    return dict(answer.json())


def gather(web: TestClient, demo: SimpleNamespace, **more: Any) -> str:
    begun = web.get(f"{SESSION}/handles/position", params={"of": "lead"}).json()
    edit(web, (PEAKS, -27.0), (LEVEL, -34.0))
    answer = web.post(f"{SESSION}/handles/gather", json={**begun, "name": "Grip", **more})
    assert answer.status_code == 200, answer.text
    return str(state(demo).session.lane("lead").handles[-1].id)


def thresholds(demo: SimpleNamespace, where: Where = SONG) -> tuple[float, float]:
    stages = {s.id: s for s in seen_in(state(demo).song, where).lane("lead").stages}
    return stages["peaks"].threshold_db, stages["level"].threshold_db


def test_moving_one_is_one_step_of_undo_and_tells_what_it_moved(web: TestClient, demo: SimpleNamespace) -> None:
    made = gather(web, demo)
    path = f"lanes/lead/handles/{made}/value"
    steps = state(demo).steps
    for value in (0.7, 0.4, 0.0):
        told = edit(web, (path, value), gesture="g")
    assert {(f["path"], f["value"]) for f in told["followed"]} == {(PEAKS, -17.0), (LEVEL, -24.0)}
    assert thresholds(demo) == (-17.0, -24.0)
    assert state(demo).steps == steps + 1
    assert state(demo).undo_label == "Lead · Grip · 0 %"
    web.post(f"{SESSION}/undo")
    assert thresholds(demo) == (-27.0, -34.0)


def test_it_can_stand_otherwise_in_a_section(web: TestClient, demo: SimpleNamespace) -> None:
    made = gather(web, demo)
    edit(web, (f"lanes/lead/handles/{made}/value", 0.5), where="section:chorus")
    assert thresholds(demo) == (-27.0, -34.0)
    assert thresholds(demo, Where("chorus")) == (-22.0, -29.0)
    page = web.get(f"{SESSION}/lane/lead/body?where=section:chorus", headers={"accept": "text/html"}).text
    assert 'aria-valuetext="50 %"' in page


def test_what_it_sounds_like_is_what_its_settings_by_hand_sound_like(web: TestClient, demo: SimpleNamespace) -> None:
    made = gather(web, demo)
    edit(web, (f"lanes/lead/handles/{made}/value", 0.3))
    target = demo.studio.target(demo.studio.graph(state(demo)), "lane", "lead")
    by_handle = thresholds(demo)
    edit(web, (f"lanes/lead/handles/{made}/value", 0.9))
    edit(web, (PEAKS, by_handle[0]), (LEVEL, by_handle[1]))
    by_hand = demo.studio.target(demo.studio.graph(state(demo)), "lane", "lead")
    assert target == by_hand  # the same key of the same sound


def test_ranges_are_typed_turned_and_left_out(web: TestClient, demo: SimpleNamespace) -> None:
    made = gather(web, demo)

    def ranging(move: int, **what: Any) -> Any:
        return web.post(f"{SESSION}/handles/range", json={"path": "lead", "handle": made, "move": move, **what})

    def moves() -> list[tuple[float, float]]:
        return [(m.at_0, m.at_1) for m in state(demo).session.lane("lead").handles[0].moves]

    assert ranging(0, at_1="−30,5 dB").status_code == 200
    assert moves() == [(-17.0, -30.5), (-24.0, -34.0)]
    assert thresholds(demo) == (-30.5, -34.0)  # it stands at 100 %
    assert ranging(1, turn=True).status_code == 200
    assert thresholds(demo) == (-30.5, -24.0)
    assert ranging(1, drop=True).status_code == 200
    assert moves() == [(-17.0, -30.5)]
    for bad, words in (
        ({"at_0": "loud"}, "loud"),
        ({"at_0": "20 dB"}, "not between"),
        ({"at_0": "99999999"}, "1000000"),
    ):
        refused = ranging(0, **bad)
        assert refused.status_code == 422 and words in refused.json()["error"]
    assert ranging(7, turn=True).status_code == 404


def test_gathered_anew_it_moves_something_else_and_eight_are_the_most(web: TestClient, demo: SimpleNamespace) -> None:
    made = gather(web, demo)
    begun = web.get(f"{SESSION}/handles/position", params={"of": "lead"}).json()
    edit(web, ("lanes/lead/stages/split/branches/crush/blend_db", -6.0))
    assert web.post(f"{SESSION}/handles/gather", json={**begun, "into": made}).status_code == 200
    (handle,) = state(demo).session.lane("lead").handles
    assert [m.at for m in handle.moves] == ["stages/split/branches/crush/blend_db"]
    refused = web.post(f"{SESSION}/handles/gather", json={**begun, "position": {}})
    assert refused.status_code == 422 and "nothing to gather" in refused.json()["error"]
    for _ in range(7):
        assert web.post(f"{SESSION}/handles/gather", json=begun).status_code == 200
    refused = web.post(f"{SESSION}/handles/gather", json=begun)
    assert refused.status_code == 422 and "8 handles already" in refused.json()["error"]


def test_handles_of_a_stage_that_is_taken_out_say_so_and_come_back_with_it(
    web: TestClient, demo: SimpleNamespace
) -> None:
    made = gather(web, demo)
    web.post(f"{SESSION}/edits", json={"edits": [{"op": "remove", "path": "lanes/lead/stages/level"}]})
    page = web.get(f"{SESSION}/lane/lead/body", headers={"accept": "text/html"}).text
    assert "a setting that is gone" in page
    told = edit(web, (f"lanes/lead/handles/{made}/value", 0.0))
    assert [f["path"] for f in told["followed"]] == [PEAKS]


def test_chains_of_our_own_ship_with_handles_and_stay_deleted(tmp_path: Path) -> None:
    studio = Studio(tmp_path, owner=True)
    names = {k.name for k in studio.chains.all()}
    assert {"Clear and close", "Held forward", "Soft and deep", "Thin behind", "Crowd of voices", "Spoken"} <= names
    for one in ours():
        assert 3 <= len(one.chain.handles) <= 8 and one.made["measured"] and one.note
        for handle in one.chain.handles:
            for move in handle.moves:
                at: Any = json.loads(one.chain.model_dump_json())
                for part in move.at.split("/"):
                    at = at[int(part)] if part.isdecimal() else at[part]
                assert at == move.value(handle.value), (one.id, move.at)  # each stands where its handle does
    studio.chains.remove("ours-spoken")
    studio.close()
    again = Studio(tmp_path, owner=True)
    assert names - {k.name for k in again.chains.all()} == {"Spoken"}
    assert again.chains.restore("ours-spoken").name == "Spoken"
    again.close()


def test_chains_of_our_own_for_a_lead_leave_it_as_loud_as_it_came() -> None:
    """Louder would be taken for better, and quieter for worse."""
    clip = read_sound(TAKES / "lead.flac")
    came = integrated_lufs(clip.audio, clip.rate)
    for_lead = [one for one in ours() if one.made["path"] == "lead"]
    assert len(for_lead) == 4
    for one in for_lead:
        treated, _ = process(clip.audio, clip.rate, one.chain)
        assert abs(integrated_lufs(treated, clip.rate) - came) < 1.5, one.chain.name


@pytest.mark.parametrize("name", ["clear-and-close", "crowd-of-voices"])
def test_what_is_said_of_a_chain_of_our_own_is_what_is_measured(demo: SimpleNamespace, name: str) -> None:
    about = json.loads((FOLDER / "about.json").read_text())[name]
    kept = demo.studio.chains.keep(read_chain((FOLDER / f"{name}.chain.json").read_bytes()), name)
    after, left_out = put_on(demo.studio, state(demo), kept, [about["lane"]], "replace", ())
    assert left_out == []
    found = measured_of(demo.studio, after, after.session.lane(about["lane"]))
    assert [line["name"] for line in found] == [line["name"] for line in about["measured"]]
    for line, told in zip(found, about["measured"], strict=True):
        assert line["last"] == pytest.approx(told["last"], abs=0.1)
