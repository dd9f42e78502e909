"""Room: how full every bus is, and who fills it."""

from dataclasses import dataclass
from functools import partial

import numpy as np

from ..core.engine.giving_way import Cancel
from ..core.engine.graph import Gains, Graph
from ..core.engine.range import Range
from ..core.measure.loudness import true_peak_dbtp
from ..core.mix.document import Bus, Lane, Return, Session
from ..core.stages.limiter import Limiter
from ..core.units import SILENT_DB
from ..store.state import State
from .figures import loudness
from .recent import Recent
from .studio import Studio

_NEAR_TOP = 0.9  # of the highest sample: where it is asked who brings it there
_LEAST_SHARE = 0.05
_peaks: Recent[float] = Recent(200)


@dataclass(frozen=True)
class Room:
    """A bus over a loop. Levels of what comes out of it, after its fader.

    `headroom_db` is what is left under its ceiling (that of the last limiter on it, else full scale); `over` how many
    samples of what comes in stand over full scale; `brings` who makes its highest peaks, with the share of them, from
    the most on.
    """

    bus: Bus
    lufs: float
    true_peak_dbtp: float
    crest_db: float | None
    ceiling_dbtp: float
    headroom_db: float
    over: int
    brings: tuple[tuple[str, float], ...]


def rooms(studio: Studio, state: State, first: int, last: int, cancel: Cancel | None = None) -> list[Room]:
    """All buses over frames [first, last), each after those that feed it; those that are silent among them."""
    graph = studio.graph(state)
    found = studio.range(state, "mix", "", first, last, cancel=cancel)
    deep = {b.id: len(state.session.buses_from(b.id)) for b in state.session.buses}
    ordered = sorted(state.session.buses, key=lambda b: -deep[b.id])
    return [_room(studio, state.session, graph, found, bus, (first, last)) for bus in ordered]


def _room(studio: Studio, session: Session, graph: Graph, found: Range, bus: Bus, span: tuple[int, int]) -> Room:
    ceiling = next((s.ceiling_dbtp for s in reversed(bus.stages) if s.on and isinstance(s, Limiter)), 0.0)
    key = graph.places[f"bus:{bus.id}:out"]
    places = graph.places_over(*span)
    raw = graph.nodes[places[f"bus:{bus.id}:raw"]]
    if not found.has(key) or not found.has(raw.key):  # it is not heard
        return Room(bus, SILENT_DB * 2, -200.0, None, ceiling, ceiling + 200.0, 0, ())
    sound, coming = found.cut(key), found.cut(raw.key)
    lufs = loudness(studio, key, span, graph.rate, partial(found.cut, key))
    peak = _peaks.get((key, *span), lambda: true_peak_dbtp(sound, graph.rate))
    rms = 10 * np.log10(max(float(np.mean(sound**2)), 1e-20))
    over = int((np.abs(coming) > 1.0).any(axis=0).sum())
    crest = peak - rms if peak > -100 else None
    groups = (("lane", session.lanes), ("return", session.returns), ("bus", session.buses))
    names = {places[f"{kind}:{x.id}:out"]: x.name for kind, group in groups for x in group if _feeds(x, bus)}
    one = [(raw.key, (1.0, 1.0))]  # what comes out of it comes in here as it is
    fed = one if raw.key in names else list(zip(raw.inputs, raw.gains, strict=True))
    brought = _brought(fed, coming, found, names)
    return Room(bus, lufs, peak, crest, ceiling, ceiling - peak, over, brought)


def _feeds(member: Lane | Return | Bus, bus: Bus) -> bool:
    return (member.into if isinstance(member, Bus) else member.bus) == bus.id


def _brought(
    fed: list[tuple[str, Gains]], coming: np.ndarray, found: Range, names: dict[str, str]
) -> tuple[tuple[str, float], ...]:
    """Shares of what feeds a bus in its highest samples, over both sides."""
    top = float(np.abs(coming).max(initial=0.0))
    if top < 1e-6:
        return ()
    side, at = np.nonzero(np.abs(coming) >= _NEAR_TOP * top)
    whole, shares = coming[side, at], []
    for key, gain in fed:
        part = found.cut(key)
        mine = part[np.minimum(side, part.shape[0] - 1), at] * np.array(gain)[side]
        shares.append((names.get(key, "?"), float(np.mean(mine / whole))))
    return tuple(sorted((s for s in shares if s[1] >= _LEAST_SHARE), key=lambda s: -s[1]))
