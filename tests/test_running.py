"""The program as it is run: started, stopped, killed, on folders that are full, damaged, in use or not there."""

import json
import re
import resource
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import numpy as np
import pytest
import soundfile
from jinja2 import DictLoader, Environment

from conftest import RATE, noise
from miclane.core.errors import CancelledError
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Set
from miclane.serving import _between
from miclane.store.database import KEPT_BACKUPS, Database
from miclane.studio.studio import Studio
from miclane.web.pages import Compiled
from program import miclane


def filled(folder: Path, seconds: float = 2.0) -> Path:
    """A data folder with a session “Song” of one lane."""
    studio = Studio(folder, owner=True)
    soundfile.write(folder / "t.wav", noise(seconds, 0.1)[0], RATE)
    sound = studio.sounds.add(folder / "t.wav", "t.wav", RATE)
    (folder / "t.wav").unlink()
    lane = {"id": "lead", "name": "Lead", "sound": sound}
    studio.sessions.create(Session.model_validate({"name": "Song", "lanes": [lane]}), "song")
    studio.close()
    return folder


@contextmanager
def served(folder: Path) -> Iterator[tuple[subprocess.Popen[str], httpx.Client]]:
    call = [sys.executable, "-m", "miclane.cli", "serve", "--data", str(folder), "--port", "18700"]
    server = subprocess.Popen(call, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert server.stdout is not None
    try:
        line = server.stdout.readline()
        address = re.search(r"http://\S+", line)
        assert address, line + (server.stderr.read() if server.stderr else "")
        with httpx.Client(base_url=address[0], timeout=60) as web:
            yield server, web
    finally:
        if server.poll() is None:
            server.kill()
        server.wait()


def stopped(server: subprocess.Popen[str], how: signal.Signals = signal.SIGINT) -> str:
    """What the server says on standard error until it has ended."""
    server.send_signal(how)
    _, said = server.communicate(timeout=120)
    return said


def one_line(done: subprocess.CompletedProcess[str]) -> str:
    assert done.returncode == 2, done.stderr
    lines = done.stderr.strip().splitlines()
    assert len(lines) == 1, done.stderr
    return lines[0]


def test_ctrl_c_ends_what_plays_quietly(tmp_path: Path) -> None:
    filled(tmp_path, 120.0)
    with served(tmp_path) as (server, web):
        song = "/s/song/song?lane=lead&start=0&stop=5760000"
        with web.stream("GET", song) as first, web.stream("GET", song) as second:
            next(first.iter_bytes(1 << 16))
            next(second.iter_bytes(1 << 16))
            said = stopped(server)
        assert said.strip() == ""


def test_ctrl_c_in_a_print_marks_it_as_stopped(tmp_path: Path) -> None:
    filled(tmp_path, 200.0)
    with served(tmp_path) as (server, web):
        made = web.post("/s/song/prints", json={"targets": ["mix"], "format": "wav-32"}).json()["id"]
        while not list((tmp_path / "prints" / made).glob(".part-*")):
            time.sleep(0.01)
        assert stopped(server).strip() == ""
    assert print_states(tmp_path) == [("failed", "Mic Lane was stopped before it was done; print it again")]
    assert not (tmp_path / "prints" / made).exists()


def print_states(folder: Path) -> list[tuple[str, str]]:
    with sqlite3.connect(folder / "miclane.sqlite") as database:
        return database.execute("select state, message from prints").fetchall()


@pytest.mark.parametrize("loading", [True, False])
def test_a_measurement_ends_with_the_program_that_was_killed(loading, tmp_path: Path) -> None:
    (tmp_path / "pydantic.py").write_text("import time; time.sleep(60)")
    code = f"""
import os, threading, time
import numpy as np
from miclane.core.measure.worker import Measurer
measurer = Measurer()
if {loading}:
    os.environ["PYTHONPATH"] = "{tmp_path}"
take = np.random.default_rng(0).standard_normal((1, 48000 * 600)) * 0.1
threading.Thread(target=measurer.measure, args=(take, 48000), daemon=True).start()
while measurer._worker is None:
    time.sleep(0.02)
time.sleep(4)
print(measurer._worker.pid, flush=True)
time.sleep(600)
"""
    program = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
    assert program.stdout is not None
    worker = Path(f"/proc/{int(program.stdout.readline())}")
    assert worker.exists()
    program.kill()
    program.wait()
    killed = time.monotonic()
    while worker.exists():
        assert time.monotonic() < killed + 60
        time.sleep(0.05)


def test_pages_come_before_the_compiler_is_loaded(tmp_path: Path) -> None:
    code = f"""
import sys
from pathlib import Path
from starlette.testclient import TestClient
from miclane.web.app import create_app
with TestClient(create_app(Path("{filled(tmp_path)}")), base_url="http://127.0.0.1") as web:
    for page in ("", "s/song", "s/song/lane/lead"):
        assert web.get(f"/{{page}}").status_code == 200
print("numba" in sys.modules)
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert done.stdout.splitlines()[-1:] == ["False"], done.stdout + done.stderr


def test_every_stop_leaves_all_edits_in_the_file_itself(tmp_path: Path) -> None:
    filled(tmp_path)
    for how in (signal.SIGTERM, signal.SIGINT):
        with served(tmp_path) as (server, web):
            for k in range(5):
                edit = {"op": "set", "path": "tempo_bpm", "value": 100 + k + how}
                assert web.post("/s/song/edits", json={"edits": [edit]}).status_code == 200
            stopped(server, how)
        shutil.copy(tmp_path / "miclane.sqlite", tmp_path / "alone.sqlite")
        with sqlite3.connect(tmp_path / "alone.sqlite") as alone:
            (text,) = alone.execute("select document from sessions").fetchone()
        assert json.loads(text)["tempo_bpm"] == 104 + how


def test_a_second_program_on_the_folder_is_refused_and_breaks_nothing(tmp_path: Path) -> None:
    filled(tmp_path, 200.0)
    with served(tmp_path) as (server, web):
        web.post("/s/song/prints", json={"targets": ["mix"], "format": "wav-32"})
        part = tmp_path / "incoming" / "tmp1.part"
        part.parent.mkdir(exist_ok=True)
        part.write_bytes(b"half")
        line = one_line(miclane("serve", "--data", tmp_path))
        assert f"process {server.pid}" in line
        assert "in use" in line
        assert part.exists()
        assert print_states(tmp_path)[0][0] in ("waiting", "running")
        assert one_line(miclane("check", "--mend", "--data", tmp_path)).endswith("another folder")
        assert miclane("backup", "--out", tmp_path / "b.zip", "--data", tmp_path).returncode == 0
        stopped(server)


def cut(path: Path, share: float) -> None:
    path.write_bytes(path.read_bytes()[: int(share * path.stat().st_size)])


def scribbled(at: int, n: int = 4096) -> Callable[[Path], None]:
    def damage(path: Path) -> None:
        data = bytearray(path.read_bytes())
        data[at : at + n] = bytes(n)
        path.write_bytes(data)

    return damage


def sql(*lines: str) -> Callable[[Path], None]:
    def damage(path: Path) -> None:
        with sqlite3.connect(path) as database:
            database.executescript("pragma foreign_keys=off;" + ";".join(lines))

    return damage


DAMAGES = {
    "empty but for a word": lambda path: path.write_bytes(b"not a database"),
    "half of it": lambda path: cut(path, 0.5),
    "its head": lambda path: cut(path, 0.02),
    "header zeroed": scribbled(0, 100),
    "first page": scribbled(100, 3900),
    "second page": scribbled(4096),
    "third page": scribbled(8192),
    "a folder in its place": lambda path: (path.unlink(), path.mkdir()),
    "no sessions": sql("drop table sessions"),
    "no steps": sql("drop table steps"),
    "no version": sql("drop table alembic_version"),
    "a version without a name": sql("delete from alembic_version"),
    "newer": sql("update alembic_version set version_num = '0999'"),
}


@pytest.mark.parametrize("what", DAMAGES)
def test_a_database_that_cannot_be_used_is_said_in_one_line(tmp_path: Path, what: str) -> None:
    filled(tmp_path)
    Database(tmp_path / "miclane.sqlite").back_up()
    DAMAGES[what](tmp_path / "miclane.sqlite")
    line = one_line(miclane("serve", "--data", tmp_path))
    assert "miclane.sqlite" in line
    if what == "newer":
        assert "newer Mic Lane" in line
    elif what != "a folder in its place":
        assert "backups/miclane-" in line


def test_one_document_that_cannot_be_read_leaves_the_others_on_the_shelf(tmp_path: Path) -> None:
    filled(tmp_path)
    studio = Studio(tmp_path)
    studio.sessions.create(studio.sessions.get("song").session, "other")
    for k in range(3):
        studio.sessions.edit("other", [Set(path="tempo_bpm", value=100 + k)])
    studio.close()
    with sqlite3.connect(tmp_path / "miclane.sqlite") as database:
        database.execute(
            "update sessions set document = replace(document, ?, ?) where id = ?",
            ('"tempo_bpm":102.0', '"tempo_bpm":9', "other"),
        )
    with served(tmp_path) as (server, web):
        shelf = web.get("/", headers={"accept": "text/html"})
        assert shelf.status_code == 200
        assert "/s/song/lane/lead" in shelf.text
        assert "tempo_bpm" in shelf.text
        assert web.get("/s/other/lane/lead").status_code == 422
        assert web.get("/sessions/other/document").json()["tempo_bpm"] == 9
        assert web.post("/sessions/other/rescue").status_code == 200
        assert web.get("/s/other/version").json()["steps"] == 2
        stopped(server)
    assert Studio(tmp_path).sessions.get("other").session.tempo_bpm == 101


def test_folders_that_cannot_be_used_are_said_in_one_line(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("x")
    assert "is a file" in one_line(miclane("serve", "--data", tmp_path / "file"))
    assert "cannot be written" in one_line(miclane("serve", "--data", "/proc/miclane"))
    assert "no data of Mic Lane" in one_line(miclane("check", "--data", tmp_path / "none"))
    assert "no such data folder" in one_line(miclane("print", "Song", "--out", tmp_path, "--data", tmp_path / "none"))
    assert not (tmp_path / "none").exists()


def test_beyond_this_machine_a_password_is_needed(tmp_path: Path) -> None:
    line = one_line(miclane("serve", "--host", "0.0.0.0", "--data", tmp_path))
    assert "set a password first" in line
    assert "miclane password" in line


def test_a_backup_is_whole_and_the_last_seven_are_kept(tmp_path: Path) -> None:
    filled(tmp_path)
    database = Database(tmp_path / "miclane.sqlite")
    database.backups.mkdir(exist_ok=True)
    for k in range(KEPT_BACKUPS + 3):
        (database.backups / f"miclane-2020010{k}-000000.sqlite").write_bytes(b"x")
    database.back_up()
    kept = database.known_backups()
    assert len(kept) == KEPT_BACKUPS
    assert sessions_in(kept[0]) == 1
    done = miclane("backup", "--out", tmp_path / "b.zip", "--data", tmp_path)
    assert done.returncode == 0, done.stderr
    shutil.unpack_archive(tmp_path / "b.zip", tmp_path / "again")
    studio = Studio(tmp_path / "again")
    session = studio.sessions.get("song").session
    assert studio.sounds.read(session.lanes[0].sound.digest, RATE, 0, 100).any()


def sessions_in(path: Path) -> int:
    with sqlite3.connect(path) as database:
        return int(database.execute("select count(*) from sessions").fetchone()[0])


def test_check_names_what_is_wrong_and_mends_what_it_can(tmp_path: Path) -> None:
    filled(tmp_path)
    assert miclane("check", "--data", tmp_path).stdout == "Everything is sound.\n"
    studio = Studio(tmp_path)
    soundfile.write(tmp_path / "u.wav", noise(0.2, 0.1, seed=5)[0], RATE)
    unused = studio.sounds.add(tmp_path / "u.wav", "unused.wav", RATE)
    studio.close()
    (tmp_path / "prints" / "wghost").mkdir(parents=True)
    frames = next(
        (tmp_path / "sounds" / "frames").rglob(f"{studio.sessions.get('song').session.lanes[0].sound.digest}*.f32")
    )
    frames.write_bytes(frames.read_bytes()[:-4])
    done = miclane("check", "--data", tmp_path)
    assert done.returncode == 1
    for words in ("wghost", frames.name):
        assert words in done.stdout
    mended = miclane("check", "--mend", "--data", tmp_path).stdout
    assert "unused.wav" in mended
    assert not list((tmp_path / "sounds").rglob(f"{unused.digest}*"))
    assert miclane("check", "--data", tmp_path).stdout == "Everything is sound.\n"
    next((tmp_path / "sounds" / "originals").rglob("*.wav")).write_bytes(b"RIFF")
    assert "missing or damaged" in miclane("check", "--data", tmp_path).stdout


@contextmanager
def full_disk(most_bytes: int) -> Iterator[None]:
    """No file may grow beyond so many bytes."""
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (most_bytes, hard))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))


def test_a_full_disk_is_said_and_loses_nothing(tmp_path: Path) -> None:
    from miclane.core.errors import UnusableDataError
    from miclane.core.printing import PrintRequest
    from miclane.studio.prints import Printer

    filled(tmp_path, 30.0)
    studio = Studio(tmp_path, owner=True)
    printer = Printer(studio)
    state = studio.sessions.get("song")
    soundfile.write(tmp_path / "new.wav", noise(20.0, 0.1, seed=3)[0], RATE)
    size = (tmp_path / "miclane.sqlite-wal").stat().st_size
    with full_disk(max(size, 200_000)):
        for format in ("wav-24", "flac-16", "ogg"):
            made = printer.start(state, PrintRequest(targets=("mix",), format=format))  # type: ignore[arg-type]
            printer.wait()
            row = printer.row("song", made)
            assert row.state == "failed"
            assert "full" in row.message
            assert not (printer.folder / made).exists()
        with pytest.raises(UnusableDataError, match="full"):
            studio.sounds.add(tmp_path / "new.wav", "new.wav", RATE)
    with full_disk(4096), pytest.raises(UnusableDataError, match="backup could not"):
        studio.database.back_up(tmp_path / "b.sqlite")
    with full_disk(4096), pytest.raises(UnusableDataError, match="full"):
        for k in range(2000):
            studio.sessions.edit("song", [Set(path="tempo_bpm", value=50 + k % 300)])
    assert not [p for p in (tmp_path / "sounds").rglob("*.part")]
    state = studio.sessions.edit("song", [Set(path="tempo_bpm", value=61)])
    assert Studio(tmp_path).sessions.get("song").session.tempo_bpm == 61
    assert studio.database.faults() == []
    studio.close()


def test_readers_never_wait_for_a_writer(tmp_path: Path) -> None:
    filled(tmp_path)
    studio = Studio(tmp_path)
    read = threading.Event()
    with studio.database.writing() as db:
        db.connection()

        def look() -> None:
            studio.sessions.get("song")
            studio.sessions.names()
            read.set()

        thread = threading.Thread(target=look)
        thread.start()
        thread.join(20)
        assert read.is_set(), "a read waited for the end of a write"
    studio.close()


def test_what_follows_is_measured_before_the_write_begins(tmp_path: Path) -> None:
    filled(tmp_path)
    studio = Studio(tmp_path)
    seen: list[bool] = []
    follows = studio.sessions.follows

    def noted(session: Session, edits: list, gesture: str) -> list:
        seen.append(studio.database._lock.locked())
        return follows(session, edits, gesture) if follows else []

    studio.sessions.follows = noted
    studio.sessions.edit("song", [Set(path="tempo_bpm", value=70)])
    assert seen == [False]
    assert np.isfinite(studio.sessions.get("song").session.tempo_bpm)
    studio.close()


MUCH = """
import numpy as np
from pathlib import Path
from miclane.memory import give_back_memory
give_back_memory()
np.ones(4_000_000)  # makes the C library raise its threshold when it is let go
resident = lambda: int(Path("/proc/self/statm").read_text().split()[1]) // 256
begun, pins = resident(), []
for _ in range(3):
    much = []
    for _ in range(40):
        much.append(np.ones(1_000_000))
        pins.append(np.ones(8_000))
    del much
print(resident() - begun)
"""


def test_memory_that_was_freed_is_given_back() -> None:
    told = subprocess.run([sys.executable, "-c", MUCH], capture_output=True, text=True, check=True)
    assert int(told.stdout) < 60  # MiB; 300 were taken, 8 are held


def test_a_kill_loses_nothing_of_what_was_compared(tmp_path: Path) -> None:
    filled(tmp_path, 6.0)
    fader = {"op": "set", "path": "lanes/lead/fader_db", "value": -4.0}
    with served(tmp_path) as (server, web):
        kept = web.post("/s/song/snapshots", json={"name": "Before", "note": "n"}).json()["id"]
        made = web.post("/s/song/alternatives", json={"scope": "lanes/lead"}).json()["id"]
        assert web.post("/s/song/edits", json={"edits": [fader], "alternative": made}).status_code == 200
        local = {"edits": [{**fader, "value": -9.0}], "where": "section:one"}
        assert web.post("/s/song/edits", json=local).status_code == 200
        server.kill()
        server.wait()
    with served(tmp_path) as (server, web):
        (told,) = web.get("/s/song/alternatives").json()
        assert told["id"] == made and told["lines"][0]["text"].endswith("fader 0.0 dB → −4.0 dB")
        assert "fader in one" in web.get(f"/s/song/work/lines?one={kept}&other=now").text
        assert "Before" in web.get("/s/song/work").text
        assert [web.post("/s/song/undo").status_code for _ in range(4)] == [200, 200, 200, 422]
        assert web.get("/s/song/alternatives").json() == []
        stopped(server)


def test_a_start_waits_for_nothing_of_scipy(tmp_path: Path) -> None:
    code = """
import sys
from pathlib import Path
from miclane.web.app import create_app, close_app
close_app(create_app(Path(sys.argv[1])))
print([n for n in ("scipy.fft", "scipy.ndimage", "scipy.signal", "scipy.linalg", "scipy.stats") if n in sys.modules])
"""
    told = subprocess.run([sys.executable, "-c", code, str(tmp_path)], capture_output=True, text=True, check=True)
    assert told.stdout.split("\n")[-2] == "[]"


def test_templates_are_compiled_once_and_where_nothing_can_be_kept_each_time(tmp_path: Path) -> None:
    kept, compiled = tmp_path / "kept", []

    def shown() -> str:
        env = Environment(loader=DictLoader({"a": "{{ 1 + 1 }}"}), bytecode_cache=Compiled(kept))
        compile_ = env.compile
        env.compile = lambda *args, **how: (compiled.append(args[1]), compile_(*args, **how))[1]
        return env.get_template("a").render()

    assert [shown(), shown()] == ["2", "2"]
    assert compiled == ["a"]
    kept = tmp_path / "a file"
    kept.write_text("")
    assert [shown(), shown()] == ["2", "2"]
    assert compiled == ["a", "a", "a"]


def test_what_is_compiled_ahead_waits_for_what_is_heard_at_once_and_ends_with_the_server(studio: Studio) -> None:
    went_on = threading.Event()

    def ahead() -> None:
        _between(studio)
        went_on.set()

    with studio.gate.urgent():
        threading.Thread(target=ahead).start()
        assert not went_on.wait(0.3)
    assert went_on.wait(10)
    studio.stop()
    with pytest.raises(CancelledError):
        _between(studio)
