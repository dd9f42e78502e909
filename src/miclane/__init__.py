"""Mic Lane: mixing vocals in the browser."""

import os

# The few small matrices of the measures gain nothing from more threads, which only spin beside the sound.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
