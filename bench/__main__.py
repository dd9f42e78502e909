"""`python -m bench`: every figure is a ratio or a share measured in this run, on this machine, beside its rival."""

import sys

from . import accuracy, attack, batch, fit, fuzz, knob, large, many, processors, switch, whole, work


def main() -> None:
    """Run all parts, or those named."""
    modules = {
        "accuracy": accuracy,
        "processors": processors,
        "whole": whole,
        "knob": knob,
        "fit": fit,
        "switch": switch,
        "many": many,
        "large": large,
        "work": work,
        "batch": batch,
        "attack": attack,
        "fuzz": fuzz,
    }
    parts = {name: module.run for name, module in modules.items()}
    wanted = sys.argv[1:] or list(parts)
    for name in wanted:
        if name not in parts:
            sys.exit(f"bench: there is no part “{name}”; there are {', '.join(parts)}")
        print(f"\n== {name}")
        parts[name]()


main()
