"""A voice period by period: where each begins, how long it is, and the same voice with periods of other lengths.

Periods are followed by normalised correlation of the sound with itself, each centred where most of its energy is
(pitch-synchronous overlap-add: Moulines & Charpentier, Speech Communication 9, 1990). What comes out is, in each of its
periods, a crossfade of the sound as it was a little earlier or later: nothing is resampled, so formants stay.
"""

import numpy as np

from . import kernel, kernel_within
from .likeness import energy_of, products_of
from .simd import fma, load8, minus, put, splat8, spread8, times

KEPT = 64  # periods, in rings
AFTER = 3  # periods that must be known after the one that is made
START, END, CENTRE, TARGET, SLOPE, DRIFT, VIBRATO, ACTIVE, COLUMNS = 0, 1, 2, 3, 4, 5, 6, 7, 8
# of the state: whole numbers
ISLAND, INSIDE, EPOCHS, NOTE = 0, 1, 2, 3
# and others: place of the last period made, how late what is heard there is, correction, and that at the note's start
PLACE, LATE, BY, BY_BEFORE = 0, 1, 2, 3
_TAPS = 12
_LAST, _NEAR = 0.04, 0.12  # seconds at the end in which it may end early where it is as near to the sound, in periods
_TRUSTED = 0.45


@kernel
def listened(x, poles, held, out):
    """The middle of x (channels, n) between about 60 Hz and 2 kHz into out (n,); poles (2,), held (3,)."""
    channels, n = x.shape
    for i in range(n):
        v = 0.0
        for c in range(channels):
            v += x[c, i]
        v /= channels
        held[0] += poles[0] * (v - held[0])
        held[1] += poles[1] * (v - held[0] - held[1])
        held[2] += poles[1] * (held[1] - held[2])
        out[i] = held[2]


@kernel
def _lag(x, at, low, high, window):
    """(lag in frames, how alike) at which x from `at` on, `window` frames about it, is most like itself later."""
    a = at - window // 2
    own = energy_of(x[a : a + window]) + 1e-18
    first, last = max(2, int(low)), int(np.ceil(high))
    products = np.empty(max(0, last + 1 - first))
    products_of(x, a, window, first, products)
    energy = energy_of(x[a + first : a + first + window])
    best, found = -2.0, first
    before = here = after = -2.0
    previous = -2.0
    for lag in range(first, last + 1):
        r = products[lag - first] / np.sqrt(own * (max(energy, 0.0) + 1e-18))
        gone, come = x[a + lag], x[a + lag + window]
        energy += come * come - gone * gone
        if found == lag - 1 and best == previous:
            after = r
        if r > best:
            best, found, before, here, after = r, lag, previous, r, -2.0
        previous = r
    if before > -2.0 and after > -2.0:
        bend = before - 2 * here + after
        if bend < 0:
            return found + 0.5 * (before - after) / bend, best
    return float(found), best


@kernel
def _off_centre(x, at, period):
    """By how many frames the energy of the period about `at` lies later than it, −period / 2 to period / 2."""
    n = max(4, round(period))
    first = round(at) - n // 2
    real, imaginary, total = 0.0, 0.0, 0.0
    begun, step = 2 * np.pi * (first - at) / period, 2 * np.pi / period
    c, s, across, up = np.cos(begun), np.sin(begun), np.cos(step), np.sin(step)
    for i in range(n):
        rise = x[first + i + 1] - x[first + i - 1]
        e = rise * rise
        real += e * c
        imaginary += e * s
        total += e
        c, s = c * across - s * up, s * across + c * up
    plain = np.sqrt(real * real + imaginary * imaginary) / (total + 1e-30)  # near nothing where there is no one pulse
    if plain < 0.1:
        return 0.0
    return min(1.0, 2.5 * plain) * np.arctan2(imaginary, real) * period / (2 * np.pi)


@kernel
def _next(x, base, filled, epochs, lags, count, note, rate):
    """Follow the voice by a period; False where there is too little of it yet."""
    k = (count - 1) % KEPT
    usual = rate / (440.0 * 2 ** ((note[CENTRE] - 6900) / 1200))
    period = lags[(count - 2) % KEPT] if count > 1 else usual
    window = int(max(period, 0.005 * rate))
    low = max(period * 0.88, usual * 0.68) if count > 1 else usual * 0.8
    high = min(period * 1.14, usual * 1.48) if count > 1 else usual * 1.25
    if high < low + 2:
        low, high = usual * 0.8, usual * 1.25
    at = epochs[k] - base
    if at + window / 2 + high + 4 >= filled or at + 2.1 * high + 4 >= filled:
        return False
    lag, alike = _lag(x, round(at), low, high, window)
    if alike < _TRUSTED:
        lag = min(max(period, low), high)
    lags[k] = lag
    ahead = epochs[k] + lag
    off = _off_centre(x, ahead - base, lag)
    most = 0.004 * lag
    epochs[count % KEPT] = ahead + min(max(0.03 * off, -most), most)
    return True


@kernel_within
def _taps(table, late, taps):
    """The whole frames of a delay, and taps for the rest of it; straight between the rows of the table."""
    whole = int(np.floor(late))
    place = (late - whole) * (table.shape[0] - 1)
    row = min(int(place), table.shape[0] - 2)
    share = place - row
    for t in range(_TAPS):
        taps[t] = table[row, t] + share * (table[row + 1, t] - table[row, t])
    return whole


@kernel
def _cross(x, y, base, start, stop, late, next_late, table):
    """y between two places of the song: x as late as `late` at the first, and as `next_late` at the second."""
    first, last = int(np.ceil(start)), int(np.ceil(stop))
    one, other = np.empty(_TAPS), np.empty(_TAPS)
    whole, next_whole = _taps(table, late, one), _taps(table, next_late, other)
    turn = np.pi / (stop - start)
    turned, beside = np.empty(8), np.empty(8)
    for k in range(8):
        turned[k], beside[k] = np.cos(turn * (first + k - start)), np.sin(turn * (first + k - start))
    c, s = load8(turned, 0), load8(beside, 0)
    across, up, down, half = splat8(np.cos(8 * turn)), splat8(np.sin(8 * turn)), splat8(-np.sin(8 * turn)), splat8(0.5)
    eights = first + (last - first) // 8 * 8
    for i in range(first, eights, 8):
        a, b = i - base - whole + _TAPS // 2 - 1, i - base - next_whole + _TAPS // 2 - 1
        h = minus(half, times(half, c))
        c, s = fma(c, across, times(s, down)), fma(s, across, times(c, up))
        for side in range(x.shape[0]):
            row = x[side]
            before, after = splat8(0.0), splat8(0.0)
            for t in range(_TAPS):
                before = fma(spread8(one, t), load8(row, a - t), before)
                after = fma(spread8(other, t), load8(row, b - t), after)
            put(y[side], i - base, fma(h, minus(after, before), before))
    for i in range(eights, last):
        h = 0.5 - 0.5 * np.cos(turn * (i - start))
        a, b = i - base - whole + _TAPS // 2 - 1, i - base - next_whole + _TAPS // 2 - 1
        for side in range(x.shape[0]):
            before, after = 0.0, 0.0
            for t in range(_TAPS):
                before += one[t] * x[side, a - t]
                after += other[t] * x[side, b - t]
            y[side, i - base] = before + h * (after - before)


@kernel
def _correction(notes, state, numbers, at, heard, settle):
    """By how many cents to change what is sung at a place, `heard` cents high there."""
    k = state[NOTE]
    share = 1.0 if settle <= 0 else min(1.0, 0.865 * max(0.0, at - notes[k, START]) / settle)
    share = share * share * (3 - 2 * share)
    wanted = 0.0
    if notes[k, ACTIVE] > 0:
        drift = notes[k, SLOPE] * (at - 0.5 * (notes[k, START] + notes[k, END]))
        moving = min(max(heard - notes[k, CENTRE] - drift, -400.0), 400.0)
        beyond = heard - notes[k, CENTRE] - drift - moving
        wanted = notes[k, TARGET] + notes[k, DRIFT] * drift + notes[k, VIBRATO] * moving + beyond - heard
    return numbers[BY_BEFORE] + share * (wanted - numbers[BY_BEFORE])


@kernel
def retuned(
    x, low, y, base, filled, begun, islands, notes, first_note, settle, rate, table, state, numbers, epochs, lags
):
    """Go on through the voice as far as what has come allows.

    x (channels, any), low (any,) and y like x hold the song from frame `base` on, `filled` frames of it; y holds x
    where nothing is changed. islands (k, 2): stretches in frames, those begun before frame `begun` left alone; notes
    (m, COLUMNS), those of island j from first_note[j] to first_note[j + 1]: start, end in frames; centre and target in
    cents; slope in cents a frame; shares of drift and of all else that moves which stay; whether it is changed at all.
    """
    while True:
        j = state[ISLAND]
        if j >= len(islands):
            return
        if not state[INSIDE]:
            if islands[j, 0] < begun:
                state[ISLAND] += 1
                continue
            k = first_note[j]
            period = rate / (440.0 * 2 ** ((notes[k, CENTRE] - 6900) / 1200))
            at = islands[j, 0] + period
            if at - base + 2 * period + 4 >= filled:
                return
            at += _off_centre(low, at - base, period)
            if at + 2 * period > islands[j, 1]:
                state[ISLAND] += 1
                continue
            epochs[0] = at
            state[INSIDE], state[EPOCHS], state[NOTE] = 1, 1, k
            numbers[PLACE], numbers[LATE], numbers[BY], numbers[BY_BEFORE] = at, 0.0, 0.0, 0.0
        place = numbers[PLACE]
        while state[EPOCHS] < AFTER + 2 or epochs[(state[EPOCHS] - 1 - AFTER) % KEPT] <= place:
            k = state[NOTE]
            while k + 1 < first_note[j + 1] and epochs[(state[EPOCHS] - 1) % KEPT] >= notes[k, END]:
                k += 1
            if not _next(low, base, filled, epochs, lags, state[EPOCHS], notes[k], rate):
                return
            state[EPOCHS] += 1
        count = state[EPOCHS]
        m = count - 1
        while m > max(0, count - KEPT + 2) and epochs[m % KEPT] > place:
            m -= 1
        gone = min(max((place - epochs[m % KEPT]) / lags[m % KEPT], 0.0), 1.0)
        period = lags[m % KEPT] + gone * (lags[(m + 1) % KEPT] - lags[m % KEPT])
        k = max(m, 1)
        about = (lags[(k - 1) % KEPT] + lags[k % KEPT] + lags[(k + 1) % KEPT]) / 3
        about += gone * (lags[(k + 2) % KEPT] - lags[(k - 1) % KEPT]) / 3
        heard = 1200 * np.log2(rate / about / 440.0) + 6900
        while state[NOTE] + 1 < first_note[j + 1] and place >= notes[state[NOTE], END]:
            state[NOTE] += 1
            numbers[BY_BEFORE] = numbers[BY]
        by = _correction(notes, state, numbers, place, heard, settle)
        numbers[BY] = by
        step = period * 2 ** (-by / 1200)
        ahead = place + step
        end = islands[j, 1]
        late = numbers[LATE]
        near = abs(late) < _NEAR * period and place > end - _LAST * rate
        if near or ahead + step >= end:
            ahead = min(ahead, end)
            if ahead - base + period + _TAPS >= filled:
                return
            _cross(x, y, base, place, ahead, late, 0.0, table)
            state[INSIDE] = 0
            state[ISLAND] += 1
            continue
        nearest = m
        while nearest + 1 < count and abs(epochs[(nearest + 1) % KEPT] - ahead) < abs(epochs[nearest % KEPT] - ahead):
            nearest += 1
        next_late = ahead - epochs[nearest % KEPT]
        if ahead - base + period + _TAPS >= filled:
            return
        _cross(x, y, base, place, ahead, late, next_late, table)
        numbers[PLACE], numbers[LATE] = ahead, next_late
