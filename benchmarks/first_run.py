"""How long the very first run makes machine code, from the kernels that the package brings along and from the sources. Prints; asserts nothing.

In turns, each in a process and with a cache folder of its own; CPU time, the least of several rounds. ``compiled``
is what a machine takes for which nothing fitting is brought along.
Run: .venv/bin/python benchmarks/first_run.py [--rounds 3]
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile

_TIMED = """
import time
began = time.perf_counter()
from echotally.engine import compiling
compiling.form()
print(time.process_time(), time.perf_counter() - began)
"""


def first_time(kernels: str) -> tuple[float, float]:
    """CPU time and wall time, s, of a process that makes machine code of ``kernels`` (``carried`` or ``compiled``)."""
    with tempfile.TemporaryDirectory() as folder:
        environment = {**os.environ, "ECHOTALLY_CACHE": folder, "ECHOTALLY_KERNELS": kernels}
        done = subprocess.run(
            [sys.executable, "-c", _TIMED], capture_output=True, text=True, check=True, env=environment
        )
    cpu_s, wall_s = map(float, done.stdout.split())
    return cpu_s, wall_s


def main() -> None:
    """Print both, and how many times as long the sources take."""
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    options.add_argument("--rounds", type=int, default=3)
    rounds = options.parse_args().rounds
    found: dict[str, list[tuple[float, float]]] = {"carried": [], "compiled": []}
    for _ in range(rounds):
        for kernels, times in found.items():
            times.append(first_time(kernels))
    least = {kernels: [min(column) for column in zip(*times, strict=True)] for kernels, times in found.items()}
    for kernels, (cpu_s, wall_s) in least.items():
        print(f"{kernels:>10}: {cpu_s:5.1f} s of CPU time, {wall_s:5.1f} s of wall time")
    print(f"the sources take {least['compiled'][0] / least['carried'][0]:.2f} times as long")


if __name__ == "__main__":
    main()
