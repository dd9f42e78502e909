"""What of a spectrum sticks out of its neighbourhood, moment by moment: a harmonic against harmonics."""

import math

import numpy as np

from . import kernel, kernel_as_written

STEEPEST_DB, STEEPEST_SUNG_DB = 24.0, 40.0  # of spectra, of harmonics of a note
# A first harmonic lies over the next by so much anyway, and is never said to stand out by more than a line that nobody
# has drawn lets pass: from vowel to vowel it goes up and down by 20 dB and more.
FALLS_DB, FIRST_MOST_DB = 5.0, 8.0
# 1 over the factorials of 2 to 13
_F2, _F3, _F4, _F5, _F6, _F7, _F8, _F9, _F10, _F11, _F12, _F13 = (1 / math.factorial(n) for n in range(2, 14))
BETWEEN, BY_ABOVE, BY_OTHERS = 0, 1, 2  # what an excess is known by; between two harmonics it is not known


@kernel
def pitch_of(likeness, shortest, longest):
    """The period in lags (0 for none) of rows of autocorrelations (m, n), each divided by that of the window."""
    found = np.zeros(len(likeness))
    for t in range(len(likeness)):
        r = likeness[t]
        if r[0] <= 0:
            continue
        best = 0.0
        for k in range(shortest, longest):
            if r[k] > best and r[k] >= r[k - 1] and r[k] >= r[k + 1]:
                best = r[k]
        if best < 0.55 * r[0]:
            continue
        for k in range(shortest, longest):
            if r[k] >= 0.9 * best and r[k] >= r[k - 1] and r[k] >= r[k + 1]:
                bend = r[k - 1] - 2 * r[k] + r[k + 1]
                found[t] = k + (0.5 * (r[k - 1] - r[k + 1]) / bend if bend < 0 else 0.0)
                break
    return found


@kernel
def _between(low, high, steepest):
    """The level between those of two sides in dB; a side that is as good as nothing, as above the end of a sound that
    was once at a lower rate, is taken to be like the other. `steepest`: from one side to the other where both go on."""
    gap = abs(low - high)
    if gap <= steepest:
        return 0.5 * (low + high)
    return max(low, high) - 0.5 * max(0.0, 2 * steepest - gap)


@kernel
def _side(level):
    """The mean of levels (n,) in dB on one side of a place; what is as good as nothing beside the highest of them, as
    beyond the end of a sound, does not count."""
    top, total, count = level.max(), 0.0, 0
    for one in level:
        if one > top - STEEPEST_DB:
            total += one
            count += 1
    return total / count


@kernel
def excess_of_spectra(power, bands, wide, core, reach, out):
    """By how many dB each place (k,) in bins of rows of power (m, bins) lies over what is `core` to `reach` places away
    on both sides; levels are means within a factor `wide`."""
    bins, count = power.shape[1], len(bands)
    level = np.empty(count)
    for t in range(len(power)):
        p = power[t]
        for k in range(count):
            a = max(int(bands[k] / wide), 1)
            b = min(max(int(np.ceil(bands[k] * wide)), a + 1), bins - 1)
            total = 0.0
            for i in range(a, b + 1):
                total += p[i]
            level[k] = 10 * np.log10(total / (b - a + 1) + 1e-15)
        for k in range(count):
            out[t, k] = 0.0
            if k > core and k + core + 1 < count:
                low = _side(level[max(k - reach, 0) : k - core + 1])
                high = _side(level[k + core : min(k + reach + 1, count)])
                out[t, k] = level[k] - _between(low, high, STEEPEST_DB)


@kernel
def excess_of_harmonics(power, f0, bands, core, reach, near, out, known):
    """The same of rows in which a note is sung, f0 (m,) in bins, 0 where none is: every harmonic against the harmonics
    `core` to `reach` octaves away on both sides, or the next where there is none; straight in octaves between them.

    The first has nothing under it: it is held against those above alone. known (m, k) says by what a place is known
    that lies within `near` octaves of a harmonic.
    """
    bins = power.shape[1]
    level, excess = np.empty(512), np.empty(512)
    nearest, furthest = 2.0**core, 2.0**reach
    for t in range(len(power)):
        if f0[t] <= 0:
            continue
        p = power[t]
        n = min(int((bins - 4) / f0[t]), 511)
        for h in range(1, n + 1):
            a, b = max(int(np.floor((h - 0.35) * f0[t])), 1), min(int(np.ceil((h + 0.35) * f0[t])), bins - 2)
            top = a
            for i in range(a, b + 1):
                if p[i] > p[top]:
                    top = i
            level[h] = 10 * np.log10(p[top - 1] + p[top] + p[top + 1] + 1e-15)
        for h in range(1, n + 1):
            low, high, below, above = 0.0, 0.0, 0, 0
            for j in range(h - 1, 0, -1):
                if h > furthest * j and below > 0:
                    break
                if h >= nearest * j:
                    low += level[j]
                    below += 1
            for j in range(h + 1, n + 1):
                if j > furthest * h and above > 0:
                    break
                if j >= nearest * h:
                    high += level[j]
                    above += 1
            excess[h] = 0.0
            if below > 0 and above > 0:
                excess[h] = level[h] - _between(low / below, high / above, STEEPEST_SUNG_DB)
            elif above > 0 and h == 1:
                excess[h] = min(level[h] - high / above - FALLS_DB, FIRST_MOST_DB)
        for k in range(len(bands)):
            x = bands[k] / f0[t]
            h = max(int(x), 1)
            if x < 0.9 or h + 1 > n:
                out[t, k] = 0.0
                known[t, k] = BETWEEN
                continue
            share = max(0.0, np.log(x / h) / np.log((h + 1) / h))
            out[t, k] = excess[h] + share * (excess[h + 1] - excess[h])
            known[t, k] = BETWEEN
            if abs(np.log2(x / h)) < near:
                known[t, k] = BY_ABOVE if h == 1 else BY_OTHERS
            elif np.log2((h + 1) / x) < near:
                known[t, k] = BY_OTHERS


@kernel
def held_over(excess, loud, rise, fall, state, out):
    """Excess (m, k) in dB followed in time: towards more by a share `rise` a step, towards less by `fall`; what is not
    loud (m,) says nothing, and lets it fall."""
    for t in range(len(excess)):
        for k in range(excess.shape[1]):
            wanted = excess[t, k] if loud[t] else 0.0
            state[k] += (rise if wanted > state[k] else fall) * (wanted - state[k])
            out[t, k] = state[k]


@kernel_as_written
def times_one_of(spectra, filters, which, out):
    """Spectra (m, bins), each times one of filters (k, bins), `which` (m,), into out (m, bins)."""
    for t in range(len(spectra)):
        x, by, y = spectra[t], filters[which[t]], out[t]
        for k in range(x.shape[0]):
            y[k] = x[k] * by[k]


@kernel
def less_both(rows, which, one, other, mix):
    """From rows (k, hop) of these numbers (m,) so much is taken of the last frames of one (m, n), giving way to other.

    That happens in a straight line along the hop.
    """
    hop = rows.shape[1]
    for t in range(len(which)):
        row, first, last = rows[which[t]], one[t, one.shape[1] - hop :], other[t, other.shape[1] - hop :]
        for i in range(hop):
            row[i] -= mix * (first[i] + i * (1.0 / hop) * (last[i] - first[i]))


@kernel
def taken_by(cuts, under, share, scale, phases, out):
    """What filters of minimum phase take away of a sound: 1 less their responses, into out (m, bins).

    Each cuts by cuts (m, bands) times `scale` nepers (at most 8); a bin lies `share` (bins,) of the way from the band
    `under` (bins,) it to the next. The phase is the sum of what each band has part in, `phases` (bands, bins) for a cut
    of 1. Exponential, sine and cosine are their Taylor series at an eighth, and what follows from those at the whole
    to 1e-8; phases are added up in single precision.
    """
    bins, bands = out.shape[1], cuts.shape[1]
    angle, level = np.empty(bins, np.float32), np.empty(bins)
    cutting = np.zeros(bands + 3, np.int64)
    by = np.zeros(bands + 3, np.float32)
    for t in range(len(cuts)):
        row, y = cuts[t], out[t]
        count = 0
        for b in range(bands):
            if row[b] != 0.0:
                cutting[count], by[count] = b, row[b]
                count += 1
        by[count : count + 3] = 0.0  # with the last of them go some by nothing
        angle[:] = 0.0
        for b in range(0, count, 4):
            p, q, r, s = phases[cutting[b]], phases[cutting[b + 1]], phases[cutting[b + 2]], phases[cutting[b + 3]]
            one, two, three, four = by[b], by[b + 1], by[b + 2], by[b + 3]
            for k in range(bins):
                angle[k] += one * p[k] + two * q[k] + three * r[k] + four * s[k]
        for k in range(bins):
            low = row[under[k]]
            level[k] = (low + share[k] * (row[under[k] + 1] - low)) * scale
        for k in range(bins):
            x = level[k] * 0.125
            e = 1 + x * (1 + x * (_F2 + x * (_F3 + x * (_F4 + x * (_F5 + x * (_F6 + x * (_F7 + x * _F8)))))))
            e = e * e
            e = e * e
            e = e * e
            a = angle[k] * 0.125
            q = a * a
            s = a * (1 - q * (_F3 - q * (_F5 - q * (_F7 - q * (_F9 - q * (_F11 - q * _F13))))))
            c = 1 - q * (_F2 - q * (_F4 - q * (_F6 - q * (_F8 - q * (_F10 - q * _F12)))))
            s, c = 2 * s * c, 1 - 2 * s * s
            s, c = 2 * s * c, 1 - 2 * s * s
            s, c = 2 * s * c, 1 - 2 * s * s
            level[k], angle[k] = 1 - e * c, -e * s
        for k in range(bins):
            y[k] = complex(level[k], angle[k])
