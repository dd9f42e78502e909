"""What is heard, piece by piece, for playing on and on."""

from collections.abc import Iterator

import numpy as np

from ..core.engine.giving_way import Cancel, Gate
from ..core.engine.stream import flow
from ..store.state import State
from .graphs import BandAlone, Hear, SongVariant, Variant
from .studio import Studio

SONG_RUN_IN_S = 1.0
SONG_FIRST_S = 1.5
HANDS = 2  # at its beginning, which is waited for
_SIDES: tuple[Variant, Variant] = ("untreated", "treated")


def song_pieces(
    studio: Studio,
    state: State,
    hear: Hear,
    lane: str,
    start: int,
    stop: int,
    variant: SongVariant,
    cancel: Cancel,
    band: BandAlone = ("", 0),
) -> Iterator[np.ndarray]:
    """Frames [start, stop) of what is heard, piece by piece (channels, n), for playing on and on."""
    if variant == "removed":
        sides = (song_pieces(studio, state, hear, lane, start, stop, side, cancel) for side in _SIDES)
        return _difference(*sides)
    studio.hurries()
    graph, target = studio.heard(state, hear, lane, variant, band)
    run_in = round(SONG_RUN_IN_S * graph.rate)
    renderer = studio.renderer(graph.rate)
    pieces = flow(graph, target, start, stop, renderer.read, run_in, cancel, renderer.states, HANDS)
    return _first_at_once(studio, pieces, round(SONG_FIRST_S * graph.rate), renderer.gate)


def _first_at_once(studio: Studio, pieces: Iterator[np.ndarray], frames: int, gate: Gate) -> Iterator[np.ndarray]:
    """The pieces; other rendering waits until so many frames of them are there."""
    given = 0
    while given < frames:
        with gate.urgent():
            piece = next(pieces, None)
        if piece is None:
            return
        given += piece.shape[1]
        yield piece
    for piece in pieces:
        studio.plays_on()
        yield piece


def _difference(one: Iterator[np.ndarray], other: Iterator[np.ndarray]) -> Iterator[np.ndarray]:
    """What is in `one` and not in `other`, both cut into pieces in their own way."""
    a, b = np.zeros((1, 0)), np.zeros((1, 0))
    while True:
        a = next(one, a) if a.shape[1] == 0 else a
        b = next(other, b) if b.shape[1] == 0 else b
        n = min(a.shape[1], b.shape[1])
        if n == 0:
            return
        yield a[:, :n] - b[:, :n]
        a, b = a[:, n:], b[:, n:]
