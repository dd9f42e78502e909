"""Tuning through the server: notes found, cut, joined, as found again; the report's answer; until it is noticed."""

import re
from types import SimpleNamespace

import httpx
import numpy as np
import pytest

from conftest import RATE
from miclane.core.measure.against import against
from miclane.core.measure.key import key_of
from miclane.core.measure.thresholds import after
from miclane.core.stages.sway import Sway
from miclane.core.stages.tune import SungNote, Tune
from miclane.studio.tuning import beside_lead
from test_control_web import LANE, LOOP, put, stage_of
from test_web import web  # noqa: F401


def tune_of(demo: SimpleNamespace) -> Tune:
    return stage_of(demo, "lead", "tu")


@pytest.fixture
def tuned(web, demo) -> httpx.Client:  # noqa: F811
    put(web, "lanes/lead/stages", {"kind": "tune", "id": "tu"})
    assert web.post(f"{LANE}/lead/notes/tu").status_code == 200
    return web


def test_notes_are_found_and_what_is_set_by_hand_stays(tuned: httpx.Client, demo: SimpleNamespace) -> None:
    notes = tune_of(demo).notes
    assert len(notes) > 50 and sum(100 * abs(n.pitch - round(n.pitch)) > 30 for n in notes) >= 2
    flat = min(notes, key=lambda n: abs(n.start_s - 12.1))
    edit = {"op": "set", "path": f"lanes/lead/stages/tu/notes/{flat.id}/to", "value": 70.0}
    assert tuned.post("/s/salt-ferry/edits", json={"edits": [edit]}).status_code == 200
    version = demo.studio.sessions.get("salt-ferry").version
    assert tuned.post(f"{LANE}/lead/notes/tu").status_code == 200
    assert demo.studio.sessions.get("salt-ferry").version == version  # nothing new: no step
    assert next(n for n in tune_of(demo).notes if n.id == flat.id).to == 70.0
    picture = tuned.get(f"{LANE}/lead/picture/tu", params={**LOOP, "start": LOOP["first"], "stop": LOOP["last"]})
    assert picture.status_code == 200 and picture.text.count('class="note-bar') > 4
    assert tuned.post(f"{LANE}/lead/notes/tu", params={"clear": True}).status_code == 200
    assert not any(n.by_hand for n in tune_of(demo).notes)


def test_a_note_is_cut_joined_and_as_it_was_found(tuned: httpx.Client, demo: SimpleNamespace) -> None:
    before = tune_of(demo).notes
    k, note = next((k, n) for k, n in enumerate(before) if n.end_s - n.start_s > 0.6)
    middle = (note.start_s + note.end_s) / 2
    address = f"{LANE}/lead/notes/tu/{note.id}"
    assert tuned.post(address, params={"does": "cut", "at_s": middle}).status_code == 200
    cut = tune_of(demo).notes
    assert len(cut) == len(before) + 1
    assert [cut[k].end_s, cut[k + 1].start_s] == pytest.approx([middle, middle], abs=1e-3)
    assert cut[k].by_hand and len({n.id for n in cut}) == len(cut)
    assert tuned.post(address, params={"does": "join"}).status_code == 200
    joined = tune_of(demo).notes
    assert len(joined) == len(before) and joined[k].end_s == note.end_s
    assert joined[k].pitch == pytest.approx(note.pitch, abs=0.2)
    tuned.post(
        "/s/salt-ferry/edits",
        json={"edits": [{"op": "set", "path": f"lanes/lead/stages/tu/notes/{note.id}/off", "value": True}]},
    )
    assert tuned.post(address, params={"does": "found"}).status_code == 200
    assert not tune_of(demo).notes[k].off
    for asked, status in (({"does": "cut", "at_s": 0.0}, 422), ({"does": "sing"}, 404)):
        answer = tuned.post(address, params=asked)
        assert answer.status_code in (status, 404, 409, 422) and answer.json()["error"]
    assert tuned.post(f"{LANE}/lead/notes/tu/nowhere", params={"does": "join"}).status_code == 404
    assert tuned.post(f"{LANE}/lead/notes/peaks").status_code == 404
    for _ in range(4):
        tuned.post("/s/salt-ferry/undo")
    assert tune_of(demo).notes == before


def test_the_report_names_the_flat_notes_and_one_press_mends_them(web, demo) -> None:  # noqa: F811
    report = web.get(f"{LANE}/lead/report", params={"again": True, "only": "pitch"}).text
    assert "2 notes are out of tune" in report and "A4 −" in report and "G4 −" in report
    slip = demo.studio.sessions.get("salt-ferry")
    from miclane.core.findings.answers import answer_edits
    from miclane.core.findings.rules import find, measure_again

    lane = slip.session.lane("lead")
    finding = next(f for f in find(demo.studio.takes.raw(lane.sound, RATE)) if f.id == "pitch")
    state = demo.studio.edit("salt-ferry", answer_edits(lane, finding))
    graph = demo.studio.graph(state)
    treated = demo.studio.takes.treated(graph, state.session.lane("lead"), demo.studio.renderer(RATE))
    assert finding.value == 2 and measure_again(finding, treated) == 0
    assert not answer_edits(state.session.lane("lead"), finding)


def test_the_key_is_told_by_what_is_sung(demo: SimpleNamespace) -> None:
    state = demo.studio.sessions.get("salt-ferry")
    takes = [demo.studio.takes.raw(x.sound, RATE) for x in state.session.lanes if x.role != "music"]
    assert key_of(n for take in takes for n in take.notes) == "D minor"
    c_major = [
        SungNote(start_s=k, end_s=k + 0.9, pitch=60 + p) for k, p in enumerate((0, 4, 7, 12, 7, 5, 4, 2, 0, 0, 11, 12))
    ]
    assert key_of(c_major) == "C major"
    assert key_of([]) == "" and key_of(c_major[:3]) == ""


def test_a_press_turns_a_movement_until_it_is_just_noticed(web, demo) -> None:  # noqa: F811
    put(web, "lanes/lead/stages", {"kind": "sway", "id": "sw", "works": "flange", "mix": 0.0})
    answer = web.post(f"{LANE}/lead/noticed/sw", params=LOOP)
    assert answer.status_code == 200, answer.text
    sway = stage_of(demo, "lead", "sw")
    assert isinstance(sway, Sway) and 0.005 < sway.mix < 0.4
    assert web.post(f"{LANE}/lead/noticed/peaks", params=LOOP).status_code == 404
    picture = web.get(f"{LANE}/lead/picture/sw", params={**LOOP, "start": LOOP["first"], "stop": LOOP["last"]})
    assert (
        picture.status_code == 200
        and "A mono sum" not in picture.text
        and "mono sum is what each side is" in picture.text
    )
    assert (
        after(
            sway,
            demo.studio.sounds.reader(RATE)(
                demo.studio.sessions.get("salt-ferry").session.lane("lead").sound.digest, 0, RATE
            ),
            RATE,
        ).shape[1]
        == RATE
    )


def test_a_backing_stands_beside_the_lead_word_by_word(web, demo, truth) -> None:  # noqa: F811
    state = demo.studio.sessions.get("salt-ferry")
    for lane in state.session.lanes:
        if lane.role != "music":
            demo.studio.takes.raw(lane.sound, RATE)
    rows = {name: beside_lead(demo.studio, state, state.session.lane(name)) for name in ("double", "high_harmony")}
    starts = {
        name: {round(n["midi"]): n["start_s"] for n in phrase["notes"]}
        for name, phrase in (("lead", truth["lanes"]["lead"][0]), ("double", truth["lanes"]["double"][0]))
    }
    told = [w for phrase in rows["double"] for w in phrase if w.cents is not None]
    assert len(told) > 20 and all(w.interval == 0 for w in told)
    assert np.median([abs(w.cents) for w in told]) < 15
    late = [w.late_ms for w in told if w.late_ms is not None]
    assert abs(np.median(late)) < 15 and starts["lead"].keys() == starts["double"].keys()
    intervals = {w.interval for phrase in rows["high_harmony"] for w in phrase if w.interval is not None}
    assert intervals <= {3, 4, 5} and len(intervals) > 1
    assert beside_lead(demo.studio, state, state.session.lane("lead")) == []
    page = web.get(f"{LANE}/double", params={"stage": "take"}).text
    assert "Beside the lead" in page and page.count(" ms</span>") > 20


def test_how_late_and_how_far_off_a_note_is() -> None:
    lead = [SungNote(start_s=k, end_s=k + 0.8, pitch=60 + k) for k in range(4)]
    own = [SungNote(start_s=n.start_s + 0.04, end_s=n.end_s + 0.04, pitch=n.pitch + 4.2) for n in lead[:3]]
    own.append(SungNote(start_s=3.7, end_s=4.5, pitch=60.0))
    found = against(lead, own)
    assert [(b.late_ms, b.interval, b.cents) for b in found] == [(40.0, 4, 20.0)] * 3
    assert against([], own) == [] and against(lead, []) == []


def test_the_line_of_a_tame_begins_from_the_take_and_is_drawn(web, demo) -> None:  # noqa: F811
    put(web, "lanes/lead/stages", {"kind": "tame", "id": "ta"})
    assert web.post(f"{LANE}/lead/start/ta", params=LOOP).status_code == 200
    line = stage_of(demo, "lead", "ta").line
    assert any(470 < p.frequency_hz < 570 and p.by_db < -6 for p in line)  # the ring of the demo is at 523
    picture = web.get(f"{LANE}/lead/picture/ta", params={**LOOP, "start": LOOP["first"], "stop": LOOP["last"]})
    assert picture.status_code == 200 and picture.text.count('class="tame-point"') == len(line)
    assert "Most is taken at" in picture.text and 'class="tame-cell"' in picture.text
    low = [{"frequency_hz": 190, "by_db": -9}, {"frequency_hz": 9000, "by_db": -9}]
    edits = [{"op": "set", "path": f"lanes/lead/stages/ta/{name}", "value": value} for name, value in
             (("line", low), ("max_cut_db", 30), ("release_ms", 500))]  # fmt: skip
    assert web.post("/s/salt-ferry/edits", json={"edits": edits}).status_code == 200
    picture = web.get(f"{LANE}/lead/picture/ta", params={**LOOP, "start": LOOP["first"], "stop": LOOP["last"]}).text
    assert "the voice gets thin" in picture
    wrong = [{"op": "set", "path": "lanes/lead/stages/ta/line", "value": list(reversed(low))}]
    answer = web.post("/s/salt-ferry/edits", json={"edits": wrong})
    assert answer.status_code == 422 and "order of frequency" in answer.json()["error"]


def test_what_is_said_and_drawn_is_as_it_works_in_the_song(web, demo) -> None:  # noqa: F811
    """A note value lasts as long as the song's tempo makes it, and notes go to those of the song's key."""
    loop = {**LOOP, "start": LOOP["first"], "stop": LOOP["last"]}
    put(web, "lanes/lead/stages", {"kind": "sway", "id": "sw", "works": "tremolo", "note": "1/1"})
    assert "a turn in 2.61 s" in web.get(f"{LANE}/lead/picture/sw", params=loop).text  # at 92 beats a minute
    put(web, "lanes/lead/stages", {"kind": "tune", "id": "tu"})
    web.post(f"{LANE}/lead/notes/tu")
    web.post("/s/salt-ferry/edits", json={"edits": [{"op": "set", "path": "key", "value": "C E G"}]})
    says = web.get("/s/salt-ferry/readings", params={"lane": "lead", **loop}).json()["stations"]["tu"]["says"]
    moved = int(says.split()[0])
    assert moved > 30  # most of what is sung in D minor
    assert f"{moved} of {len(tune_of(demo).notes)} moved" in web.get(f"{LANE}/lead", params={"stage": "tu"}).text


def test_a_tame_with_a_key_begins_from_the_key_and_is_drawn_by_it(web, demo) -> None:  # noqa: F811
    """On the pad, by the lead: the ring of the lead is where the line dips, and what is taken is where it rings."""
    put(web, "lanes/pad/stages", {"kind": "tame", "id": "ta", "key": {"lane": "lead", "tap": "raw"}})
    put(web, "lanes/lead/stages", {"kind": "tame", "id": "own"})
    for lane, stage in (("pad", "ta"), ("lead", "own")):
        assert web.post(f"{LANE}/{lane}/start/{stage}", params=LOOP).status_code == 200
    line = stage_of(demo, "pad", "ta").line
    assert line == stage_of(demo, "lead", "own").line  # which is the first of the lead, and hears the take
    put(web, "lanes/pad/stages", {"kind": "tame", "id": "tb", "line": [p.model_dump() for p in line]})
    loop = {**LOOP, "start": LOOP["first"], "stop": LOOP["last"]}
    keyed, alone = (web.get(f"{LANE}/pad/picture/{stage}", params=loop).text for stage in ("ta", "tb"))
    assert 'class="tame-cell"' in keyed and keyed.count("tame-cell") != alone.count("tame-cell")
    assert re.findall(r'tame-line" d="[^"]*"', keyed) == re.findall(r'tame-line" d="[^"]*"', alone)
    benches = [web.get(f"{LANE}/pad", params={"stage": stage}).text for stage in ("ta", "tb")]
    assert ["Begin from what it listens to" in b for b in benches] == [True, False]
    assert "Begin from this take" in benches[1]
