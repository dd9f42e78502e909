"""Sections that differ, as the pages ask for them: edits of what is seen somewhere, lists, and what follows."""

import json
from typing import Any

import httpx
import numpy as np
import pytest

from conftest import RATE
from miclane.core.engine.builder import Builder
from miclane.core.errors import UnusableChainError
from miclane.core.mix.edits import Insert, Remove, Set
from miclane.core.mix.sections import Where
from miclane.studio.room import rooms

SESSION = "/s/salt-ferry"
GAIN = "lanes/lead/stages/clean/bands/2/gain_db"
CHORUS = Where(section="chorus")


@pytest.fixture
def web(demo):
    with httpx.Client(base_url=demo.address, timeout=60) as client:
        yield client


def state(demo):
    return demo.studio.sessions.get("salt-ferry")


def edit(web: httpx.Client, path: str, value: Any, where: str = "section:chorus", **more: Any) -> dict[str, Any]:
    body = {"edits": [{"op": "set", "path": path, "value": value}], "where": where, **more}
    answer = web.post(f"{SESSION}/edits", json=body)
    assert answer.status_code == 200, answer.text
    return answer.json()


def test_an_edit_of_what_is_seen_in_a_section_is_kept_there(web, demo) -> None:
    told = edit(web, GAIN, -2.0)
    song = state(demo).song
    assert song.lane("lead").stages[1].bands[2].gain_db == pytest.approx(-8.2)
    seen = state(demo).seen(CHORUS).session
    assert seen.lane("lead").stages[1].bands[2].gain_db == -2.0
    (makeup,) = told[
        "followed"
    ]  # what follows from it is of the section as well, and told by the path that it has there
    assert makeup["path"] == "lanes/lead/stages/clean/makeup_db"
    assert seen.lane("lead").stages[1].makeup_db == makeup["value"] != song.lane("lead").stages[1].makeup_db
    assert told["undo_label"].startswith("chorus · Lead · Clean EQ")
    assert "lanes/lead/stages/clean" in told["curves"]
    assert web.post(f"{SESSION}/undo").json()["version"] and not state(demo).song.local_values


def test_a_drag_in_a_section_is_one_step(web, demo) -> None:
    for value in (-1.0, -2.0, -3.0):
        edit(web, "lanes/lead/fader_db", value, gesture="drag")
    assert state(demo).steps == 1
    assert [x.value for x in state(demo).song.local_values] == [-3.0]
    edit(web, "lanes/lead/fader_db", -6.0, where="")
    assert state(demo).song.lane("lead").fader_db == -6 and state(demo).seen(CHORUS).session.lane("lead").fader_db == -3


def test_numbers_are_typed_there_and_refused_there(web, demo) -> None:
    answer = web.post(f"{SESSION}/typed", json={"path": GAIN, "text": "−3,5 dB", "where": "section:chorus"})
    assert answer.json()["value"] == -3.5
    assert state(demo).seen(CHORUS).session.lane("lead").stages[1].bands[2].gain_db == -3.5
    answer = web.post(f"{SESSION}/typed", json={"path": GAIN, "text": "99", "where": "section:chorus"})
    assert answer.status_code == 422 and "30" in answer.json()["error"]
    body = {"edits": [{"op": "set", "path": "lanes/lead/fader_db", "value": 99}], "where": "section:chorus"}
    assert web.post(f"{SESSION}/edits", json=body).status_code == 422
    body = {"edits": [{"op": "set", "path": "lanes/lead/stages", "value": []}], "where": "section:chorus"}
    refused = web.post(f"{SESSION}/edits", json=body)
    assert refused.status_code == 422 and "whole song" in refused.json()["error"]


def test_what_makes_the_song_impossible_there_is_refused_in_words(demo) -> None:
    sessions = demo.studio.sessions
    edges = [{"op": "set", "path": "lanes/lead/stages/peaks/key_low_cut_hz", "value": 2000}]
    demo.studio.edit("salt-ferry", [Set.model_validate(e) for e in edges], where=CHORUS)
    before = sessions.get("salt-ferry").session
    wrong = Insert(
        path="local_values", index=0, value={"id": "v", "path": "lanes/lead/name", "value": "x", "section": "chorus"}
    )
    with pytest.raises(UnusableChainError, match="chorus"):
        sessions.edit("salt-ferry", [wrong], None)
    assert sessions.get("salt-ferry").session == before


def test_what_is_taken_away_takes_its_local_values_along_and_undo_brings_them_back(demo) -> None:
    studio = demo.studio
    studio.edit("salt-ferry", [Set(path=GAIN, value=-2.0)], where=CHORUS)
    kept = state(demo).song.local_values
    studio.edit("salt-ferry", [Remove(path="lanes/lead/stages/clean")])
    assert not [x for x in state(demo).song.local_values if "clean" in x.path]
    assert state(demo).song.local_values != kept
    studio.sessions.undo("salt-ferry")
    assert state(demo).song.local_values == kept


def test_the_bench_shows_the_section_and_the_songs_value_beside(web, demo) -> None:
    edit(web, GAIN, -2.0)
    page = web.get(f"{SESSION}/lane/lead/body?stage=clean&band=2").text
    assert f'aria-valuenow="-8.2" aria-valuetext="−8.2 dB" data-path="{GAIN}"' in page
    there = web.get(f"{SESSION}/lane/lead/body?stage=clean&band=2&where=section:chorus").text
    assert f'aria-valuenow="-2.0" aria-valuetext="−2.0 dB" data-path="{GAIN}"' in there
    assert '"whose": "song"' in there and '"whose": "chorus"' in page
    assert 'class="otherwise"' in page
    assert web.get(f"{SESSION}/lane/lead?where=nonsense").status_code == 200


def test_all_differences_are_listed_with_throws_and_trims(web, demo) -> None:
    assert "alike over the whole song" in web.get(f"{SESSION}/differences").text
    edit(web, "lanes/lead/mute", True)
    phrase = state(demo).song.lane("lead").phrases[1].id
    edit(web, "lanes/lead/sends/plate/level_db", -3.0, where=f"phrases:lead:{phrase}")
    edit(web, f"lanes/lead/phrases/{phrase}/trim_db", 2.0, where="section:chorus")  # has its own place: for the song
    throw = {"id": "t1", "start_s": 3, "end_s": 4, "level_db": -2}
    demo.studio.edit("salt-ferry", [Insert(path="lanes/lead/sends/plate/throws", index=0, value=throw)])
    edit(web, "lanes/lead/pan", 0.5, where="section:bridge")
    text = web.get(f"{SESSION}/differences").text
    for words in ("Lead · mute", "Send to Plate", "Throw to Plate", "Lead · Trim", "is not in the song any more"):
        assert words in text, words
    assert text.count("data-visit") == 4
    data = web.get(f"{SESSION}/lane/lead").text.split('id="page-data">')[1].split("</script>")[0]
    (line,) = json.loads(data)["levels"]
    assert line["label"] == "to Plate" and [s["value"] for s in line["stretches"]] == [-3.0]


def test_a_loop_in_the_chorus_sounds_and_measures_as_the_chorus_is_set(demo) -> None:
    studio, plain = demo.studio, state(demo)
    phrase = plain.song.lane("lead").phrases[3]
    first, last = phrase.start, phrase.start + 2 * RATE
    before = studio.range(plain, "mix", "", first, last).audio
    studio.edit("salt-ferry", [Set(path="lanes/lead/fader_db", value=-30.0)], where=CHORUS)
    now = state(demo)
    found = studio.range(now, "mix", "", first, last)
    there = studio.range(now.seen(CHORUS), "mix", "", first, last).audio
    assert np.array_equal(found.audio, there) and not np.array_equal(found.audio, before)
    verse = plain.song.lane("lead").phrases[0]
    outside = [studio.range(x, "mix", "", verse.start, verse.start + RATE).audio for x in (plain, now)]
    assert np.array_equal(*outside)
    levels = {r.bus.id: r.lufs for r in rooms(studio, now, first, last)}
    assert levels["lead"] < -40 < {r.bus.id: r.lufs for r in rooms(studio, plain, first, last)}["lead"]
    assert dict(next(r for r in rooms(studio, now, first, last) if r.bus.id == "music").brings)
    heard = studio.preview(now, "mix", "", first, first + RATE, (first, last))
    assert np.abs(heard - found.audio[:, :RATE]).max() < 1e-4
    assert len(Builder(now.song).build().variants) == 2


def test_room_and_levels_of_a_loop_over_a_border(web, demo) -> None:
    edit(web, "lanes/double/mute", True)
    lead = state(demo).song.lane("lead")
    first, last = lead.phrases[2].start, lead.phrases[3].end
    levels = web.get(f"{SESSION}/levels?start={first}&stop={last}").json()
    assert levels["bus:mix"] > -40 and levels["lane:lead"] > -40
    for address in (
        f"{SESSION}/fit/room?first={first}&last={last}",
        f"{SESSION}/readings?lane=lead&hear=mix&start={first}&stop={last}&first={first}&last={last}",
    ):
        assert web.get(address).status_code == 200
