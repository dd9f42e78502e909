"""Many files through one chain: each good one once, the same bits however it was made, bad ones named."""

import contextlib
import csv
import json
import os
import signal
import subprocess
import sys
import time
from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from distributed import Client
from distributed.comm import CommClosedError

from miclane.batch.journal import NAME, Journal
from miclane.batch.running import MOST_SENDINGS, Call, Job, hand_out
from miclane.batch.tasks import Task
from miclane.core.audio import content_hash, read_sound
from miclane.core.measure.loudness import integrated_lufs
from miclane.core.mix.chain import read_chain
from miclane.core.mix.document import Session
from miclane.core.mix.edits import Insert, Set
from miclane.core.process import process
from miclane.demo.seed import SONG
from miclane.studio.importing import import_sound
from miclane.studio.studio import Studio
from program import miclane

RATE = 44100
CHAIN = (
    '{"format": "mic-lane/chain", "version": 3, "name": "C", "stages": [{"kind": "eq", "bands": [{"shape": "low_cut",'
    ' "frequency_hz": 90}]}, {"kind": "compressor", "threshold_db": -30, "ratio": 4, "makeup_db": 3}]}'
)
FILES, BAD, SECONDS = 40, 5, 3  # `make bench ARGS=batch` takes 200 of ten seconds


def sing(path: Path, k: int, seconds: float) -> None:
    t = np.arange(round(RATE * seconds)) / RATE
    level = 0.05 + 0.3 * (np.sin(2 * np.pi * (0.3 + 0.01 * (k % 7)) * t) > -0.2)
    sound = level * sum(np.sin(2 * np.pi * (110 + 3 * k) * n * t) / n for n in range(1, 6))
    soundfile.write(path, 0.4 * sound, RATE, "PCM_16")


@pytest.fixture(scope="module")
def takes(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A few short takes with two bad ones among them."""
    folder = tmp_path_factory.mktemp("takes")
    (folder / "more").mkdir()
    for k in range(6):
        sing(folder / ("more" if k % 2 else ".") / f"take {k}.wav", k, 2.5)
    (folder / "text.wav").write_text("no sound at all")
    (folder / "short.flac").write_bytes(b"fLaC" + bytes(50))
    (folder / "notes.txt").write_text("not looked at")
    (folder / "c.json").write_text(CHAIN)
    return folder


def made(out: Path) -> dict[str, str]:
    return {p.relative_to(out).as_posix(): content_hash(p) for p in out.rglob("*.wav")}


def lines(out: Path) -> int:
    path = out / NAME
    return path.read_bytes().count(b"\n") if path.is_file() else 0


def test_every_good_file_is_made_measured_and_told_and_a_second_time_nothing_is(takes: Path, tmp_path: Path) -> None:
    out, table = tmp_path / "out", tmp_path / "t.csv"
    words = ("batch", takes, "--chain", takes / "c.json", "--out", out, "--report", table, "--workers", 2)
    done = miclane(*words)
    assert done.returncode == 1, done.stderr
    assert done.stdout.rstrip().endswith("6 made, 2 not")
    assert "not made: text.wav" in done.stderr and "not made: short.flac" in done.stderr
    assert sorted(made(out)) == sorted(f"{'more/' if k % 2 else ''}take {k}.wav" for k in range(6))
    rows = {r["file"]: r for r in csv.DictReader(table.open())}
    clip = read_sound(takes / "take 0.wav")
    audio, _ = process(clip.audio, clip.rate, read_chain(CHAIN))
    written = read_sound(out / "take 0.wav").audio
    assert np.abs(written - audio).max() < 2**-22
    row = rows["take 0.wav"]
    assert float(row["lufs_before"]) == pytest.approx(integrated_lufs(clip.audio, clip.rate), abs=0.01)
    assert float(row["lufs_after"]) == pytest.approx(integrated_lufs(audio, clip.rate), abs=0.01)
    assert rows["text.wav"]["problem"].startswith("text.wav") and not rows["text.wav"]["lufs_after"]
    times = {p: p.stat().st_mtime_ns for p in out.rglob("*.wav")}
    again = miclane(*words)
    assert again.returncode == 1 and lines(out) == 6
    assert {p: p.stat().st_mtime_ns for p in out.rglob("*.wav")} == times
    (out / "take 0.wav").write_bytes(b"changed")
    before = made(tmp_path / "none") | made(out)
    miclane(*words)
    assert made(out)["take 0.wav"] != before["take 0.wav"] and lines(out) == 7


def test_what_depends_on_the_take_is_measured_for_each_where_the_chain_says_so(tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    lead, rate = soundfile.read(SONG / "lead.flac", stop=14 * 48000)
    for name, gain in (("quiet", 0.2), ("loud", 0.8)):
        soundfile.write(folder / f"{name}.wav", lead * gain, rate, "FLOAT")
    stages = CHAIN.replace('"name": "C"', '"name": "C", "measured": true').replace(', "makeup_db": 3', "")
    (tmp_path / "c.json").write_text(stages)
    done = miclane(
        "batch", folder, "--chain", tmp_path / "c.json", "--out", tmp_path / "out", "--report", tmp_path / "t.csv"
    )
    assert done.returncode == 0, done.stderr
    quiet, loud = (read_sound(tmp_path / "out" / f"{n}.wav").audio for n in ("quiet", "loud"))
    # each is turned down as much as the other: a threshold that had not moved would hold the loud one alone
    apart = np.abs(loud / 4 - quiet).max() / np.abs(quiet).max()
    assert 20 * np.log10(apart) < -30
    plain = miclane(
        "batch", folder, "--chain", tmp_path / "c.json", "--out", tmp_path / "two", "--measured", "--format", "flac-24"
    )
    assert plain.returncode == 0 and sorted(p.name for p in (tmp_path / "two").glob("*.flac")) == [
        "loud (wav).flac",
        "quiet (wav).flac",
    ]


def test_clarity_stands_in_the_table_where_there_is_music(tmp_path: Path) -> None:
    voices, music = tmp_path / "v", tmp_path / "m"
    for folder in (voices, music):
        folder.mkdir()
    lead, rate = soundfile.read(SONG / "lead.flac", start=18 * 48000, stop=28 * 48000)
    soundfile.write(voices / "a.wav", lead, rate)
    soundfile.write(music / "a.flac", soundfile.read(SONG / "pad.flac", start=18 * 48000, stop=28 * 48000)[0], rate)
    (tmp_path / "c.json").write_text(CHAIN)
    words = ("--out", tmp_path / "o", "--music", music, "--report", tmp_path / "t.csv")
    done = miclane("batch", voices, "--chain", tmp_path / "c.json", *words)
    assert done.returncode == 0, done.stderr
    (row,) = csv.DictReader((tmp_path / "t.csv").open())
    assert 0 < float(row["clarity_before"]) <= 1 and 0 < float(row["clarity_after"]) <= 1
    assert "clarity" in done.stdout


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("nowhere", "--chain", "c.json"), "there is no such folder"),
        ((".", "--chain", "missing.json", "--data", "nodata"), "there is no such file"),
        ((".",), "say by --chain"),
        ((".", "--chain", "c.json", "--format", "mp3"), "must be one of"),
        ((".", "--chain", "c.json", "--cluster", "tcp://127.0.0.1:1"), "no Dask scheduler answers"),
        (("empty", "--chain", "c.json"), "no sound file"),
        ((".", "--print", "--cluster", "tcp://127.0.0.1:1"), "--cluster has no say"),
    ],
)
def test_what_cannot_be_used_is_said_in_one_line(words: tuple, says: str, takes: Path, tmp_path: Path) -> None:
    (takes / "empty").mkdir(exist_ok=True)
    done = subprocess.run(
        [sys.executable, "-m", "miclane.cli", "batch", *words, "--out", tmp_path / "o"],
        cwd=takes, capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == 2, done.stderr
    assert says in done.stderr.splitlines()[-1] and done.stderr.splitlines()[-1].startswith("miclane: ")


def test_a_journal_that_was_cut_short_counts_only_what_is_whole(tmp_path: Path) -> None:
    (tmp_path / NAME).write_bytes(b'{"key": "a", "made": "x", "figures": {}}\n{"key": "b", "ma')
    journal = Journal(tmp_path)
    assert set(journal._done) == {"a"}
    assert (tmp_path / NAME).read_bytes().endswith(b"\n")


def test_sessions_of_a_data_folder_are_printed_once(demo, tmp_path: Path) -> None:
    words = ("batch", demo.studio.data, "--print", "--out", tmp_path / "o", "--format", "flac-16")
    for _ in range(2):
        done = miclane(*words)
        assert done.returncode == 0 and "1 made, 0 not" in done.stdout, done.stderr
        (file,) = (tmp_path / "o").rglob("*.flac")
        assert file.name == "Salt Ferry - Mix.flac" and lines(tmp_path / "o") == 1
        made_at = file.stat().st_mtime_ns
    demo.studio.edit("salt-ferry", [Set(path="buses/mix/fader_db", value=-3.0)])
    assert miclane(*words).returncode == 0
    assert file.stat().st_mtime_ns > made_at and lines(tmp_path / "o") == 2


def many(folder: Path, count: int, seconds: float) -> Path:
    folder.mkdir()
    for k in range(count):
        if k % (count // BAD) == 3:
            (folder / f"bad {k:03d}.wav").write_bytes(b"RIFF" + os.urandom(400))
        else:
            sing(folder / f"take {k:03d}.wav", k, seconds)
    (folder / "c.json").write_text(CHAIN)
    return folder


def started(*words: object) -> subprocess.Popen[str]:
    call = [sys.executable, "-m", "miclane.cli", *map(str, words)]
    return subprocess.Popen(call, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, start_new_session=True)


def wait_for(out: Path, count: int, longest_s: float = 300.0) -> None:
    until = time.monotonic() + longest_s
    while lines(out) < count:
        assert time.monotonic() < until, f"{lines(out)} of {count} after {longest_s} s"
        time.sleep(0.05)


def test_killed_in_the_middle_and_resumed_each_file_is_made_once(tmp_path: Path) -> None:
    folder, out = many(tmp_path / "in", FILES, SECONDS), tmp_path / "out"
    words = ("batch", folder, "--chain", folder / "c.json", "--out", out, "--workers", 2)
    running = started(*words)
    wait_for(out, FILES // 3)
    os.killpg(running.pid, signal.SIGKILL)
    running.wait()
    before = lines(out)
    times = {p.name: p.stat().st_mtime_ns for p in out.glob("take*.wav")}
    done = miclane(*words)
    assert done.returncode == 1 and done.stdout.rstrip().endswith(f"{FILES - BAD} made, {BAD} not"), done.stderr
    assert len([line for line in done.stderr.splitlines() if line.startswith("not made: bad ")]) == BAD
    assert lines(out) in (FILES - BAD, FILES - BAD + 1) and len(made(out)) == FILES - BAD  # +1: the line that was cut
    kept = sum(times.get(p.name) == p.stat().st_mtime_ns for p in out.glob("take*.wav"))
    assert kept >= before - 1
    assert not list(out.rglob(".part-*"))
    for k in (0, 17, FILES - 1):
        clip = read_sound(folder / f"take {k:03d}.wav")
        audio, _ = process(clip.audio, clip.rate, read_chain(CHAIN))
        assert np.abs(read_sound(out / f"take {k:03d}.wav").audio - audio).max() < 2**-22


@contextlib.contextmanager
def cluster(folder: Path) -> Iterator[tuple[str, list[subprocess.Popen[bytes]], subprocess.Popen[bytes]]]:
    """A scheduler and two workers as the README starts them; its address, the workers, and the scheduler."""
    told = folder / "scheduler.json"
    where = ("--scheduler-file", str(told), "--no-dashboard")

    def start(what: str, *words: str) -> subprocess.Popen[bytes]:
        call = [sys.executable, "-m", f"distributed.cli.dask_{what}", *where, *words]
        nowhere = subprocess.DEVNULL
        return subprocess.Popen(call, stdout=nowhere, stderr=nowhere, cwd=folder, start_new_session=True)

    scheduler = start("scheduler", "--port", "0", "--host", "127.0.0.1")
    workers = [start("worker", "--nthreads", "1") for _ in range(2)]
    try:
        until = time.monotonic() + 60
        while not told.is_file() or not told.read_text().strip():
            assert time.monotonic() < until and scheduler.poll() is None
            time.sleep(0.1)
        yield json.loads(told.read_text())["address"], workers, scheduler
    finally:
        for process in (*workers, scheduler):
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()


def test_on_a_cluster_it_is_the_same_bits_also_where_a_worker_dies(tmp_path: Path) -> None:
    folder, here, there = many(tmp_path / "in", 25, 3.0), tmp_path / "here", tmp_path / "there"
    words = ("batch", folder, "--chain", folder / "c.json")
    assert miclane(*words, "--out", here, "--workers", 2).returncode == 1
    with cluster(tmp_path) as (address, workers, _):
        running = started(*words, "--out", there, "--cluster", address)
        wait_for(there, 4)
        os.killpg(workers[0].pid, signal.SIGKILL)
        out, err = running.communicate(timeout=300)
    assert running.returncode == 1 and out.rstrip().endswith(f"{25 - BAD} made, {BAD} not"), err[-2000:]
    assert made(there) == made(here)
    assert lines(there) == 25 - BAD


def test_where_the_scheduler_dies_it_is_said_and_the_same_command_goes_on(tmp_path: Path) -> None:
    folder, there = many(tmp_path / "in", 20, 3.0), tmp_path / "there"
    words = ("batch", folder, "--chain", folder / "c.json", "--out", there)
    with cluster(tmp_path) as (address, _, scheduler):
        running = started(*words, "--cluster", address)
        wait_for(there, 2)
        os.killpg(scheduler.pid, signal.SIGKILL)
        _, err = running.communicate(timeout=120)
    assert running.returncode == 2 and "Traceback" not in err
    assert (
        err.rstrip()
        .splitlines()[-1]
        .endswith(f"{address}: the scheduler went away; the same command goes on from here")
    )
    before = lines(there)
    assert 2 <= before < 15
    assert miclane(*words).stdout.rstrip().endswith("15 made, 5 not")
    assert lines(there) == 15


def test_a_session_is_printed_by_a_cluster_to_the_same_bits_also_where_a_worker_dies(tmp_path: Path) -> None:
    """A dry take, which ends with the song, what rings on after it, and files that are called alike."""
    studio = Studio(tmp_path / "data")
    for k in range(2):
        sing(tmp_path / f"take {k}.wav", k, 6.0)
    state = studio.sessions.create(Session(name="Two takes", rate=48000))
    for k in range(2):
        state, lane = import_sound(studio, state.id, tmp_path / f"take {k}.wav", "take.wav", ("lead", "backing")[k])
        if not k:
            plate = {"id": "plate", "name": "take", "stages": [{"kind": "reverb", "decay_s": 1.5}]}
            send = Insert(path=f"lanes/{lane['id']}/sends", index=0, value={"id": "plate", "level_db": -9})
            state = studio.edit(state.id, [Insert(path="returns", index=0, value=plate), send])
    names = [x.id for x in state.session.lanes]
    studio.close()
    targets = [f"raw:{names[0]}", f"lane:{names[1]}", "return:plate", "mix"]
    words = ["print", state.id, "--data", tmp_path / "data", "--format", "wav-16", "--loudness", -20, "--ceiling", -1]
    words += [w for name in targets for w in ("--target", name)]
    alone = miclane(*words, "--out", tmp_path / "here")
    assert alone.returncode == 0, alone.stderr
    with cluster(tmp_path) as (address, workers, _):
        for k, out in enumerate(("there", "again")):
            running = started(*words, "--out", tmp_path / out, "--cluster", address)
            if k:
                time.sleep(1.0)
                os.killpg(workers[0].pid, signal.SIGKILL)
            told, err = running.communicate(timeout=300)
            assert running.returncode == 0, err[-2000:]
            assert made(tmp_path / out) == made(tmp_path / "here") and len(made(tmp_path / out)) == len(targets)
            assert told.replace(out, "here") == alone.stdout  # the names, and by what each is turned
    ends = {soundfile.info(p).frames for p in (tmp_path / "here").glob("*.wav")}
    assert len(ends) == 1 and min(ends) > 6.5 * 48000  # all as long as what rings on longest


def test_what_a_cluster_cannot_print_is_told_and_no_file_is_left(takes: Path, tmp_path: Path) -> None:
    studio = Studio(tmp_path / "data")
    state = studio.sessions.create(Session(name="Loud", rate=48000))
    state, lane = import_sound(studio, state.id, takes / "take 0.wav", "take.wav", "lead")
    bands = [{"frequency_hz": 110 * k, "gain_db": 24, "q": 0.3} for k in range(1, 7)]
    loud = [{"kind": "eq", "id": name, "bands": bands} for name in "abcd"]
    studio.edit(state.id, [Set(path=f"lanes/{lane['id']}/stages", value=loud)])
    studio.close()
    words = ("print", state.id, "--data", tmp_path / "data", "--out", tmp_path / "out", "--target", "mix")
    here = miclane(*words)
    with cluster(tmp_path) as (address, _, _):
        there = miclane(*words, "--target", f"raw:{lane['id']}", "--cluster", address)
    assert here.returncode == there.returncode != 0 and "makes more than +60 dBFS" in there.stderr
    assert "Traceback" not in there.stderr and not list((tmp_path / "out").glob("*"))


@dataclass
class Weighed(Call):
    """A sound's bytes counted by a worker."""

    path: Path
    told: list[int] = field(default_factory=list)
    tries: int = 0

    @property
    def name(self) -> str:
        return self.path.name

    @property
    def sounds(self) -> list[tuple[str, Path]]:
        return [("the same", self.path)]

    @property
    def work(self) -> tuple[Callable[..., Any], Any]:
        return weigh, self.name

    def take(self, result: int) -> None:
        self.told.append(result)


def weigh(_: str, data: bytes) -> int:
    return len(data)


def test_a_sound_sent_again_as_it_is_let_go_of_is_not_let_go_of_with_it(tmp_path: Path) -> None:
    """A print does: its longest target alone, then the others, with the same sounds. Work was lost, or never ended."""
    path = tmp_path / "take.wav"
    path.write_bytes(bytes(100_000))
    with Client(processes=False, n_workers=2, threads_per_worker=1, dashboard_address=None) as client:
        for _ in range(60):
            calls = [Weighed(path) for _ in range(3)]
            hand_out(client, deque(calls), lambda *_: None, lambda _, why: pytest.fail(why))
            assert [(c.told, c.tries) for c in calls] == [([100_000], 1)] * 3


class Breaking:
    """A client whose line to a worker breaks while sounds are on their way, and then holds."""

    def __init__(self, client: Any, times: int) -> None:
        self._client, self._left = client, times

    def __getattr__(self, name: str) -> Any:
        return getattr(self._client, name)

    def scatter(self, data: dict[str, bytes]) -> Any:
        if self._left:
            self._left -= 1
            raise CommClosedError("Stream is closed")
        return self._client.scatter(data)


@pytest.mark.parametrize(("times", "made"), [(0, 3), (2, 3), (MOST_SENDINGS, 2)])
def test_a_line_that_breaks_while_a_sound_is_sent_loses_no_file(tmp_path: Path, times: int, made: int) -> None:
    for k in range(3):
        sing(tmp_path / f"take {k}.wav", k, 1.0)
    sources = sorted(tmp_path.glob("*.wav"))
    jobs = deque(Job(Task(p.name, p.name, CHAIN, False, "wav-24"), p, None, tmp_path / "out" / p.name) for p in sources)
    done: list[str] = []
    bad: list[str] = []
    with Client(processes=False, n_workers=1, threads_per_worker=1, dashboard_address=None) as client:
        breaking = Breaking(client, times)
        hand_out(breaking, jobs, lambda job, _: done.append(job.task.name), lambda _, why: bad.append(why))
    assert len(done) == made
    assert bad == ([] if made == 3 else ["take 0.wav: no worker of the cluster takes its sound"])
