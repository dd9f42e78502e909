"""What a stage did, a point a hop: least gain, mean squares and peak."""

from . import kernel, kernel_in_any_order
from .levels import power
from .simd import larger, largest, load8, magnitude, splat8


@kernel
def trace(x, y, gain_db, hop, first, gain_out, in_out, out_out, peak_out):
    """A point for every whole `hop` of gain_db (n,), from the point `first` on, into the four rows.

    x and y (channels, frames) are whole, so the point k is about their frames [k · hop, (k + 1) · hop); the first value
    of gain_db belongs to the point `first`.
    """
    for k in range(gain_db.shape[0] // hop):
        start = (first + k) * hop
        inside, outside, peak = 0.0, 0.0, 0.0
        for c in range(x.shape[0]):
            inside += power(x[c, start : start + hop])
        for c in range(y.shape[0]):
            heard = y[c, start : start + hop]
            outside += power(heard)
            peak = max(peak, _greatest(heard))
        in_out[first + k] = inside / (hop * x.shape[0])
        out_out[first + k] = outside / (hop * y.shape[0])
        peak_out[first + k] = peak
        gain_out[first + k] = _least(gain_db[k * hop : (k + 1) * hop])


@kernel
def _greatest(x):
    top, wide = splat8(0.0), x.shape[0] // 8 * 8
    for i in range(0, wide, 8):
        top = larger(magnitude(load8(x, i)), top)
    found = largest(top)
    for i in range(wide, x.shape[0]):
        found = max(found, abs(x[i]))
    return found


@kernel_in_any_order
def _least(x):
    found = x[0]
    for i in range(1, x.shape[0]):
        found = x[i] if x[i] < found else found
    return found
