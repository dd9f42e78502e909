"""Alternatives and blind tests through the server: what a page is told gives nobody away."""

from collections import Counter
from typing import Any

import httpx
import numpy as np
import pytest

from conftest import RATE
from miclane.core.errors import MicLaneError, UnknownPlaceError
from miclane.core.measure.loudness import integrated_lufs
from miclane.core.mix.sections import SONG
from miclane.studio.blind import _CHANCE, Blind, Run

SESSION = "/s/salt-ferry"
THRESHOLD = "lanes/lead/stages/peaks/threshold_db"
LOOP = {"first": 21 * RATE, "last": 24 * RATE}


@pytest.fixture
def web(demo):
    with httpx.Client(base_url=demo.address, timeout=120) as client:
        yield client


def post(web: httpx.Client, path: str, body: Any = None, status: int = 200) -> Any:
    answer = web.post(f"{SESSION}/{path}", json=body or {})
    assert answer.status_code == status, answer.text
    return answer.json()


def louder(web: httpx.Client) -> str:
    """An alternative with the lead pressed hard and 3 dB up."""
    made = post(web, "alternatives", {"scope": "lanes/lead"}, 201)["id"]
    edits = [{"op": "set", "path": THRESHOLD, "value": -40}, {"op": "set", "path": "lanes/lead/fader_db", "value": 3}]
    post(web, "edits", {"edits": edits, "alternative": made})
    return made


def state(demo) -> Any:
    return demo.studio.sessions.get("salt-ferry")


def test_an_alternative_is_edited_shown_heard_kept_and_dropped(web, demo) -> None:
    made = louder(web)
    base, seen = state(demo).session, state(demo).seen(SONG, made).session
    assert base.lane("lead").fader_db == 0 and seen.lane("lead").fader_db == 3
    assert state(demo).undo_label.startswith("B · Lead")
    (told,) = web.get(f"{SESSION}/alternatives").json()
    assert told["name"] == "B" and any("fader 0.0 dB → +3.0 dB" in x["text"] for x in told["lines"])
    page = web.get(f"{SESSION}/lane/lead/body?stage=peaks&alternative={made}").text
    assert 'aria-valuenow="-40.0"' in page and '"whose": "A"' in page
    sounds = [
        web.get(f"{SESSION}/sound?lane=lead&hear=mix&start={LOOP['first']}&stop={LOOP['last']}{more}").content
        for more in ("", f"&alternative={made}")
    ]
    assert len(sounds[0]) == len(sounds[1]) and sounds[0] != sounds[1]
    levels = web.get(f"{SESSION}/alternatives/levels?first={LOOP['first']}&last={LOOP['last']}&hear=mix").json()
    for side, flat in zip(("", made), sounds, strict=True):
        audio = np.frombuffer(flat, np.float32).reshape(2, -1).astype(float)
        assert integrated_lufs(audio, RATE) == pytest.approx(levels[side]["lufs"], abs=0.02)
    post(web, f"alternatives/{made}/put", {"path": "lanes/lead/fader_db"})
    assert state(demo).session.lane("lead").fader_db == 3
    post(web, f"alternatives/{made}/keep")
    assert state(demo).session.lanes == state(demo).seen(SONG).session.lanes and not state(demo).session.alternatives
    assert next(s for s in state(demo).session.lane("lead").stages if s.id == "peaks").threshold_db == -40
    demo.studio.sessions.undo("salt-ferry")
    post(web, f"alternatives/{made}/name", {"name": "Hard"})
    post(web, f"alternatives/{made}/drop")
    assert state(demo).undo_label == "alternative Hard dropped"
    assert web.get(f"{SESSION}/lane/lead?alternative=nothing").status_code == 404


def test_a_blind_test_tells_nothing_until_it_is_over(web, demo) -> None:
    made = louder(web)
    run = post(web, "blind", {"question": "which", "sides": ["", made], **LOOP}, 201)
    assert set(run) == {"id", "question", "heard", "trial"} and run["heard"][-1] == "X" and len(run["heard"]) == 3
    assert made not in str(run) and "B" not in run["heard"]
    inside = demo.app.state.blind.run("salt-ferry", run["id"])
    right = 0
    for trial in range(1, 11):
        got = {x: web.get(f"{SESSION}/blind/{run['id']}/{trial}/{x}") for x in run["heard"]}
        assert len({len(a.content) for a in got.values()}) == 1
        assert len({a.content for a in got.values()}) == 3, "no two of them are the same bytes"
        bare = [{k: v for k, v in a.headers.items() if k not in ("date", "x-request-id")} for a in got.values()]
        assert bare[0] == bare[1] == bare[2]
        loud = [
            integrated_lufs(np.frombuffer(a.content, np.float32).reshape(2, -1).astype(float), RATE)
            for a in got.values()
        ]
        assert max(loud) - min(loud) < 0.05
        letter = run["heard"][trial % 2]
        right += inside.order[inside.letters.index(letter)] == inside.hidden
        told = post(web, f"blind/{run['id']}/answer", {"letter": letter})
        assert set(told) == set(run) and told["trial"] == trial + 1
    end = post(web, f"blind/{run['id']}/finish")
    assert end["right"] == right and end["trials"] == 10 and end["words"].startswith(f"{right} of 10:")
    assert set(end["letters"].values()) == {"A", "B"} and any("fader" in x for x in end["lines"][1])
    assert post(web, f"blind/{run['id']}/finish", status=404)["error"].startswith("this test is over")
    text = web.get(f"{SESSION}/work").text
    assert end["words"] in text and "A against B" in text


def test_letters_order_and_x_are_uniform() -> None:
    """Chi-squared at one in a thousand, over 3,000 trials of each question."""
    for question, sides in (("which", 2), ("prefer", 3)):
        seen: Counter[Any] = Counter()
        hidden: Counter[int] = Counter()
        for _ in range(3000 if question == "which" else 1):
            run = Run(
                "r", "s", question, 0, 1, ["n"] * sides, [[]] * sides, [np.zeros((2, 1))] * sides,
                list("KLM"[:sides]),
            )  # fmt: skip
            run.order = _CHANCE.sample(range(sides), sides)
            for _ in range(1 if question == "which" else 3000):
                run.next_trial()
                seen[tuple(run.order)] += 1
                hidden[run.hidden] += 1
        for counted, kinds, limit in (
            (seen, (2, 6)[sides == 3], (10.8, 20.5)[sides == 3]),
            (hidden, sides, (10.8, 13.8)[sides == 3]),
        ):
            wanted = 3000 / kinds
            assert len(counted) == kinds
            assert sum((n - wanted) ** 2 / wanted for n in counted.values()) < limit


def test_what_cannot_be_asked_is_refused_in_words(web, demo) -> None:
    for body, words in (
        ({"question": "which", "sides": ["", "", ""]}, "each of them once"),
        ({"question": "prefer", "sides": [""]}, "two to eight"),
        ({"question": "prefer", "sides": ["", "nothing"]}, "no alternative"),
        ({"question": "prefer", "sides": list("abcdefgh"), "first": 0, "last": 40 * RATE}, "a loop of up to 30 s"),
    ):
        answer = web.post(f"{SESSION}/blind", json={**LOOP, **body})
        assert answer.status_code in (404, 422) and words in answer.json()["error"]
    blind = Blind(demo.studio)
    run = blind.begin(state(demo), "prefer", ["", "untreated"], (LOOP["first"], LOOP["last"]), "mix", "lead")
    with pytest.raises(UnknownPlaceError):
        run.answer("X")
    with pytest.raises(UnknownPlaceError):
        blind.run("another", run.id)
    silent = {"op": "set", "path": "buses/mix/fader_db", "value": -60}
    made = post(web, "alternatives", {}, 201)["id"]
    post(web, "edits", {"edits": [silent], "alternative": made})
    with pytest.raises(MicLaneError, match="silent"):
        blind.begin(state(demo), "which", ["", made], (LOOP["first"], LOOP["last"]), "mix", "lead")
