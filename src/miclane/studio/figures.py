"""How loud what is heard is, and by how much a side of a comparison is turned to be as loud as the other."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np

from ..core.measure.equal import gain_db
from ..core.measure.loudness import integrated_lufs, true_peak_dbtp
from ..store.state import State
from .graphs import BandAlone, Hear, Variant
from .studio import Studio


@dataclass(frozen=True)
class Figures:
    """Loudness of a range, treated and untreated, and the gain that makes the untreated as loud."""

    lufs: float
    true_peak_dbtp: float
    untreated_lufs: float
    match_db: float


def figures(
    studio: Studio,
    state: State,
    hear: Hear,
    lane: str,
    start: int,
    stop: int,
    loop: tuple[int, int],
    against: Variant = "untreated",
    band: BandAlone = ("", 0),
) -> Figures:
    """Loudness of the loop treated and untreated; rendered over [start, stop) so that nothing is done twice."""
    sides: tuple[Variant, Variant] = ("treated", against)
    keys = [studio.heard(state, hear, lane, side, band)[1] for side in sides]

    def heard(side: Variant) -> np.ndarray:
        found = studio.range(state, hear, lane, start, stop, side, band=band)
        return found.audio[:, max(0, loop[0] - start) : loop[1] - start]

    rate = state.session.rate
    treated, untreated = (
        loudness(studio, key, loop, rate, partial(heard, side)) for key, side in zip(keys, sides, strict=True)
    )
    peak = studio.measured.get(("peak", keys[0], loop), lambda: true_peak_dbtp(heard("treated"), rate))
    return Figures(treated, peak, untreated, gain_db(untreated, treated))


def match_db(
    studio: Studio,
    state: State,
    hear: Hear,
    lane: str,
    loop: tuple[int, int],
    variant: Variant,
    band: BandAlone = ("", 0),
) -> float:
    """By how much a side of a comparison is turned over a loop: as loud as what it is compared with.

    A variant is compared with what is treated; an alternative with what is beneath it.
    """

    def lufs(seen: State, side: Variant) -> float:
        graph, key = studio.heard(seen, hear, lane, side, band)

        def heard() -> np.ndarray:
            return studio.sound(seen, hear, lane, *loop, side, band=band)

        return loudness(studio, key, loop, graph.rate, heard)

    beneath = state if variant != "treated" else studio.sessions.get(state.id)
    return gain_db(lufs(state, variant), lufs(beneath, "treated"))


def loudness(studio: Studio, key: str, loop: tuple[int, int], rate: int, heard: Callable[[], np.ndarray]) -> float:
    """Integrated loudness of a node over a loop, which is `heard` when it is not known yet."""
    return studio.measured.get(("lufs", key, loop), lambda: integrated_lufs(heard(), rate))
