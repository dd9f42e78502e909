"""A voice and its music as two files: how clear it is, what stands over it, and the pocket that answers that."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from .audio import cut_padded
from .measure.clarity import LISTENING_DB_SPL, Clear, clarity_of
from .measure.hearing import ERBS, THIRDS, THIRDS_HZ, band_powers, hop_of, louder_lu
from .measure.masking import masking, stand_over
from .measure.phrases import Span, find_phrases
from .measure.pocket import make_pocket, needs, smallest
from .mix.chain import Chain
from .process import process
from .stages.base import Key
from .stages.eq import Eq


def fit_files(
    voice: np.ndarray,
    music: np.ndarray,
    rate: int,
    returns: np.ndarray | None = None,
    listening_db_spl: float = LISTENING_DB_SPL,
) -> dict[str, Any]:
    """Measures of (channels, frames) at one rate that begin together; times in seconds.

    `listening_db_spl` is the level in dB SPL at which −20 LUFS is heard.

    `returns` is what the voice is in: it stands over the voice as the music does, and no pocket is made in it. The
    pocket is the smallest that brings the mean clarity to what words need, else the deepest that costs all else half a
    decibel.
    """
    frames = max(x.shape[1] for x in (voice, music, returns) if x is not None)
    voice, music = (cut_padded(x, 0, frames) for x in (voice, music))
    phrases, hop = find_phrases(voice, rate), hop_of(rate)
    spans = [Span(p.start // hop, -(-p.end // hop)) for p in phrases]
    own = band_powers(voice, rate)
    others = {"music": band_powers(music, rate)}
    if returns is not None:
        others["returns"] = band_powers(cut_padded(returns, 0, frames), rate)
    masked = masking(own[ERBS], {name: power[ERBS] for name, power in others.items()}, spans, listening_db_spl)
    before = _clarities(own, others, spans, listening_db_spl)
    told: dict[str, Any] = {
        "rate": rate,
        "seconds": round(frames / rate, 3),
        "clarity": _mean(before),
        "phrases": [_phrase(p, c, rate) for p, c in zip(phrases, before, strict=True)],
        "over_the_voice": [
            {
                "phrase": one.phrase,
                "what": one.name,
                "low_hz": round(one.low_hz),
                "high_hz": round(one.high_hz),
                "over_db": round(one.over_db, 1),
                "takes": round(one.lost, 3),
            }
            for one in stand_over(masked, spans)
        ],
        "pocket": None,
    }
    needed = needs(masked, "music")

    def attempt(bands: int, deepest: float) -> tuple[dict[str, Any], float, float] | None:
        pocket = make_pocket(needed[:bands], voice, rate, phrases, Key(lane="key", tap="raw"), deepest)
        if pocket is None:
            return None
        taken = band_powers(process(music, rate, _chain(pocket), voice)[0][:, :frames], rate)
        held = {**others, "music": taken}
        after = _clarities(own, held, spans, listening_db_spl)
        rest = 10 * float(np.log10(sum(x.sum() for x in held.values()) / sum(x.sum() for x in others.values())))
        cost = min(rest, louder_lu(taken, others["music"]))
        made = {
            "chain": _chain(pocket).model_dump(mode="json"),
            "clarity": _mean(after),
            "phrases": [None if c is None else round(c.clarity, 3) for c in after],
            "rest_db": round(rest, 2),
            "music_lu": round(louder_lu(taken, others["music"]), 2),
        }
        return made, _mean(after) or 0.0, cost

    told["pocket"] = smallest(len(needed), attempt)
    return told


def clarity_of_files(
    voice: np.ndarray, music: np.ndarray, rate: int, listening_db_spl: float = LISTENING_DB_SPL
) -> float | None:
    """Mean clarity of (channels, frames) in what is heard with it, as of `fit_files`; None where nothing is sung."""
    frames, hop = max(voice.shape[1], music.shape[1]), hop_of(rate)
    voice, music = (cut_padded(x, 0, frames) for x in (voice, music))
    spans = [Span(p.start // hop, -(-p.end // hop)) for p in find_phrases(voice, rate)]
    return _mean(_clarities(band_powers(voice, rate), {"music": band_powers(music, rate)}, spans, listening_db_spl))


def _chain(pocket: Eq) -> Chain:
    return Chain(format="mic-lane/chain", version=3, name="Pocket", stages=(pocket,))


def _clarities(
    own: np.ndarray, others: dict[str, np.ndarray], spans: Sequence[Span], loud: float
) -> list[Clear | None]:
    rest = np.sum(list(others.values()), axis=0)
    return [clarity_of(own[THIRDS], rest[THIRDS], span, (), loud)[0] for span in spans]


def _mean(found: Sequence[Clear | None]) -> float | None:
    there = [c.clarity for c in found if c is not None]
    return round(float(np.mean(there)), 3) if there else None


def _phrase(span: Span, clear: Clear | None, rate: int) -> dict[str, Any]:
    told: dict[str, Any] = {"start_s": round(span.start / rate, 3), "end_s": round(span.end / rate, 3)}
    if clear is None:
        return told | {"clarity": None, "over_rest_db": None, "bands": []}
    bands = [{"hz": int(f), "heard": round(v, 3)} for f, v in zip(THIRDS_HZ, clear.bands, strict=True)]
    return told | {"clarity": round(clear.clarity, 3), "over_rest_db": round(clear.over_rest_db, 1), "bands": bands}
