"""What is measured of the takes of a session: raw, kept beside the sound; treated, kept while it is of use."""

from collections.abc import Iterator
from functools import lru_cache, partial
from hashlib import blake2b
from typing import Any

import numpy as np

from ..core.engine.giving_way import Cancel
from ..core.engine.graph import Graph
from ..core.engine.render import Renderer
from ..core.engine.stream import stream
from ..core.measure.events import find_sibilants
from ..core.measure.loudness import integrated_lufs, weighted_power
from ..core.measure.phrases import Span
from ..core.measure.pitch import pitch_range_hz, track_pitch
from ..core.measure.plosives import find_plosives
from ..core.measure.spectrum import middle_and_side_power
from ..core.measure.take import Take
from ..core.measure.words import word_spans
from ..core.measure.worker import TAKE, Measurer
from ..core.mix.document import Lane, Sound
from ..core.warm import fingerprint
from ..store.sounds import SoundStore
from .recent import Recent

_SILENT = -100.0
_AT_ONCE_BYTES = 128 * 2**20  # of what is rendered of a lane to be measured after several stages


def _places(graph: Graph, lane: Lane) -> list[str]:
    """The nodes after the stages of a lane that are on."""
    return [graph.places[f"lane:{lane.id}:stage:{s.id}"] for s in lane.stages if s.on]


def _groups(graph: Graph, keys: list[str], frames: int) -> Iterator[list[str]]:
    """Nodes in order, in groups whose sounds of so many frames may be held at the same time."""
    group: list[str] = []
    held = 0
    for key in keys:
        size = 4 * frames * graph.nodes[key].channels
        if group and held + size > _AT_ONCE_BYTES:
            yield group
            group, held = [], 0
        group.append(key)
        held += size
    if group:
        yield group


@lru_cache(maxsize=1)
def measures_version() -> str:
    """Changes with the code that measures."""
    return blake2b(fingerprint().encode(), digest_size=6).hexdigest()


class Takes:
    """Measures of takes, each made once. Safe to use from several threads."""

    def __init__(self, sounds: SoundStore) -> None:
        self.sounds = sounds
        self.measurer = Measurer()
        self._raw: Recent[Take] = Recent(64)
        self._treated: Recent[Take] = Recent(1500)
        self._spectra: Recent[np.ndarray | None] = Recent(256)
        self._power: Recent[np.ndarray] = Recent(32)
        self._loudness: Recent[float] = Recent(8000)
        self._events: Recent[list[dict[str, Any]]] = Recent(200)

    def raw(self, sound: Sound, rate: int) -> Take:
        """The raw take of a sound at a rate."""

        def measure() -> Take:
            def find() -> object:
                return TAKE.dump_python(self.measurer.measure(self._all(sound, rate), rate), mode="json")

            return TAKE.validate_python(self.sounds.kept(sound.digest, f"take-{rate}-{measures_version()}", find))

        return self._raw.get((sound.digest, rate), measure)

    def has_raw(self, sound: Sound, rate: int) -> bool:
        """Whether the raw take of a sound has been measured and is at hand."""
        return self._raw.has((sound.digest, rate))

    def words(self, sound: Sound, rate: int, phrase: Span, words: str) -> list[Span]:
        """Where the words of a phrase of a raw take are about."""
        audio = self.sounds.reader(rate)(sound.digest, phrase.start, phrase.end)
        found = word_spans(audio, rate, Span(0, phrase.end - phrase.start), words)
        return [Span(s.start + phrase.start, s.end + phrase.start) for s in found]

    def treated(self, graph: Graph, lane: Lane, renderer: Renderer, cancel: Cancel | None = None) -> Take:
        """The same take after all stages of its lane, measured at the places of the raw one."""
        check, key = (cancel or Cancel()).check, graph.places[f"lane:{lane.id}:treated"]
        return self._treated.get((key,), partial(self._treated_at, graph, key, lane, renderer, cancel), check)

    def _treated_at(self, graph: Graph, key: str, lane: Lane, renderer: Renderer, cancel: Cancel | None = None) -> Take:
        sound = lane.sound
        assert sound is not None
        audio = self.whole(graph, key, sound.frames, renderer, cancel)
        check = (cancel or Cancel()).check
        return self.measurer.measure(audio, graph.rate, self.raw(sound, graph.rate), check)

    def along(self, graph: Graph, lane: Lane, renderer: Renderer, cancel: Cancel | None = None) -> list[Take]:
        """The raw take and, measured at its places, what it is after each stage of its lane that is on, in order."""
        check = (cancel or Cancel()).check
        assert lane.sound is not None
        raw, keys = self.raw(lane.sound, graph.rate), _places(graph, lane)
        found = {k: self._treated.held((k,)) for k in keys}
        missing = [k for k, take in found.items() if take is None]
        for at_once in _groups(graph, missing, lane.sound.frames):
            for key, audio in self._several(graph, at_once, lane.sound.frames, renderer, cancel):
                measure = partial(self.measurer.measure, audio, graph.rate, raw, check)
                found[key] = self._treated.get((key,), measure, check)
        return [raw, *(take for k in keys if (take := found[k]) is not None)]

    def along_known(self, graph: Graph, lane: Lane) -> list[Take] | None:
        """The same where all of it has been measured, else None."""
        if lane.sound is None or not self._raw.has((lane.sound.digest, graph.rate)):
            return None
        found = [self._treated.held((k,)) for k in _places(graph, lane)]
        takes = [take for take in found if take is not None]
        return [self.raw(lane.sound, graph.rate), *takes] if len(takes) == len(found) else None

    def power_before(self, graph: Graph, lane: Lane, stage_id: str, renderer: Renderer) -> np.ndarray:
        """K-weighted power of what comes into a stage, every 100 ms of the take."""
        assert lane.sound is not None
        frames, key = lane.sound.frames, graph.places[f"lane:{lane.id}:before:{stage_id}"]

        def measure() -> np.ndarray:
            return weighted_power(self.whole(graph, key, frames, renderer), graph.rate)

        return self._power.get((key,), measure)

    def spectrum(self, lane: Lane, rate: int) -> np.ndarray | None:
        """Power of the sung frames of a lane's take, middle and side (2, 361) on AXIS_HZ; None where silent."""
        if lane.sound is None:
            return None
        sound, spans = lane.sound, [(p.start, p.end) for p in lane.phrases] or [(0, lane.sound.frames)]

        def measure() -> np.ndarray | None:
            def find() -> list[list[float]]:
                audio = self._all(sound, rate)
                return middle_and_side_power(audio, rate, [Span(*s) for s in spans]).tolist()

            name = blake2b(repr(spans).encode(), digest_size=6).hexdigest()
            found = np.array(self.sounds.kept(sound.digest, f"spectrum-{rate}-{name}-{measures_version()}", find))
            return found if found.max() > 10 ** (_SILENT / 10) else None

        return self._spectra.get((sound.digest, rate, tuple(spans)), measure)

    def loudness(self, sound: Sound, start: int, end: int, rate: int) -> float:
        """Integrated loudness in LUFS of a stretch of a raw sound."""
        key = (sound.digest, start, end, rate)

        def measure() -> float:
            def find() -> float:
                return integrated_lufs(self.sounds.reader(rate)(sound.digest, start, end), rate)

            name = f"loudness-{start}-{end}-{rate}-{measures_version()}"
            return float(self.sounds.kept(sound.digest, name, find))

        return self._loudness.get(key, measure)

    def phrase_loudness(self, lane: Lane, rate: int) -> list[float]:
        """Integrated loudness in LUFS of each phrase of a lane's raw take; none without one."""
        sound = lane.sound
        return [self.loudness(sound, p.start, p.end, rate) for p in lane.phrases] if sound else []

    def sibilants(self, sound: Sound, rate: int) -> list[dict[str, Any]]:
        """Sibilants of a raw sound: start, end, centre_hz, excess_db, kind."""

        def find() -> list[dict[str, Any]]:
            return [
                {
                    "start": e.start,
                    "end": e.end,
                    "centre_hz": round(e.centre_hz),
                    "excess_db": round(e.excess_db, 1),
                    "kind": e.kind,
                }
                for e in find_sibilants(self.sounds.middle(sound.digest, rate), rate)
            ]

        name = f"sibilants-{rate}-{measures_version()}"
        return self._events.get((sound.digest, rate), lambda: self.sounds.kept(sound.digest, name, find))

    def plosives(self, lane: Lane, rate: int) -> list[dict[str, Any]]:
        """Bursts of air of a lane's raw take: start, end, excess_db."""
        if lane.sound is None:
            return []
        sound, spans = lane.sound, [(p.start, p.end) for p in lane.phrases]

        def find() -> list[dict[str, Any]]:
            phrases = [Span(*s) for s in spans]
            found = find_plosives(self.sounds.middle(sound.digest, rate), rate, phrases, self.lowest_hz(sound, rate))
            return [{"start": p.start, "end": p.end, "excess_db": round(p.over_db, 1)} for p in found]

        return self._events.get((sound.digest, rate, tuple(spans)), find)

    def lowest_hz(self, sound: Sound, rate: int) -> float:
        """Lowest sung note of a raw sound; 0 where nothing is sung."""

        def find() -> float:
            sung = pitch_range_hz(track_pitch(self.sounds.middle(sound.digest, rate), rate)[0])
            return sung[0] if sung else 0.0

        return float(self.sounds.kept(sound.digest, f"lowest-{rate}-{measures_version()}", find))

    def whole(
        self, graph: Graph, key: str, frames: int, renderer: Renderer, cancel: Cancel | None = None
    ) -> np.ndarray:
        """All frames of a node (channels, frames); what is to be heard soon goes before it."""
        read = renderer.read
        if graph.nodes[key].digest and graph.nodes[key].stage is None and not graph.nodes[key].gains:
            return read(graph.nodes[key].digest, 0, frames)

        def make() -> np.ndarray:
            blocks = []
            for (block,) in stream(graph, [key], frames, read, cancel, threads=1):
                renderer.gate.pass_through()
                blocks.append(block)
            return np.concatenate(blocks, axis=1)

        return renderer.in_no_hurry(make)

    def _several(
        self, graph: Graph, keys: list[str], frames: int, renderer: Renderer, cancel: Cancel | None
    ) -> Iterator[tuple[str, np.ndarray]]:
        """All frames of several nodes, rendered in one go; each is let go of once the next is asked for."""

        def make() -> list[list[np.ndarray]]:
            found: list[list[np.ndarray]] = [[] for _ in keys]
            for blocks in stream(graph, keys, frames, renderer.read, cancel, threads=1):
                renderer.gate.pass_through()
                for so_far, block in zip(found, blocks, strict=True):
                    so_far.append(block.astype(np.float32))
            return found

        made = renderer.in_no_hurry(make)
        for k, key in enumerate(keys):
            whole = np.concatenate(made[k], axis=1).astype(np.float64)
            made[k] = []
            yield key, whole

    def _all(self, sound: Sound, rate: int) -> np.ndarray:
        return self.sounds.reader(rate)(sound.digest, 0, sound.frames)
