"""What this machine is and how busy it was: figures measured on it hold for it, and for a quiet hour."""

from __future__ import annotations

import os
import platform
import shutil
from pathlib import Path
from statistics import median

from msgspec import Struct

from echotally.evidence.measure.bench_client import Bench

#: A load above this, a minute's mean of what runs or waits to run, is somebody else's work beside ours.
BUSY = 1.2
#: Runs of a program that does nothing, to know what starting one takes.
_EMPTY = 9


class Machine(Struct, frozen=True):
    """``vcpu`` is what a program here may use, ``load`` the system's mean of the last minute as measuring began, None where it tells none.

    ``start_s`` and ``start_bytes`` are the time and memory that an empty program takes, ``answer_s`` what a line, or an empty request,
    there and back takes; 0 where not known.
    """

    vcpu: float
    model: str
    system: str
    load: float | None
    start_s: float
    answer_s: float
    start_bytes: int = 0

    @property
    def busy(self) -> bool:
        """Whether something else was running."""
        return self.load is not None and self.load > BUSY


#: How interpreters are told to do nothing: what is left is their own start.
_NOTHING = {
    "python": ["-c", ""],
    "node": ["-e", "0"],
    "ruby": ["-e", "0"],
    "perl": ["-e", "0"],
    "bash": ["-c", ":"],
    "sh": ["-c", ":"],
}


def this_machine(command: list[str] | None = None) -> Machine:
    """The machine this runs on, looked at before anything is measured.

    The empty program that tells what starting takes is the command's interpreter, if it has one, with nothing to do.
    """
    load = os.getloadavg()[0] if hasattr(os, "getloadavg") else None
    system = f"{platform.system()} {platform.machine()}"
    start_s, start_bytes = _empty(_does_nothing(command or []))
    return Machine(_vcpu(), _model(), system, load, start_s, _answer("cat"), start_bytes)


def _does_nothing(command: list[str]) -> list[str]:
    name = Path(command[0]).name.rstrip("0123456789.") if command else ""
    return [command[0], *_NOTHING[name]] if name in _NOTHING and len(command) > 1 else ["true"]


def _vcpu() -> float:
    there = float(len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1)
    # A container may be given less than it sees.
    quota, _, period = _text("/sys/fs/cgroup/cpu.max").partition(" ")
    if quota.isdecimal() and period.strip().isdecimal() and int(period):
        there = min(there, int(quota) / int(period))
    return there


def _model() -> str:
    for line in _text("/proc/cpuinfo").splitlines():
        if line.startswith("model name"):
            return line.partition(":")[2].strip()
    return platform.processor() or "unknown processor"


def _text(path: str) -> str:
    try:
        return Path(path).read_text(encoding="utf-8", errors="replace")
    except OSError:
        return ""


def _empty(command: list[str]) -> tuple[float, int]:
    """The median time and memory of a program that does nothing."""
    if shutil.which(command[0]) is None:
        return 0.0, 0
    with Bench(command, 5) as bench:
        runs = [bench.run("") for _ in range(_EMPTY)]
    return median(float(run["took"]) for run in runs), int(median(run["memory"] for run in runs))


def _answer(name: str) -> float:
    program = shutil.which(name)
    if program is None:
        return 0.0
    with Bench([program], 5) as bench:
        bench.open("{}")
        found = bench.ask(["{}"] * _EMPTY)
        bench.close()
    if found["failed"]:
        return 0.0
    return float(median(until - since for since, until in zip(found["sent"], found["answered"], strict=True)))
