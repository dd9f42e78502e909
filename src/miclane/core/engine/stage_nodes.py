"""Stages as nodes of the graph: what they take from their lane and their song, and what names them."""

from functools import lru_cache

from ..same import Same, once_each
from ..stages.base import TAKEN, Stage
from ..stages.sending import Sending
from ..stages.split import Send, Split
from .graph import Node, digest_of


@lru_cache(maxsize=4096)
def stage_node(of: Same, into: str, channels: int, source: str, said: str, rate: int, song: tuple[float, str]) -> Node:
    """The node of a stage behind one of so many channels; `said` is its place and what else names its twins."""
    stage, settings, remembered, latency, memory_s = _facts(of, rate, song)
    return Node(
        digest_of("stage", settings, into, source, rate),
        (into,),
        stage.channels_out(channels),
        stage=stage,
        keyed_by=source,
        latency=latency,
        memory_s=memory_s,
        twin=digest_of(said, remembered, rate) if said else "",
    )


@once_each(512)
def opened(send: Send) -> Sending:
    """The stage that a send with throws is."""
    openings = [t.model_dump(exclude={"id"}) for t in send.throws]
    return Sending.model_validate({"level_db": send.level_db, "ramp_ms": send.ramp_ms, "openings": openings})


@lru_cache(maxsize=2048)
def stage_placed(of: Same, on: Same, rate: int) -> Stage:
    """A stage and what is inside it, with what they take from their lane."""
    stage, lane = of.it, on.it
    if isinstance(stage, Split):
        branches = tuple(
            b.model_copy(update={"stages": tuple(s.placed_on(lane, rate) for s in b.stages)}) for b in stage.branches
        )
        return stage.model_copy(update={"branches": branches})
    placed: Stage = stage.placed_on(lane, rate)
    return placed


def until_part(stages: tuple[Stage, ...], stage_id: str, band: int) -> tuple[Stage, ...]:
    """The stages before one, those of its branch included, and then one part of it alone; () if it is not there."""
    for k, stage in enumerate(stages):
        if stage.id == stage_id and isinstance(stage, Split) and 0 <= band < len(stage.branches):
            return (*stages[:k], *stage.branches[band].stages)
        if stage.id == stage_id and band == TAKEN:
            return (*stages[:k], stage)
        if stage.id == stage_id and (part := stage.heard_alone(band)) is not None:
            return (*stages[:k], part.model_copy(update={"id": stage.id}))
        for branch in stage.forks():
            inside = until_part(branch.stages, stage_id, band)
            if inside:
                return (*stages[:k], *inside)
    return ()


@lru_cache(maxsize=2048)
def _facts(of: Same, rate: int, song: tuple[float, str]) -> tuple[Stage, str, str, int, float]:
    """A stage in its song; digests of the settings that make its sound, and of those that make its states; latency in
    frames, memory in seconds."""
    stage: Stage = of.it.in_song(*song)
    without, what_stays = {"id", "name", "on"}, stage.remembers()
    settings = digest_of(stage.model_dump_json(exclude=without))
    remembered = settings if what_stays is stage else digest_of(what_stays.model_dump_json(exclude=without))
    return stage, settings, remembered, stage.latency_frames(rate), stage.memory_s()
