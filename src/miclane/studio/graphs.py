"""The graphs of the sessions that are open, as they are and as they are compared with."""

from typing import Literal

from ..core.engine.builder import Builder
from ..core.engine.graph import Graph
from ..core.errors import UnknownPlaceError
from ..core.mix.paths import place_of
from ..core.mix.voices import voices_of
from ..store.state import State
from .recent import Recent

Hear = Literal["lane", "vocals", "mix", "return", "dry"]
Variant = Literal["treated", "untreated", "unducked", "duckfirst", "without", "band", "bypassed", "pair", "music"]
SongVariant = Literal[Variant, "removed"]
CHAIN, VOCALS, EVERYTHING = "chain:", "vocals:", "everything:"  # what is bypassed, beside stages and branches
_AS_IT_IS = ("", False, None, False, None)  # what `Graphs.of` is told where nothing is said
BandAlone = tuple[str, int]  # a stage and a part of it, as of PlainBuilder


class Graphs:
    """Made once for each version of a session and each way of hearing it."""

    def __init__(self, most: int) -> None:
        self._graphs: Recent[Graph] = Recent(most)

    def of(
        self,
        state: State,
        untreated: str = "",
        unducked: bool = False,
        alone: tuple[str, str, int] | None = None,
        duck_first: bool = False,
        bypass: tuple[str, str] | None = None,
    ) -> Graph:
        """Graph of a session at its version; what can be said of it as for the Builder."""
        said = (untreated, unducked, alone, duck_first, bypass)
        name = state.seen_name
        return self._graphs.get((name, state.version, *said), Builder(state.session, *said, name).build)

    def foreseen(self, state: State) -> Graph:
        """Graph of a session at a version that is not kept yet, and may come out otherwise: nobody else has it."""
        return Builder(state.session, *_AS_IT_IS, state.seen_name).build()

    def keep(self, state: State, graph: Graph) -> None:
        """That graph, now that the version has been kept as it was foreseen."""
        self._graphs.put((state.seen_name, state.version, *_AS_IT_IS), graph)

    def _without_return(self, state: State, identifier: str) -> Graph:
        """Graph of a session with one of its returns muted."""

        def build() -> Graph:
            muted = (r.model_copy(update={"mute": r.mute or r.id == identifier}) for r in state.session.returns)
            return Builder(state.session.model_copy(update={"returns": tuple(muted)})).build()

        return self._graphs.get((state.seen_name, state.version, "without", identifier), build)

    def _pair(self, state: State, voice: str, other: str) -> Graph:
        """Graph of a session with a voice and something else alone placed in it, as they come out of the mix."""

        def build() -> Graph:
            builder = Builder(state.session, name=state.seen_name)
            builder.build()
            builder.put_beside(other, [x.id for x in voices_of(state.session, voice)])
            return builder.graph

        return self._graphs.get((state.seen_name, state.version, "pair", voice, other), build)

    def _unsung(self, state: State) -> Graph:
        """Graph of a session without its voices and returns, which still hold open what listens to them."""

        def build() -> Graph:
            lanes = tuple(
                x.model_copy(update={"mute": x.mute or x.role != "music", "solo": False}) for x in state.session.lanes
            )
            returns = tuple(r.model_copy(update={"mute": True}) for r in state.session.returns)
            unsung = state.session.model_copy(update={"lanes": lanes, "returns": returns})
            return Builder(unsung, name=state.seen_name).build()

        return self._graphs.get((state.seen_name, state.version, "unsung"), build)

    def _bypassed(self, state: State, lane: str, scope: str) -> Graph:
        """Graph without the stages of the path (CHAIN), of all sung lanes (VOCALS), or of everything, returns silent.

        Every other scope is the id of a stage, or `branch:` and the id of a branch.
        """
        left_out = {CHAIN: lane, VOCALS: "*", EVERYTHING: "**"}.get(scope)
        return self.of(state, left_out) if left_out else self.of(state, bypass=(lane, scope))

    def target(self, graph: Graph, hear: Hear, lane: str) -> str:
        """Key of the node that is heard; `lane` names the path that is alone, dry, or a return."""
        place = {
            "lane": f"{place_of(lane)}:out",
            "dry": f"{place_of(lane)}:treated",
            "vocals": "bus:vocals:out",
            "mix": "bus:mix:out",
            "return": f"return:{lane}:out",
        }[hear]
        if hear == "vocals" and place not in graph.places:
            place = "bus:mix:out"
        if place not in graph.places:
            raise UnknownPlaceError(f"there is nothing called “{lane}” to hear")
        return graph.places[place]

    def heard(self, state: State, hear: Hear, lane: str, variant: Variant, band: BandAlone) -> tuple[Graph, str]:
        """The graph of a variant and the key of what is heard in it."""
        graph = self.variant(state, hear, lane, variant, band)
        if variant == "pair":
            return graph, graph.places["pair"]
        return graph, self.target(graph, "lane" if variant == "band" else hear, lane)

    def variant(self, state: State, hear: Hear, lane: str, variant: Variant, band: BandAlone = ("", 0)) -> Graph:
        """The graph as it is, one side of a comparison, or the lane ending with one band of an EQ alone.

        `band` names the stage that is meant: of the band, the one that is bypassed, or the return that is left out; of
        a pair, voice and other with a "~" between them. “music” is what is left without voices and returns, which
        still hold open what listens to them.
        """
        if variant == "band":
            return self.of(state, alone=(lane, *band))
        if variant == "bypassed":
            return self._bypassed(state, lane, band[0])
        if variant == "untreated":
            return self.of(state, lane if hear in ("lane", "dry") else "*")
        if variant in ("pair", "music"):
            voice, _, other = band[0].partition("~")
            return self._pair(state, voice, other) if variant == "pair" else self._unsung(state)
        if variant == "without":
            return self._without_return(state, band[0])
        if variant == "duckfirst":
            return self.of(state, duck_first=True)
        return self.of(state, unducked=variant == "unducked")


def looked_at(graph: Graph, place: str, stage_id: str) -> str:
    """Key of the node that a stage of a path is looked at by: what comes into it, or its key where it looks at that."""
    node = graph.nodes[graph.places[f"{place}:stage:{stage_id}"]]
    mine = node.stage is not None and node.stage.id == stage_id and node.stage.looks_at_key
    return (mine and node.keyed_by) or graph.places[f"{place}:before:{stage_id}"]
