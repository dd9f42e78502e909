"""When free memory goes back to the system: in pauses of the work, after something was made, and not often."""

import ctypes
import subprocess
import sys

import pytest

from miclane.memory import is_to_give_back

FREED = """
import ctypes
from pathlib import Path
from miclane.memory import give_back, keep_memory_together

def resident():
    return int(Path("/proc/self/statm").read_text().split()[1]) * 4096

keep_memory_together()
some = [b"x" * 100_000 for _ in range(3000)]  # 300 MB in pieces that are no blocks of their own
held = some[::50]
del some
before = resident()
give_back()
print(before - resident())
"""


@pytest.mark.parametrize(
    ("used", "before", "due"),
    [
        (95.0, 50.0, True),  # a pause after work
        (99.5, 50.0, False),  # at work
        (45.0, 50.0, False),  # nothing made since
        (95.0, 90.0, False),  # just been
    ],
)
def test_it_goes_back_in_a_pause_after_work_and_not_often(used: float, before: float, due: bool) -> None:
    assert is_to_give_back(100.0, used, before) == due


@pytest.mark.skipif(not hasattr(ctypes.CDLL(None), "malloc_trim"), reason="only glibc can give memory back by the way")
def test_what_lies_free_between_what_is_held_goes_back() -> None:
    freed = subprocess.run([sys.executable, "-c", FREED], capture_output=True, text=True, check=True).stdout
    assert int(freed) > 200_000_000
