"""One file through one chain, wherever that is: the same bits on every machine, measured before and after."""

import atexit
import os
import shutil
import tempfile
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from ..core.audio import read_sound, resample
from ..core.findings.report import measure_file
from ..core.fitting import clarity_of_files
from ..core.mix.chain import Chain, read_chain
from ..core.mix.pasting import of_no_take
from ..core.process import process
from ..core.sound_writer import SoundWriter

FIGURES = ("lufs", "range_lu", "true_peak_dbtp", "sibilance_db", "noise_dbfs", "clarity")
SUFFIXES = (".wav", ".aif", ".aiff", ".flac", ".ogg", ".mp3", ".w64", ".caf")


@dataclass(frozen=True)
class Task:
    """What is to be done: the file by its name below the folder and its hash, the chain as JSON, the format.

    `measured`: starting points that depend on the take are measured for each. `music` is the hash of what is heard
    with it, "" for none.
    """

    name: str
    digest: str
    chain: str
    measured: bool
    format: str
    music: str = ""

    @property
    def output(self) -> str:
        """Name of the file that it makes, below the folder for these."""
        kind = self.format.partition("-")[0]
        stem, _, suffix = self.name.rpartition(".")
        return f"{stem}.{kind}" if suffix.lower() == kind else f"{stem} ({suffix.lower()}).{kind}"


def run_task(task: Task, source: Path, to: Path, music: Path | None) -> dict[str, Any]:
    """Make the file `to`; the figures of before and after, by name. MicLaneError where the file cannot be used."""
    clip = read_sound(source, task.name)
    heard = None
    if music is not None:
        other = read_sound(music, f"{task.name}, its music")
        heard = resample(other.audio, other.rate, clip.rate)
    chain = of_no_take(read_chain(task.chain))  # each file is another take
    if task.measured:
        chain = _own(source, task, chain, clip.rate)
    audio, _ = process(clip.audio, clip.rate, chain)
    bits = task.format.partition("-")[2]
    to.parent.mkdir(parents=True, exist_ok=True)
    part = to.with_name(f".part-{to.name}")  # its dither is that of the name without this
    try:
        writer = SoundWriter(part, clip.rate, audio.shape[0], int(bits or 32))  # type: ignore[arg-type]
        writer.write(audio)
        writer.close()
        part.replace(to)
    finally:
        part.unlink(missing_ok=True)
    figures = {f"{n}_before": v for n, v in _figures(clip.audio, clip.rate, heard).items()}
    figures |= {f"{n}_after": v for n, v in _figures(audio, clip.rate, heard).items()}
    return {"seconds": round(clip.seconds, 3), **figures, "clipped_samples": writer.clipped}


def run_bytes(task: Task, data: bytes, music: bytes | None = None) -> tuple[dict[str, Any], bytes]:
    """The same of files that came as bytes: figures, and the bytes of the file that was made."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        source, heard = folder / f"in{Path(task.name).suffix}", folder / "music"
        source.write_bytes(data)
        if music is not None:
            heard.write_bytes(music)
        to = folder / "out" / Path(task.output).name
        figures = run_task(task, source, to, heard if music is not None else None)
        return figures, to.read_bytes()


def _figures(audio: np.ndarray, rate: int, music: np.ndarray | None) -> dict[str, float | None]:
    told = measure_file(audio, rate)
    loud = [e["excess_db"] for e in told["events"] if e["kind"] == "sibilant"]
    clarity = None if music is None else clarity_of_files(audio, music, rate)
    figures = {
        "lufs": told["integrated_lufs"],
        "range_lu": told["loudness_range_lu"],
        "true_peak_dbtp": told["true_peak_dbtp"],
        "sibilance_db": max(loud, default=None),
        "noise_dbfs": told["noise_floor_dbfs"],
        "clarity": clarity,
    }
    return {n: round(float(v), 3) if v is not None and np.isfinite(v) else None for n, v in figures.items()}


@lru_cache(maxsize=1)
def own_studio() -> Any:
    """A studio of this process alone, in a folder that goes with it."""
    os.environ["MICLANE_MEASURE"] = "at-once"
    from ..studio.studio import Studio

    folder = Path(tempfile.mkdtemp(prefix="miclane-batch-"))
    studio = Studio(folder / "data", owner=True)
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    atexit.register(studio.close)
    return studio


def _own(source: Path, task: Task, chain: Chain, rate: int) -> Chain:
    """The chain with what depends on the take measured on this one, as “begin from this take” does."""
    from ..core.mix.document import Session
    from ..core.mix.pasting import copied_chain
    from ..core.mix.swapping import put_chain
    from ..studio.anew import anew
    from ..studio.importing import import_sound
    from ..studio.upkeep import forget_sound

    studio = own_studio()
    first = Session.model_validate({"name": "Batch", "rate": rate if rate in (44100, 48000, 88200, 96000) else 48000})
    state = studio.sessions.create(first)
    state, lane = import_sound(studio, state.id, source, task.name, "lead", take_short=True)
    try:
        state = studio.edit(state.id, put_chain(state.session, lane["id"], chain, "replace").edits)
        found = anew(studio, state, lane["id"])
        if found.edits:
            state = studio.edit(state.id, list(found.edits))
        return copied_chain(state.session, lane["id"], [])
    finally:
        studio.sessions.remove(state.id)
        forget_sound(studio, lane["sound"]["digest"])
