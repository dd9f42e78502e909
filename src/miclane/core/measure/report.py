"""Everything that is measured of one file, as plain data."""

from typing import Any

import numpy as np

from .events import find_sibilants
from .levels import noise_floor_dbfs
from .loudness import integrated_lufs, measure_loudness
from .phrases import find_phrases
from .pitch import pitch_range_hz, track_pitch
from .spectrum import find_rings


def measure_file(audio: np.ndarray, rate: int) -> dict[str, Any]:
    """Loudness, true peak, phrases, sibilants, noise floor, rings and pitch range of (channels, frames)."""
    loudness = measure_loudness(audio, rate)
    phrases = find_phrases(audio, rate)
    f0, _ = track_pitch(audio, rate)
    span = pitch_range_hz(f0)
    clipped = int(np.count_nonzero(np.abs(audio) >= 0.99997))
    return {
        "seconds": round(audio.shape[1] / rate, 3),
        "rate": rate,
        "channels": audio.shape[0],
        "integrated_lufs": round(loudness.integrated_lufs, 2),
        "loudness_range_lu": round(loudness.range_lu, 2),
        "momentary_max_lufs": round(loudness.momentary_max_lufs, 2),
        "short_term_max_lufs": round(loudness.short_term_max_lufs, 2),
        "true_peak_dbtp": round(loudness.true_peak_dbtp, 2),
        "samples_at_full_scale": clipped,
        "noise_floor_dbfs": round(noise_floor_dbfs(audio, rate), 1),
        "pitch_range_hz": [round(v, 1) for v in span] if span else None,
        "phrases": [
            {
                "start_s": round(p.start / rate, 3),
                "end_s": round(p.end / rate, 3),
                "integrated_lufs": round(integrated_lufs(audio[:, p.start : p.end], rate), 1),
            }
            for p in phrases
        ],
        "events": [
            {
                "kind": "sibilant",
                "start_s": round(e.start / rate, 3),
                "end_s": round(e.end / rate, 3),
                "centre_hz": round(e.centre_hz),
                "excess_db": round(e.excess_db, 1),
            }
            for e in find_sibilants(audio, rate)
        ],
        "rings": [
            {"frequency_hz": round(r.frequency_hz, 1), "over_db": round(r.over_db, 1), "share": round(r.share, 2)}
            for r in find_rings(audio, rate, phrases)
        ],
    }
