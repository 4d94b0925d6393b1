"""The rows of a measurement: runs, one each, and levels of several at once."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from echotally.evidence.measure.machine import Machine


class Run(Struct, frozen=True):
    """One run: of a fresh process, one answer of a process that reads events, or one request.

    ``kind`` is first (after a pause: files may not be in the cache), warm, or cold (start to first answer). Sizes are bytes; of a warm
    answer ``cpu_s`` and ``log_bytes`` are its part of what was used for those it was asked with. ``outcome`` is ok, error or timeout.
    """

    number: int
    kind: Literal["first", "warm", "cold"]
    took_s: float
    cpu_s: float | None
    memory_bytes: int | None
    reply_bytes: int
    log_bytes: float
    events: int
    payload_bytes: int
    outcome: Literal["ok", "error", "timeout"] = "ok"
    exit: int | None = None


class Level(Struct, frozen=True):
    """So many at once, each asked again as soon as it was answered: good answers in so many seconds, and latencies, s."""

    at_once: int
    answers: int
    seconds: float
    mean_s: float
    p50_s: float
    p95_s: float
    failed: int = 0
    cpu_s: float | None = None

    @property
    def per_s(self) -> float:
        """Answers a second."""
        return self.answers / self.seconds if self.seconds else 0.0


class Tried(Struct, frozen=True):
    """A program that was tried. ``how`` is fresh (a process a run), serve (one that reads events) or url.

    ``most_cpus`` is the most CPUs in use at once, averaged over a tenth of a second; None where runs were shorter.
    """

    what: str
    how: Literal["fresh", "serve", "url"]
    machine: Machine
    runs: tuple[Run, ...]
    levels: tuple[Level, ...] = ()
    most_cpus: float | None = None
    notes: tuple[str, ...] = ()

    def warm(self) -> list[Run]:
        """Warm runs that went well."""
        return [run for run in self.runs if run.kind == "warm" and run.outcome == "ok"]

    def cold(self) -> list[Run]:
        """Starts to the first answer that went well."""
        return [run for run in self.runs if run.kind == "cold" and run.outcome == "ok"]
