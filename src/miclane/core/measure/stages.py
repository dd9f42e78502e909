"""What a stage did over a range: level in and out, reduction, from its trace."""

import numpy as np

from ..engine.giving_way import breathe
from ..engine.node import Trace
from ..readings import StageReading


def read_stage(trace: Trace, start: int, stop: int) -> StageReading:
    """Reading of frames [start, stop): over the hops that are within 25 dB of the loudest, the sung ones."""
    breathe()
    a = max(0, (start - trace.start) // trace.hop)
    b = max(a + 1, (stop - trace.start) // trace.hop)
    inside, outside = trace.mean_square_in[a:b], trace.mean_square_out[a:b]
    if not len(inside):
        return StageReading(-200.0, -200.0, 0.0, 0.0, 0.0, 0.0, 0.0, -200.0, trace.gain_db is not None)
    sung = inside > max(inside.max() * 10**-2.5, 1e-12)
    sung = sung if sung.any() else np.ones(len(inside), bool)
    level_in = 10 * np.log10(max(inside[sung].mean(), 1e-20))
    level_out = 10 * np.log10(max(outside[sung].mean(), 1e-20))
    down = 0.0 - trace.gain_db[a:b] if trace.gain_db is not None else np.zeros(b - a)
    return StageReading(
        level_in,
        level_out,
        level_out - level_in,
        float(np.median(down[sung])),
        float(np.percentile(down[sung], 95)),
        float(down.max()),
        float(down.min()),
        float(20 * np.log10(max(trace.peak_out[a:b].max(), 1e-10))),
        trace.gain_db is not None,
    )


def level_histogram(mean_square: np.ndarray, low_db: float = -60.0, high_db: float = 0.0, bins: int = 60) -> np.ndarray:
    """Share of hops in each decibel between low and high; louder and quieter ones are left out."""
    level = 10 * np.log10(np.maximum(mean_square, 1e-20))
    count, _ = np.histogram(level, bins, (low_db, high_db))
    return count / max(1, len(level))
