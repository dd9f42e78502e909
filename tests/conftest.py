"""Signals, the demo song, and a running server that the tests share."""

import atexit
import functools
import json
import os
import shutil
import socket
import tempfile
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
import structlog
import uvicorn
from hypothesis import settings
from sqlalchemy import delete, select

from miclane.core.audio import cut_padded, read_sound
from miclane.core.engine.builder import Builder
from miclane.core.engine.graph import Graph
from miclane.core.mix.document import Session
from miclane.core.stages.base import Stage
from miclane.demo.seed import SESSION_ID, SONG, seed
from miclane.store.state import State
from miclane.store.tables import SessionRow
from miclane.studio.studio import Studio
from miclane.web.app import create_app

pytest_plugins = ["browsing"]
RATE = 48000
settings.register_profile("untimed", deadline=None)  # how long something takes is the bench's to say
settings.load_profile("untimed")
structlog.configure([structlog.processors.format_exc_info, structlog.processors.KeyValueRenderer()])


def sine(frequency_hz: float, level_dbfs: float, seconds: float, rate: int = RATE, channels: int = 1) -> np.ndarray:
    """A sine whose peak is `level_dbfs`."""
    t = np.arange(round(seconds * rate)) / rate
    return np.repeat((10 ** (level_dbfs / 20) * np.sin(2 * np.pi * frequency_hz * t))[None], channels, axis=0)


def noise(seconds: float, rms: float = 0.1, channels: int = 1, seed: int = 0, rate: int = RATE) -> np.ndarray:
    """White noise."""
    return np.random.default_rng(seed).standard_normal((channels, round(seconds * rate))) * rms


def run(
    stage: Stage, x: np.ndarray, key: np.ndarray | None = None, block: int = 4096, rate: int = RATE
) -> SimpleNamespace:
    """A stage over x in blocks, latency removed: `y`, `gain_db`, both as long as x."""
    processor = stage.build(rate, x.shape[0])
    padded = np.concatenate([x, np.zeros((x.shape[0], processor.latency))], axis=1)
    if key is not None:
        key = np.concatenate([key, np.zeros((key.shape[0], processor.latency))], axis=1)
    out, gain = [], []
    for at in range(0, padded.shape[1], block):
        heard = None if key is None else np.ascontiguousarray(key[:, at : at + block])
        out.append(processor.process(np.ascontiguousarray(padded[:, at : at + block]), heard))
        if processor.gain_db is not None:
            gain.append(processor.gain_db)
    y = np.concatenate(out, axis=1)[:, processor.latency :]
    return SimpleNamespace(y=y, gain_db=np.concatenate(gain)[processor.latency :] if gain else None)


def db(x: float) -> float:
    """20 log10, −400 for silence."""
    return float(20 * np.log10(max(abs(x), 1e-20)))


def residue_db(a: np.ndarray, b: np.ndarray) -> float:
    """Peak of the difference in dBFS."""
    return db(float(np.abs(a - b).max()))


def reader(sounds: dict[str, np.ndarray]) -> Callable[[str, int, int], np.ndarray]:
    """A sound reader over arrays in memory."""

    def read(digest: str, start: int, stop: int) -> np.ndarray:
        return cut_padded(sounds[digest], start, stop)

    return read


def one_lane(
    audio: np.ndarray, stages: list[dict[str, Any]], **more: Any
) -> tuple[Graph, Callable[..., np.ndarray], Session]:
    """Graph, reader and session of a single lane with these stages."""
    stages = [{"id": f"s{i}", **s} for i, s in enumerate(stages)]
    sound = {"digest": "a" * 64, "channels": audio.shape[0], "frames": audio.shape[1]}
    lane = {"id": "lead", "name": "Lead", "bus": "lead", "sound": sound, "stages": stages, **more.pop("lane", {})}
    session = Session.model_validate({"name": "test", "lanes": [lane], **more})
    return Builder(session).build(), reader({"a" * 64: audio}), session


@pytest.fixture(scope="session")
def truth() -> dict[str, Any]:
    """What is true of the demo song."""
    return json.loads((SONG / "truth.json").read_text())


@pytest.fixture(scope="session")
def lead() -> np.ndarray:
    """The demo's raw lead."""
    return read_sound(SONG / "lead.flac").audio


@pytest.fixture
def studio(tmp_path: Path) -> Studio:
    """A studio on an empty data folder."""
    return Studio(tmp_path)


@functools.cache
def _sounds_of_the_song() -> Path:
    """What a data folder keeps of the demo's files and of what was found in them, made once."""
    folder = Path(tempfile.mkdtemp())
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    studio = Studio(folder)
    seed(studio.sessions, studio.sounds)
    studio.close()
    return studio.sounds.folder


def seeded(studio: Studio) -> State:
    """The demo in a studio of its own; the files it begins with are links, never to be written in place."""
    shutil.copytree(_sounds_of_the_song(), studio.sounds.folder, dirs_exist_ok=True, copy_function=os.link)
    return seed(studio.sessions, studio.sounds)


@pytest.fixture(scope="session")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SimpleNamespace]:
    """The application with the demo song, served on a port of this machine; what is in it belongs to each test."""
    app = create_app(tmp_path_factory.mktemp("demo"))
    state = seeded(app.state.studio)
    listener = socket.socket()
    listener.bind(("127.0.0.1", 0))
    listener.listen(128)
    server = uvicorn.Server(
        uvicorn.Config(app, log_level="warning", timeout_graceful_shutdown=1, ws_per_message_deflate=False)
    )
    thread = threading.Thread(target=server.run, kwargs={"sockets": [listener]}, daemon=True)
    thread.start()
    address = f"http://127.0.0.1:{listener.getsockname()[1]}"
    yield SimpleNamespace(address=address, app=app, studio=app.state.studio, document=state.session)
    server.should_exit = True
    thread.join(10)


@pytest.fixture
def demo(served: SimpleNamespace) -> SimpleNamespace:
    """The served demo as it is at first: its song without any history, and no other session."""
    studio = served.studio
    served.app.state.printer.wait()
    with studio.database.writing() as db:
        version = db.scalar(select(SessionRow.version).where(SessionRow.id == SESSION_ID)) or 0
        db.execute(delete(SessionRow))
        row = SessionRow(id=SESSION_ID, name=served.document.name, version=version + 1)  # no version means two things
        row.document = served.document.model_dump_json()
        db.add(row)
        db.commit()
    studio.sessions.forget()
    state = studio.sessions.get(SESSION_ID)
    return SimpleNamespace(**vars(served), state=state, session=state.session)
