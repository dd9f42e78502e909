"""One file through one chain, without a session: what the command line does."""

from typing import Any

import numpy as np

from .audio import cut_padded
from .engine.graph import Builder
from .engine.render import Renderer, SoundReader
from .engine.stream import stream
from .measure.makeup import makeup_edits
from .measure.matching import match_edits
from .measure.phrases import Span
from .measure.spectrum import middle_and_side_power
from .mix.chain import Chain
from .mix.document import Bus, Lane, Session, Sound
from .mix.edits import Set, apply, with_ids
from .mix.paths import Path
from .stages.base import Key, Stage
from .stages.eq import Eq

_FILE, _KEY, _LEAST_POWER = "0" * 64, "1" * 64, 1e-10
_LONGEST_TAIL_S = 60.0  # of each stage


def process(
    audio: np.ndarray, rate: int, chain: Chain, key: np.ndarray | None = None, traces: bool = False
) -> tuple[np.ndarray, list[dict[str, Any]]]:
    """`audio` (channels, frames) through the chain; aligned to the input and as long as it plus the chain's tail.

    `key` is what keyed stages hear (the sound itself when there is none). With `traces`, what every stage did.
    Stages with `auto_makeup` are matched to this file, an EQ only where the chain says so: one that says nothing of it
    has the gain of its bands and no other.
    """
    stages = with_ids([_plain(s) for s in chain.stages])
    for i, stage in enumerate(stages):
        stage["id"] = f"n{i}"
        for b, branch in enumerate(stage.get("branches", [])):
            branch["id"] = f"n{i}b{b}"
            for k, inner in enumerate(branch["stages"]):
                inner["id"] = f"n{i}b{b}s{k}"
    _key_to(stages, "key" if key is not None else "file")
    lanes = [_lane("key", _KEY, key, [])] if key is not None else []
    lanes.append(_lane("file", _FILE, audio, stages))
    session = Session.model_validate(
        {"name": "file", "rate": 48000, "lanes": lanes, "buses": [Bus(id="mix", name="Mix", into=None)]}
    )

    def read(digest: str, start: int, stop: int) -> np.ndarray:
        found = audio if digest == _FILE else key
        assert found is not None
        return cut_padded(found, start, stop)

    tail = sum(min(s.at_tempo(session.tempo_bpm).tail_s(), _LONGEST_TAIL_S) for s in chain.stages if s.on)
    total = audio.shape[1] + round(tail * rate)
    session = _made_up(session, audio, rate, read)
    builder = Builder(session)
    builder.graph.rate = rate
    graph = builder.build()
    end = graph.places["lane:file:treated"]
    if not traces:
        out, at = np.empty((graph.nodes[end].channels, total)), 0
        for (block,) in stream(graph, [end], total, read):
            out[:, at : at + block.shape[1]] = block
            at += block.shape[1]
        return out, []
    found = Renderer(read).loop(graph, end, 0, total)
    told = []
    for place, node_key in graph.places.items():
        trace = found.trace(node_key) if ":stage:" in place else None
        node = graph.nodes[node_key]
        if trace is None or node.stage is None or place.rsplit(":", 1)[1] != node.stage.id:
            continue
        level = [10 * np.log10(np.maximum(x, 1e-20)) for x in (trace.mean_square_in, trace.mean_square_out)]
        told.append(
            {
                "stage": node.stage.id,
                "kind": node.stage.kind,
                "name": node.stage.label,
                "points_per_s": rate / trace.hop,
                "gain_db": None if trace.gain_db is None else [round(float(v), 4) for v in trace.gain_db],
                "level_in_db": [round(float(v), 3) for v in level[0]],
                "level_out_db": [round(float(v), 3) for v in level[1]],
            }
        )
    return found.audio, told


def _plain(stage: Stage) -> dict[str, Any]:
    """A stage as JSON data, itself and what is inside it."""
    tree = stage.model_dump(mode="json")
    if isinstance(stage, Eq) and "auto_makeup" not in stage.model_fields_set:
        tree["auto_makeup"] = False
    for branch, inside in zip(stage.forks(), tree.get("branches", ()), strict=False):
        inside["stages"] = [_plain(s) for s in branch.stages]
    return tree


def _made_up(session: Session, audio: np.ndarray, rate: int, read: SoundReader) -> Session:
    """The session with the makeup of every stage that makes up its own level, by the loudness of the file."""
    frames = audio.shape[1]
    power = middle_and_side_power(audio, rate, [Span(0, frames)])

    def spectrum_of(lane: Lane) -> np.ndarray | None:
        return power if lane.id == "file" and power.max() > _LEAST_POWER else None

    if edits := makeup_edits(session, [Set(path="lanes/file")], spectrum_of):
        session = apply(session, edits).session

    def coming_in(now: Session, path: Path, stage: str) -> np.ndarray:
        builder = Builder(now)
        builder.graph.rate = rate
        graph = builder.build()
        key = graph.places[f"{path.place}:before:{stage}"]
        return np.concatenate([block for (block,) in stream(graph, [key], frames, read)], axis=1)

    edits = match_edits(session, lambda path, stage: True, coming_in, rate)
    return apply(session, edits).session if edits else session


def _lane(identifier: str, digest: str, audio: np.ndarray | None, stages: list[dict[str, Any]]) -> Lane:
    assert audio is not None
    sound = Sound(digest=digest, channels=audio.shape[0], frames=audio.shape[1])
    return Lane.model_validate({"id": identifier, "name": identifier, "bus": "mix", "sound": sound, "stages": stages})


def _key_to(stages: list[dict[str, Any]], lane: str) -> None:
    for stage in stages:
        if stage.get("key"):
            stage["key"] = Key(lane=lane, tap="raw").model_dump()
        for branch in stage.get("branches", []):
            _key_to(branch["stages"], lane)
