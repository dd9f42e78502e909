"""Mic Lane: mixing vocals in the browser."""

import os

# The few small matrices of the measures gain nothing from more threads, which only spin beside the sound.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
# Nobody has plug-ins of Pydantic here; to look for them reads what every installed package says of itself.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
