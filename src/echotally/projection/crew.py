"""Tasks done here and by processes beside this one, by whoever is free; some may come of what others found.

Why it exists: of two rounds, the second of which waits for all of the first, the last task of the first leaves every other core
without work. Here whatever is known to be done is begun.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack, suppress
from functools import partial
from heapq import heappop, heappush
from multiprocessing.connection import Connection
from threading import Condition, Thread
from typing import Any, Generic, NamedTuple, TypeVar

from echotally.errors import Stopped
from echotally.projection.aside import forked, others_there_may_be, tried
from echotally.projection.threads import Progress, short_turns

Task = TypeVar("Task")
Result = TypeVar("Result")


class Weighed(NamedTuple, Generic[Task]):
    """A task, and how much work it is beside others: most work is begun first, so that none of it is left at the end."""

    work: float
    task: Task


def share_work(
    tasks: Iterable[Weighed[Task]],
    do: Callable[[Task], Result],
    took: Callable[[Task, Result], Iterable[Weighed[Task]]],
    tell: Callable[[float], None] | None = None,
    beside: int | None = None,
) -> None:
    """``do`` each task, here or in a process that has everything this one has.

    ``took`` hears, here and one at a time, what each came to, and returns the tasks that come of it; in which order is left to chance.
    Tasks and results are pickled. ``tell`` hears which share is done of what is known of. ``beside``: so many processes at the most
    (left out: one for each other core). No other thread may be at work when it
    begins; where a process cannot be begun or is ended, or a task fails there, it is done here. Raises what ``do`` and ``took`` raise.
    """
    board, drivers = _Board(tasks, took, tell), list[Thread]()
    try:
        with ExitStack() as stack:
            ends = list[Connection]()
            most = others_there_may_be()
            for _ in range(most if beside is None else min(most, beside)):
                with suppress(OSError):
                    ends.append(stack.enter_context(forked(partial(_serves, do))))
            stack.enter_context(short_turns())
            stack.callback(board.fails, Stopped("nobody waits for more"))
            # Only now: a process that began after them would have what these threads hold, but not them.
            drivers += [Thread(target=_drives, args=(board, end), daemon=True) for end in ends]
            for driver in drivers:
                driver.start()
            for task in board.untaken(here=True):
                board.done(task, do(task))
    finally:
        for driver in drivers:
            driver.join()


def by_processes(
    tasks: Sequence[Callable[[], Result]], what: str, progress: Progress | None = None, beside: int | None = None
) -> list[Result]:
    """What each task returns, in their order; ``what`` is what ``progress`` is told of. For the rest as ``share_work``."""
    found: dict[int, Result] = {}

    def took(n: int, result: Result) -> tuple[()]:
        found[n] = result
        return ()

    most = len(tasks) - 1 if beside is None else min(len(tasks) - 1, beside)
    each = (Weighed(0.0, n) for n in range(len(tasks)))
    share_work(each, lambda n: tasks[n](), took, partial(progress, what) if progress else None, most)
    return [found[n] for n in range(len(tasks))]


class _Board(Generic[Task, Result]):
    """What is left to do, and how many tasks are in somebody's hands."""

    def __init__(
        self,
        tasks: Iterable[Weighed[Task]],
        took: Callable[[Task, Result], Iterable[Weighed[Task]]],
        tell: Callable[[float], None] | None,
    ) -> None:
        self._took, self._tell = took, tell
        self._left: list[tuple[float, int, Task]] = []
        self._returned: list[Task] = []
        self._put, self._taken, self._done = 0, 0, 0
        self._failed: BaseException | None = None
        self._changed = Condition()
        self._add(tasks)

    def untaken(self, here: bool = False) -> Iterator[Task]:
        """The tasks that nobody has taken, waited for while some may still come. ``here``: also those that others could not do."""
        while (task := self._next(here)) is not None:
            yield task[0]

    def done(self, task: Task, result: Result) -> None:
        """What a task came to."""
        with self._changed:
            self._taken -= 1
            self._done += 1
            self._add(self._took(task, result))
            if self._tell:
                self._tell(self._done / self._put)
            self._changed.notify_all()

    def give_back(self, task: Task) -> None:
        """It could not be done there, and is to be done here."""
        with self._changed:
            self._taken -= 1
            self._returned.append(task)
            self._changed.notify_all()

    def fails(self, error: BaseException) -> None:
        """Nothing more is begun, and whoever waits here hears of it."""
        with self._changed:
            self._failed = self._failed or error
            self._changed.notify_all()

    def _next(self, here: bool) -> tuple[Task] | None:
        with self._changed:
            self._changed.wait_for(lambda: self._failed or self._left or (here and self._returned) or not self._busy)
            if self._failed:
                if here:
                    raise self._failed
                return None
            if not (self._left or (here and self._returned)):
                return None
            self._taken += 1
            return (self._returned.pop() if here and self._returned else heappop(self._left)[-1],)

    @property
    def _busy(self) -> bool:
        """Whether tasks may still come: of what somebody does, or of what is to be done here."""
        return self._taken > 0 or bool(self._returned)

    def _add(self, tasks: Iterable[Weighed[Task]]) -> None:
        for work, task in tasks:
            # The number decides between tasks of as much work, so that tasks themselves are never compared.
            heappush(self._left, (-work, self._put, task))
            self._put += 1


def _drives(board: _Board[Any, Any], end: Connection) -> None:
    """Have a process do tasks until none is left, or it is ended."""
    try:
        for task in board.untaken():
            try:
                end.send(task)
                there, found = end.recv()
            except (EOFError, OSError):
                return board.give_back(task)
            if there:
                board.done(task, found)
            else:
                board.give_back(task)
    except BaseException as error:
        board.fails(error)


def _serves(do: Callable[[Any], Any], end: Connection) -> None:
    """Do what is sent, in a process beside the one that sends it, which ends this one."""
    while True:
        end.send(tried(partial(do, end.recv())))
