"""Bypass of a stage, a branch, a chain, all vocals, everything: what is heard, and as loud as with it."""

from types import SimpleNamespace

import numpy as np
import pytest
from starlette.testclient import TestClient

from conftest import RATE, db
from miclane.core.measure.loudness import integrated_lufs
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Edit, Set, apply
from miclane.core.stages.split import Split
from miclane.studio.graphs import CHAIN, EVERYTHING, VOCALS

FIRST, LAST = 960_000, 1_440_000
SOUND = f"/s/salt-ferry/sound?start={FIRST}&stop={LAST}"


@pytest.fixture
def web(demo: SimpleNamespace) -> TestClient:
    return TestClient(demo.app, base_url="http://localhost", headers={"accept": "application/json"})


def heard(web: TestClient, scope: str, hear: str, lane: str = "lead") -> tuple[np.ndarray, float]:
    """The sound with a scope bypassed, and what it is to be turned by."""
    side = f"&variant=bypassed&stage={scope}" if scope else ""
    answer = web.get(f"{SOUND}&lane={lane}&hear={hear}{side}&match=true")
    assert answer.status_code == 200, answer.text
    flat = np.frombuffer(answer.content, np.float32).reshape(2, -1).astype(float)
    return flat, float(answer.headers["x-match"])


def off(session: Session, scope: str) -> Session:
    """The same by hand: every stage of the scope switched off."""

    def stages(lane: str) -> list[Edit]:
        return [Set(path=f"lanes/{lane}/stages/{s.id}/on", value=False) for s in session.lane(lane).stages]

    edits: list[Edit] = []
    if scope == "peaks":
        edits = [Set(path="lanes/lead/stages/peaks/on", value=False)]
    elif scope == "branch:crush":
        edits = [Set(path="lanes/lead/stages/split/branches/crush/on", value=False)]
    elif scope == CHAIN:
        edits = stages("lead")
    elif scope == VOCALS:
        edits = [e for x in session.lanes if x.role != "music" for e in stages(x.id)]
    else:
        edits = [e for x in session.lanes for e in stages(x.id)]
        edits += [Set(path=f"buses/{b.id}/stages/{s.id}/on", value=False) for b in session.buses for s in b.stages]
        edits += [Set(path=f"returns/{r.id}/mute", value=True) for r in session.returns]
    return apply(session, edits).session


@pytest.mark.parametrize("scope", ["peaks", "branch:crush", CHAIN, VOCALS, EVERYTHING])
def test_what_is_bypassed_is_what_switching_it_off_would_give_and_as_loud_as_before(
    web: TestClient, demo: SimpleNamespace, scope: str
) -> None:
    session = demo.studio.sessions.get("salt-ferry").session
    assert any(isinstance(s, Split) for s in session.lane("lead").stages)
    treated, none = heard(web, "", "mix")
    without, by = heard(web, scope, "mix")
    assert none == 0.0
    expected = demo.studio.mix_of(off(session, scope), FIRST, LAST)
    assert db(np.abs(without - expected).max()) < -100
    assert db(np.abs(without - treated).max()) > -60  # it does something
    loud = [integrated_lufs(x, RATE) for x in (treated, without * 10 ** (by / 20))]
    assert loud[1] == pytest.approx(loud[0], abs=0.05)


def test_an_alternative_comes_with_what_makes_it_as_loud_as_what_is_beneath(
    web: TestClient, demo: SimpleNamespace
) -> None:
    made = web.post("/s/salt-ferry/alternatives", json={"scope": "", "under": ""}).json()["id"]
    edit = {"op": "set", "path": "lanes/lead/fader_db", "value": 5.0}
    web.post("/s/salt-ferry/edits", json={"edits": [edit], "alternative": made})
    beneath, _ = heard(web, "", "mix")
    answer = web.get(f"{SOUND}&lane=lead&hear=mix&alternative={made}&match=true")
    flat = np.frombuffer(answer.content, np.float32).reshape(2, -1).astype(float)
    by = float(answer.headers["x-match"])
    assert by < -0.5
    levels = web.get(f"/s/salt-ferry/alternatives/levels?first={FIRST}&last={LAST}&hear=mix").json()
    assert levels[made]["gain_db"] == pytest.approx(by, abs=0.01) and levels[""]["gain_db"] == 0
    turned = integrated_lufs(flat * 10 ** (by / 20), RATE)
    assert turned == pytest.approx(integrated_lufs(beneath, RATE), abs=0.05)


def test_nothing_is_turned_where_one_of_them_is_silent(web: TestClient, demo: SimpleNamespace) -> None:
    edit = {"op": "set", "path": "lanes/lead/stages/trim/gain_db", "value": -36.0}
    mute = {"op": "set", "path": "lanes/lead/fader_db", "value": -60.0}
    assert web.post("/s/salt-ferry/edits", json={"edits": [edit, mute]}).status_code == 200
    _, by = heard(web, CHAIN, "lane")
    assert abs(by) <= 30
    answer = web.get(f"{SOUND}&lane=nobody&hear=lane&variant=bypassed&stage={CHAIN}&match=true")
    assert answer.status_code == 404 and "nobody" in answer.json()["error"]
