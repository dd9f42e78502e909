"""Products of spectra, summed over the parts of a response."""

from . import kernel


@kernel
def add_products(spectra, parts, total):
    """total (f,) += the sum over k of spectra (k, f) times parts (k, f); all complex."""
    for k in range(parts.shape[0]):
        for f in range(total.shape[0]):
            total[f] += spectra[k, f] * parts[k, f]
