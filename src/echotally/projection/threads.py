"""Plays several months at once. Kernels release the interpreter, so threads share the machine's cores."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import FIRST_EXCEPTION, ThreadPoolExecutor, wait
from contextlib import contextmanager
from os import cpu_count
from threading import Event, Lock
from typing import TypeVar

from echotally.errors import Stopped

Progress = Callable[[str, float], None]
Tell = Callable[[float], None]
Result = TypeVar("Result")
#: From so many functions on, in all environments, months are played one after the other.
MANY = 300
#: Where little is kept of each, months of so many functions together have room at the same time.
_AT_ONCE = 2_400
#: How long a thread has the interpreter while others want it, s.
_TURN_S = 0.000_1


def part_of(progress: Progress | None, begin: float, end: float) -> Progress | None:
    """What hears of a part of the whole, from one share of it to another."""
    return (lambda what, share: progress(what, begin + (end - begin) * share)) if progress else None


def shared_out(units: int, months: int, workers: int | None = None, *, room: bool = False) -> tuple[int | None, int]:
    """On how many threads so many months are played (None: one per core), and on how many cores each.

    ``units``: functions in all environments. Months of an estate that would not fit into memory several times are played one after
    the other, the parts of each side by side; ``room``: so little is kept of each that some at a time fit.
    """
    cores = (cpu_count() or 1) if workers is None else workers
    if units < MANY:
        return workers, max(1, cores // max(1, months))
    at_once = max(1, min(cores, months, _AT_ONCE // units)) if room else 1
    return at_once, cores // at_once


def side_by_side(
    tasks: Mapping[str, Callable[[Tell], Result]],
    progress: Progress | None = None,
    workers: int | None = None,
    *,
    called: str | None = None,
) -> list[Result]:
    """What the named tasks return, in their order, played on ``workers`` threads (left out: one per core).

    Each task is given a function to tell its share done; ``progress`` hears of all of them together, as what is ``called`` so.
    An interruption of the caller ends every task at the next share it tells.
    """
    stop, together = Event(), _Together(tasks, progress, called)

    def watched(name: str) -> Tell:
        def tell(share: float) -> None:
            if stop.is_set():
                raise Stopped("interrupted")
            together.tell(name, share)

        return tell

    with short_turns(), ThreadPoolExecutor(workers or cpu_count()) as pool:
        running = [pool.submit(task, watched(name)) for name, task in tasks.items()]
        try:
            # A failure ends all of them, whichever it is; asking one after the other would hear of it late.
            wait(running, return_when=FIRST_EXCEPTION)
            failed = [each for each in running if each.done() and each.exception()]
            return [each.result() for each in failed or running]
        except BaseException:
            stop.set()
            pool.shutdown(wait=False, cancel_futures=True)
            raise


class _Turns:
    """How long threads have the interpreter one after the other, which is the same for all of them."""

    def __init__(self) -> None:
        self._lock, self._callers, self._usual = Lock(), 0, 0.0

    @contextmanager
    def __call__(self) -> Iterator[None]:
        """Let each have it for a short while, until the last of those who asked for that is done.

        Whoever lets go of it for an array of some thousand numbers, which takes microseconds, would wait for it for 5 ms after, as long
        as somebody else has it: samples of two plans of a thousand functions took three times as long.
        """
        with self._lock:
            if self._callers == 0:
                self._usual = sys.getswitchinterval()
                sys.setswitchinterval(min(self._usual, _TURN_S))
            self._callers += 1
        try:
            yield
        finally:
            with self._lock:
                self._callers -= 1
                if self._callers == 0:
                    sys.setswitchinterval(self._usual)


short_turns = _Turns()


class _Together:
    """The mean share of several tasks, told under one lock."""

    def __init__(self, names: Iterable[str], progress: Progress | None, called: str | None) -> None:
        self._shares = dict.fromkeys(names, 0.0)
        self._called = called
        self._progress = progress
        self._lock = Lock()

    def tell(self, name: str, share: float) -> None:
        if self._progress:
            with self._lock:
                self._shares[name] = share
                what = self._called or (name if len(self._shares) == 1 else f"{len(self._shares)} plans")
                self._progress(what, sum(self._shares.values()) / len(self._shares))
