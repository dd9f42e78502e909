"""The newcomer's exercise: a stage kind, or a screen, is added by its own new files and nothing else."""

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import miclane

TREMOLO = '''
"""Tremolo: the level swells and falls with the song's time."""

from typing import ClassVar, Literal

import numpy as np

from ..readings import StageReading
from .base import Stage, rule, setting
from .processor import Processor


class TremoloProcessor(Processor):
    def __init__(self, s, rate):
        self.settings, self.rate, self.frame = s, rate, 0

    def start_at(self, frame):
        self.frame = frame

    def process(self, x, key=None):
        n = x.shape[1]
        turn = 2 * np.pi * self.settings.rate_hz * (self.frame + np.arange(n)) / self.rate
        self.frame += n
        self.gain_db = -self.settings.depth_db * 0.5 * (1 - np.cos(turn))
        return x * 10 ** (self.gain_db / 20)


class Tremolo(Stage):
    """Swells and falls."""

    title: ClassVar[str] = "Tremolo"
    summary: ClassVar[str] = "the level swells and falls"

    kind: Literal["tremolo"] = "tremolo"
    rate_hz: float = rule(4.0, "Rate", "Hz", 0.1, 20, scale="log", usual=(2, 6))
    depth_db: float = rule(6.0, "Depth of it", "dB", 0, 24, usual=(1, 6))
    wave: Literal["sine", "triangle"] = setting("sine", "Wave", group="How it moves")
    tied: bool = setting(True, "Tied to the song", group="How it moves")

    def says(self, reading: StageReading) -> str:
        return f"swells by {reading.reduction_max_db:.1f} dB"

    def build(self, rate, channels):
        return TremoloProcessor(self, rate)
'''
NOTES = '''
"""Notes: a screen for what one wants to remember."""

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse

from ..pages import page
from . import Nav
from .lane import page_data
from ..opened import Here

router = APIRouter()
NAV = Nav("notes", "Notes", 80, lambda session, lane: "notes")
SCRIPT = "notes"


@router.get("/s/{session_id}/notes", response_class=HTMLResponse)
def notes(request: Request, here: Here) -> HTMLResponse:
    studio, state = here
    return page(request, "notes.html", state, screen="notes", data=page_data(studio, state, "notes"))
'''
NOTES_PAGE = """{% extends "base.html" %}
{% block page %}<script type="application/json" id="page-data">{{ data|tojson }}</script>
<h1>Notes on {{ session.name }}</h1>{% endblock %}
"""
NOTES_SCRIPT = """import { register } from "./screens.js";
register("notes", { shown: () => (document.title = "Notes are shown") });
"""
BEGIN = """
import sys
from pathlib import Path
from typing import Any
import miclane.core.stages as stages
new = Path(sys.argv[1])
stages.__path__.append(str(new / "stages"))
"""
EXERCISE = (
    BEGIN
    + """
import json
import numpy as np
import soundfile
from starlette.testclient import TestClient
from miclane.core.mix.chain import schema
from miclane.core.warm import warm_up
from miclane.web.app import close_app, create_app
from miclane.core.printing import PrintRequest

told = {}
warmed = []
warm_up(lambda done, total, name: warmed.append(name))
told["warmed"] = "tremolo" in warmed
told["schema"] = "Depth of it" in json.dumps(schema("chain")) and '"tremolo"' in json.dumps(schema("session"))
app = create_app(new / "data", frozenset({"testserver"}))
web = TestClient(app)
name = web.post("/sessions", json={"name": "Sway"}).json()["id"]
soundfile.write(new / "lead.wav", 0.2 * np.sin(np.arange(48000 * 4) * 0.05), 48000)
lane = web.post(f"/s/{name}/import", files={"file": ("lead.wav", (new / "lead.wav").read_bytes())}).json()["lane"]
value = {"kind": "tremolo", "id": "t"}
edit = {"op": "insert", "path": f"lanes/{lane}/stages", "index": 0, "value": value}
told["inserted"] = web.post(f"/s/{name}/edits", json={"edits": [edit]}).status_code
bench = web.get(f"/s/{name}/lane/{lane}?stage=t", headers={"accept": "text/html"}).text
told["menu"] = '"Tremolo"' in bench and "the level swells and falls" in bench
told["fields"] = [f for f in ("Rate", "Depth of it", "Wave", "Tied to the song", "How it moves") if f not in bench]
told["bounds"] = 'data-path="lanes/' + lane + '/stages/t/depth_db"' in bench and 'data-high="24.0"' in bench
over = "start=0&stop=96000&first=0&last=96000"
readings = web.get(f"/s/{name}/readings?lane={lane}&{over}").json()["stations"]["t"]
told["reading"] = readings["says"]
told["picture"] = web.get(f"/s/{name}/lane/{lane}/picture/t?{over}", headers={"hx-request": "true"}).status_code
told["row"] = "t" in web.get(f"/s/{name}/strip?lane={lane}&start=0&stop=96000").headers["x-rows"].split(",")
typed = {"path": f"lanes/{lane}/stages/t/depth_db", "text": "12 dB"}
told["typed"] = web.post(f"/s/{name}/typed", json=typed).json()["value"]
told["undone"] = web.post(f"/s/{name}/undo").json()["redo_label"]
state = app.state.studio.sessions.get(name)
made = app.state.printer.start(state, PrintRequest(targets=(f"lane:{lane}",), format="wav-32"))
app.state.printer.wait()
path, _ = app.state.printer.file(name, made, 0)
sound, _ = soundfile.read(path)
level = np.abs(sound[:, 0][: 48000 * 4]).reshape(-1, 480).max(axis=1)
told["swells_db"] = float(20 * np.log10(level.max() / level.min()))
close_app(app)
print(json.dumps(told))
"""
)
SCREEN = (
    BEGIN
    + """
import json
from starlette.testclient import TestClient
import miclane.web.screens as screens
from miclane.web.app import close_app, create_app
from miclane.web.pages import templates
screens.__path__.append(str(new / "screens"))
templates.env.loader.searchpath.append(str(new / "templates"))
app = create_app(new / "data", frozenset({"testserver"}))
web = TestClient(app)
name = web.post("/sessions", json={"name": "Sway"}).json()["id"]
there = web.get(f"/s/{name}/notes", headers={"accept": "text/html"})
elsewhere = web.get(f"/s/{name}/map", headers={"accept": "text/html"}).text
told = [there.status_code, "Notes on Sway" in there.text, 'aria-current="page">Notes<' in there.text]
told += [f'href="/s/{name}/notes"' in elsewhere, "/static/js/notes.js" in there.text]
close_app(app)
print(json.dumps(told))
"""
)


def run(script: str, folder: Path) -> Any:
    """What a script says on its last line; what it logs (a slow answer, say) may stand before."""
    source = str(Path(miclane.__file__).parent.parent)
    done = subprocess.run(
        [sys.executable, "-W", "ignore", "-c", script, str(folder)],
        capture_output=True,
        text=True,
        env={**os.environ, "PYTHONPATH": source},
    )
    assert done.returncode == 0, done.stderr[-3000:]
    return json.loads(done.stdout.splitlines()[-1])


def test_a_new_kind_of_stage_is_one_new_module(tmp_path: Path) -> None:
    (tmp_path / "stages").mkdir()
    (tmp_path / "stages" / "tremolo.py").write_text(TREMOLO)
    told = run(EXERCISE, tmp_path)
    assert abs(told.pop("swells_db") - 6.0) < 0.2
    assert told == {
        "warmed": True,
        "schema": True,
        "inserted": 200,
        "menu": True,
        "fields": [],
        "bounds": True,
        "reading": "swells by 6.0 dB",
        "picture": 200,
        "row": True,
        "typed": 12.0,
        "undone": "Lead · Tremolo · Depth of it 12.0 dB",
    }


def test_a_new_screen_is_one_module_one_template_one_script(tmp_path: Path) -> None:
    for folder, name, text in (
        ("screens", "notes.py", NOTES),
        ("templates", "notes.html", NOTES_PAGE),
        ("scripts", "notes.js", NOTES_SCRIPT),
    ):
        (tmp_path / folder).mkdir()
        (tmp_path / folder / name).write_text(text)
    assert run(SCREEN, tmp_path) == [200, True, True, True, True]
