"""Speed as ratios taken in one run."""
