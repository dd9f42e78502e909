"""`python -m miclane.core.measure.alone PARENT`: the worker, which ends with the process of that number.

Its watch begins before anything that takes long to load.
"""

import os
import sys
import threading
import time


def _end_with(parent: int) -> None:
    """End, whatever is under way, once the process that asks has gone."""
    while os.getppid() == parent:
        time.sleep(0.5)
    os._exit(1)


if __name__ == "__main__":
    threading.Thread(target=_end_with, args=[int(sys.argv[1])], daemon=True).start()
    from .worker import serve

    serve(sys.stdin.buffer, sys.stdout.buffer)
