"""Memory for large sounds: made once, handed on, bounded, and never one piece for two."""

import gc
import mmap
import threading

import numpy as np
import pytest

from conftest import RATE, noise, one_lane
from miclane.core.engine.cache import RenderStore
from miclane.core.engine.render import STATES_BEFORE, Renderer
from miclane.core.engine.room import Room

MB = 1 << 20
large_pages = pytest.mark.skipif(not hasattr(mmap, "MADV_HUGEPAGE"), reason="this system has no large pages")


def _begins(audio: np.ndarray) -> int:
    return audio.ctypes.data


@large_pages
def test_a_piece_is_used_again_once_the_last_that_looks_into_it_is_gone() -> None:
    room = Room(64 * MB)
    audio = room.empty(2, 400_000)
    assert audio.shape == (2, 400_000) and audio.dtype == np.float64 and audio.flags.c_contiguous
    assert _begins(audio) % (2 * MB) == 0
    where, part = _begins(audio), audio[1, 1000:2000]
    audio[:] = 1.0
    del audio
    gc.collect()
    assert room.held_bytes == 0  # somebody looks at a part of it still
    other = room.empty(2, 400_000)
    other[:] = 2.0
    assert _begins(other) != where and np.all(part == 1.0)
    del part
    assert room.held_bytes > 0
    again = room.empty(2, 390_000)  # a little smaller
    assert _begins(again) == where and room.held_bytes == 0
    small = room.empty(1, 2 * MB // 8 + 8)
    assert _begins(small) not in (where, _begins(other))


def test_what_is_small_is_not_kept() -> None:
    room = Room(64 * MB)
    audio = room.empty(1, 1000)
    assert audio.shape == (1, 1000)
    del audio
    assert room.held_bytes == 0 and room.empty(0, 500_000).shape == (0, 500_000)


@large_pages
def test_no_more_is_kept_than_may_be_and_what_is_much_larger_serves_nobody() -> None:
    room = Room(20 * MB)
    several = [room.empty(1, MB) for _ in range(5)]  # 10 MB each with what it takes to begin evenly
    del several
    assert 0 < room.held_bytes <= 20 * MB
    held = room.held_bytes
    assert room.empty(1, MB // 4 + 1) is not None and room.held_bytes == held
    room.shrink(0)
    assert room.held_bytes == 0


@large_pages
def test_threads_never_share_a_piece() -> None:
    room, wrong = Room(200 * MB), []

    def work(mark: float) -> None:
        for k in range(60):
            audio = room.empty(1, 300_000 + 1000 * (k % 7))
            audio[:] = mark
            if audio.min() != mark or audio.max() != mark:
                wrong.append(mark)

    threads = [threading.Thread(target=work, args=(float(k),)) for k in range(4)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert not wrong and 0 < room.held_bytes <= 200 * MB


@large_pages
def test_what_the_room_keeps_counts_as_held_and_goes_when_little_may_be() -> None:
    store, sound = RenderStore(240 * MB), noise(30)
    for k in range(20):
        graph, read, _ = one_lane(sound, [{"kind": "compressor", "threshold_db": -20.0 - k}])
        Renderer(read, store).loop(graph, graph.places["bus:mix:out"], 5 * RATE, 25 * RATE)
        assert store.held_bytes + store.room.held_bytes <= 240 * MB
    assert store.room.held_bytes > 0
    store.shrink(10 * MB)
    assert store.room.held_bytes == 0 and store.held_bytes <= 10 * MB


@large_pages
def test_a_system_that_has_no_large_pages_has_room_all_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    class Refused(mmap.mmap):
        def madvise(self, *_: int) -> None:
            raise OSError(22, "Invalid argument")

    monkeypatch.setattr(mmap, "mmap", Refused)
    audio = Room(64 * MB).empty(2, 400_000)
    audio[:] = 1.0
    assert audio.sum() == 800_000


def test_a_trace_is_of_what_is_looked_at_and_the_same_as_of_the_whole() -> None:
    stages = [
        {"kind": "compressor", "threshold_db": -30.0},
        {"kind": "eq", "bands": [{"frequency_hz": 700, "dynamic": {"threshold_db": -40, "change_db": -6}}]},
        {"kind": "limiter", "ceiling_dbtp": -12.0},
        {"kind": "trim", "gain_db": -3.0},
    ]
    graph, read, _ = one_lane(noise(14, channels=2), stages)
    target = graph.places["bus:mix:out"]
    part = Renderer(read).loop(graph, target, 9 * RATE, 11 * RATE)
    whole = Renderer(read).loop(graph, target, 0, 11 * RATE)
    for node in graph.needed(target):
        if node.stage is None:
            continue
        some, all_of_it = part.trace(node.key), whole.trace(node.key)
        assert some is not None and all_of_it is not None and all_of_it.start == 0
        assert 9 * RATE - STATES_BEFORE - some.hop < some.start <= 9 * RATE - STATES_BEFORE
        assert len(some.mean_square_in) * some.hop >= 11 * RATE - some.start - some.hop
        at = [round((9 * RATE - t.start) / t.hop) for t in (some, all_of_it)]
        for row in ("mean_square_in", "mean_square_out", "peak_out", "gain_db"):
            a, b = (getattr(t, row) for t in (some, all_of_it))
            assert (a is None) == (b is None)
            if a is not None:
                same = min(len(a) - at[0], len(b) - at[1])
                near = np.median(np.abs(a[at[0] : at[0] + same] - b[at[1] : at[1] + same])) / np.abs(b).max()
                assert near < 0.05, row  # hops of the one do not begin where those of the other do
        assert (some.parts_db is None) == (all_of_it.parts_db is None)
