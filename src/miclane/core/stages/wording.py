"""How readings of level are worded by several kinds."""

from ..readings import StageReading


def takes_or_adds(reading: StageReading, nothing: str, within_db: float) -> str:
    """By how much the level is changed; `nothing` within so many decibels."""
    by = reading.change_db
    return nothing if abs(by) < within_db else f"{'takes' if by < 0 else 'adds'} {abs(by):.1f} dB here"
