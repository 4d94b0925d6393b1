"""A program started and tried until its figures are narrow: fresh processes, or one that reads events as lines."""

from __future__ import annotations

import json
import math
import shlex
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import count, cycle, islice
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct

from echotally.errors import BadInput, Problem, safe
from echotally.evidence.measure.bench_client import Bench
from echotally.evidence.measure.machine import this_machine
from echotally.evidence.measure.rows import Level, Run, Tried
from echotally.files import text_of, unreadable

#: Runs end early once the mean is known to this share (95 %), but not before so many.
_NARROW, _FEWEST = 0.02, 10
#: Starts of a program that reads events: at least so many, and this share for their mean.
_FEWEST_STARTS, _NARROW_START = 5, 0.05
#: The last words of a program that are shown.
_WORDS = 300
Tell = Callable[[str, float], None]


def read_events(path: Path) -> list[Any]:
    """Events of a file: a JSON list, or a JSON value a line. Raises ``BadInput`` with the line that is none."""
    try:
        text = text_of(path)
    except OSError as error:
        raise unreadable(path, error) from error
    if text.lstrip().startswith("["):
        try:
            found = json.loads(text)
        except ValueError as error:
            raise BadInput(Problem(f"is no JSON: {error}", "--events", file=str(path))) from error
    else:
        found = list(_lines(path, text))
    if not found:
        raise BadInput(
            Problem("has no events", "--events", file=str(path), allowed="a JSON list, or a JSON value a line")
        )
    return list(found)


def _lines(path: Path, text: str) -> Iterator[Any]:
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip():
            try:
                yield json.loads(line)
            except ValueError as error:
                raise BadInput(Problem(f"is no JSON: {error}", f"line {number}", file=str(path), value=line)) from error


class Trying(Struct, frozen=True):
    """With what a program or an address is tried, and how often.

    ``events`` are JSON values handed over again and again, in ``batches`` of these sizes; ``slots``: so many unanswered at once. Of
    an address: with so many ``clients``, each level for ``longest_s`` at the most, ``pid`` the process that answers. ``limit_s`` is
    the longest run or answer; ``tell`` hears a text and the share that is done.
    """

    events: Sequence[Any] = ()
    batches: Sequence[int] = ()
    slots: Sequence[int] = ()
    clients: Sequence[int] = (1, 5, 20)
    pid: int | None = None
    runs: int = 30
    limit_s: float = 10.0
    longest_s: float = 5.0
    tell: Tell | None = None


class Asked(Struct, dict=True):
    """What a program is handed: events in batches, the same ones over and over."""

    events: Sequence[Any] = ()
    batches: Sequence[int] = (1,)
    whole: bool = False

    def __post_init__(self) -> None:
        self._next: Iterator[Any] = cycle(self.events) if self.events else ({"number": n} for n in count(1))

    def text(self, size: int) -> str:
        """The next events as one line of JSON; a batch is an array, also of one where batches were asked for."""
        found = list(islice(self._next, size))
        return json.dumps(found if self.whole or size > 1 else found[0], ensure_ascii=False)


def try_fresh(command: list[str], asked: Asked, runs: int, limit_s: float, tell: Tell | None = None) -> Tried:
    """A fresh process a run, its event on standard input: up to ``runs`` for each batch size, fewer where they agree.

    Raises ``BadInput`` where the program cannot be started, or no run went well.
    """
    machine, found = this_machine(command), list[Run]()
    most, last = list[float](), ""
    with Bench(command, limit_s) as bench:
        for n in range(runs + 1):
            for size in asked.batches:
                gets = asked.text(size)
                told = bench.run(gets)
                found.append(_fresh(told, len(found) + 1, size, len(gets.encode()), n))
                most += [told["most_cpus"]] if told["most_cpus"] is not None else []
                last = told["last_err"] or told["last_out"] or last
                _refuse_hopeless(command, found, last, limit_s)
            if tell:
                tell("measuring", (n + 1) / (runs + 1))
            if n >= _FEWEST and _narrow(_by_size(found), _NARROW):
                break
    _refuse_nothing(command, found, last, limit_s)
    return Tried(shlex.join(command), "fresh", machine, tuple(found), most_cpus=max(most, default=None))


def _fresh(told: dict[str, Any], number: int, events: int, payload: int, round_: int) -> Run:
    outcome = "timeout" if told["hung"] else "ok" if told["exit"] == 0 else "error"
    return Run(
        number=number,
        kind="warm" if round_ else "first",
        took_s=told["took"],
        cpu_s=told["user"] + told["system"],
        memory_bytes=told["memory"],
        reply_bytes=told["out"],
        log_bytes=told["err"],
        events=events,
        payload_bytes=payload,
        outcome=outcome,  # type: ignore[arg-type]
        exit=told["exit"] if told["exit"] is not None else None if told["signal"] is None else -told["signal"],
    )


def _by_size(runs: Iterable[Run], kind: str = "warm") -> list[list[float]]:
    """Times of runs that went well, a list a batch size."""
    found: dict[int, list[float]] = defaultdict(list)
    for run in runs:
        if run.kind == kind and run.outcome == "ok":
            found[run.events].append(run.took_s)
    return list(found.values())


def _narrow(groups: list[list[float]], share: float) -> bool:
    """Whether the mean of every group is known to this share of it (normal theory)."""
    return bool(groups) and all(
        len(times) >= 3 and 1.96 * float(np.std(times, ddof=1)) / math.sqrt(len(times)) <= share * float(np.mean(times))
        for times in groups
    )


def _refuse_hopeless(command: list[str], runs: list[Run], last: str, limit_s: float) -> None:
    """Two runs over the time limit and none that went well: more would only take longer."""
    if len(runs) == 2 and all(run.outcome == "timeout" for run in runs):
        _refuse_nothing(command, runs, last, limit_s)


def _refuse_nothing(command: list[str], runs: list[Run], last: str, limit_s: float) -> None:
    if any(run.outcome == "ok" for run in runs):
        return
    if all(run.outcome == "timeout" for run in runs):
        how = f"did not end within {limit_s:g} s and was ended"
    else:
        code = next(run.exit for run in runs if run.outcome == "error")
        how = f"ended with exit code {code}" if code is None or code >= 0 else f"was ended by signal {-code}"
    raise _failed(command, how, last)


def _failed(command: list[str], how: str, last: str) -> BadInput:
    words = f"; its last words: {safe(last.strip()[-_WORDS:])}" if last.strip() else ""
    return BadInput(Problem(f"{how}, and nothing could be measured{words}", value=shlex.join(command)))


def try_serving(
    command: list[str], asked: Asked, runs: int, limit_s: float, at_once: Sequence[int] = (), tell: Tell | None = None
) -> Tried:
    """One process that reads an event a line and answers a line each, started several times.

    ``at_once``: how many events it has unanswered at a time, one level after the other. Raises ``BadInput`` where it cannot be started,
    ends, or does not answer within ``limit_s``.
    """
    machine, found = this_machine(command), list[Run]()
    levels, most = list[Level](), list[float]()
    each = max(3, math.ceil(runs / 5))
    with Bench(command, limit_s) as bench:
        for n in range(runs):
            line = asked.text(asked.batches[0])
            told = _answered(command, bench.open(line), limit_s)
            found.append(_start(told, len(found) + 1, asked.batches[0], len(line.encode())))
            for size in asked.batches:
                lines = [asked.text(size) for _ in range(each)]
                told = _answered(command, bench.ask(lines), limit_s)
                found += _answers(told, len(found) + 1, size, lines)
            most += [told["most_cpus"]] if told["most_cpus"] is not None else []
            if not n and at_once:
                # The first process is asked several at a time, before it is let go.
                levels = [_level(command, bench, asked, k, max(runs, 6 * k), limit_s) for k in at_once]
            ended = bench.close()
            most += [ended["most_cpus"]] if ended["most_cpus"] is not None else []
            if tell:
                tell("measuring", (n + 1) / runs)
            starts = _by_size(found, "cold")
            if n + 1 >= _FEWEST_STARTS and _narrow(_by_size(found), _NARROW) and _narrow(starts, _NARROW_START):
                break
    return Tried(shlex.join(command), "serve", machine, tuple(found), tuple(levels), most_cpus=max(most, default=None))


def _answered(command: list[str], told: dict[str, Any], limit_s: float) -> dict[str, Any]:
    if told["failed"] == "hung":
        raise _failed(command, f"gave no answer within {limit_s:g} s and was ended", told["last_err"])
    if told["failed"]:
        how = f"ended with exit code {told['exit']}" if told["exit"] is not None else "was ended by a signal"
        raise _failed(command, f"{how} where an answer a line was awaited", told["last_err"])
    return told


def _start(told: dict[str, Any], number: int, events: int, payload: int) -> Run:
    size, took = told["sizes"][0], told["answered"][0]
    return Run(number, "cold", took, told["cpu"], told["memory"], size, told["log"], events, payload)


def _answers(told: dict[str, Any], number: int, events: int, lines: list[str]) -> list[Run]:
    n = len(lines)
    return [
        Run(
            number + k,
            "warm",
            told["answered"][k] - told["sent"][k],
            told["cpu"] / n,
            told["memory"],
            told["sizes"][k],
            told["log"] / n,
            events,
            len(lines[k].encode()),
        )
        for k in range(n)
    ]


def _level(command: list[str], bench: Bench, asked: Asked, at_once: int, n: int, limit_s: float) -> Level:
    told = _answered(command, bench.ask([asked.text(asked.batches[0]) for _ in range(n)], at_once), limit_s)
    took = np.array(told["answered"]) - np.array(told["sent"])
    # The first ones had fewer beside them.
    full = took[at_once:] if n > at_once else took
    seconds = told["answered"][-1] - (told["answered"][at_once - 1] if n > at_once else told["sent"][0])
    p50, p95 = (float(x) for x in np.quantile(full, [0.5, 0.95]))
    return Level(at_once, len(full), seconds, float(full.mean()), p50, p95, cpu_s=told["cpu"])
