"""Pockets that are there: keyed dynamic bands of EQs on whatever is heard, and what they take over a loop."""

from dataclasses import dataclass

import numpy as np

from ..core.measure.hearing import HOP_S
from ..core.mix.document import Bus, Lane, Return
from ..core.mix.paths import find_path, path_names, placed_stages
from ..core.stages.eq import Band, Eq
from ..store.state import State
from .studio import Studio

_OPEN_SHARE = 0.9  # of its depth, at which a pocket is open


@dataclass(frozen=True)
class PocketBand:
    """One band of a pocket: its edges, and its gain in dB every 20 ms of the loop."""

    number: int
    band: Band
    low_hz: float
    high_hz: float
    gain_db: np.ndarray


@dataclass(frozen=True)
class Pocket:
    """An EQ that listens to something else, and its bands that do."""

    path: str
    member: Lane | Return | Bus
    stage: Eq
    place: str
    bands: tuple[PocketBand, ...]


def pockets(studio: Studio, state: State, first: int, last: int) -> list[Pocket]:
    """All pockets of a session, over frames [first, last) of the mix; one that is off takes nothing."""
    session, found = state.session, []
    listening = [
        (path, stage, place)
        for path in (find_path(session, name) for name in path_names(session))
        for stage, place in placed_stages(path)
        if isinstance(stage, Eq) and stage.listens() is not None
    ]
    if not listening:
        return []
    graph = studio.graph(state)
    heard = studio.range(state, "mix", "", first, last)
    count = max(1, round((last - first) / graph.rate / HOP_S))
    for path, stage, place in listening:
        trace = heard.trace(graph.places[f"{path.place}:stage:{stage.id}"]) if stage.on else None
        channels = graph.nodes[graph.places[f"{path.place}:before:{stage.id}"]].channels
        moving = [b for b in stage.moving_bands if channels == 2 or b.target in ("stereo", "middle")]
        rows = trace.parts_db if trace is not None else None
        bands = []
        for k, band in enumerate(moving):
            if band.dynamic is None or band.dynamic.keyed_by != "key":
                continue
            gain = np.zeros(count)
            if trace is not None and rows is not None and rows.shape[1]:
                at = (first + (np.arange(count) + 0.5) * HOP_S * graph.rate - trace.start) / trace.hop
                gain = rows[k][np.clip(at.astype(int), 0, rows.shape[1] - 1)]
            half = 1 / (2 * band.q)
            wide = float(np.sqrt(1 + half * half) + half)
            bands.append(
                PocketBand(stage.bands.index(band), band, band.frequency_hz / wide, band.frequency_hz * wide, gain)
            )
        if bands:
            found.append(Pocket(path.name, path.member, stage, place, tuple(bands)))
    return found


def held_db(band: PocketBand) -> float | None:
    """The middle gain of a band while it is open; None where it never is."""
    depth = band.band.dynamic.change_db if band.band.dynamic else 0.0
    is_open = np.abs(band.gain_db) >= _OPEN_SHARE * abs(depth)
    return float(np.median(band.gain_db[is_open])) if depth and is_open.any() else None
