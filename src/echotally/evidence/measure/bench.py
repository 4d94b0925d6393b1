"""The bench: a small program that starts the measured one, times it and ends it. It runs by itself, on the standard library alone.

Why a program of its own: what the system tells of a child's peak memory includes that of the process it was started from, so that one
has to be small; a clock should stand beside the child and not behind a busy interpreter; and when Echo Tally is ended, however
hard, the bench sees its input end and takes the measured program and all its children with it.

It reads one JSON object a line and answers one: ``run`` (a fresh process), ``open``, ``ask`` and ``close`` (one that reads events as
lines). Times are seconds, sizes bytes.
"""

from __future__ import annotations

import contextlib
import ctypes
import json
import os
import resource
import select
import signal
import sys
import time
from collections.abc import Callable, Collection
from functools import partial
from typing import Any

#: How often memory and CPU of the measured program are looked at, s.
_LOOK_S = 0.01
#: What is kept of the end of each output, and the length of an answer at most.
_TAIL, _LONGEST = 2_000, 64 * 2**20
#: Windows over which the CPU in use is averaged, s: shorter ones would show the system's clock ticks.
_WINDOW_S = 0.1
#: After its input has ended, a program that reads events may take so long to leave, s.
_LEAVING_S = 2.0
_TICK = os.sysconf("SC_CLK_TCK") if hasattr(os, "sysconf") else 100
_PAGE = os.sysconf("SC_PAGE_SIZE") if hasattr(os, "sysconf") else 4_096


class Gone(Exception):
    """Echo Tally has gone: everything is to be ended."""


class Hung(Exception):
    """The time limit is over."""


class Ended(Exception):
    """The measured program ended where an answer was awaited."""


def _adopt() -> None:
    """Children that lose their parent become ours (Linux), so that none is left behind and their CPU is told."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(36, 1, 0, 0, 0)


def _read(path: str) -> str:
    try:
        with open(path, encoding="utf-8", errors="replace") as file:
            return file.read()
    except OSError:
        return ""


def _tree(pid: int, but: Collection[int] = ()) -> list[int]:
    """A process and its descendants, ``but`` those and theirs."""
    found = [pid]
    for each in found:
        with contextlib.suppress(OSError):
            for task in os.listdir(f"/proc/{each}/task"):
                children = [int(child) for child in _read(f"/proc/{each}/task/{task}/children").split()]
                found += [child for child in children if child not in but]
    return found


def _cpu(pid: int) -> float:
    """CPU time of a process, its ended threads and ended children, s: the finer of two clocks."""
    fields = _read(f"/proc/{pid}/stat").rpartition(")")[2].split()
    if len(fields) < 15:
        return 0.0
    ticks = sum(int(fields[n]) for n in (11, 12, 13, 14)) / _TICK
    fine = 0
    with contextlib.suppress(OSError, ValueError, IndexError):
        for task in os.listdir(f"/proc/{pid}/task"):
            fine += int(_read(f"/proc/{pid}/task/{task}/schedstat").split()[0])
    # Ticks hold what threads that ended used, the other clock what is younger than a tick.
    children = sum(int(fields[n]) for n in (13, 14)) / _TICK
    return max(ticks, fine / 1e9 + children)


def _peak(pid: int) -> int:
    """The most memory a process has had since it began its program, bytes."""
    for line in _read(f"/proc/{pid}/status").splitlines():
        if line.startswith("VmHWM:"):
            return int(line.split()[1]) * 1_024
    return 0


def _now_used(pids: list[int]) -> int:
    """Memory in use by several processes, bytes, what they share counted once."""
    total = 0
    for pid in pids:
        for line in _read(f"/proc/{pid}/smaps_rollup").splitlines():
            if line.startswith("Pss:"):
                total += int(line.split()[1]) * 1_024
                break
    return total


class Child:
    """The measured program, from its start to its end."""

    def __init__(self, argv: list[str], gets: bytes | None) -> None:
        """Start it; ``gets`` is its whole standard input, None: it is written to later. Raises ``OSError`` if it cannot be started."""
        # What ran before is not the program's: it is nobody's to end here.
        self.others = frozenset(_tree(os.getpid())[1:])
        pipes = [os.pipe() for _ in range(3)]
        (its_in, self.into), (out, its_out), (err, its_err) = pipes
        self.ends = {"out": out, "err": err}
        actions = [
            (os.POSIX_SPAWN_DUP2, its_in, 0),
            (os.POSIX_SPAWN_DUP2, its_out, 1),
            (os.POSIX_SPAWN_DUP2, its_err, 2),
        ]
        how: Any = {"file_actions": actions, "setsigdef": [signal.SIGINT, signal.SIGPIPE]}
        self.began = time.perf_counter()
        try:
            try:
                self.pid = os.posix_spawnp(argv[0], argv, os.environ, setsid=True, **how)
            except (NotImplementedError, TypeError):
                self.pid = os.posix_spawnp(argv[0], argv, os.environ, setpgroup=0, **how)
        except OSError:
            for pair in pipes:
                os.close(pair[0])
                os.close(pair[1])
            raise
        for end in (its_in, its_out, its_err):
            os.close(end)
        for end in (self.into, *self.ends.values()):
            os.set_blocking(end, False)
        self.told = os.pidfd_open(self.pid) if hasattr(os, "pidfd_open") else -1
        self.gets = bytearray(gets or b"")
        self.keeps_open = gets is None
        self.kept = {"out": bytearray(), "err": bytearray()}
        self.sizes = {"out": 0, "err": 0}
        self.lines: list[tuple[float, int]] = []
        self.line, self.peak, self.used = 0, 0, 0
        self.seen: list[tuple[float, float]] = []
        self.looked, self.weighed = 0.0, 0.0
        self.usage: Any = None
        self.ended: float | None = None
        self.status = 0

    # -- looking on

    def wait(self, until: float, done: Callable[[], bool] | None = None) -> None:
        """Look on until it ends, ``done()`` is true, or the clock is past ``until`` (raises ``Hung``)."""
        while self.ended is None and not (done and done()):
            now = time.perf_counter()
            if now >= until:
                raise Hung
            self._step(min(until - now, _LOOK_S))
        if done and not done():
            self.drain()
            if not done():
                raise Ended

    def _step(self, patience: float) -> None:
        reads = [*self.ends.values(), 0, *([self.told] if self.told >= 0 else [])]
        writes = [self.into] if self.gets and self.into >= 0 else []
        ready, free, _ = select.select(reads, writes, [], patience if self.told >= 0 else min(patience, 0.002))
        now = time.perf_counter()
        if self.told < 0 or self.told in ready:
            self._reap(os.WNOHANG, now)
        if 0 in ready:
            # Nothing is asked of the bench while it looks on: its input has ended.
            raise Gone
        if free:
            self.write()
        elif not self.gets and not self.keeps_open:
            self._shut()
        for name, end in list(self.ends.items()):
            if end in ready:
                self.take(name, now)
        if now - self.looked >= _LOOK_S and self.ended is None:
            self.looked = now
            self._look(now)

    def _look(self, now: float) -> None:
        tree = _tree(self.pid)
        self.peak = max(self.peak, _peak(self.pid))
        if len(tree) > 1 and now - self.weighed >= 5 * _LOOK_S:
            self.weighed = now
            self.used = max(self.used, _now_used(tree))
        if len(self.seen) < 20_000:
            self.seen.append((now, sum(_cpu(pid) for pid in tree)))

    def cpu(self) -> float:
        """CPU time so far, its children's included, s."""
        return sum(_cpu(pid) for pid in _tree(self.pid))

    def _reap(self, flags: int, now: float) -> None:
        pid, status, usage = os.wait4(self.pid, flags)
        if pid:
            self.ended, self.status, self.usage = now, status, usage

    def write(self) -> None:
        """Hand over what its input takes of what it is still to get."""
        try:
            del self.gets[: os.write(self.into, self.gets[: 1 << 16])]
        except BlockingIOError:
            return
        except OSError:
            # It does not read: that is its right.
            self.gets.clear()
            self._shut()

    def _shut(self) -> None:
        if self.into >= 0:
            os.close(self.into)
            self.into = -1

    def take(self, name: str, now: float) -> None:
        """Take what one of its outputs has for us."""
        end = self.ends[name]
        try:
            got = os.read(end, 1 << 18)
        except BlockingIOError:
            return
        except OSError:
            got = b""
        if not got:
            os.close(end)
            del self.ends[name]
            return
        self.sizes[name] += len(got)
        self.kept[name] += got
        del self.kept[name][:-_TAIL]
        if name == "out":
            self._count(got, now)

    def _count(self, got: bytes, now: float) -> None:
        """Note when each whole line of the output came, and how long it is without its end."""
        before = 0
        while (place := got.find(b"\n", before)) >= 0:
            self.lines.append((now, self.line + place - before))
            self.line, before = 0, place + 1
        self.line += len(got) - before
        if self.line > _LONGEST:
            raise Ended

    def answered(self, count: int) -> bool:
        """Whether so many lines have come since they were last counted from."""
        return len(self.lines) >= count

    def drain(self) -> None:
        """Take what it has written before it ended."""
        for _ in range(10_000):
            ready, _, _ = select.select(list(self.ends.values()), [], [], 0)
            if not ready:
                return
            for name in [name for name, end in self.ends.items() if end in ready]:
                self.take(name, time.perf_counter())

    # -- its end

    def finish(self) -> dict[str, Any]:
        """End it and all its children if they still run, and tell what it used."""
        hard = self.ended is None
        if hard:
            self._kill()
            self._reap(0, time.perf_counter())
        self.drain()
        extra = self._orphans()
        for end in (self.into, self.told, *self.ends.values()):
            if end >= 0:
                with contextlib.suppress(OSError):
                    os.close(end)
        usage, code = self.usage, os.waitstatus_to_exitcode(self.status)
        largest = usage.ru_maxrss * (1 if sys.platform == "darwin" else 1_024)
        return {
            "took": (self.ended or self.began) - self.began,
            "user": usage.ru_utime + extra[0],
            "system": usage.ru_stime + extra[1],
            "exit": code if code >= 0 else None,
            "signal": None if hard or code >= 0 else -code,
            "memory": self._memory(largest),
            "out": self.sizes["out"],
            "err": self.sizes["err"],
            "last_out": bytes(self.kept["out"]).decode("utf-8", "replace"),
            "last_err": bytes(self.kept["err"]).decode("utf-8", "replace"),
            "most_cpus": self.most_cpus(),
        }

    def _memory(self, largest: int) -> int:
        """Peak memory: what the system tells, unless that is the bench's own; what was seen; several processes together."""
        own = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * (1 if sys.platform == "darwin" else 1_024)
        told = largest if largest > own or not self.peak else self.peak
        return max(told, self.peak, self.used)

    def most_cpus(self) -> float | None:
        """The most CPUs in use at once, averaged over a window; None where it ended sooner."""
        best, first = None, 0
        for n, (at, cpu) in enumerate(self.seen):
            while first + 1 < n and at - self.seen[first + 1][0] >= _WINDOW_S:
                first += 1
            gap = at - self.seen[first][0]
            if gap >= _WINDOW_S:
                best = max(best or 0.0, (cpu - self.seen[first][1]) / gap)
        return best

    def _kill(self) -> None:
        for pid in reversed(_tree(self.pid)):
            with contextlib.suppress(OSError):
                os.kill(pid, signal.SIGKILL)
        with contextlib.suppress(OSError):
            os.killpg(self.pid, signal.SIGKILL)

    def _orphans(self) -> tuple[float, float]:
        """End what the program left running, and tell the CPU it used, user and system."""
        user = system = 0.0
        with contextlib.suppress(OSError):
            os.killpg(self.pid, signal.SIGKILL)
        for _ in range(1_000):
            left = [pid for pid in _tree(os.getpid(), self.others)[1:] if pid != self.pid]
            if not left:
                break
            for pid in left:
                with contextlib.suppress(OSError):
                    os.kill(pid, signal.SIGKILL)
            # Whose parent was ended comes to the bench, and is met in the next round.
            for pid in left:
                with contextlib.suppress(OSError):
                    _, _, usage = os.wait4(pid, 0)
                    user, system = user + usage.ru_utime, system + usage.ru_stime
        return user, system


class Bench:
    """What is asked of the bench, one request at a time."""

    def __init__(self) -> None:
        self.child: Child | None = None

    def run(self, asked: dict[str, Any]) -> dict[str, Any]:
        """A fresh process with ``gets`` on its standard input, ended after ``limit`` s: how it went, ``hung`` if it was ended."""
        child = self.child = Child(asked["argv"], asked["gets"].encode())
        hung = False
        try:
            child.wait(child.began + asked["limit"])
        except Hung:
            hung = True
        return {**self.end_all(), "hung": hung}

    def open(self, asked: dict[str, Any]) -> dict[str, Any]:
        """A process that reads events as lines: started, handed the first, and how long until its first answer was there."""
        child = self.child = Child(asked["argv"], None)
        return self._asked(child, [asked["line"]], 1, asked["limit"], child.began)

    def ask(self, asked: dict[str, Any]) -> dict[str, Any]:
        """Hand it ``lines``, ``at_once`` of them unanswered at a time: when each was handed over and answered, and the CPU used."""
        child = self.child
        if child is None:
            raise Ended
        return self._asked(child, asked["lines"], asked["at_once"], asked["limit"], time.perf_counter())

    def _asked(self, child: Child, lines: list[str], at_once: int, limit: float, since: float) -> dict[str, Any]:
        child.lines.clear()
        logged, used, sent = child.sizes["err"], child.cpu(), []
        failed = None
        try:
            for n, line in enumerate(lines):
                if n >= at_once:
                    child.wait(time.perf_counter() + limit, partial(child.answered, n - at_once + 1))
                child.gets += line.encode() + b"\n"
                sent.append(time.perf_counter())
                child.write()
            child.wait(time.perf_counter() + limit, partial(child.answered, len(lines)))
        except Hung:
            failed = "hung"
        except Ended:
            failed = "ended"
        if failed:
            return {**self.end_all(), "failed": failed}
        child.drain()
        return {
            "failed": None,
            "sent": [at - since for at in sent],
            "answered": [at - since for at, _ in child.lines[: len(lines)]],
            "sizes": [size for _, size in child.lines[: len(lines)]],
            "cpu": child.cpu() - used,
            "log": child.sizes["err"] - logged,
            "memory": max(_peak(child.pid), child.used),
            "most_cpus": child.most_cpus(),
        }

    def close(self, asked: dict[str, Any]) -> dict[str, Any]:
        """No more events: it may leave, and is ended if it does not."""
        child = self.child
        if child is None:
            return {}
        child.keeps_open = False
        with contextlib.suppress(Hung):
            child.wait(time.perf_counter() + _LEAVING_S)
        return self.end_all()

    def end_all(self) -> dict[str, Any]:
        """End what runs, with all its children; what it used."""
        child, self.child = self.child, None
        return child.finish() if child else {}

    def answer(self, asked: dict[str, Any]) -> dict[str, Any]:
        """One request."""
        try:
            return {"run": self.run, "open": self.open, "ask": self.ask, "close": self.close}[asked["do"]](asked)
        except OSError as error:
            self.end_all()
            return {"cannot": error.strerror or str(error)}


def main() -> None:
    """Answer requests until the input ends; then nothing that was started is left."""
    # What stands in front of the terminal is Echo Tally, which says what is to end.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _adopt()
    bench, rest = Bench(), b""
    try:
        while True:
            while b"\n" not in rest:
                child = bench.child
                ends = dict(child.ends) if child else {}
                ready, _, _ = select.select([0, *ends.values()], [], [])
                for name in (name for name, end in ends.items() if end in ready):
                    child.take(name, time.perf_counter()) if child else None
                if 0 in ready:
                    got = os.read(0, 1 << 20)
                    if not got:
                        return
                    rest += got
            line, _, rest = rest.partition(b"\n")
            reply = json.dumps(bench.answer(json.loads(line))).encode() + b"\n"
            while reply:
                reply = reply[os.write(1, reply) :]
    except (Gone, OSError):
        return
    finally:
        bench.end_all()


if __name__ == "__main__":
    main()
