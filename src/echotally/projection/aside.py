"""Work that a process of its own does beside this one: kernels share the cores on threads, but the interpreter has one for all."""

from __future__ import annotations

import ctypes
import multiprocessing
import os
import signal
import sys
from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from functools import partial
from multiprocessing.connection import Connection, wait
from typing import Any, Generic, TypeVar, cast

from msgspec import Struct

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
#: Whether a process may begin with everything that another has.
CAN_FORK = sys.platform.startswith("linux")


class Aside(Struct, Generic[Result]):
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
    if not (CAN_FORK and (os.cpu_count() or 1) > 1):
        yield Aside(work)
        return
    share = multiprocessing.get_context("fork").RawValue("d", 0.0)

    def tell(_: str, done: float) -> None:
        share.value = done

    with ExitStack() as stack:
        try:
            receiver = stack.enter_context(forked(lambda sender: sender.send(tried(partial(work, tell)))))
        except OSError:
            # No room for another process.
            yield Aside(work)
        else:
            yield Aside(work, receiver, share)


def others_there_may_be() -> int:
    """How many processes beside this one share tasks with it: one for each other core, up to some; none where they cannot be had."""
    return min(os.cpu_count() or 1, _PROCESSES) - 1 if CAN_FORK else 0


def as_they_come(tasks: Sequence[Callable[[], Result]], processes: int) -> Generator[tuple[int, Result], None, None]:
    """The number of each task and what it returns, by so many processes beside this one, which only waits.

    Each is done by whoever comes to it first. Processes have all that this one has, and take memory only for what they change; no
    other thread may be at work when they begin. Where they cannot be had, or are ended, tasks are done here, one after the other.
    """
    left = set(range(len(tasks)))
    with _untaken(len(tasks)) as untaken, ExitStack() as stack:

        def each(sender: Connection) -> None:
            for n in untaken():
                sender.send((n, *tried(tasks[n])))

        waiting = list[Connection]()
        for _ in range(min(processes, len(tasks)) if CAN_FORK else 0):
            with suppress(OSError):
                waiting.append(stack.enter_context(forked(each)))
        while waiting:
            for receiver in cast(list[Connection], wait(waiting)):
                try:
                    n, there, found = receiver.recv()
                except (EOFError, OSError):
                    # It has done all it could take, or was ended.
                    waiting.remove(receiver)
                    continue
                left.discard(n)
                yield n, cast(Result, found) if there else tasks[n]()
    for n in sorted(left):
        yield n, tasks[n]()


@contextmanager
def _untaken(count: int) -> Iterator[Callable[[], Iterator[int]]]:
    """Numbers of tasks in a pipe: whoever asks, in whichever process, is given those that nobody has taken yet."""
    numbers, put = os.pipe()
    # Every pipe holds that much: of very many tasks some are taken at a time.
    at_once = 1 + count * _NUMBER // _HELD

    def untaken() -> Iterator[int]:
        while taken := os.read(numbers, _NUMBER):
            first = int.from_bytes(taken, "little")
            yield from range(first, min(count, first + at_once))

    try:
        os.write(put, b"".join(n.to_bytes(_NUMBER, "little") for n in range(0, count, at_once)))
        os.close(put)
        yield untaken
    finally:
        os.close(numbers)


@contextmanager
def forked(work: Callable[[Connection], None]) -> Iterator[Connection]:
    """The other end of what a process is given to send and receive with: it has everything this one has, and is ended with the
    context. Raises ``OSError`` where there is no room for it.
    """
    context = multiprocessing.get_context("fork")
    receiver, sender = context.Pipe()
    process = context.Process(target=_send, args=(work, receiver, sender), daemon=True)
    try:
        process.start()
    except OSError:
        receiver.close()
        raise
    finally:
        # The other end is the process's alone, so that it closes with it.
        sender.close()
    try:
        yield receiver
    finally:
        process.kill()
        process.join()
        receiver.close()


def tried(task: Callable[[], Result]) -> tuple[bool, Result | None]:
    """Whether a task came to its end, and what it came to."""
    try:
        return True, task()
    except Exception:
        return False, None


def _send(work: Callable[[Connection], None], receiver: Connection, sender: Connection) -> None:
    receiver.close()
    # An interruption is the other one's, which ends this.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    # However the other one ends, nobody waits for this any more.
    ctypes.CDLL(None).prctl(_PARENT_DEATH_SIGNAL, signal.SIGKILL)
    with suppress(BrokenPipeError, EOFError):
        work(sender)
