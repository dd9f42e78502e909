"""Schroeder allpasses in a row, which spread a sound in time before a reverb's network takes it in."""

from . import kernel


@kernel
def _spread(held, x, gain):
    """held gets x - gain · held, x gets what was held + gain · that."""
    for i in range(x.shape[0]):
        delayed = held[i]
        fed = x[i] - gain * delayed
        held[i] = fed
        x[i] = delayed + gain * fed


@kernel
def diffuse(x, lines, lengths, places, gains):
    """Schroeder allpasses in a row over each channel of x (channels, n), in place.

    lines (channels, units, frames) their memories, lengths and places (channels, units) how much of each is in use and
    where it is; places are carried on. gains (channels, units).
    """
    n = x.shape[1]
    for c in range(x.shape[0]):
        for unit in range(lengths.shape[1]):
            length, position, i = lengths[c, unit], places[c, unit], 0
            while i < n:
                count = min(n - i, length - position)
                _spread(lines[c, unit, position : position + count], x[c, i : i + count], gains[c, unit])
                i += count
                position = position + count if position + count < length else 0
            places[c, unit] = position
