"""One file through one chain, without a session: what the command line does."""

from typing import Any

import numpy as np

from .audio import cut_padded
from .engine.builder import Builder
from .engine.graph import Graph
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
from .stages.tune import Tune

_FILE, _KEY, _ON_ITS_WAY, _LEAST_POWER = "0" * 64, "1" * 64, "2" * 64, 1e-10
_LONGEST_TAIL_S = 60.0  # of each stage
_BEYOND_S = 1.0  # of what comes into a stage, for the look-ahead of those after it


def process(
    audio: np.ndarray, rate: int, chain: Chain, key: np.ndarray | None = None, traces: bool = False
) -> tuple[np.ndarray, list[dict[str, Any]]]:
    """`audio` (channels, frames) through the chain; aligned to the input and as long as it plus the chain's tail.

    `key` is what keyed stages hear (the sound itself when there is none). With `traces`, what every stage did.
    Stages with `auto_makeup` are matched to this file, an EQ only where the chain says so: one that says nothing of it
    has the gain of its bands and no other. A tune that has no notes gets those of this file.
    """
    stages = with_ids([_plain(s) for s in _with_notes(chain, audio, rate)])
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

    sounds = {_FILE: audio} | ({_KEY: key} if key is not None else {})

    def read(digest: str, start: int, stop: int) -> np.ndarray:
        return cut_padded(sounds[digest], start, stop)

    tail = sum(min(s.at_tempo(session.tempo_bpm).tail_s(), _LONGEST_TAIL_S) for s in chain.stages if s.on)
    total = audio.shape[1] + round(tail * rate)
    session = _made_up(session, audio, rate, total, sounds, read, traces)
    graph = _graph(session, rate)
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


def _with_notes(chain: Chain, audio: np.ndarray, rate: int) -> list[Stage]:
    """The stages, those that work on notes and have none with those of this file."""
    if not any(isinstance(s, Tune) and not s.notes for s in chain.stages):
        return list(chain.stages)
    from .measure.notes import with_notes  # which other chains need not wait for

    return [with_notes(s, audio, rate) for s in chain.stages]


def _plain(stage: Stage) -> dict[str, Any]:
    """A stage as JSON data, itself and what is inside it."""
    tree = stage.model_dump(mode="json")
    if isinstance(stage, Eq) and "auto_makeup" not in stage.model_fields_set:
        tree["auto_makeup"] = False
    for branch, inside in zip(stage.forks(), tree.get("branches", ()), strict=False):
        inside["stages"] = [_plain(s) for s in branch.stages]
    return tree


def _graph(session: Session, rate: int) -> Graph:
    builder = Builder(session)
    builder.graph.rate = rate
    return builder.build()


def _made_up(
    session: Session,
    audio: np.ndarray,
    rate: int,
    total: int,
    sounds: dict[str, np.ndarray],
    read: SoundReader,
    whole: bool,
) -> Session:
    """The session with the makeup of every stage that makes up its own level, by the loudness of the file.

    What came into the last of them was rendered for it, for `total` frames: where nothing behind it listens to the file
    itself, and unless the `whole` chain is wanted, the session begins there, with that among the sounds.
    """
    frames, beyond = audio.shape[1], total + round(_BEYOND_S * rate)

    def spectrum_of(lane: Lane) -> np.ndarray | None:
        if lane.id != "file":
            return None
        power = middle_and_side_power(audio, rate, [Span(0, frames)])
        return power if power.max() > _LEAST_POWER else None

    if edits := makeup_edits(session, [Set(path="lanes/file")], spectrum_of):
        session = apply(session, edits).session
    at = ""

    def coming_in(now: Session, path: Path, stage: str) -> np.ndarray:
        nonlocal at
        graph = _graph(_from(now, at, sounds), rate)
        end = graph.places[f"{path.place}:before:{stage}"]
        found = np.concatenate([block for (block,) in stream(graph, [end], beyond, read)], axis=1)
        stages = [s.id for s in now.lane("file").stages]
        if not whole and stage in stages and not _listens(now.lane("file").stages[stages.index(stage) :]):
            at, sounds[_ON_ITS_WAY] = stage, found
        return found[:, :frames]

    edits = match_edits(session, lambda path, stage: True, coming_in, rate)
    return _from(apply(session, edits).session if edits else session, at, sounds)


def _from(session: Session, stage: str, sounds: dict[str, np.ndarray]) -> Session:
    """The session with the file's chain from a stage on, and what comes into that as its sound."""
    if not stage:
        return session
    lane, found = session.lane("file"), sounds[_ON_ITS_WAY]
    first = next(i for i, s in enumerate(lane.stages) if s.id == stage)
    sound = Sound(digest=_ON_ITS_WAY, channels=found.shape[0], frames=found.shape[1])
    cut = lane.model_copy(update={"sound": sound, "stages": lane.stages[first:]})
    return session.model_copy(update={"lanes": tuple(cut if one is lane else one for one in session.lanes)})


def _listens(stages: tuple[Stage, ...]) -> bool:
    """Whether any of these stages, or of those inside them, listens to a key."""
    return any(s.listens() is not None or any(_listens(b.stages) for b in s.forks()) for s in stages)


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
