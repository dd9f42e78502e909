"""The server without a browser: who may talk to it, what it answers, and that nothing it is sent makes it fall."""

import json
import re
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import httpx
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import text

from conftest import RATE, noise, residue_db
from miclane.core.measure.loudness import integrated_lufs
from miclane.core.mix.edits import Set
from miclane.core.stages.flat import flat_stages
from miclane.store.database import Database
from miclane.store.sessions import SessionStore
from miclane.web.screens import bar
from test_audio import bad_files


@pytest.fixture
def web(demo: SimpleNamespace):
    with httpx.Client(base_url=demo.address, timeout=120) as client:
        yield client


def sound(web: httpx.Client, **query: object) -> np.ndarray:
    answer = web.get("/s/salt-ferry/sound", params={"lane": "lead", "start": 20 * RATE, "stop": 24 * RATE, **query})
    assert answer.status_code == 200, answer.text
    return np.frombuffer(answer.content, np.float32).reshape(2, -1)


def test_every_page_is_there_and_names_nothing_outside(web: httpx.Client, demo: SimpleNamespace) -> None:
    session = demo.session
    below = [address for nav in bar() if (address := nav.address(session, ""))]
    assert len(below) >= 4
    for page in ("/", "/s/salt-ferry", *(f"/s/salt-ferry/{address}" for address in below)):
        answer = web.get(page, headers={"accept": "text/html"})
        assert answer.status_code == 200
        assert "http://" not in answer.text.replace("http://www.w3.org", "")
        assert "https://" not in answer.text
        assert "style=" not in answer.text
    lost = web.get("/s/nowhere", headers={"accept": "text/html"})
    assert lost.status_code == 404
    assert "there is no session" in lost.text


def test_every_stage_has_its_bench(web: httpx.Client, demo: SimpleNamespace) -> None:
    stages = [s.id for s in flat_stages(demo.session.lane("lead").stages)]
    assert len(stages) > 8
    for stage in stages:
        answer = web.get(f"/s/salt-ferry/lane/lead/body?stage={stage}")
        assert answer.status_code == 200
        assert f'data-stage="{stage}"' in answer.text
        query = f"start={20 * RATE}&stop={24 * RATE}&first={20 * RATE}&last={24 * RATE}"
        assert web.get(f"/s/salt-ferry/lane/lead/picture/{stage}?{query}").status_code == 200


SPAN = f"first={20 * RATE}&last={25 * RATE}"


def test_the_report_shows_findings_their_answers_and_what_is_left(web: httpx.Client) -> None:
    page = web.get("/s/salt-ferry/lane/lead/report?again=true").text
    for finding in ("noise", "hum", "plosives", "ring-", "uneven"):
        assert f'data-finding="{finding}' in page
    assert "treated" in page
    assert "data-apply=" in page
    tone = web.get("/s/salt-ferry/lane/lead/report?tone=true").text
    assert 'data-finding="ring-' in tone
    assert 'data-finding="uneven' not in tone
    assert "Nothing to measure" in web.get("/s/salt-ferry/lane/bass/report").text


@pytest.mark.parametrize("of", ["loop", "phrase", "moment"])
def test_spectra_name_their_peaks_and_the_sung_note(of: str, web: httpx.Client) -> None:
    answer = web.get(f"/s/salt-ferry/lane/lead/spectrum/clean?{SPAN}&of={of}&at={round(21.3 * RATE)}")
    assert answer.status_code == 200
    assert 'id="eq-after"' in answer.text
    assert "its harmonics" in answer.text
    if of == "moment":  # an A4 is sung there
        assert re.search(r">A4 [+-]\d+c<", answer.text)
        assert re.search(r"Sung 4[34]\d\.\d Hz, A4", answer.text)


def test_dynamic_bands_tell_what_they_do(web: httpx.Client, demo: SimpleNamespace) -> None:
    before = web.get(f"/s/salt-ferry/lane/lead/motion/clean?{SPAN}").json()
    assert before["gains"] == []
    dynamic = {"threshold_db": -40, "change_db": -8}
    edit = {"op": "set", "path": "lanes/lead/stages/clean/bands/1/dynamic", "value": dynamic}
    assert web.post("/s/salt-ferry/edits", json={"edits": [edit]}).status_code == 200
    told = web.get(f"/s/salt-ferry/lane/lead/motion/clean?{SPAN}").json()
    assert told["bands"] == [1]
    assert -8.01 <= min(told["gains"][0]) < -1
    assert abs(len(told["gains"][0]) - 5 * told["points_per_s"]) <= 1
    assert abs(min(told["curves"][0][-1]) + 8) < 0.3
    assert max(map(abs, told["curves"][0][0])) < 0.01
    names = web.get(f"/s/salt-ferry/strip?lane=lead&start={20 * RATE}&stop={25 * RATE}").headers["x-rows"]
    assert "clean" in names.split(",")
    assert web.post("/s/salt-ferry/undo").status_code == 200


def test_trims_are_suggested_all_or_part_of_the_way_for_all_or_a_section(
    web: httpx.Client, demo: SimpleNamespace
) -> None:
    def trims() -> list[float]:
        return [p.trim_db for p in demo.studio.sessions.get("salt-ferry").session.lane("lead").phrases]

    lane = demo.studio.sessions.get("salt-ferry").session.lane("lead")
    raw = [demo.studio.takes.loudness(lane.sound, p.start, p.end, RATE) for p in lane.phrases]
    assert web.post("/s/salt-ferry/lane/lead/trims/trim", json={"share": 0.5}).status_code == 200
    assert all(abs(t - 0.5 * (-20 - v)) < 0.06 for t, v in zip(trims(), raw, strict=True))
    assert web.post("/s/salt-ferry/undo").status_code == 200
    assert web.post("/s/salt-ferry/lane/lead/trims/trim", json={"section": "chorus"}).status_code == 200
    assert [bool(t) for t in trims()] == [p.section == "chorus" for p in lane.phrases]
    assert web.post("/s/salt-ferry/undo").status_code == 200
    assert set(trims()) == {0.0}


def test_a_ride_is_drawn_anew_and_keeps_points_by_hand(web: httpx.Client, demo: SimpleNamespace) -> None:
    hand = {"time_s": 21.5, "gain_db": -2.0, "by_hand": True}
    ride = {"kind": "ride", "id": "ride", "points": [hand]}
    edit = {"op": "insert", "path": "lanes/lead/stages", "index": 1, "value": ride}
    assert web.post("/s/salt-ferry/edits", json={"edits": [edit]}).status_code == 200
    assert web.post("/s/salt-ferry/lane/lead/ride/ride").status_code == 200
    points = demo.studio.sessions.get("salt-ferry").session.lane("lead").stages[1].points
    assert len(points) > 40
    assert [p.model_dump() for p in points if p.by_hand] == [hand]
    for _ in range(2):
        assert web.post("/s/salt-ferry/undo").status_code == 200


def test_words_come_from_files_and_bad_ones_are_refused_by_line(web: httpx.Client, demo: SimpleNamespace) -> None:
    address = "/s/salt-ferry/lane/lead/words"
    vtt = b"WEBVTT\n\n00:05.000 --> 00:09.500\nAll <i>new</i>\nwords\n\n00:20.700 --> 00:25.200\nfor two\n"
    told = web.post(address, files={"file": ("song.vtt", vtt)}).json()
    assert told["phrases"] == 2
    lane = demo.studio.sessions.get("salt-ferry").session.lane("lead")
    assert [lane.phrases[k].words for k in (0, 3)] == ["All new words", "for two"]
    lrc = b"[ti:none]\n[00:05.02]First line\n[00:10.30]<00:10.3>Second <00:11.0>line\n[00:15.6]\n"
    assert web.post(address, files={"file": ("song.lrc", lrc)}).json()["phrases"] == 2
    assert demo.studio.sessions.get("salt-ferry").session.lane("lead").phrases[1].words == "Second line"
    for data, words in (
        (b"WEBVTT\n\n00:09.0 --> 00:05.0\nx", "line 3"),
        (b"hello", "no timed line"),
        (b"\xff\xfe", "UTF-8"),
    ):
        answer = web.post(address, files={"file": ("bad.vtt", data)})
        assert answer.status_code == 422
        assert words in answer.json()["error"]
        assert "bad.vtt" in answer.json()["error"]
    for _ in range(2):
        assert web.post("/s/salt-ferry/undo").status_code == 200


def test_phrases_found_again_keep_words_and_trims(web: httpx.Client, demo: SimpleNamespace) -> None:
    before = demo.studio.sessions.get("salt-ferry").session.lane("lead")
    gone = {"op": "remove", "path": f"lanes/lead/phrases/{before.phrases[2].id}"}
    trim = {"op": "set", "path": f"lanes/lead/phrases/{before.phrases[1].id}/trim_db", "value": 2.5}
    assert web.post("/s/salt-ferry/edits", json={"edits": [trim, gone]}).status_code == 200
    assert web.post("/s/salt-ferry/lane/lead/phrases").status_code == 200
    after = demo.studio.sessions.get("salt-ferry").session.lane("lead")
    assert [(p.start, p.end) for p in after.phrases] == [(p.start, p.end) for p in before.phrases]
    assert after.phrases[1].trim_db == 2.5
    assert after.phrases[1].words == before.phrases[1].words
    for _ in range(2):
        assert web.post("/s/salt-ferry/undo").status_code == 200


def test_phrases_that_overlap_are_refused_in_words(web: httpx.Client, demo: SimpleNamespace) -> None:
    lane = demo.studio.sessions.get("salt-ferry").session.lane("lead")
    edit = {"op": "set", "path": f"lanes/lead/phrases/{lane.phrases[1].id}/start", "value": lane.phrases[0].end - 10}
    answer = web.post("/s/salt-ferry/edits", json={"edits": [edit]})
    assert answer.status_code == 422
    assert "phrase 2 of “Lead” begins before the one before it ends" in answer.json()["error"]


def test_an_eq_edit_makes_up_the_level_in_the_same_step(web: httpx.Client, demo: SimpleNamespace) -> None:
    def eq():
        return next(s for s in demo.studio.sessions.get("salt-ferry").session.lane("lead").stages if s.id == "tone")

    before = eq().makeup_db
    edit = {"op": "set", "path": "lanes/lead/stages/tone/bands/0/gain_db", "value": 9.0}
    steps = web.post("/s/salt-ferry/edits", json={"edits": [edit]}).json()["steps"]
    assert eq().makeup_db < before - 1
    assert web.post("/s/salt-ferry/undo").json()["steps"] == steps - 1
    assert eq().makeup_db == before


def test_a_band_alone_is_heard_without_the_rest(web: httpx.Client) -> None:
    alone = sound(web, variant="band", stage="tone", band=1)
    power = np.abs(np.fft.rfft(alone[0])) ** 2
    f = np.fft.rfftfreq(alone.shape[1], 1 / RATE)
    assert power[f > 5000].sum() > 0.9 * power.sum()
    assert residue_db(sound(web, variant="band", stage="tone", band=1, hear="mix"), alone) < -200


def test_the_end_of_the_route_has_fader_pan_and_buses(web: httpx.Client) -> None:
    text = web.get("/s/salt-ferry/lane/high_harmony/body?stage=out").text
    for path in (
        "lanes/high_harmony/fader_db",
        "lanes/high_harmony/pan",
        "buses/backings/fader_db",
        "buses/mix/fader_db",
    ):
        assert f'data-path="{path}"' in text
    assert "R 35" in text


def test_sound_is_what_the_engine_renders(web: httpx.Client, demo: SimpleNamespace) -> None:
    heard = sound(web, hear="mix")
    exact = demo.studio.range(demo.studio.sessions.get("salt-ferry"), "mix", "lead", 20 * RATE, 24 * RATE).audio
    assert residue_db(heard, exact) < -130
    part = sound(web, hear="mix", start=21 * RATE, stop=22 * RATE, first=20 * RATE, last=24 * RATE)
    assert residue_db(part, exact[:, RATE : 2 * RATE]) < -130


def song(web: httpx.Client, start: int, stop: int, **query: object) -> np.ndarray:
    params = {"lane": "lead", "hear": "mix", "start": start, "stop": stop, **query}
    with web.stream("GET", "/s/salt-ferry/song", params=params) as answer:
        assert answer.status_code == 200
        return np.frombuffer(b"".join(answer.iter_bytes()), np.float32).reshape(-1, 2).T


def test_the_song_streams_from_anywhere_to_the_frame(web: httpx.Client) -> None:
    a, b = 11 * RATE + 77, 26 * RATE + 5
    streamed = song(web, a, b)
    assert streamed.shape == (2, b - a)
    rendered = sound(web, hear="mix", start=b - 4 * RATE, stop=b)
    assert residue_db(streamed[:, -4 * RATE :].astype(float), rendered) < -90
    assert residue_db(song(web, a, a + RATE).astype(float), streamed[:, :RATE]) < -120


def test_removed_of_the_song_is_untreated_less_treated(web: httpx.Client) -> None:
    a, b = 20 * RATE, 22 * RATE
    untreated, treated, removed = (song(web, a, b, variant=v) for v in ("untreated", "treated", "removed"))
    assert residue_db(removed.astype(float), (untreated - treated).astype(float)) < -120


def parts_of(content: bytes) -> list[tuple[dict[str, Any], np.ndarray]]:
    """What the parts of an answer tell, and their sound (2, frames)."""
    parts, at = [], 0
    while at < len(content):
        begins = at + 4 + int.from_bytes(content[at : at + 4], "little")
        told = json.loads(content[at + 4 : begins])
        at = begins + told["bytes"]
        parts.append((told, np.frombuffer(content[begins:at], np.float32).reshape(2, -1)))
    return parts


def test_an_edit_brings_the_new_sound_along(web: httpx.Client, demo: SimpleNamespace) -> None:
    demo.studio.renderer(RATE).states.shrink(0)  # nothing of before the edit is to sound on
    a, b = 20 * RATE, 28 * RATE
    listening = {"lane": "lead", "hear": "lane", "start": a + RATE, "stop": a + 2 * RATE, "first": a, "last": b}
    edits = [{"op": "set", "path": "lanes/lead/stages/peaks/threshold_db", "value": -31.5}]
    answer = web.post("/s/salt-ferry/edits", json={"edits": edits, "listening": listening})
    (ahead, came), (told, nothing) = parts_of(answer.content)
    assert told["version"] == ahead["version"] == web.get("/s/salt-ferry/version").json()["version"]
    assert "curves" in told and nothing.size == 0
    rendered = sound(web, start=a + RATE, stop=a + 2 * RATE)
    assert came.shape == rendered.shape
    assert residue_db(came.astype(float), rendered) < -50  # on a short run-in
    listening["stop"] = listening["start"] - 1
    answer = web.post("/s/salt-ferry/edits", json={"edits": edits, "listening": listening})
    ((told, nothing),) = parts_of(answer.content)
    assert told["version"] == ahead["version"] + 1 and nothing.size == 0
    web.post("/s/salt-ferry/undo")
    web.post("/s/salt-ferry/undo")


def heard_change(web: httpx.Client, value: float, base: int | None = None) -> list[tuple[dict[str, Any], np.ndarray]]:
    """The parts of the answer to an edit of a window that plays."""
    a, b = 20 * RATE, 28 * RATE
    listening = {"lane": "lead", "hear": "lane", "start": a + RATE, "stop": a + RATE + 9600, "first": a, "last": b}
    edits = [{"op": "set", "path": "lanes/lead/stages/peaks/threshold_db", "value": value}]
    answer = web.post("/s/salt-ferry/edits", json={"edits": edits, "base": base, "listening": listening})
    assert answer.status_code == 200
    return parts_of(answer.content)


def test_what_was_heard_ahead_is_told_to_be_refused_where_it_is_not_kept(web: httpx.Client, demo) -> None:
    first = heard_change(web, -30.5)[-1][0]["version"]
    beside = SessionStore(Database(demo.studio.sounds.folder.parent / "miclane.sqlite"))  # as another program would
    beside.edit("salt-ferry", [Set(path="lanes/lead/stages/peaks/threshold_db", value=-20.0)])
    (ahead, came), (told, _) = heard_change(web, -31.5, first)
    assert came.shape == (2, 9600) and ahead["version"] == first + 1
    assert told["refused"] == 409 and told["version"] == first + 1 and "another window" in told["error"]
    with beside.database.writing() as db:
        db.execute(text("create trigger full before update on sessions begin select raise(abort, 'full'); end"))
        db.commit()
    (_, came), (told, _) = heard_change(web, -32.5)
    assert came.shape == (2, 9600) and told["refused"] == 500 and told["error"]
    with beside.database.writing() as db:
        db.execute(text("drop trigger full"))
        db.commit()
    beside.database.close()
    assert web.get("/s/salt-ferry/version").json()["version"] == first + 1
    (ahead, _), (told, _) = heard_change(web, -33.5)
    assert "refused" not in told and told["version"] == ahead["version"] == first + 2


def test_an_edit_against_an_older_state_is_heard_once_it_is_kept(web: httpx.Client) -> None:
    first = heard_change(web, -30.5)[-1][0]["version"]
    web.post("/s/salt-ferry/edits", json={"edits": [{"op": "set", "path": "lanes/lead/note", "value": "x"}]})
    ((told, came),) = heard_change(web, -31.5, first)
    assert told["version"] == first + 2 and came.shape == (2, 9600)


@pytest.mark.parametrize("hear", ["lane", "vocals", "mix"])
def test_untreated_is_as_loud_as_treated_once_matched(web: httpx.Client, hear: str) -> None:
    query = {"lane": "lead", "hear": hear, "start": 20 * RATE, "stop": 26 * RATE, "first": 20 * RATE, "last": 26 * RATE}
    told = web.get("/s/salt-ferry/readings", params=query).json()
    treated, untreated = (
        sound(web, hear=hear, variant=v, stop=26 * RATE).astype(float) for v in ("treated", "untreated")
    )
    matched = untreated * 10 ** (told["match_db"] / 20)
    assert abs(integrated_lufs(matched, RATE) - integrated_lufs(treated, RATE)) < 0.3
    assert abs(told["lufs"] - integrated_lufs(treated, RATE)) < 0.05


def test_readings_say_what_every_station_does(web: httpx.Client) -> None:
    query = {"lane": "lead", "start": 20 * RATE, "stop": 26 * RATE, "first": 20 * RATE, "last": 26 * RATE}
    stations = web.get("/s/salt-ferry/readings", params=query).json()["stations"]
    assert stations["peaks"]["max_db"] > 3
    assert stations["crusher"]["median_db"] > stations["level"]["median_db"]
    assert abs(stations["clean"]["change_db"]) < 1.0  # its level is made up


def test_a_dynamic_strip_has_a_row_a_stage(web: httpx.Client) -> None:
    answer = web.get(f"/s/salt-ferry/strip?lane=lead&start={20 * RATE}&stop={26 * RATE}&columns=500")
    rows = answer.headers["x-rows"].split(",")
    table = np.frombuffer(answer.content, np.float32).reshape(len(rows), 500)
    assert rows[:4] == ["raw-low", "raw-high", "treated-low", "treated-high"]
    assert table[rows.index("crusher")].min() < -10
    assert table[1].max() > 0.3


def test_edits_answer_with_the_curve_and_clashes_with_409(web: httpx.Client) -> None:
    version = web.get("/s/salt-ferry/version").json()["version"]
    path = "lanes/double/stages/clean/bands/1/gain_db"
    body = {"edits": [{"op": "set", "path": path, "value": -4.5}], "base": version, "gesture": "g"}
    told = web.post("/s/salt-ferry/edits", json=body).json()
    assert told["version"] == version + 1
    assert told["curves"]["lanes/double/stages/clean"]["curve"].startswith("M")
    assert "Gain −4.5 dB" in told["undo_label"]
    clash = web.post("/s/salt-ferry/edits", json=body)
    assert clash.status_code == 409
    assert "another window" in clash.json()["error"]
    typed = web.post("/s/salt-ferry/typed", json={"path": path.replace("gain_db", "frequency_hz"), "text": "1.5k"})
    assert typed.json()["value"] == 1500
    nonsense = web.post("/s/salt-ferry/typed", json={"path": path, "text": "loud"})
    assert nonsense.status_code == 422
    assert "loud" in nonsense.json()["error"]
    for _ in range(2):
        web.post("/s/salt-ferry/undo")


@pytest.mark.parametrize("what", ["empty", "cut short", "text", "no channels", "many channels", "not a number", "long"])
def test_bad_files_are_refused_at_import_and_nothing_else_is_lost(what: str, web: httpx.Client, tmp_path: Path) -> None:
    made = web.post("/sessions", json={"name": "Import"}).json()["id"]
    bad = bad_files(tmp_path)[what]
    answer = web.post(f"/s/{made}/import", files={"file": (bad.name, bad.read_bytes())})
    assert answer.status_code == 422
    assert bad.name in answer.json()["error"]
    import soundfile

    soundfile.write(tmp_path / "good.wav", noise(0.5, 0.1, rate=44100)[0], 44100)
    good = web.post(f"/s/{made}/import", files={"file": ("good take.wav", (tmp_path / "good.wav").read_bytes())})
    assert good.status_code == 201
    assert good.json()["role"] == "lead"
    assert abs(good.json()["seconds"] - 0.5) < 0.001


REQUESTS = (
    "/s/salt-ferry/sound?lane=lead&start=0&stop=0",
    "/s/salt-ferry/sound?lane=lead&start=-1&stop=5",
    "/s/salt-ferry/sound?lane=ghost&start=0&stop=4800",
    "/s/salt-ferry/sound?lane=lead&start=0&stop=99999999999",
    "/s/salt-ferry/sound?lane=lead&start=x&stop=y",
    "/s/salt-ferry/sound?lane=lead&start=0&stop=4800&hear=drums",
    "/s/salt-ferry/lane/ghost",
    "/s/salt-ferry/lane/lead?stage=ghost",
    "/s/salt-ferry/space?return_id=ghost",
    "/s/salt-ferry/prints/ghost/0",
    "/s/salt-ferry/lane/lead/picture/ghost?start=0&stop=9&first=0&last=9",
    "/s/salt-ferry/lane/lead/spectrogram/ghost?start=0&stop=48000&first=0&last=48000",
    "/s/%00/lane/%ff",
    "/../etc/passwd",
    "/s/salt-ferry/raw?lane=lead&start=5&stop=5",
    "/s/salt-ferry/strip?lane=lead&start=0&stop=48000&columns=-3",
    "/s/salt-ferry/readings?lane=lead&start=0&stop=48000&first=90000&last=80000",
    "/s/salt-ferry/print/x",
)


@pytest.mark.parametrize("address", REQUESTS)
def test_bad_addresses_are_answered_in_words(address: str, web: httpx.Client) -> None:
    answer = web.get(address)
    assert answer.status_code < 500
    if answer.status_code >= 400:
        assert answer.json()["error"]


BODIES = (
    b"",
    b"{",
    b"[]",
    b'{"edits": 3}',
    b'{"edits": [{"op": "fly"}]}',
    b'{"edits": [{"op": "set", "path": "a/b"}]}',
    b'{"edits": [{"op": "set", "path": "name", "value": {"x": 1}}]}',
    b'{"targets": []}',
    b'{"targets": ["lane:ghost"]}',
    b'{"path": "name", "text": "1"}',
    b'{"name": ""}',
    b'{"name": "x", "rate": 12}',
    b"\xff\xfe\x00",
)


@pytest.mark.parametrize("body", BODIES)
@pytest.mark.parametrize(
    "address", ["/s/salt-ferry/edits", "/s/salt-ferry/prints", "/s/salt-ferry/typed", "/s/salt-ferry/import"]
)
def test_bad_bodies_are_refused_in_words(address: str, body: bytes, web: httpx.Client) -> None:
    answer = web.post(address, content=body, headers={"content-type": "application/json"})
    assert 400 <= answer.status_code < 500
    assert answer.json()["error"]


JSON = st.recursive(
    st.none() | st.booleans() | st.floats() | st.text(max_size=8) | st.integers(),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3),
    max_leaves=6,
)
PATHS = st.sampled_from(
    [
        "name",
        "lanes",
        "lanes/lead",
        "lanes/lead/stages",
        "lanes/lead/stages/clean/bands",
        "buses/mix/into",
        "lanes/0",
        "rate",
    ]
)


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.sampled_from(["set", "insert", "remove", "move"]), PATHS, JSON, st.integers(-3, 9))
def test_no_edit_makes_the_server_fall(web: httpx.Client, op: str, path: str, value: object, index: int) -> None:
    edit = (
        {"op": op, "path": path}
        | ({"value": value} if op in ("set", "insert") else {})
        | ({"index": index} if op in ("insert", "move") else {})
    )
    body = json.dumps({"edits": [edit]})
    answer = web.post("/s/salt-ferry/edits", content=body, headers={"content-type": "application/json"})
    assert answer.status_code < 500
    if answer.status_code == 200:
        assert web.post("/s/salt-ferry/undo").status_code == 200


def test_a_print_runs_reports_and_downloads(web: httpx.Client, demo: SimpleNamespace) -> None:
    started = web.post("/s/salt-ferry/prints", json={"targets": ["lane:double"], "format": "flac-16"})
    identifier = started.json()["id"]
    while f'data-print="{identifier}" data-state="done"' not in (page := web.get("/s/salt-ferry/prints").text):
        assert f'data-print="{identifier}" data-state="failed"' not in page
    answer = web.get(f"/s/salt-ferry/prints/{identifier}/0")
    assert answer.content[:4] == b"fLaC"
    assert "Salt%20Ferry%20-%20Double.flac" in answer.headers["content-disposition"]
    assert web.get(f"/s/salt-ferry/prints/{identifier}/7").status_code == 404


def test_a_band_that_listens_to_another_lane_is_drawn(web: httpx.Client) -> None:
    clean = "lanes/lead/stages/clean"
    edits = [
        {"op": "set", "path": f"{clean}/key", "value": {"lane": "double", "tap": "treated"}},
        {"op": "set", "path": f"{clean}/bands/1/dynamic", "value": {"keyed_by": "key", "threshold_db": -30}},
    ]
    answer = web.post("/s/salt-ferry/edits", json={"edits": edits})
    assert answer.status_code == 200
    assert answer.json()["curves"][clean]["pins"][1]["change_y"]
    assert web.post("/s/salt-ferry/edits", json={"edits": [{**edits[0], "value": None}]}).status_code == 422


def test_what_a_print_clips_is_counted_said_and_can_be_mended(web: httpx.Client, demo: SimpleNamespace) -> None:
    set_to(web, "buses/mix/fader_db", 12.0)
    first = printed(web, demo, "wav-16")
    assert first["clipped"] > 1000
    assert first["over_db"] > 1
    shown = web.get("/s/salt-ferry/prints", headers={"hx-request": "true"}).text
    assert f"{first['clipped']:,} samples over full scale were clipped" in shown
    assert printed(web, demo, "wav-32")["clipped"] == 0
    lower = re.search(r'data-turn-down="([^"]+)" data-value="([^"]+)"', shown)
    set_to(web, lower[1], float(lower[2]))
    assert printed(web, demo, "wav-16")["clipped"] == 0


def set_to(web: httpx.Client, path: str, value: float) -> None:
    answer = web.post("/s/salt-ferry/edits", json={"edits": [{"op": "set", "path": path, "value": value}]})
    assert answer.status_code == 200


def printed(web: httpx.Client, demo: SimpleNamespace, kind: str) -> dict:
    started = web.post("/s/salt-ferry/prints", json={"targets": ["mix"], "format": kind}).json()["id"]
    demo.app.state.printer.wait()
    return json.loads(demo.app.state.printer.row("salt-ferry", started).files)[0]


def test_a_cancelled_print_leaves_nothing(web: httpx.Client, demo: SimpleNamespace) -> None:
    identifier = web.post("/s/salt-ferry/prints", json={"targets": ["mix"]}).json()["id"]
    web.post(f"/s/salt-ferry/prints/{identifier}/cancel")
    while f'data-print="{identifier}" data-state="cancelled"' not in web.get("/s/salt-ferry/prints").text:
        pass
    assert not list((demo.studio.data / "prints" / identifier).glob("*"))


def test_a_finding_is_done_once_it_is_measured_to_be_solved_and_else_says_where(web: httpx.Client, demo) -> None:
    from miclane.core.mix.edits import EDITS
    from miclane.web.screens.take import raw_take, slips

    studio = demo.studio
    for _ in range(2):
        state = studio.sessions.get("salt-ferry")
        lane = state.session.lane("double")
        found = slips(studio, state, lane, raw_take(studio, state, lane), True, False)
        shown = web.get("/s/salt-ferry/lane/double/report?again=1", headers={"hx-request": "true"}).text
        assert shown.count('<span class="dim done">done</span>') == sum(s.better for s in found)
        left = [s for s in found if not s.better and not s.edits and s.finding.answers]
        assert shown.count("applied, and not enough:") == len(left)
        for slip in left:
            assert f"stage={slip.stage.id}" in shown
        for slip in found:
            if slip.edits:
                studio.sessions.edit("salt-ferry", EDITS.validate_python(slip.edits), None)
                break
    assert any(s.better for s in found)
