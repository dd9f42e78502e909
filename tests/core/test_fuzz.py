"""Legal chains at the ends of the schema: every kind, four rates, blocks of any size."""

import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from bench.fuzz import KINDS, chain, fault_of

from miclane.core.measure.loudness import k_weighting
from miclane.core.stages.detector import cut_sections
from miclane.core.stages.eq_design import slowest_pole

CHAINS, PARTS = 800, 8


@pytest.mark.parametrize("part", range(PARTS))
def test_whatever_is_legal_makes_a_sound(part: int) -> None:
    """Finite, no louder than is asked for, as late as it says, the same bits twice and the same in other blocks."""
    faults = {seed: fault for seed in range(part, CHAINS, PARTS) if (fault := fault_of(seed, 5))}
    assert not faults


def test_every_kind_and_every_rate_is_among_them() -> None:
    made = [chain(seed) for seed in range(200)]
    assert {stage.kind for stages, _, _ in made for stage in stages} == set(KINDS)
    assert {(rate, channels) for _, rate, channels in made} == {
        (rate, channels) for rate in (44100, 48000, 88200, 96000) for channels in (1, 2)
    }


def sections_in(thing: object, seen: set[int]) -> list[np.ndarray]:
    """Every filter [b0 b1 b2 1 a1 a2] that a processor holds, however deep."""
    if id(thing) in seen:
        return []
    seen.add(id(thing))
    if isinstance(thing, np.ndarray):
        rows = thing.reshape(-1, 6) if thing.ndim and thing.shape[-1] == 6 and thing.size else np.zeros((0, 6))
        return list(rows) if len(rows) and (rows[:, 3] == 1.0).all() else []
    inside = thing if isinstance(thing, list | tuple) else vars(thing).values() if hasattr(thing, "__dict__") else ()
    return [row for one in inside for row in sections_in(one, seen)]


def test_the_poles_of_every_filter_lie_inside_the_circle() -> None:
    found: dict[str, int] = {}
    for seed in range(600):
        stages, rate, channels = chain(seed)
        for stage in stages:
            for section in sections_in(stage.build(rate, channels), set()):
                assert slowest_pole(section) < 1.0, (stage, rate)
                found[stage.kind] = found.get(stage.kind, 0) + 1
    assert {"eq", "deess", "plosive", "multiband", "reverb", "impulse", "duck", "compressor", "drive"} <= set(found)


@pytest.mark.parametrize("rate", [8000, 16000, 44100, 48000, 96000, 192000])
def test_so_do_those_of_the_measures(rate: int) -> None:
    for section in k_weighting(rate):
        assert slowest_pole(section) < 1.0
    for low, high in ((130, 700), (2500, 0), (0, 65), (500, 8000)):
        for section in cut_sections(low, high, rate):
            assert slowest_pole(section) < 1.0


WARMED = """
import importlib, pkgutil
from bench.fuzz import chain, fault_of
from miclane.core import kernels
from miclane.core.warm import warm_up

modules = [importlib.import_module(f"{kernels.__name__}.{m.name}") for m in pkgutil.iter_modules(kernels.__path__)]
named = {f"{m.__name__}.{n}": v for m in modules for n, v in vars(m).items()}
loops = {name: v for name, v in named.items() if isinstance(v, kernels.Later) and hasattr(v, "__wrapped__")}
assert len(loops) > 100
warm_up()
known = {name: len(loop.made.signatures) for name, loop in loops.items()}
for seed in range(150):
    assert not fault_of(seed, 1000)
    for name, loop in loops.items():
        if len(loop.made.signatures) > known[name]:
            known[name] = len(loop.made.signatures)
            print(name, loop.made.signatures[-1], chain(seed)[0], "on", chain(seed)[2])
"""


def test_a_warmed_program_compiles_nothing_more_whatever_is_set() -> None:
    done = subprocess.run([sys.executable, "-c", WARMED], capture_output=True, text=True, cwd=Path(__file__).parents[2])
    assert (done.returncode, done.stdout) == (0, ""), done.stdout + done.stderr
