"""The settings sheet: every setting in words and units, what is otherwise where, as page, table, data and on paper."""

import csv
import io
import re
import zlib
from types import SimpleNamespace

import pytest
from playwright.sync_api import expect
from starlette.testclient import TestClient

from miclane.core.mix.edits import Insert, Set
from miclane.core.mix.sections import Where
from miclane.core.stages.base import Stage
from miclane.studio.sheet import sheet_of

SESSION = "/s/salt-ferry"


@pytest.fixture
def web(demo: SimpleNamespace) -> TestClient:
    return TestClient(demo.app, base_url="http://localhost", headers={"accept": "application/json"})


def test_every_stage_of_the_lead_stands_on_it_with_its_settings_and_what_it_did(web: TestClient, demo) -> None:
    demo.studio.edit(
        "salt-ferry", [Set(path="lanes/lead/stages/peaks/threshold_db", value=-21.5)], where=Where("chorus")
    )
    told = web.get(f"{SESSION}/sheet.json").json()
    assert told["format"] == "mic-lane/settings-sheet" and told["song"] == "Salt Ferry"
    assert [p["path"] for p in told["paths"]][-1] == "bus:mix" and len(told["paths"]) == 14
    lead = told["paths"][0]
    assert lead["routing"] == {
        "Take": "lead.flac", "Fader": "0.0 dB", "Pan": "C", "To": "Lead bus", "Send to Plate": "−9.0 dB",
    }  # fmt: skip
    stages = {(s["number"], s["name"]): s for s in lead["stages"]}
    peaks = stages["4", "Peaks"]
    assert peaks["settings"]["Threshold"] == "−17.0 dB" and peaks["settings"]["Attack"] == "1.2 ms"
    assert re.fullmatch(r"turns down \d+\.\d dB half of the time, \d+\.\d dB at most", peaks["did"])
    assert stages["6.1", "Crush"]["branch"] == "Crush"
    plate = next(p for p in told["paths"] if p["path"] == "return:plate")
    assert [s["did"][:10] for s in plate["stages"] if s["kind"] == "duck"] == ["turns down"]
    assert [(p["name"], p["settings"]) for p in stages["2", "Clean EQ"]["parts"]][:2] == [
        ("1 low cut", {"Frequency": "118 Hz", "Slope": "24 dB/octave", "Target": "stereo"}),
        ("2 bell", {"Frequency": "262 Hz", "Gain": "−3.4 dB", "Width": "0.90 Q", "Target": "stereo"}),
    ]
    assert lead["differences"] == [
        {"where": "chorus", "what": "Lead · Peaks · Threshold", "there": "−21.5 dB", "in_the_song": "−17.0 dB"}
    ]
    table = list(csv.DictReader(io.StringIO(web.get(f"{SESSION}/sheet.csv").text)))
    assert [x["value"] for x in table if (x["path"], x["stage"], x["setting"]) == ("lead", "Peaks", "Ratio")] == [
        "4.0 :1"
    ]
    assert [line["where"] for line in table if line["where"]] == ["chorus"]


def test_any_kind_of_stage_is_told_in_words(demo) -> None:
    studio, kinds = demo.studio, sorted(Stage.kinds)
    for kind in kinds:
        cls = Stage.kinds[kind]
        target = "returns/plate/stages" if cls.for_returns else "lanes/double/stages"
        studio.edit("salt-ferry", [Insert(path=target, index=0, value={"kind": kind, "id": f"x-{kind}"})])
    sheets = {s.path.name: s for s in sheet_of(studio.sessions.get("salt-ferry").song)}
    told = {
        s.stage.kind: s for name in ("double", "return:plate") for s in sheets[name].stages if s.stage.id[:2] == "x-"
    }
    assert sorted(told) == kinds
    for kind, sheet in told.items():
        words = [line for lines in (sheet.lines, *(row for _, row in sheet.rows)) for line in lines]
        assert words or kind in ("trim", "ride", "split", "eq", "multiband"), kind
        assert all(line.name and line.value and "_" not in line.name + line.value for line in words), (kind, words)


@pytest.mark.browser
def test_on_paper_each_lane_begins_a_page_and_night_is_no_ink(at, demo) -> None:
    page = at(f"{SESSION}/sheet")
    page.emulate_media(color_scheme="dark")
    page.wait_for_function("() => document.body.dataset.measured === '1'", timeout=120_000)
    expect(page.locator('[data-sheet="lead"] [data-did="peaks"]')).to_contain_text("turns down")
    expect(page.locator(".sheet-curve").first).to_be_visible()
    page.emulate_media(media="print", color_scheme="dark")
    for part in (".top", "#foot"):
        expect(page.locator(part)).to_be_hidden()
    ink = page.evaluate("() => getComputedStyle(document.querySelector('.sheet-head h1')).color")
    assert ink == "rgb(17, 17, 17)"
    pdf = page.pdf(prefer_css_page_size=True)
    sizes = {(float(w), float(h)) for w, h in re.findall(rb"/MediaBox \[0 0 ([\d.]+) ([\d.]+)\]", pdf)}
    assert all(abs(w - 595) < 2 and abs(h - 842) < 2 for w, h in sizes) and sizes  # A4
    pages = len(re.findall(rb"/Type /Page\b", pdf))
    assert pages == 9  # eight lanes, the first beneath the heading, then returns and buses
    assert any(b"Tj" in zlib.decompress(s) or b"TJ" in zlib.decompress(s) for s in _streams(pdf))  # text, not pictures


def _streams(pdf: bytes) -> list[bytes]:
    return [s for s in re.findall(rb"stream\r?\n(.*?)\r?\nendstream", pdf, re.S) if s[:1] == b"x"]
