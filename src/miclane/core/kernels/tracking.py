"""A band pass that stands where most of the sound in a row of bands is at each moment."""

import numpy as np

from . import kernel


@kernel
def moving_bell(x, sections, states, levels, smoothing, out):
    """What of x (channels, n) lies about the centre of its own spectrum, into out (channels, n).

    sections (k, 6): band passes from low to high, each with gain 1 at its centre; states (channels, k, 2) and the
    smoothed powers levels (k,) are carried on; smoothing: one-pole coefficient. The centre is the mean of the bands'
    places weighted by the square of their power; the two bands nearest to it are blended, so nothing ever jumps.
    """
    channels, n = x.shape
    k = sections.shape[0]
    one = np.empty((channels, k))
    for i in range(n):
        total, place = 1e-60, 0.0
        for j in range(k):
            b0, b1, b2, a1, a2 = sections[j, 0], sections[j, 1], sections[j, 2], sections[j, 4], sections[j, 5]
            power = 0.0
            for c in range(channels):
                v = x[c, i]
                y = b0 * v + states[c, j, 0]
                states[c, j, 0] = b1 * v - a1 * y + states[c, j, 1]
                states[c, j, 1] = b2 * v - a2 * y
                one[c, j] = y
                power += y * y
            levels[j] += smoothing * (power - levels[j])
            total += levels[j] * levels[j]
            place += j * levels[j] * levels[j]
        place /= total
        low = min(int(place), k - 2)
        share = place - low
        for c in range(channels):
            out[c, i] = (1.0 - share) * one[c, low] + share * one[c, low + 1]
    for c in range(channels):
        for j in range(k):
            for m in range(2):
                if abs(states[c, j, m]) < 1e-30:
                    states[c, j, m] = 0.0
