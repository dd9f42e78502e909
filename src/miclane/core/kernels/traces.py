"""What a stage did, a point a hop: least gain, mean squares and peak."""

from . import kernel
from .simd import fma, lane, larger, largest, load8, magnitude, minus, plus, smaller, splat8


@kernel
def trace(
    sides_in, x, x_right, sides_out, y, y_right, gain_db, hop, first, points, gain_out, in_out, out_out, peak_out
):
    """So many points, one for every `hop`, from the point `first` on, into the four rows.

    x and y (frames,) are whole, and so are their right sides where there are two, so the point k is about their frames
    [k · hop, (k + 1) · hop); the first value of gain_db belongs to the point `first`. Where gain_db is empty gain_out
    is left as it is.
    """
    for k in range(points):
        start = (first + k) * hop
        stop = start + hop
        inside, outside, peak = _power(x, start, stop), _power(y, start, stop), _greatest(y, start, stop)
        if sides_in == 2:
            inside += _power(x_right, start, stop)
        if sides_out == 2:
            outside += _power(y_right, start, stop)
            peak = max(peak, _greatest(y_right, start, stop))
        in_out[first + k] = inside / (hop * sides_in)
        out_out[first + k] = outside / (hop * sides_out)
        peak_out[first + k] = peak
        if gain_db.shape[0]:
            gain_out[first + k] = _least(gain_db, k * hop, (k + 1) * hop)


@kernel
def _power(x, start, stop):
    even, odd, wide = splat8(0.0), splat8(0.0), stop - (stop - start) % 16
    for i in range(start, wide, 16):
        a, b = load8(x, i), load8(x, i + 8)
        even, odd = fma(a, a, even), fma(b, b, odd)
    s = plus(even, odd)
    total = (lane(s, 0) + lane(s, 1) + lane(s, 2) + lane(s, 3)) + (lane(s, 4) + lane(s, 5) + lane(s, 6) + lane(s, 7))
    for i in range(wide, stop):
        total += x[i] * x[i]
    return total


@kernel
def _greatest(x, start, stop):
    top, wide = splat8(0.0), stop - (stop - start) % 8
    for i in range(start, wide, 8):
        top = larger(magnitude(load8(x, i)), top)
    found = largest(top)
    for i in range(wide, stop):
        found = max(found, abs(x[i]))
    return found


@kernel
def _least(x, start, stop):
    low, wide = splat8(x[start]), stop - (stop - start) % 8
    for i in range(start, wide, 8):
        low = smaller(load8(x, i), low)
    found = -largest(minus(splat8(0.0), low))
    for i in range(wide, stop):
        found = min(found, x[i])
    return found
