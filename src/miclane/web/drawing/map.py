"""The Map: every route from microphone to mix, sends, returns, buses and keys in one picture."""

from dataclasses import dataclass, field
from typing import Any

from ...core.mix.document import Lane, Return, Session
from ...core.stages.base import Stage
from ...core.stages.split import Split
from .paths import shorten

WIDE = 1240.0
MIC, FIRST, LAST, CONTROLS, TRUNKS, JOIN = 150.0, 180.0, 500.0, 560.0, 856.0, 912.0
BUS_X = (1168.0, 1066.0, 964.0)  # the mix, what feeds it, what feeds that
_HIGHEST, _LOWEST, _ROOM = 62.0, 27.0, 535.0
_ROOMY = 46.0


@dataclass
class Row:
    """A lane or return on the map."""

    member: Lane | Return
    name: str
    base: str
    y: float
    role: str
    stations: list[dict[str, Any]] = field(default_factory=list)

    @property
    def on_space(self) -> bool:
        """Whether it is shown on Space."""
        return isinstance(self.member, Return) and self.member.on_space


@dataclass
class Picture:
    """Everything drawn, in coordinates."""

    tall: float
    pitch: float
    roomy: bool
    rows: list[Row]
    buses: list[dict[str, Any]]
    joins: list[dict[str, Any]]
    sends: list[dict[str, Any]]
    keys: list[dict[str, Any]]


def lay_map(session: Session) -> Picture:
    """Places of all routes: voices, then returns, then the music; each return's sends and keys run in its own row."""
    voices = [x for x in session.lanes if x.role != "music"]
    music = [x for x in session.lanes if x.role == "music"]
    members: list[Lane | Return] = [*voices, *session.returns, *music]
    pitch = min(_HIGHEST, max(_LOWEST, _ROOM / max(len(members), 1)))
    rows, y = [], 30 + pitch / 2
    for m in members:
        lane = isinstance(m, Lane)
        name, base = (m.id, f"lanes/{m.id}") if lane else (f"return:{m.id}", f"returns/{m.id}")
        role = m.role if isinstance(m, Lane) else "return"
        rows.append(Row(m, name, base, y, role, _stations(m.stages, pitch >= _ROOMY)))
        y += pitch if role != "return" else pitch * 1.16
    tall = max(y + 10, 420.0)
    buses = _buses(session, rows, tall)
    places = {b["bus"].id: b for b in buses}
    joins = [_join(r.y, places[r.member.bus], r.role, r.member.mute) for r in rows]
    for b in buses:
        into = b["bus"].into
        if into:
            joins.append(_between(b, places[into]))
    by_id = {r.member.id: r for r in rows if r.role == "return"}
    sends, keys = _sends(rows, by_id, pitch), _keys(session, rows, pitch)
    return Picture(tall, pitch, pitch >= _ROOMY, rows, buses, joins, sends, keys)


def _stations(stages: tuple[Stage, ...], roomy: bool) -> list[dict[str, Any]]:
    step = min(58.0, (LAST - FIRST) / max(len(stages), 1))
    found = []
    for k, s in enumerate(stages):
        branches = len(s.branches) if isinstance(s, Split) else 0
        label = shorten(s.label, step - 2) if roomy and step >= 34 else ""
        found.append({"x": FIRST + (k + 0.5) * step, "stage": s, "label": label, "branches": branches, "step": step})
    return found


def _buses(session: Session, rows: list[Row], tall: float) -> list[dict[str, Any]]:
    into = {b.id: b.into for b in session.buses}

    def depth(name: str) -> int:
        return 0 if into[name] is None else 1 + depth(str(into[name]))

    places: dict[str, float] = {}
    for bus in sorted(session.buses, key=lambda b: -depth(b.id)):
        fed = [r.y for r in rows if r.member.bus == bus.id] + [
            places[b] for b in into if into[b] == bus.id and b in places
        ]
        places[bus.id] = sum(fed) / len(fed) if fed else tall / 2
    found = []
    for level in range(max((depth(b.id) for b in session.buses), default=0) + 1):
        column = sorted((b for b in session.buses if depth(b.id) == level), key=lambda b: places[b.id])
        last = -60.0
        for bus in column:
            last = max(places[bus.id], last + 58)
            x = BUS_X[level] if level < len(BUS_X) else BUS_X[-1] - 40 * (level - len(BUS_X) + 1)
            role = "music" if bus.id == "music" else "mix" if bus.id == "mix" else "voice"
            found.append({"bus": bus, "x": x, "y": last, "role": role, "name": shorten(bus.name, 84)})
    return found


def _join(y: float, to: dict[str, Any], role: str, muted: bool) -> dict[str, Any]:
    x1, x2 = JOIN, to["x"] - 8
    bend = (x2 - x1) / 2
    path = f"M{x1:.0f} {y:.1f}C{x1 + bend:.0f} {y:.1f} {x2 - bend:.0f} {to['y']:.1f} {x2:.0f} {to['y']:.1f}"
    return {"path": path, "role": role, "muted": muted}


def _between(one: dict[str, Any], to: dict[str, Any]) -> dict[str, Any]:
    x1, x2 = one["x"] + 8, to["x"] - 8
    bend = (x2 - x1) / 2
    path = (
        f"M{x1:.0f} {one['y']:.1f}C{x1 + bend:.0f} {one['y']:.1f} {x2 - bend:.0f} {to['y']:.1f} {x2:.0f} {to['y']:.1f}"
    )
    return {"path": path, "role": one["role"], "muted": one["bus"].mute}


def _sends(rows: list[Row], returns: dict[str, Row], pitch: float) -> list[dict[str, Any]]:
    """Of each return a trunk past the lanes that send to it, and a rail at the top of its own row back to its start."""
    found = []
    for k, (identifier, ret) in enumerate(returns.items()):
        taps = [
            {"y": r.y, "level_db": s.level_db, "name": r.member.name, "throws": len(s.throws), "on": s.on}
            for r in rows
            if isinstance(r.member, Lane)
            for s in r.member.sends
            if s.id == identifier
        ]
        if not taps:
            continue
        x, rail = TRUNKS + 9 * (k % 6), ret.y - pitch * 0.42
        ends = [r.y for r in rows if isinstance(r.member, Lane) and any(s.id == identifier for s in r.member.sends)]
        path = f"M{x:.0f} {min(ends):.1f}V{rail:.1f}H{MIC + 6:.0f}Q{MIC:.0f} {rail:.1f} {MIC:.0f} {rail + 6:.1f}"
        path += f"V{ret.y:.1f}"
        up = f"M{x:.0f} {max(ends):.1f}V{rail:.1f}" if max(ends) > rail else ""
        found.append({"path": path, "up": up, "x": x, "taps": taps, "name": ret.member.name})
    return found


def _keys(session: Session, rows: list[Row], pitch: float) -> list[dict[str, Any]]:
    """Of each stage that listens to other lanes a dashed line from them to it, along the foot of its row."""
    lanes = {r.member.id: r for r in rows if isinstance(r.member, Lane)}
    found: list[dict[str, Any]] = []
    for row in rows:
        for s in row.stations:
            stage = s["stage"]
            keys = [k for k in (stage.listens(), *stage.listens_also()) if k is not None] if stage.on else []
            meant = dict.fromkeys(lane for k in keys for lane in session.meant_by(k))
            keyed = [lanes[lane] for lane in meant if lane in lanes and lane != row.member.id]
            if not keyed:
                continue
            x, foot = LAST + 14 + 7 * (len(found) % 5), row.y + pitch * 0.3
            ends = [r.y for r in keyed]
            path = f"M{x:.0f} {min(ends):.1f}V{max(foot, *ends):.1f}M{x:.0f} {foot:.1f}H{s['x']:.1f}V{row.y + 7:.1f}"
            names = " and ".join(r.member.name for r in keyed)
            what = "is held down by" if stage.ducks else f"listens, in {stage.label}, to"
            words = f"{row.member.name} {what} {names}"
            found.append({"path": path, "dots": [(x, r.y) for r in keyed], "name": words})
    return found
