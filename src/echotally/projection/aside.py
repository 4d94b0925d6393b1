"""Work that a process of its own does beside this one: kernels share the cores on threads, but the interpreter has one for all."""

from __future__ import annotations

import ctypes
import multiprocessing
import os
import signal
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import Any, Generic, TypeVar

from echotally.projection.threads import Progress

Result = TypeVar("Result")
#: How often whoever waits is told how far it is, s.
_TOLD_S = 0.2
#: Of Linux's ``prctl`` (linux/prctl.h).
_PARENT_DEATH_SIGNAL = 1
#: So many processes at the most share tasks: each takes memory of its own.
_PROCESSES = 4
#: A task's number on its way through a pipe, so many bytes; and how many a pipe takes before anyone reads, on every system.
_NUMBER, _HELD = 4, 4_096


@dataclass
class Aside(Generic[Result]):
    """What is being done aside. ``work`` is given a function to tell how far it is, and does the same wherever it is done."""

    work: Callable[[Progress | None], Result]
    _found: Connection | None = None
    _share: Any = None

    def result(self, what: str, progress: Progress | None = None) -> Result:
        """What the work came to, waited for. Where it failed, or its process was ended, it is done here, and fails here."""
        if self._found is not None:
            # A process that was ended closes its end, which ends the waiting.
            while not self._found.poll(_TOLD_S):
                if progress:
                    progress(what, self._share.value)
            with suppress(EOFError, OSError):
                there, found = self._found.recv()
                if there:
                    return found  # type: ignore[no-any-return]
        return self.work(progress)


@contextmanager
def set_aside(work: Callable[[Progress | None], Result]) -> Iterator[Aside[Result]]:
    """Begin ``work`` in a process that has everything this one has; where there is no other core, or no such process is to be had, it
    is done here when it is asked for.

    What is left of it is ended with the context. No other thread may be at work when it begins.
    """
    if not (sys.platform.startswith("linux") and (os.cpu_count() or 1) > 1):
        yield Aside(work)
        return
    context = multiprocessing.get_context("fork")
    share = context.RawValue("d", 0.0)
    receiver, sender = context.Pipe(duplex=False)
    process = context.Process(target=_do, args=(work, receiver, sender, share), daemon=True)
    try:
        process.start()
    except OSError:
        # No room for another process.
        yield Aside(work)
        return
    # The other end is the process's alone, so that it closes with it.
    sender.close()
    try:
        yield Aside(work, receiver, share)
    finally:
        process.kill()
        process.join()
        receiver.close()


def by_processes(tasks: Sequence[Callable[[], Result]], what: str, progress: Progress | None = None) -> list[Result]:
    """What each task returns, in their order: each is done here or in a process beside this one, by whoever comes to it first.

    For work of which most is the interpreter's. As ``set_aside``: no other thread may be at work, and where a process cannot be begun
    or is ended, its tasks are done here.
    """
    numbers, put = os.pipe()
    # Every pipe holds that much: of very many tasks some are taken at a time.
    at_once = 1 + len(tasks) * _NUMBER // _HELD

    def some(tell: Progress | None) -> dict[int, Result]:
        """The tasks that nobody has taken yet, one after the other."""
        found = {}
        while taken := os.read(numbers, _NUMBER):
            first = int.from_bytes(taken, "little")
            for n in range(first, min(len(tasks), first + at_once)):
                found[n] = tasks[n]()
            if tell:
                tell(what, (first + at_once) / len(tasks))
        return found

    try:
        os.write(put, b"".join(n.to_bytes(_NUMBER, "little") for n in range(0, len(tasks), at_once)))
        os.close(put)
        with ExitStack() as stack:
            beside = min(os.cpu_count() or 1, _PROCESSES, len(tasks)) - 1
            others = [stack.enter_context(set_aside(some)) for _ in range(beside)]
            found = some(progress)
            for other in others:
                found |= other.result(what)
        return [found[n] if n in found else task() for n, task in enumerate(tasks)]
    finally:
        os.close(numbers)


def _do(work: Callable[[Progress | None], Any], receiver: Connection, sender: Connection, share: Any) -> None:
    receiver.close()
    # An interruption is the other one's, which ends this.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    # However the other one ends, nobody waits for this any more.
    ctypes.CDLL(None).prctl(_PARENT_DEATH_SIGNAL, signal.SIGKILL)

    def tell(_: str, done: float) -> None:
        share.value = done

    try:
        message = True, work(tell)
    except Exception:
        message = False, None
    with suppress(BrokenPipeError):
        sender.send(message)
