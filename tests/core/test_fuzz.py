"""Legal chains at the ends of the schema: every kind, four rates, blocks of any size."""

import pytest
from bench.fuzz import KINDS, chain, fault_of

CHAINS, PARTS = 2000, 8


@pytest.mark.parametrize("part", range(PARTS))
def test_whatever_is_legal_makes_a_sound(part: int) -> None:
    """Finite, no louder than is asked for, as late as it says, the same bits twice and the same in other blocks."""
    faults = {seed: fault for seed in range(part, CHAINS, PARTS) if (fault := fault_of(seed))}
    assert not faults


def test_every_kind_and_every_rate_is_among_them() -> None:
    made = [chain(seed) for seed in range(200)]
    assert {stage.kind for stages, _, _ in made for stage in stages} == set(KINDS)
    assert {(rate, channels) for _, rate, channels in made} == {
        (rate, channels) for rate in (44100, 48000, 88200, 96000) for channels in (1, 2)
    }
