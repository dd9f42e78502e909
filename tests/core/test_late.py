"""What is loaded at its first use, by several threads at once."""

import subprocess
import sys

import pytest

# One thread loads Numba, which loads SciPy, and is held up for a moment within it; another wants a part of SciPy.
_TWO = """
import sys, threading, time
from importlib.machinery import PathFinder
import numpy as np
from miclane.core import kernels, late

half_way = threading.Event()

class Slow:
    def find_spec(self, name, path=None, target=None):
        if name != "scipy.{part}" or threading.current_thread().name != "first":
            return None
        spec = PathFinder.find_spec(name, path, target)
        run = spec.loader.exec_module
        def slowly(module):
            half_way.set()
            time.sleep(0.5)
            run(module)
        spec.loader.exec_module = slowly
        return spec

sys.meta_path.insert(0, Slow())
first = threading.Thread(target=kernels.load, name="first")
first.start()
half_way.wait(30)
print(late.rfft(np.ones(8))[0].real, half_way.is_set())
first.join()
print("scipy" in sys.modules, "numba" in sys.modules)
"""


@pytest.mark.parametrize("part", ["__config__", "_distributor_init"])
def test_threads_that_load_numba_and_scipy_at_once_wait_for_each_other(part: str) -> None:
    command = [sys.executable, "-c", _TWO.replace("{part}", part)]
    done = subprocess.run(command, capture_output=True, text=True, timeout=120)
    assert done.stdout.split() == ["8.0", "True", "True", "True"], done.stderr


@pytest.mark.parametrize("module", ["core.stages.split", "core.stages.flat", "core.mix.differing", "store.state"])
def test_what_stands_on_every_kind_of_stage_can_be_the_first_that_is_loaded(module: str) -> None:
    done = subprocess.run([sys.executable, "-c", f"import miclane.{module}"], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr


def test_nothing_that_is_heard_or_measured_loads_what_takes_longest() -> None:
    code = (
        "import sys\nfrom miclane.core.warm import warm_up\nwarm_up()\n"
        "print([m for m in sys.modules if m in ('scipy.signal', 'scipy.stats')])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=300)
    assert done.stdout == "[]\n", done.stderr
