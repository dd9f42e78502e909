"""Where in a row of bands most of a sound is at each moment."""

from . import kernel


@kernel
def moving_centre(x, sections, states, levels, smoothing, places):
    """Centre of the spectrum of x (channels, n) in a row of bands, 0 to k - 1, into places (n,).

    sections (k, 6): band passes from low to high, each with gain 1 at its centre; states (channels, k, 2) and the
    smoothed powers levels (k,) are carried on; smoothing: one-pole coefficient. The centre is the mean of the bands'
    places weighted by the square of their power, so it never jumps.
    """
    channels, n = x.shape
    k = sections.shape[0]
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
                power += y * y
            levels[j] += smoothing * (power - levels[j])
            total += levels[j] * levels[j]
            place += j * levels[j] * levels[j]
        places[i] = place / total
    for c in range(channels):
        for j in range(k):
            for m in range(2):
                if abs(states[c, j, m]) < 1e-30:
                    states[c, j, m] = 0.0
