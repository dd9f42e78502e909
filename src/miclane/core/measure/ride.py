"""The gain curve of a level ride, from the loudness of what comes in."""

import numpy as np

from ..stages.ride import Point, Ride
from .phrases import Span

STEP_S = 0.1
SPACING_S = 0.4
_SUNG_UNDER_LU = 22.0


def ride_points(power: np.ndarray, phrases: list[Span], rate: int, ride: Ride) -> tuple[Point, ...]:
    """Points of a ride from K-weighted power every 100 ms (`weighted_power`) of what comes into the stage.

    Loudness is a Gaussian mean of the sung steps over `speed_s`; the gain goes `share` of the way from it to the
    target, within the limits. Outside phrases, with `freeze`, it stays where it is until the next phrase. Points drawn
    by hand stay, and none is put within a step of them.
    """
    if not len(power):
        return tuple(p for p in ride.points if p.by_hand)
    at = (np.arange(len(power)) + 0.5) * STEP_S
    inside = np.zeros(len(power), bool)
    for p in phrases:
        inside |= (at >= p.start / rate) & (at < p.end / rate)
    loud = power[inside].max() if inside.any() else power.max()
    sung = inside & (power > loud * 10 ** (-_SUNG_UNDER_LU / 10))
    if not sung.any():
        return tuple(p for p in ride.points if p.by_hand)
    reach = max(1, round(3 * ride.speed_s / STEP_S))
    weight = np.exp(-0.5 * (np.arange(-reach, reach + 1) * STEP_S / ride.speed_s) ** 2)
    share = np.convolve(sung.astype(float), weight, "full")[reach : reach + len(power)]
    mean = np.convolve(np.where(sung, power, 0.0), weight, "full")[reach : reach + len(power)] / np.maximum(share, 1e-9)
    level = -0.691 + 10 * np.log10(np.maximum(mean, 1e-14))
    known = share > 1e-6
    level = np.interp(at, at[known], level[known])
    gain = np.clip(ride.share * (ride.target_lufs - level), -ride.down_db, ride.up_db)
    times, gains = _places(at, gain, phrases, rate) if ride.freeze else (at[::4], gain[::4])
    by_hand = [p for p in ride.points if p.by_hand]
    drawn = [
        Point(time_s=round(float(t), 3), gain_db=round(float(g), 2))
        for t, g in zip(times, gains, strict=True)
        if all(abs(t - p.time_s) > SPACING_S / 2 for p in by_hand)
    ]
    return tuple(sorted([*drawn, *by_hand], key=lambda p: p.time_s))


def _places(at: np.ndarray, gain: np.ndarray, phrases: list[Span], rate: int) -> tuple[np.ndarray, np.ndarray]:
    """Points inside phrases every 0.4 s; in a gap the gain stays, and changes in the last fifth of it."""
    times: list[float] = []
    for k, p in enumerate(phrases):
        start, end = p.start / rate, p.end / rate
        count = max(2, round((end - start) / SPACING_S) + 1)
        times += list(np.linspace(start, end, count))
        if k + 1 < len(phrases):
            gap = phrases[k + 1].start / rate - end
            times.append(end + 0.8 * gap)
    gains = np.interp(times, at, gain)
    for k in range(1, len(times) - 1):
        if any(abs(times[k - 1] - p.end / rate) < 1e-9 for p in phrases):
            gains[k] = gains[k - 1]
    keep = np.diff(times, prepend=-1.0) > 1e-3
    return np.array(times)[keep], gains[keep]
