"""What a new lane is given with its take: phrases and breaths."""

import numpy as np

from ..mix.document import Breath, Phrase
from .noise import noise_floor_dbfs
from .phrases import find_phrases
from .plosives import find_breaths
from .sides import sides, voice_of


def phrases_and_breaths(audio: np.ndarray, rate: int) -> tuple[tuple[Phrase, ...], tuple[Breath, ...]]:
    """Phrases and breaths of (channels, frames), without words."""
    audio = voice_of(audio, sides(audio))
    spans = find_phrases(audio, rate)
    breaths = find_breaths(audio, rate, spans, noise_floor_dbfs(audio, rate, spans))
    return (
        tuple(Phrase(id=f"p{k}", start=s.start, end=s.end) for k, s in enumerate(spans, 1)),
        tuple(Breath(id=f"b{k}", start=b.start, end=b.end) for k, b in enumerate(breaths, 1)),
    )
