"""Chains that are kept: under names, searched, tried, put on lanes, as files."""

import json
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
import soundfile
from starlette.testclient import TestClient

from conftest import seeded
from miclane.core.findings.rules import low_cut_hz
from miclane.core.mix.chain import read_chain
from miclane.core.mix.edits import Set
from miclane.core.mix.paths import find_path
from miclane.demo.seed import SONG
from miclane.store.tables import ChainRow
from miclane.studio.anew import anew
from miclane.studio.beginnings import start_edits
from miclane.studio.importing import import_sound
from miclane.studio.studio import Studio
from miclane.studio.upkeep import find_faults, sounds_needed
from program import miclane

SESSION = "/s/salt-ferry"


@pytest.fixture
def web(demo: SimpleNamespace) -> TestClient:
    for kept in demo.studio.chains.all():
        demo.studio.chains.remove(kept.id)
    return TestClient(demo.app, base_url="http://localhost", headers={"accept": "application/json"})


def keep(web: TestClient, **body: Any) -> str:
    answer = web.post(f"{SESSION}/chains", json={"path": "lead", "name": "Close", **body})
    assert answer.status_code == 201, answer.text
    return str(answer.json()["id"])


def stages(demo: SimpleNamespace, lane: str) -> list:
    return list(demo.studio.sessions.get("salt-ferry").session.lane(lane).stages)


def test_a_chain_is_kept_with_what_it_did_found_by_words_and_shown(web: TestClient, demo: SimpleNamespace) -> None:
    made = keep(web, tags=["alto", "slow, close"], note="for the ferry")
    kept = demo.studio.chains.get(made)
    assert [s.label for s in kept.chain.stages] == [s.label for s in stages(demo, "lead")]
    assert kept.tags == ("alto", "slow close")
    measured = {line["name"]: line for line in kept.made["measured"]}
    assert measured["Phrases apart"]["first"] == pytest.approx(11.1, abs=0.1)
    assert measured["Phrases apart"]["last"] < 4
    keep(web, path="return:plate", name="Plate")
    keep(web, path="lead", name="Just peaks", stages=["peaks"])
    page = web.get(f"{SESSION}/chains?to=double").text
    assert page.count('class="chain"') == 3
    assert "Phrases apart" in page and "11.1 LU" in page
    assert '<option value="double" selected' in page
    for words, names in (("ferry", ["Close"]), ("ALTO de-ess", ["Close"]), ("reverb", ["Plate"]), ("zzz", [])):
        found = web.get(f"{SESSION}/chains/body", params={"words": words}).text
        assert [n for n in ("Close", "Plate", "Just peaks") if f'aria-label="{n}"' in found] == names
    assert "No chain has all of these words" in found


def test_it_is_put_in_the_place_of_what_is_there_in_one_step_and_remembers_what_it_keeps(web, demo) -> None:
    made = keep(web)
    steps = demo.studio.sessions.get("salt-ferry").steps
    body = {"to": ["double", "low_harmony"], "how": "replace", "keeps": ["thresholds"]}
    answer = web.post(f"{SESSION}/chains/{made}/put", json=body)
    assert answer.status_code == 200 and answer.json()["left_out"] == []
    for lane in ("double", "low_harmony"):
        assert [s.kind for s in stages(demo, lane)] == [s.kind for s in stages(demo, "lead")]
        assert next(s for s in stages(demo, lane) if s.kind == "deess").threshold_db == -17  # what was there
        assert not {s.id for s in stages(demo, lane)} & {s.id for s in stages(demo, "lead")}
    assert demo.studio.sessions.get("salt-ferry").steps == steps + 1
    assert demo.studio.chains.get(made).keeps == ("stages/*/threshold_db",)
    web.post(f"{SESSION}/undo")
    assert [s.kind for s in stages(demo, "double")] == ["eq", "deess", "compressor"]


def test_it_is_tried_as_an_alternative_that_can_be_kept_or_dropped(web, demo) -> None:
    made = keep(web)
    before = stages(demo, "double")
    answer = web.post(f"{SESSION}/chains/{made}/try", json={"to": ["double"]})
    assert answer.status_code == 201, answer.text
    tried = answer.json()["id"]
    state = demo.studio.sessions.get("salt-ferry")
    assert stages(demo, "double") == before
    assert [a.name for a in state.song.alternatives] == ["Close"]
    from miclane.core.mix.sections import SONG

    seen = state.seen(SONG, tried).session.lane("double")
    assert [s.kind for s in seen.stages] == [s.kind for s in stages(demo, "lead")]
    web.post(f"{SESSION}/alternatives/{tried}/keep", json={})
    assert [s.kind for s in stages(demo, "double")] == [s.kind for s in stages(demo, "lead")]


def test_files_go_out_and_come_back_and_what_is_none_is_refused_with_its_place(web, demo) -> None:
    made = keep(web, name="Nähe & Luft")
    file = web.get(f"/chains/{made}/file")
    assert "N%C3%A4he" in file.headers["content-disposition"]
    chain = read_chain(file.content)
    assert chain.name == "Nähe & Luft" and len(chain.stages) == len(stages(demo, "lead"))
    back = web.post("/chains/file", files={"file": ("x.chain.json", file.content)})
    assert back.status_code == 201
    assert demo.studio.chains.get(back.json()["id"]).chain.stages == chain.stages
    count = len(demo.studio.chains.all())
    wrong = json.loads(file.content)
    wrong["stages"][1]["colour"] = "red"
    newer = json.loads(file.content) | {"version": 99}
    for text, says in (
        (json.dumps(wrong), "stages[1].colour: no such field"),
        (json.dumps(newer), "version 99"),
        ("{nonsense", "not JSON"),
        ('{"format": "mic-lane/chain", "version": 2, "stages": []}', "no stage"),
    ):
        answer = web.post("/chains/file", files={"file": ("bad.json", text)})
        assert answer.status_code == 422 and says in answer.json()["error"], answer.text
    assert len(demo.studio.chains.all()) == count


def test_chains_are_renamed_copied_deleted_and_brought_back_and_outlive_the_program(web, demo, tmp_path) -> None:
    made = keep(web)
    web.post(f"/chains/{made}/describe", json={"name": "Near", "note": "n", "tags": ["a", "b"]})
    twin = web.post(f"/chains/{made}/copy").json()["id"]
    web.post(f"/chains/{made}/delete")
    assert [k.name for k in demo.studio.chains.all()] == ["Near copy"]
    assert web.post(f"{SESSION}/chains/{made}/put", json={"to": ["double"]}).status_code == 404
    web.post(f"/chains/{made}/restore")
    assert {k.name for k in demo.studio.chains.all()} == {"Near", "Near copy"}
    again = Studio(demo.studio.data)
    assert again.chains.get(twin).chain == demo.studio.chains.get(twin).chain
    assert again.chains.named("Near").tags == ("a", "b")
    again.database.close()


HELD = ("makeup_db", "gain_db", "auto_makeup", "threshold_db", "ceiling_dbtp")
FIVE = ("lead", "double", "high_harmony", "low_harmony", "far")  # the last is the low harmony, 14 dB down


@pytest.fixture
def five(demo: SimpleNamespace, tmp_path: Path) -> SimpleNamespace:
    sung, rate = soundfile.read(SONG / "low_harmony.flac")
    soundfile.write(tmp_path / "far.wav", 0.2 * sung, rate, "FLOAT")
    import_sound(demo.studio, "salt-ferry", tmp_path / "far.wav", "far.wav", "backing")
    stages = [s.model_dump(mode="json") for s in stages_of(demo, "low_harmony")]
    demo.studio.edit("salt-ferry", [Set(path="lanes/far/stages", value=stages)])
    return demo


def stages_of(demo: SimpleNamespace, lane: str) -> list:
    return list(demo.studio.sessions.get("salt-ferry").session.lane(lane).stages)


def test_a_swap_on_five_takes_changes_all_but_what_it_is_to_keep(web: TestClient, five: SimpleNamespace) -> None:
    made = keep(web, stages=["clean", "deess", "level", "ceiling"])
    before = {lane: stages_of(five, lane) for lane in FIVE}
    body = {"to": list(FIVE), "keeps": ["levels", "thresholds", "ceilings"]}
    assert web.post(f"{SESSION}/chains/{made}/put", json=body).json()["left_out"] == []
    kept = five.studio.chains.get(made).chain.stages
    table = []
    for lane in FIVE:
        for new, model in zip(stages_of(five, lane), kept, strict=True):
            was = next((s for s in before[lane] if s.kind == new.kind), None)
            for field in type(new).model_fields:
                if field in ("id", "key", "bands"):
                    continue
                held = was is not None and field in (
                    "makeup_db",
                    "gain_db",
                    "auto_makeup",
                    "threshold_db",
                    "ceiling_dbtp",
                )
                wanted = getattr(was if held else model, field)
                if not (new.kind == "eq" and field == "makeup_db"):  # found by ear for its own take
                    assert getattr(new, field) == wanted, (lane, new.label, field)
                if was is not None and getattr(was, field) != getattr(new, field):
                    table.append((lane, new.label, field, getattr(was, field), getattr(new, field)))
    assert {lane for lane, *_ in table} >= {"double", "high_harmony", "low_harmony", "far"}
    assert not {field for _, _, field, *_ in table} & {"threshold_db", "ceiling_dbtp", "gain_db"}


@pytest.mark.parametrize("lane", FIVE)
def test_what_depends_on_the_take_is_offered_as_begin_from_the_take_would_give_it(web, five, lane: str) -> None:
    demo = five
    made = keep(web)
    web.post(f"{SESSION}/chains/{made}/put", json={"to": [lane]})
    studio = demo.studio
    state = studio.sessions.get("salt-ferry")
    found = anew(studio, state, lane)
    assert found.edits and any("threshold" in line.text for line in found.lines)
    shown = web.get(f"{SESSION}/chains/anew", params={"to": lane}).text
    assert "Set it so" in shown and shown.count("difference-line") == len(found.lines)
    assert studio.sessions.get("salt-ferry").version == state.version  # only offered
    body = {"edits": [e.model_dump(mode="json") for e in found.edits]}
    assert web.post(f"{SESSION}/edits", json=body).status_code == 200
    after = studio.sessions.get("salt-ferry")
    path = find_path(after.session, lane)
    for stage in path.member.stages:
        if stage.kind == "compressor":
            for edit in start_edits(studio, after, path, stage.id, (0, 0), "natural"):
                name = edit.path.rsplit("/", 1)[1]
                assert getattr(stage, name) == pytest.approx(edit.value, abs=0.2), (stage.name, name)
    cut = next(b for s in path.member.stages if s.kind == "eq" for b in s.bands if b.shape == "low_cut")
    take = studio.takes.raw(path.sound, 48000)
    assert cut.frequency_hz == low_cut_hz(take, path.lane.role)
    assert web.get(f"{SESSION}/chains/anew", params={"to": "return:plate"}).status_code == 404


def test_one_that_cannot_be_read_is_named_and_hides_no_other(web, demo) -> None:
    good, bad = keep(web, name="Good"), keep(web, name="Bad")
    with demo.studio.database.writing() as db:
        row = db.get(ChainRow, bad)
        row.document = row.document.replace('"ratio"', '"ration"')
        db.commit()
    assert [k.id for k in demo.studio.chains.all()] == [good]
    assert "the chain “Bad”" in web.get(f"{SESSION}/chains").text
    assert any("the chain “Bad”" in fault.words for fault in find_faults(demo.studio))
    answer = web.post(f"{SESSION}/chains/{bad}/put", json={"to": ["double"]})
    assert answer.status_code == 422 and "no such field" in answer.json()["error"]
    with demo.studio.database.writing() as db:
        db.delete(db.get(ChainRow, bad))
        db.commit()


def test_the_impulse_in_a_chain_that_is_kept_is_not_swept_away(studio: Studio) -> None:
    sound = studio.sounds.add(SONG / "pad.flac", "place.flac", 48000)
    text = json.dumps({"kind": "impulse", "response": sound.digest})
    chain = read_chain(f'{{"format": "mic-lane/chain", "version": 2, "name": "Place", "stages": [{text}]}}')
    assert sound.digest not in sounds_needed(studio.database)
    studio.chains.keep(chain, "Place")
    assert sound.digest in sounds_needed(studio.database)
    studio.close()


def test_what_makes_no_sense_is_said_in_words(web, demo) -> None:
    made = keep(web)
    for path, body, says in (
        (f"{SESSION}/chains/{made}/put", {"to": []}, "say where it goes"),
        (f"{SESSION}/chains/{made}/put", {"to": ["nobody"]}, "nobody"),
        (f"{SESSION}/chains/{made}/put", {"to": ["double"], "keeps": ["colour"]}, "cannot keep"),
        (f"{SESSION}/chains/nothing/put", {"to": ["double"]}, "no chain"),
        (f"{SESSION}/chains", {"path": "pad", "name": "Empty"}, "no stage"),
    ):
        answer = web.post(path, json=body)
        assert answer.status_code in (404, 422) and says in answer.json()["error"], answer.text


def test_the_command_line_lists_shows_keeps_and_puts_them(tmp_path) -> None:
    studio = Studio(tmp_path / "data")
    seeded(studio)
    studio.close()
    where = ("--data", str(tmp_path / "data"))
    done = miclane("chain", "save", "Salt Ferry", "--from", "lead", "--name", "Close", "--tag", "alto", *where)
    assert done.returncode == 0, done.stderr
    listed = miclane("chains", *where).stdout
    assert "Close [alto]: Trim, Clean EQ, De-ess" in listed
    assert miclane("chains", "nothing", *where).stdout == ""
    shown = miclane("chain", "show", "Close", *where).stdout
    (tmp_path / "close.json").write_text(shown)
    assert read_chain(shown).name == "Close"
    assert miclane("chain", "save", tmp_path / "close.json", "--name", "Twin", *where).returncode == 0
    put = ("chain", "apply", "Twin", "Salt Ferry", "--to", "double", "--to", "return:plate", "--keep", "thresholds")
    done = miclane(*put, *where)
    assert done.returncode == 0, done.stderr
    assert "left out: Plate, Trim" in done.stdout
    studio = Studio(tmp_path / "data")
    state = studio.sessions.get("salt-ferry")
    assert state.steps == 1 and state.session.lane("double").stages[0].kind == "trim"
    studio.close()
    for wrong, says in (
        (("chain", "show", "Nobody", *where), "no chain called"),
        (("chain", "save", "Nowhere", *where), "no session"),
        (("chain", "apply", "Twin", "Salt Ferry", "--to", "nobody", *where), "nobody"),
        (("chains", "--data", str(tmp_path / "none")), "no such data folder"),
    ):
        done = miclane(*wrong)
        assert done.returncode == 2 and says in done.stderr and done.stderr.count("\n") == 1, done.stderr
