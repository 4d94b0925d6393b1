"""Runs cases in processes of their own, a thousand each, under limits of memory and time; a crash is followed to its case.

The worker writes the number of its case into a file before it begins: when the process dies or hangs, that number is the
case, which is run once more alone to be sure, and the rest goes on behind it.
"""

from __future__ import annotations

import contextlib
import json
import os
import resource
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

MEMORY_BYTES = 6 * 2**30
CASE_S, HANG_S = 60, 150
BATCH = 1_000


@dataclass
class Found:
    """What came of a range of cases: how many ended how, and the cases that must not be."""

    counts: Counter[str] = field(default_factory=Counter)
    bad: list[tuple[int, str]] = field(default_factory=list)

    def add(self, other: Found) -> None:
        self.counts.update(other.counts)
        self.bad += other.bad


def run(target: str, first: int, count: int, until: float | None = None) -> tuple[Found, int]:
    """Run cases ``first`` to ``first + count - 1``, up to a time (monotonic); returns what was found and how many were run."""
    whole, at = Found(), first
    while at < first + count and (until is None or time.monotonic() < until):
        size = min(BATCH, first + count - at)
        found, done = _batch(target, at, size)
        whole.add(found)
        at += done
    return whole, at - first


def _batch(target: str, first: int, count: int) -> tuple[Found, int]:
    with tempfile.TemporaryDirectory() as name:
        place, result = Path(name) / "case", Path(name) / "result.json"
        place.write_text(str(first))
        command = [
            sys.executable,
            "-m",
            "tests.fuzzing.workers",
            target,
            str(first),
            str(count),
            str(place),
            str(result),
        ]
        environment = os.environ | {"PYTHONWARNINGS": "ignore"}
        with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, env=environment) as process:
            last, since = first, time.monotonic()
            while process.poll() is None:
                time.sleep(0.05)
                now = int(place.read_text() or last)
                if now != last:
                    last, since = now, time.monotonic()
                elif time.monotonic() - since > HANG_S:
                    process.kill()
            error = process.stderr.read().decode("utf-8", "replace") if process.stderr else ""
        if result.exists():
            data = json.loads(result.read_text())
            return Found(Counter(data["counts"]), [(case, text) for case, text in data["bad"]]), count
        case = int(place.read_text())
        return Found(
            Counter({"crashed": 1}), [(case, f"the process ended with {process.returncode}: {error[-300:]}")]
        ), case + 1 - first


class _TooLong(BaseException):
    pass


def _alarm(*_: object) -> None:
    raise _TooLong


def _work(target: str, first: int, count: int, place: Path, result: Path) -> None:
    from tests.fuzzing.targets import REFUSALS, TARGETS

    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    signal.signal(signal.SIGALRM, _alarm)
    case, counts, bad = TARGETS[target], Counter[str](), []
    with tempfile.TemporaryDirectory() as name, place.open("r+b", buffering=0) as mark:
        folder = Path(name)
        for seed in range(first, first + count):
            mark.seek(0)
            mark.write(b"%020d" % seed)
            signal.alarm(CASE_S)
            try:
                how = "answered" if case(seed, folder) is not None else "left out"
            except REFUSALS as error:
                # A refusal is for people: one line a problem, and nothing in it that acts on a terminal.
                text = str(error)
                printable = all(c.isprintable() or c == "\n" for c in text)
                how = "refused" if text.strip() and (printable or not hasattr(error, "problems")) else "bad"
                bad += [(seed, f"a refusal that cannot be printed: {text!r}"[:300])] if how == "bad" else []
            except MemoryError:
                how = "memory"
                bad.append((seed, "more memory than allowed"))
            except _TooLong:
                how = "too long"
                bad.append((seed, f"more than {CASE_S} s"))
            except Exception as error:
                how = "fault"
                bad.append((seed, f"{type(error).__name__}: {error}"[:300]))
            finally:
                signal.alarm(0)
            counts[how] += 1
    with contextlib.suppress(FileNotFoundError):
        result.with_suffix(".part").write_text(json.dumps({"counts": counts, "bad": bad}))
        result.with_suffix(".part").rename(result)


if __name__ == "__main__":
    _work(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]), Path(sys.argv[4]), Path(sys.argv[5]))
