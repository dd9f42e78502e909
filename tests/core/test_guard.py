"""What is no sound never leaves the engine: edges that cross are refused, and a last guard stands at every way out."""

from collections.abc import Iterator
from typing import Any, Literal

import numpy as np
import pytest
from pydantic import ValidationError

from conftest import RATE, noise, sine
from miclane.core.engine.builder import Builder
from miclane.core.engine.giving_way import Cancel
from miclane.core.engine.render import Renderer
from miclane.core.engine.stream import flow, stream
from miclane.core.errors import UnsoundError, UnusableChainError
from miclane.core.mix.chain import read_chain
from miclane.core.mix.document import Session
from miclane.core.process import process
from miclane.core.stages.base import EDGES_APART, Stage
from miclane.core.stages.processor import Processor
from miclane.core.stages.trim import Trim

WITH_EDGES = [(kind, *edge) for kind, made in sorted(Stage.kinds.items()) for edge in made.edges]
CHAIN = '{"format": "mic-lane/chain", "version": 1, "stages": [%s]}'


@pytest.mark.parametrize(("kind", "low", "high"), WITH_EDGES)
def test_edges_do_not_cross(kind: str, low: str, high: str) -> None:
    made = Stage.kinds[kind]
    bottom = next(m.ge for m in made.model_fields[high].metadata if hasattr(m, "ge")) or 900.0
    top = next(m.le for m in made.model_fields[low].metadata if hasattr(m, "le"))
    both = min(max(bottom, 60.0) * 1.5, top)
    with pytest.raises(ValidationError, match=f"{both:g} Hz does not lie below .* {both:g} Hz"):
        made.model_validate({"kind": kind, low: both, high: both})
    apart = made.model_validate({"kind": kind, low: both, high: both * EDGES_APART})
    y = process(noise(0.5, 0.1), RATE, read_chain(CHAIN % apart.model_dump_json(), "chain"))[0]
    assert np.isfinite(y).all()
    assert np.abs(y).max() < 10


def test_there_is_an_edge_wherever_a_stage_has_a_low_and_a_high_one() -> None:
    for kind, made in Stage.kinds.items():
        lows = {f for f in made.model_fields if f.endswith(("low_hz", "low_cut_hz"))}
        for low in lows:
            high = low.replace("low", "high")
            assert high not in made.model_fields or (low, high) in made.edges, kind


def test_a_chain_with_crossed_edges_is_refused_in_words() -> None:
    with pytest.raises(UnusableChainError, match="band from 5200 Hz does not lie below band to 5000 Hz"):
        read_chain(CHAIN % '{"kind": "deess", "high_hz": 5000}', "c.json")


class _Fails(Processor):
    def __init__(self, worth: float, rate: int) -> None:
        self.worth, self.left = worth, rate

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        y = x.copy()
        if 0 <= self.left < x.shape[1]:
            y[0, self.left] = self.worth
        self.left -= x.shape[1]
        return y


@pytest.fixture(params=[np.nan, np.inf, -np.inf, 1200.0], ids=["nan", "inf", "-inf", "61.6 dBFS"])
def graph(request: pytest.FixtureRequest) -> Iterator[Any]:
    """A lane whose middle stage fails a second in, through a mix of it."""

    class Fails(Stage):
        kind: Literal["fails"] = "fails"

        def build(self, rate: int, channels: int) -> Processor:
            return _Fails(request.param, rate)

    stages = (Trim(id="before"), Fails(id="x", name="Wild"), Trim(id="after", gain_db=-36))
    sound = {"digest": "a" * 64, "channels": 1, "frames": 3 * RATE}
    session = Session.model_validate({"name": "s", "lanes": [{"id": "a", "name": "a", "sound": sound}]})
    lane = session.lanes[0].model_copy(update={"stages": stages})
    yield Builder(session.model_copy(update={"lanes": (lane,)})).build()
    del Stage.kinds["fails"]


def _read(_: str, start: int, stop: int) -> np.ndarray:
    return sine(300, -20, (stop - start) / RATE)


def test_what_is_no_sound_stops_at_every_way_out_and_names_the_stage(graph) -> None:
    mix = graph.places["bus:mix:out"]
    with pytest.raises(UnsoundError, match="“Wild” makes"):
        Renderer(_read).loop(graph, mix, 0, 2 * RATE)
    with pytest.raises(UnsoundError, match="“Wild” makes"):
        Renderer(_read).preview(graph, mix, RATE // 2, 2 * RATE, (0, 2 * RATE))
    given = 0
    with pytest.raises(UnsoundError, match="“Wild” makes"):
        for (block,) in stream(graph, [mix], 2 * RATE, _read):
            assert np.isfinite(block).all()
            given += block.shape[1]
    assert given <= RATE
    with pytest.raises(UnsoundError, match="“Wild” makes"):
        list(flow(graph, mix, 0, 2 * RATE, _read, 0, Cancel()))


def test_loud_sound_that_is_sound_passes() -> None:
    loud = read_chain(CHAIN % '{"kind": "trim", "gain_db": 36}', "chain")
    assert np.abs(process(np.full((1, RATE), 10.0), RATE, loud)[0]).max() > 600
