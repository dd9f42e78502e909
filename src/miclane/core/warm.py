"""Compiles every inner loop ahead of its first use; what is compiled stays on disk."""

from collections.abc import Callable
from importlib.metadata import version
from pathlib import Path

import numpy as np

from .audio import cut_padded
from .engine.builder import Builder
from .engine.render import Renderer
from .mix.document import Session
from .stages.base import Stage, load_kinds

_RATE = 48000
_STAMP = Path(__file__).parent / "__pycache__" / "warm.stamp"


def warm_up(progress: Callable[[int, int, str], None] = lambda done, total, name: None) -> None:
    """Run every kind of stage once on mono and stereo, and the measures; `progress(done, total, name)` is told."""
    from .findings.report import measure_file
    from .measure.hearing import band_powers
    from .measure.loudness import measure_loudness

    noise = np.random.default_rng(0).standard_normal((2, _RATE // 4)) * 0.1
    kinds = [k for k in sorted(load_kinds()) if k != "split"]
    total = 2 * len(kinds) + 2
    for i, kind in enumerate(kinds):
        for channels in (1, 2):
            progress(2 * i + channels - 1, total, kind)
            _run(kind, np.ascontiguousarray(noise[:channels]))
    progress(total - 2, total, "loudness")
    measure_loudness(noise, _RATE)
    progress(total - 1, total, "measures")
    measure_file(np.ascontiguousarray(noise[:1]), _RATE)
    band_powers(noise, _RATE)
    progress(total, total, "")
    _STAMP.parent.mkdir(exist_ok=True)
    _STAMP.write_text(fingerprint())


def fingerprint() -> str:
    """Changes whenever a kernel, a stage or a measure does, and with the compiler."""
    root = Path(__file__).parent
    files = sorted([*root.glob("kernels/*.py"), *root.glob("stages/*.py"), *root.glob("measure/*.py")])
    return " ".join([version("numba"), *(f"{f.stat().st_mtime_ns}" for f in files)])


def is_warm() -> bool:
    """Whether everything has been compiled as it stands now."""
    return _STAMP.exists() and _STAMP.read_text() == fingerprint()


def _run(kind: str, sound: np.ndarray) -> None:
    cls, stage = Stage.kinds[kind], {"kind": kind, "id": "x"}
    for more in cls.also_warm:
        made = cls.model_validate({**stage, **more})
        made.build(_RATE, len(sound)).process(sound, sound if made.listens() else None)
    if cls.makes_up:
        cls.model_validate(stage).sketch(_RATE, len(sound)).process(sound)
    digest = "0" * 64
    held = {"digest": digest, "channels": len(sound), "frames": sound.shape[1]}
    session = Session.model_validate(
        {"name": "warm", "lanes": [{"id": "a", "name": "a", "sound": held, "stages": [stage]}]}
    )

    def read(_: str, start: int, stop: int) -> np.ndarray:
        return cut_padded(sound, start, stop)

    graph = Builder(session).build()
    Renderer(read, threads=1).loop(graph, graph.places["bus:mix:out"], 0, sound.shape[1])
