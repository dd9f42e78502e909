"""Prints of several states in one go, their report as page, table and data, time left, and a queue."""

import csv
import io
import json
import zipfile
from types import SimpleNamespace
from typing import Any

import pyloudnorm
import pytest
from starlette.testclient import TestClient

from miclane.core.audio import read_sound
from miclane.core.mix.edits import Set

SESSION = "/s/salt-ferry"


@pytest.fixture
def web(demo: SimpleNamespace) -> TestClient:
    return TestClient(demo.app, base_url="http://localhost", headers={"accept": "application/json"})


def printed(web: TestClient, demo: SimpleNamespace, snapshots: tuple[str, ...] = (), **body: Any) -> Any:
    address = f"{SESSION}/prints?" + "&".join(f"snapshot={s}" for s in snapshots)
    answer = web.post(address, json=body)
    assert answer.status_code == 201, answer.text
    printer = demo.app.state.printer
    printer.wait()
    row = printer.row("salt-ferry", answer.json()["id"])
    assert row.state == "done", row.message
    return row


def test_the_report_is_what_an_independent_meter_says_of_the_files(web: TestClient, demo: SimpleNamespace) -> None:
    row = printed(web, demo, targets=["mix", "lane:lead", "wet:double"], format="flac-24")
    told = web.get(f"{SESSION}/prints/{row.id}/report.json").json()
    assert told["format"] == "mic-lane/loudness-report" and told["song"] == "Salt Ferry"
    for k, file in enumerate(told["files"]):
        path, name = demo.app.state.printer.file("salt-ferry", row.id, k)
        clip = read_sound(path)
        meter = pyloudnorm.Meter(clip.rate)
        assert file["file"] == name
        assert file["lufs"] == pytest.approx(meter.integrated_loudness(clip.audio.T), abs=0.1)
        assert len(file["phrases"]) == 8
        for phrase in file["phrases"]:
            part = clip.audio[:, round(phrase["start_s"] * clip.rate) : round(phrase["end_s"] * clip.rate)]
            assert phrase["lufs"] == pytest.approx(meter.integrated_loudness(part.T), abs=0.1)
            assert phrase["true_peak_dbtp"] <= file["true_peak_dbtp"] + 0.01
    answer = web.get(f"{SESSION}/prints/{row.id}/report.csv")
    table = list(csv.DictReader(io.StringIO(answer.text)))
    assert len(table) == 3 * 9 and answer.headers["content-type"].startswith("text/csv")
    assert [float(line["lufs"]) for line in table if not line["phrase"]] == [f["lufs"] for f in told["files"]]
    page = web.get(f"{SESSION}/prints/{row.id}/report", headers={"accept": "text/html"}).text
    assert page.count('class="list loudness"') == 3 and "Salt ferry push through the black" in page


def test_snapshots_and_what_is_now_are_printed_in_one_go_under_their_names(
    web: TestClient, demo: SimpleNamespace
) -> None:
    studio = demo.studio
    kept = studio.snapshots.take(studio.sessions.get("salt-ferry"), "Dry")
    studio.edit("salt-ferry", [Set(path="lanes/lead/fader_db", value=-12.0)])
    row = printed(web, demo, ("", kept.id), targets=["lane:lead"], format="flac-16")
    now, dry = json.loads(row.files)
    assert [now["name"], dry["name"]] == ["Salt Ferry - Lead.flac", "Salt Ferry_ Dry - Lead.flac"]
    assert now["title"] == "Lead" and dry["title"] == "Lead, Dry"
    assert dry["lufs"] - now["lufs"] == pytest.approx(12.0, abs=0.05)
    named = printed(
        web, demo, ("", kept.id), targets=["lane:lead"], format="flac-16", naming="{snapshot} {name} {number}"
    )
    assert [f["name"] for f in json.loads(named.files)] == ["now Lead 01.flac", "Dry Lead 02.flac"]
    data = web.get(f"{SESSION}/prints/{named.id}/all.zip").content
    names = zipfile.ZipFile(io.BytesIO(data)).namelist()
    assert names == ["now Lead 01.flac", "Dry Lead 02.flac", "now Lead 01.vtt", "Dry Lead 02.vtt"]
    refused = web.post(f"{SESSION}/prints?snapshot={kept.id}", json={"targets": ["lane:nobody"]})
    assert refused.status_code == 422 and "in the snapshot “Dry” there is nothing called" in refused.json()["error"]


def test_what_is_turned_is_said_with_the_print(web: TestClient, demo: SimpleNamespace) -> None:
    row = printed(web, demo, targets=["mix"], format="wav-16", loudness_lufs=-14.0, ceiling_dbtp=-1.0)
    (file,) = json.loads(row.files)
    assert file["true_peak_dbtp"] == pytest.approx(-1.0, abs=0.05) and file["short_lu"] > 0.5
    page = web.get(f"{SESSION}/prints", headers={"accept": "text/html"}).text
    assert "nothing else; the peak stops it" in page
    refused = web.post(f"{SESSION}/prints", json={"targets": ["mix"], "naming": "{song}"})
    assert refused.status_code == 422 and "called alike" in refused.text


def test_several_wait_their_turn_and_one_that_waits_can_be_given_up(web: TestClient, demo: SimpleNamespace) -> None:
    printer = demo.app.state.printer
    ids = [web.post(f"{SESSION}/prints", json={"targets": ["mix"]}).json()["id"] for _ in range(3)]
    page = web.get(f"{SESSION}/prints", headers={"accept": "text/html"}).text
    assert page.count('data-state="waiting"') >= 2 - page.count('data-state="done"')
    assert "next" in page and "after 2 others" in page
    assert web.post(f"{SESSION}/prints/{ids[1]}/cancel").status_code == 200
    printer.wait()
    assert [printer.row("salt-ferry", i).state for i in ids] == ["done", "cancelled", "done"]
    assert web.get(f"{SESSION}/prints/{ids[1]}/report").status_code == 404
