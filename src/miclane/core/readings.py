"""What a stage did over a stretch, in figures that every stage can word."""

from dataclasses import dataclass


@dataclass(frozen=True)
class StageReading:
    """Levels in dBFS over the loud parts; reduction in dB (positive is down): median, 95th percentile, extremes.

    `traced`: the stage has one gain that tells what it does; without it there is no reduction.
    """

    level_in_db: float
    level_out_db: float
    change_db: float
    reduction_median_db: float
    reduction_p95_db: float
    reduction_max_db: float
    reduction_min_db: float
    peak_out_db: float
    traced: bool = True
