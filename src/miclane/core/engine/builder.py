"""Builds the graph of a session, once for each way in which it is set somewhere in the song."""

from ..mix.document import Session
from ..mix.local import in_force
from ..mix.sections import timeline
from .graph import Graph, pick
from .picks import picks_of
from .plain_builder import PlainBuilder, pan_gains

__all__ = ["Builder", "pan_gains"]


class Builder:
    """Builds the graph of a session.

    Where it has local values, all of it is there once for each way in which the song is set somewhere, with what is
    alike in common; a place is then a pick of what each of them has there. What can be said besides the session is as
    of PlainBuilder: `untreated` names the path (as mix.paths does) whose stages are left out ("*" for all vocal lanes);
    `unducked` leaves all duckers out; `alone` a path, a stage on it and a part of that: the path then ends with the
    part alone. `duck_first` puts every return's ducker before its effect. `bypass`, a path and a stage on it, leaves
    that stage out. `name` tells the states of this session from those of others; without one none are left.
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
    ) -> None:
        self.session = session
        self.graph = Graph(session.rate, session.frames)
        self._said = untreated, unducked, alone, duck_first, bypass  # in the order of PlainBuilder
        self._name = name
        self._ways: list[PlainBuilder] = []
        self._spans: tuple[tuple[int, int, int], ...] = ()
        self._picks: dict[tuple[str | bool, ...], str] = {}

    def build(self) -> Graph:
        """Graph with places `PATH:raw|treated|out`, `PATH:before|stage:STAGE`, `PATH:branch:BRANCH`.

        PATH is `lane:ID`, `return:ID` or `bus:ID`; the raw sound of the latter two is what is sent or fed to them.
        """
        when = timeline(self.session)
        self._spans = when.spans
        for ids in when.ways:
            session = in_force(self.session, ids) if self.session.local_values else self.session
            name = f"{self._name} {','.join(ids)}" if self._name and ids else self._name
            way = PlainBuilder(session, *self._said, name, self.graph)
            way.build(self._ways[0] if self._ways else None)
            self._ways.append(way)
        if len(self._ways) == 1:
            self.graph.places = self._ways[0].graph.places
            return self.graph
        self.graph.variants = [way.graph.places for way in self._ways]
        self.graph.heard = picks_of(self._spans, [str(k) for k in range(len(self._ways))])[1]
        names = dict.fromkeys(place for places in self.graph.variants for place in places)
        self.graph.places = {place: self._place(place) for place in names}
        return self.graph

    def stem(self, target: str, bus_id: str) -> str:
        """The key of a place as it comes out of the mix: through the faders and linear stages of its buses."""
        return self._picked([way.stem(target, bus_id) for way in self._ways])

    def stems(self) -> dict[str, str]:
        """Every lane and return that is heard, by the name of its path: its key as it comes out of the mix."""
        found = [way.stems() for way in self._ways]
        names = dict.fromkeys(name for stems in found for name in stems)
        silent = self._ways[0].together([])
        return {name: self._picked([stems.get(name, silent) for stems in found]) for name in names}

    def together(self, keys: list[str]) -> str:
        """The key of a sum of these."""
        return self._ways[0].together(keys)

    def beside(self, keys: list[str]) -> str:
        """The key of what has no sound of its own and needs these, so that all are rendered at once."""
        return self._ways[0].together(keys, channels=0)

    def put_beside(self, name: str, voices: list[str]) -> None:
        """Place `pair`: voices and one other lane or return, as they come out of the mix, and nothing else."""
        stems = self.stems()
        self.graph.places["pair"] = self.together([stems[x] for x in dict.fromkeys((*voices, name)) if x in stems])

    def _place(self, place: str) -> str:
        """What is heard at a place, in each variant its own; a stage that is off in one has nothing to show there."""
        variants = self.graph.variants
        found = [places.get(place) for places in variants]
        first = next(key for key in found if key is not None)
        if found.count(first) == len(found):
            return first
        path, _, stage = place.partition(":stage:")
        before = f"{path}:before:{stage}"
        absent = [key == places.get(before) for key, places in zip(found, variants, strict=True)] if stage else []
        return self._picked([key or first for key in found], absent if any(absent) else [])

    def _picked(self, keys: list[str], absent: list[bool] | None = None) -> str:
        if keys.count(keys[0]) == len(keys):
            return keys[0]
        said = (*keys, *(absent or ()))  # what comes out of a stage goes into the next
        if said not in self._picks:
            self._picks[said] = self._pick(keys, absent)
        return self._picks[said]

    def _pick(self, keys: list[str], absent: list[bool] | None) -> str:
        there = [self.graph.nodes[key].channels for key in keys]
        channels = max(there)
        alike = [
            key if mine == channels else self._ways[0].together([key], channels)
            for key, mine in zip(keys, there, strict=True)
        ]
        inputs, picks = picks_of(self._spans, alike, absent)
        return self.graph.add(pick(inputs, picks, channels))
