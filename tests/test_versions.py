"""Snapshots, their lines, and the history, through the server and the store."""

from typing import Any

import httpx
import pytest

from miclane.core.errors import MicLaneError, UnknownPlaceError
from miclane.core.mix.edits import Insert, Remove, Set
from miclane.store.snapshots import SnapshotStore
from miclane.studio.studio import Studio

SESSION = "/s/salt-ferry"
THRESHOLD = "lanes/lead/stages/peaks/threshold_db"


@pytest.fixture
def web(demo):
    with httpx.Client(base_url=demo.address, timeout=60) as client:
        yield client


def state(demo) -> Any:
    return demo.studio.sessions.get("salt-ferry")


def post(web: httpx.Client, path: str, body: Any = None, status: int = 200) -> dict[str, Any]:
    answer = web.post(f"{SESSION}/{path}", json=body or {})
    assert answer.status_code == status, answer.text
    return answer.json()


def test_a_snapshot_is_taken_compared_and_taken_back_whole_as_one_step(web, demo) -> None:
    before = state(demo).session
    kept = post(web, "snapshots", {"name": "Rough", "note": "for the band"}, 201)
    edits = [Set(path=THRESHOLD, value=-40), Set(path="lanes/double/fader_db", value=-3)]
    edits += [Insert(path="lanes/lead/stages", index=2, value={"kind": "drive"}), Remove(path="lanes/pad")]
    demo.studio.edit("salt-ferry", edits)
    text = web.get(f"{SESSION}/work/lines?one=now&other={kept['id']}").text
    for words in ("<strong>Peaks</strong>: threshold", "−40.0 dB → ", "Drive", "taken out", "Pad", "put in"):
        assert words in text, words
    assert "data-take-line" not in web.get(f"{SESSION}/work/lines?one={kept['id']}&other=now").text
    told = post(web, f"snapshots/{kept['id']}/take", {"version": state(demo).version})
    assert state(demo).session == before and told["undo_label"] == "back to “Rough”" and state(demo).steps == 2
    assert "are alike" in web.get(f"{SESSION}/work/lines?one=now&other={kept['id']}").text
    demo.studio.sessions.undo("salt-ferry")
    assert state(demo).session != before
    page = web.get(f"{SESSION}/work").text
    assert "Rough" in page and "for the band" in page and page.count('class="step') >= 3


def test_one_line_is_taken_and_no_other(web, demo) -> None:
    kept = post(web, "snapshots", {"name": "Rough"}, 201)
    was = {x.id: x.fader_db for x in state(demo).session.lanes}
    demo.studio.edit("salt-ferry", [Set(path=f"lanes/{x}/fader_db", value=-20) for x in ("lead", "double")])
    body = {"path": "lanes/double/fader_db", "version": state(demo).version}
    post(web, f"snapshots/{kept['id']}/take", body)
    assert state(demo).session.lane("double").fader_db == was["double"]
    assert state(demo).session.lane("lead").fader_db == -20
    refused = post(web, f"snapshots/{kept['id']}/take", {**body, "version": state(demo).version}, 422)
    assert "does not differ" in refused["error"]


def test_snapshots_are_described_forgotten_and_printed_as_they_were(web, demo) -> None:
    kept = post(web, "snapshots", {"name": ""}, 201)
    assert kept["name"] == "Step 0"
    post(web, f"snapshots/{kept['id']}/describe", {"name": "First", "note": "n"})
    assert [(s.name, s.note) for s in demo.studio.snapshots.all("salt-ferry")] == [("First", "n")]
    demo.studio.edit("salt-ferry", [Set(path="lanes/lead/mute", value=True)])
    made = post(web, f"prints?snapshot={kept['id']}", {"targets": ["lane:lead"], "format": "ogg"}, 201)
    demo.app.state.printer.wait()
    row = demo.app.state.printer.row("salt-ferry", made["id"])
    assert row.state == "done" and "First" in row.files and '"of": "First"' in row.request
    page = web.get(f"{SESSION}/print?snapshot={kept['id']}").text
    assert f'name="snapshot" value="{kept["id"]}" checked' in page and 'name="snapshot" value="" checked' not in page
    post(web, f"snapshots/{kept['id']}/delete")
    assert not demo.studio.snapshots.all("salt-ferry")
    assert web.post(f"{SESSION}/snapshots/{kept['id']}/delete").status_code == 404
    with pytest.raises(UnknownPlaceError):
        demo.studio.snapshots.get("salt-ferry", "nothing")


def test_one_goes_back_to_any_step_and_forth_again(web, demo) -> None:
    for k in range(6):
        demo.studio.edit("salt-ferry", [Set(path="lanes/lead/fader_db", value=-float(k))])
    post(web, "steps/2")
    assert state(demo).session.lane("lead").fader_db == -1 and state(demo).ahead == 4
    post(web, "steps/6")
    assert state(demo).session.lane("lead").fader_db == -5
    post(web, "steps/0")
    assert state(demo).steps == 0
    assert "no step 9" in post(web, "steps/9", status=422)["error"]


def test_a_step_is_taken_back_alone_with_what_was_built_on_it(web, demo) -> None:
    drive = {"kind": "drive", "id": "dirt"}
    demo.studio.edit("salt-ferry", [Insert(path="lanes/lead/stages", index=2, value=drive)])
    demo.studio.edit("salt-ferry", [Set(path="lanes/double/fader_db", value=-3)])
    demo.studio.edit("salt-ferry", [Set(path="lanes/lead/stages/dirt/amount_db", value=9)])
    labels = web.get(f"{SESSION}/steps/1/built").json()["labels"]
    assert len(labels) == 1 and "Amount" in labels[0]
    assert web.get(f"{SESSION}/steps/2/built").json()["labels"] == []
    told = post(web, "steps/1/without")
    assert "dirt" not in {s.id for s in state(demo).session.lane("lead").stages}
    assert state(demo).session.lane("double").fader_db == -3 and told["undo_label"].startswith("without “Lead")
    demo.studio.sessions.undo("salt-ferry")
    assert "dirt" in {s.id for s in state(demo).session.lane("lead").stages}
    post(web, "steps/2/without")
    assert state(demo).session.lane("double").fader_db != -3
    with pytest.raises(MicLaneError, match="no step"):
        demo.studio.sessions.built_on("salt-ferry", 77)


def test_what_a_snapshot_needs_is_not_tidied_away(demo) -> None:
    from miclane.studio.upkeep import sounds_needed

    digest = state(demo).session.lane("pad").sound.digest
    demo.studio.snapshots.take(state(demo), "all")
    demo.studio.sessions.edit("salt-ferry", [Remove(path="lanes/pad")])
    with demo.studio.database.writing() as db:
        from sqlalchemy import delete

        from miclane.store.tables import StepRow

        db.execute(delete(StepRow))
        db.commit()
    assert digest in sounds_needed(demo.studio.database)


def test_snapshots_outlast_a_restart(tmp_path) -> None:
    from conftest import seeded

    studio = Studio(tmp_path)
    made = seeded(studio)
    studio.snapshots.take(made, "kept")
    studio.close()
    again = Studio(tmp_path)
    (kept,) = SnapshotStore(again.database).all(made.id)
    assert kept.session == made.session and kept.name == "kept"
    again.close()
