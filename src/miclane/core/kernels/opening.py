"""Gains that open and close: ducker and gate, and where the words begin that a ducker waits for."""

from . import kernel


@kernel
def duck_gain(level_db, n, threshold_db, depth_db, attack, release, hold, state, gain_db):
    """Gain in dB that goes to -depth while the key is over a threshold; 3 dB of hysteresis, hold, exponential in dB.

    state: [gain in dB, open (1) or not, frames since the key was last over].
    """
    gain, down, since = state[0], state[1], state[2]
    leave = threshold_db - 3.0
    for i in range(n):
        if level_db[i] > threshold_db or (down > 0.0 and level_db[i] > leave):
            down = 1.0
            since = 0.0
        else:
            since += 1.0
            if since > hold:
                down = 0.0
        if down > 0.0:
            gain += attack * (-depth_db - gain)
        else:
            gain += release * (0.0 - gain)
            if gain > -1e-9:
                gain = 0.0
        gain_db[i] = gain
    state[0], state[1], state[2] = gain, down, since


@kernel
def word_starts(level_db, n, threshold_db, faint_db, rise_db, before, ring, floors, state):
    """Delay levels (n,) in place by as many frames as ring has; a word that passes the threshold stands there whole.

    What leads up to it, from where the level rose past the faint one (`faint_db`, or `rise_db` over its own floor) and
    `before` frames more, is put just over the threshold, as far back as the ring goes. The floor is the least of the
    last floors (k,), each of a block of frames. state: [place in the ring, frames since the faint rise, frames left in
    the block, its least level, place in the floors, frames of a block, the floor].
    """
    size = ring.shape[0]
    at, since, left, least, place, floor = (
        int(state[0]),
        int(state[1]),
        int(state[2]),
        state[3],
        int(state[4]),
        state[6],
    )
    for i in range(n):
        level = level_db[i]
        least = min(least, level)
        left -= 1
        if left <= 0:
            floors[place] = least
            place = place + 1 if place + 1 < floors.shape[0] else 0
            floor = floors.min()
            least, left = 1e9, int(state[5])
        since = since + 1 if level > max(faint_db, floor + rise_db) else 0
        level_db[i] = ring[at]
        ring[at] = level
        if level > threshold_db:
            k = at
            for _ in range(min(since + before, size - 1)):
                k = k - 1 if k > 0 else size - 1
                if ring[k] > threshold_db:
                    break
                ring[k] = threshold_db + 0.01
        at = at + 1 if at + 1 < size else 0
    state[0], state[1], state[2], state[3], state[4], state[6] = at, since, left, least, place, floor


@kernel
def gate_gain(level_db, n, threshold_db, hysteresis_db, slope, range_db, attack, release, hold, state, gain_db):
    """Gain in dB of a gate: open over the threshold, closing `hold` frames after the level fell under the lower one.

    Closed, it goes down by `slope` dB for each dB under the threshold, to -range at the most. state: [gain in dB, open
    (1) or not, frames since the level was last over], carried on.
    """
    gain, open_, since = state[0], state[1], state[2]
    leave = threshold_db - hysteresis_db
    for i in range(n):
        level = level_db[i]
        if level > threshold_db or (open_ > 0.0 and level > leave):
            open_ = 1.0
            since = 0.0
        else:
            since += 1.0
            if since > hold:
                open_ = 0.0
        goal = 0.0
        if open_ == 0.0:
            goal = -min(range_db, slope * max(0.0, threshold_db - level))
        gain += (attack if goal > gain else release) * (goal - gain)
        if gain > -1e-6:
            gain = 0.0
        gain_db[i] = gain
    state[0], state[1], state[2] = gain, open_, since
