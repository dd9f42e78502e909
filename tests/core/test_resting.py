"""What has fallen silent is not worked out in a print, and what comes after it sounds as if it had been."""

import numpy as np
import pytest
from bench.fuzz import KINDS, legal

from conftest import RATE, db, noise
from miclane.core.engine.render import Piece
from miclane.core.engine.resting import Resting
from miclane.core.engine.stage_nodes import stage_node
from miclane.core.engine.stations import Station
from miclane.core.same import Same
from miclane.core.stages.base import Stage

CHUNK = 2048
SUNG = 48 * CHUNK


def _sound(seed: int, silence: int) -> np.ndarray:
    """Bursts, silence for so many frames, bursts: a tone and noise, starting and ending at once."""
    rng = np.random.default_rng(seed)
    level = np.repeat(10 ** (rng.uniform(-40, -6, 2 * SUNG // CHUNK) / 20), CHUNK)
    sound = level * (0.5 * np.sin(np.arange(2 * SUNG) * 0.03) + 0.2 * rng.standard_normal(2 * SUNG))
    return np.concatenate([sound[:SUNG], np.zeros(silence), sound[SUNG:]])[None]


def _through(stage: Stage, x: np.ndarray, rests: bool) -> tuple[np.ndarray, int]:
    """What a station makes of x, and how many workers it has had."""
    node = stage_node(Same(stage), "voice", 1, "key" if getattr(stage, "key", None) else "", "", RATE, (120.0, ""))
    station = Station(node, RATE, Piece(0, x.shape[1]))
    if not rests:
        station.resting = None
    made, workers = [], []
    for at in range(0, x.shape[1], CHUNK):
        piece = x[:, at : at + CHUNK]
        station.ready = [piece, piece] if node.keyed_by else [piece]
        due = station.work(at + CHUNK, lambda *_: np.zeros((1, 0)))
        assert due is not None and station.worker is not None
        made.append(due)
        workers.append(station.worker)
    return np.concatenate(made, axis=1), len({id(w) for w in workers})


@pytest.mark.parametrize("seed", range(2 * len(KINDS)))
def test_sounds_as_if_it_had_not_rested(seed: int) -> None:
    stage = legal(KINDS[seed % len(KINDS)], np.random.default_rng(seed))
    for silence in (1.5, 30):
        x = _sound(seed, round(silence * RATE / CHUNK) * CHUNK)
        rested, workers = _through(stage, x, True)
        worked, _ = _through(stage, x, False)
        assert db(float(np.abs(rested - worked).max()) / max(1.0, float(np.abs(worked).max()))) < -130
        if not stage.tail_s() and silence > stage.memory_s() + 5:
            assert workers == 2  # so it did rest


def test_an_echo_that_is_still_to_come_is_waited_for() -> None:
    x = np.concatenate([noise(0.5, 0.2), np.zeros((1, 4 * RATE))], axis=1)
    echo = Stage.kinds["delay"].model_validate({"kind": "delay", "note": "ms", "time_ms": 1500, "feedback": 0.5})
    out, workers = _through(echo, x, True)
    assert workers == 1
    assert [db(float(np.abs(out[:, round(s * RATE) :][:, : RATE // 4]).max())) > -40 for s in (1.6, 3.1)] == [True] * 2
    assert np.array_equal(out, _through(echo, x, False)[0])


def test_one_that_hears_a_key_works_while_that_sounds() -> None:
    stage = Stage.kinds["duck"].model_validate({"kind": "duck"})
    resting = Resting(stage_node(Same(stage), "voice", 1, "key", "", RATE, (120.0, "")), RATE)
    silence, sound = np.zeros((1, RATE)), noise(1.0)
    assert not resting.goes_on(silence, silence)
    resting.after(silence, silence, silence)
    assert resting.goes_on(silence, silence)
    assert not resting.goes_on(silence, sound)
