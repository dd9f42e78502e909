"""Speed as ratios taken in one run."""

import miclane as miclane  # before numpy, for it says how many threads a product of matrices may wait in
