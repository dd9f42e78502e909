"""Builds the graph of a session that is set in one way: what feeds what, what is left out, what is heard alone."""

import math
from itertools import islice
from typing import NamedTuple

from ..errors import UnusableChainError
from ..mix.document import Lane, Session
from ..mix.paths import place_of
from ..same import Same
from ..stages.base import TAKEN, Key, Stage
from ..stages.flat import flat_stages
from ..stages.split import BranchSend, Send, Split
from ..units import SILENT_DB, amplitude
from .graph import Gains, Graph, Node, digest_of, summed
from .stage_nodes import opened, stage_node, stage_placed, until_part


def pan_gains(pan: float, channels: int) -> Gains:
    """Gains of left and right of a take of so many channels, whatever its stages make of it.

    Mono: constant power, −3 dB in the middle, so its loudness stays, also where a stage makes two sides of it; stereo:
    balance.
    """
    if channels == 1:
        angle = (pan + 1) * math.pi / 4
        return math.cos(angle), math.sin(angle)
    return min(1.0, 1 - pan), min(1.0, 1 + pan)


Branched = tuple[BranchSend, str, float]  # what a branch sends, from which key, how loud the branch is


class _Made(NamedTuple):
    """What was built of a lane."""

    lane: Lane
    places: dict[str, str]
    apart: list[Branched]


class PlainBuilder:
    """Builds the graph of a session that is set in one way, into `graph` where that is given (see builder.Builder).

    `untreated` names the path (as mix.paths does) whose stages are left out ("*" for all vocal lanes, "**" for
    everything, returns are silent then); `unducked` leaves all duckers out; `alone` a path, a stage on it and a part of
    that: the path then ends with the part alone. The parts of an EQ or a multiband are its bands; of a split its
    branches; of a de-esser or plosive stage, HEARD (what it listens to) and TAKEN (what it takes). `duck_first` puts
    every return's ducker before its effect, to hear and see why it does not belong there. `bypass`, a path and a stage
    on it, or `branch:` and a branch, leaves that out.
    `name` tells the twins of this session from those of others; without one there are none, and no states are left.
    """

    def __init__(
        self,
        session: Session,
        untreated: str = "",
        unducked: bool = False,
        alone: tuple[str, str, int] | None = None,
        duck_first: bool = False,
        bypass: tuple[str, str] | None = None,
        name: str = "",
        graph: Graph | None = None,
    ) -> None:
        self.session = session
        self._said = digest_of(name, untreated, unducked, alone, duck_first, bypass) if name else ""
        self.alone = alone
        self.untreated = untreated
        self.unducked = unducked
        self.duck_first = duck_first
        self.bypass = (place_of(bypass[0]), bypass[1]) if bypass else None
        shared = graph or Graph(session.rate, session.frames)
        self.graph = Graph(shared.rate, shared.frames, shared.nodes)
        self.made: dict[str, _Made] = {}  # by lane
        self.apart: dict[str, list[Branched]] = {}  # what branches of a path send, and how loud they are

    def build(self, like: "PlainBuilder | None" = None) -> Graph:
        """Graph with places `PATH:raw|treated|out`, `PATH:before|stage:STAGE`, `PATH:branch:BRANCH`.

        PATH is `lane:ID`, `return:ID` or `bus:ID`; the raw sound of the latter two is what is sent or fed to them. What
        is in common with `like`, built into the same graph and told the same, is not made twice.
        """
        session, places = self.session, self.graph.places
        feeds: dict[str, list[tuple[str, Gains]]] = {bus.id: [] for bus in session.buses}
        sends: dict[str, list[tuple[str, Gains]]] = {r.id: [] for r in session.returns}
        for lane in session.lanes:
            self._source(lane)
        for lane in self._in_order():
            self._lane(lane, like.made.get(lane.id) if like is not None else None)
        hushed = session.hushed
        for lane in session.lanes:
            if lane.mute or lane.id in hushed or lane.sound is None:
                continue
            feeds[lane.bus].append((places[f"lane:{lane.id}:out"], (1.0, 1.0)))
            for send in lane.sends:
                tap = places[f"lane:{lane.id}:{'placed' if send.pre_fader else 'out'}"]
                if send.raw:
                    tap = self._raw_tap(lane, send)
                if send.on and send.throws:
                    thrown = self._stage(opened(send), tap, f"{lane.id} to {send.id}")
                    sends[send.id].append((thrown, (1.0, 1.0)))
                elif send.on and send.level_db > SILENT_DB:
                    gain = amplitude(send.level_db)
                    sends[send.id].append((tap, (gain, gain)))
            for branched, end, blend in self.apart.get(f"lane:{lane.id}", []):
                fader = 1.0 if branched.pre_fader else amplitude(lane.fader_db)
                gain = amplitude(branched.level_db) * blend * fader
                left, right = pan_gains(lane.pan, self._taken_in(lane))
                sends[branched.id].append((end, (gain * left, gain * right)))
        for ret in session.returns:
            stages = ret.stages
            if self.duck_first:
                stages = tuple(sorted(stages, key=lambda s: not s.ducks))
            last = self._path(f"return:{ret.id}", stages, self._sum(sends[ret.id]))
            gain = amplitude(ret.fader_db)
            places[f"return:{ret.id}:out"] = self._sum([(last, (gain, gain))])
            if not ret.mute and self.untreated != "**":
                feeds[ret.bus].append((places[f"return:{ret.id}:out"], (1.0, 1.0)))
        for bus_id in self._bus_order():
            bus = next(b for b in session.buses if b.id == bus_id)
            skip = self.untreated == "**"
            last = self._path(f"bus:{bus_id}", bus.stages, self._sum(feeds[bus_id]), skip=skip)
            gain = amplitude(bus.fader_db)
            places[f"bus:{bus_id}:out"] = self._sum([(last, (gain, gain))])
            if bus.into and not bus.mute:
                feeds[bus.into].append((places[f"bus:{bus_id}:out"], (1.0, 1.0)))
        return self.graph

    def stem(self, target: str, bus_id: str) -> str:
        """The key of a place as it comes out of the mix: through the faders and linear stages of its buses."""
        key = self.graph.places[target]
        for bus in self.session.buses_from(bus_id):
            linear = tuple(s for s in bus.stages if s.on and s.linear)
            key = self._chain(f"stem:{target}:{bus.id}", linear, key)
            gain = amplitude(bus.fader_db)
            key = self._sum([(key, (gain, gain))])
        return key

    def stems(self) -> dict[str, str]:
        """Every lane and return that is heard, by the name of its path: its key as it comes out of the mix."""
        session, hushed = self.session, self.session.hushed
        heard = [x for x in session.lanes if x.sound is not None and not x.mute and x.id not in hushed]
        found = {x.id: (f"lane:{x.id}:out", x.bus) for x in heard}
        found |= {f"return:{r.id}": (f"return:{r.id}:out", r.bus) for r in session.returns if not r.mute}
        muted = {bus.id for bus in session.buses if bus.mute and bus.into}
        return {
            name: self.stem(place, bus)
            for name, (place, bus) in found.items()
            if not muted.intersection(b.id for b in session.buses_from(bus))
        }

    def together(self, keys: list[str], channels: int = 2) -> str:
        """The key of a sum of these; of no channels, it is only there to have all of them rendered at once."""
        return self._sum([(key, (1.0, 1.0)) for key in keys], channels)

    def _bus_order(self) -> list[str]:
        depth = {}
        into = {bus.id: bus.into for bus in self.session.buses}
        for bus_id in into:
            at, steps = bus_id, 0
            while into[at] is not None:
                at, steps = into[at] or "", steps + 1
                if steps > len(into):
                    raise UnusableChainError(f"bus “{bus_id}” feeds itself: nothing can be heard of it")
            depth[bus_id] = steps
        return sorted(depth, key=lambda b: -depth[b])

    def _in_order(self) -> list[Lane]:
        """The lanes, each after those it listens to."""
        waiting = list(self.session.lanes)
        placed: list[Lane] = []
        names = {lane.id for lane in waiting}
        while waiting:
            there = {p.id for p in placed}
            ready = [x for x in waiting if not (self.session.hears(x.stages) & names) - there - {x.id}]
            if not ready:
                lost = " and ".join(f"“{x.name}”" for x in waiting[:4])
                raise UnusableChainError(f"{lost} listen to one another: none of them can be heard first")
            placed += ready
            gone = {x.id for x in ready}
            waiting = [x for x in waiting if x.id not in gone]
        return placed

    def _taken_in(self, lane: Lane) -> int:
        """Channels of a lane's take."""
        return lane.sound.channels if lane.sound else 1

    def _source(self, lane: Lane) -> None:
        digest = lane.sound.digest if lane.sound else ""
        source = Node(digest_of("source", digest, self.session.rate), channels=self._taken_in(lane), digest=digest)
        self.graph.places[f"lane:{lane.id}:raw"] = self.graph.add(source)

    def _lane(self, lane: Lane, before: "_Made | None" = None) -> None:
        """Its stages, fader and pan; taken from `before` where that is the same and nothing else comes into it."""
        places, path, begun = self.graph.places, f"lane:{lane.id}", len(self.graph.places)
        if before is not None and before.lane is lane and not self.session.hears(lane.stages) - {lane.id}:
            self.made[lane.id] = before
            places.update(before.places)
            self.apart |= {path: before.apart} if before.apart else {}
            return
        on, rate = Same(lane), self.session.rate
        stages = tuple(stage_placed(Same(s), on, rate) for s in lane.stages)
        skip = self.untreated == "**" or (self.untreated == "*" and lane.role != "music")
        last = self._path(path, stages, places[f"{path}:raw"], lane.id, skip)
        gain = amplitude(lane.fader_db)
        left, right = pan_gains(lane.pan, self._taken_in(lane))
        places[f"{path}:placed"] = self._sum([(last, (left, right))])
        places[f"{path}:out"] = self._sum([(last, (gain * left, gain * right))])
        made = dict(islice(places.items(), begun, None))
        self.made[lane.id] = _Made(lane, made, self.apart.get(path, []))

    def _raw_tap(self, lane: Lane, send: Send) -> str:
        raw = self.graph.places[f"lane:{lane.id}:raw"]
        gain = 1.0 if send.pre_fader else amplitude(lane.fader_db)
        left, right = pan_gains(lane.pan, self._taken_in(lane))
        return self._sum([(raw, (gain * left, gain * right))])

    def _path(self, place: str, stages: tuple[Stage, ...], raw: str, name: str = "", skip: bool = False) -> str:
        """The end of a path after its stages, or after what is to be heard of them; `raw` and `treated` are placed."""
        places, name = self.graph.places, name or place
        places[f"{place}:raw"] = raw
        alone = self.alone if self.alone and self.alone[0] == name else None
        if alone:
            stages = until_part(stages, *alone[1:]) or stages
        last = raw if skip or self.untreated == name else self._chain(place, stages, raw)
        if alone and alone[2] == TAKEN:
            before, after = (places.get(f"{place}:{where}:{alone[1]}", last) for where in ("before", "stage"))
            given = next((s.static_gain_db() for s in flat_stages(stages) if s.id == alone[1] and s.on), 0.0)
            rest = -amplitude(-given)
            last = self._sum([(before, (1.0, 1.0)), (after, (rest, rest))], self.graph.nodes[after].channels)
        places[f"{place}:treated"] = last
        return last

    def _sum(self, parts: list[tuple[str, Gains]], channels: int = 2) -> str:
        if len(parts) == 1 and parts[0][1] == (1.0, 1.0) and self.graph.nodes[parts[0][0]].channels == channels:
            return parts[0][0]  # nothing is made of it: a node would copy every frame
        inputs, gains = tuple(k for k, _ in parts), tuple(g for _, g in parts)
        return self.graph.add(summed(inputs, gains, channels))

    def _chain(self, path: str, stages: tuple[Stage, ...], into: str) -> str:
        for stage in stages:
            self.graph.places[f"{path}:before:{stage.id}"] = into
            if (path, stage.id) == self.bypass:
                pass
            elif isinstance(stage, Split):
                into = self._split(path, stage, into)
            elif stage.on and not (self.unducked and stage.ducks):
                into = self._stage(stage, into, f"{path}:{stage.id}")
            self.graph.places[f"{path}:stage:{stage.id}"] = into
        return into

    def _split(self, path: str, split: Split, into: str) -> str:
        dry = amplitude(split.dry_db)
        parts = [(into, (dry, dry))]
        for branch in split.branches:
            end = self._chain(path, branch.stages, into)
            blend = amplitude(branch.blend_db)
            self.graph.places[f"{path}:branch:{branch.id}"] = end
            if branch.on and split.on and self.bypass != (path, f"branch:{branch.id}"):
                parts.append((end, (blend, blend)))
                heard = [(s, end, blend) for s in branch.sends if s.on and s.level_db > SILENT_DB]
                self.apart.setdefault(path, []).extend(heard)
        if not split.on:
            return into
        return self._sum(parts, max(self.graph.nodes[k].channels for k, _ in parts))

    def _heard(self, keys: list[Key]) -> str:
        """The node of a key, or the sum of several; a lane that is not there is silent."""
        taps = {"raw": "raw", "treated": "treated", "after_fader": "out"}
        heard = [(lane, taps[k.tap]) for k in keys for lane in self.session.meant_by(k)]
        places = [self.graph.places.get(f"lane:{lane}:{tap}", "") for lane, tap in heard]
        found = list(dict.fromkeys(p for p in places if p))
        if len(found) < 2:
            return found[0] if found else ""
        channels = max(self.graph.nodes[p].channels for p in found)
        return self._sum([(p, (1.0, 1.0)) for p in found], channels)

    def _stage(self, stage: Stage, into: str, place: str) -> str:
        key, source = stage.listens(), ""
        if key is not None:
            source = self._heard([key, *stage.listens_also()])
        song = self.session.tempo_bpm, self.session.key
        said = f"{self._said} {place}" if self._said else ""
        channels = self.graph.nodes[into].channels
        return self.graph.add(stage_node(Same(stage), into, channels, source, said, self.graph.rate, song))
