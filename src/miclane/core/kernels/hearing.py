"""Powers of many spectra in bands, each of a few bins that lie in a row."""

from . import kernel, kernel_in_any_order


@kernel_in_any_order
def _squares(parts, power):
    """|z|² of so many bins as power has, from the parts (real, imaginary, real ...) of a spectrum."""
    for i in range(power.shape[0]):
        power[i] = parts[2 * i] * parts[2 * i] + parts[2 * i + 1] * parts[2 * i + 1]


@kernel_in_any_order
def _weighed(power, weights):
    total = 0.0
    for i in range(weights.shape[0]):
        total += power[i] * weights[i]
    return total


@kernel
def band_sums(spectra, begin, count, weights, power, out):
    """Of spectra (n, 2 · bins), real and imaginary parts in turn, what the bands have, added to out (bands, n).

    A band has `count` bins from `begin` on, each as far as its row of weights (bands, most) says. `power` is a row of
    room up to the last bin that any has.
    """
    for k in range(spectra.shape[0]):
        _squares(spectra[k], power)
        for b in range(out.shape[0]):
            out[b, k] += _weighed(power[begin[b] : begin[b] + count[b]], weights[b, : count[b]])
